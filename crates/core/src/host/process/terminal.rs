//! A process in a terminal of its own (`pty(7)`): its keys are pressed and its screen is read by whoever started it.

use std::ffi::OsStr;
use std::fs::{File, OpenOptions};
use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::OpenOptionsExt;
use std::process::Stdio;
use std::sync::{Arc, PoisonError};
use std::thread;
use std::time::Duration;

use rustix::fs::OFlags;
use rustix::pty::{grantpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

use super::under_way::{MARK, UnderWay};
use super::{Lasting, Setting, Shared, bare};
use crate::host::enclosed::Way;
use crate::sys;

impl Lasting {
    /// Starts a process in its cell, in a terminal of so many columns and lines; what it draws is its standard output, and keys are
    /// pressed by writing to what comes with it. It takes an encloser.
    ///
    /// # Errors
    /// Those of starting it, and `Unsupported` where nobody can give it a terminal.
    pub fn in_terminal(setting: &Setting<'_>, (columns, lines): (u16, u16)) -> io::Result<(Self, File)> {
        let (Some(cell), Some(encloser)) = (setting.cell, setting.encloser) else {
            return Err(io::ErrorKind::Unsupported.into());
        };
        let ours = sys::terminals::open()?;
        grantpt(&ours)?;
        unlockpt(&ours)?;
        tcsetwinsize(&ours, Winsize { ws_row: lines, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 })?;
        let name = ptsname(&ours, Vec::new())?;
        let not_ours = i32::try_from(OFlags::NOCTTY.bits()).unwrap_or(0);
        let open = || {
            let name = OsStr::from_bytes(name.as_bytes());
            OpenOptions::new().read(true).write(true).custom_flags(not_ours).open(name).map(Stdio::from)
        };
        let under_way = UnderWay::begin();
        let way = Way::of(encloser, cell, setting.run, setting.watched)?;
        let mut command = bare(&way.words, setting)?;
        let child = command.env(MARK, &under_way.mark).stdin(open()?).stdout(open()?).stderr(open()?).spawn()?;
        // The terminal is closed for whoever reads it once nobody else has it open.
        drop(command);
        let ours = File::from(ours);
        let stdout = gather_slowly(ours.try_clone()?);
        Ok((Self { child, stdout, stderr: Shared::default(), way: Some(way), under_way }, ours))
    }
}

/// Bytes that are drawn and not looked at yet: whoever draws more waits, as at a slow terminal.
const MOST: usize = 1 << 20;

/// Collects what is drawn for whoever looks meanwhile, as fast as they do.
fn gather_slowly(mut terminal: File) -> Shared {
    let shared = Shared::default();
    let kept = Arc::clone(&shared);
    thread::spawn(move || {
        let mut block = [0; 4096];
        // Nobody looks any more once this is the only one that has it.
        while Arc::strong_count(&kept) > 1 {
            if kept.lock().unwrap_or_else(PoisonError::into_inner).len() >= MOST {
                thread::sleep(Duration::from_millis(1));
                continue;
            }
            let Ok(count @ 1..) = terminal.read(&mut block) else { break };
            kept.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(&block[..count]);
        }
    });
    shared
}
