//! One process writes to a home at a time; the others wait.

use std::fs::{self, File, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::Path;
use std::time::Duration;

use super::ClimbError;
use crate::event::{Event, Observer, go_on};
use crate::files::{self, Attach};

const GLANCE: Duration = Duration::from_millis(50);

/// Takes the lock and writes this process's number into it; held until the file is dropped, also by a crash.
pub(super) fn take(path: &Path, observer: &dyn Observer) -> Result<File, ClimbError> {
    files::create_folder(path.parent().unwrap_or(Path::new("/")))?;
    let mut file =
        fs::OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path).on("open", path)?;
    let mut told = false;
    loop {
        match file.try_lock() {
            Ok(()) => break,
            Err(TryLockError::Error(error)) => Err(error).on("lock", path)?,
            Err(TryLockError::WouldBlock) => {
                go_on(observer)?;
                if !std::mem::replace(&mut told, true) {
                    observer.event(&Event::Waiting { process: holder(&mut file) });
                }
                std::thread::sleep(GLANCE);
            }
        }
    }
    let number = std::process::id().to_string();
    let written = file.rewind().and_then(|()| file.set_len(0)).and_then(|()| file.write_all(number.as_bytes()));
    written.on("write", path)?;
    Ok(file)
}

fn holder(file: &mut File) -> Option<u32> {
    let mut text = String::new();
    file.rewind().and_then(|()| file.read_to_string(&mut text)).ok()?;
    text.trim().parse().ok()
}
