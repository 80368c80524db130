//! One process writes to a home at a time; the others wait.
//!
//! The right to write is a lock on `data/lock` (flock(2)), which the kernel takes back from whoever dies; the file holds the
//! number of the process, for those who wait. A lock counts only if the file that was locked is still the one at the path:
//! `clear --all` may have taken it away meanwhile.

use std::fs::{self, File, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::{Duration, Instant};

use super::{Journal, StateError};
use crate::base::event::{Event, Observer, check_cancelled};
use crate::base::files::{self, Attach};
use crate::settings::Home;

const GLANCE: Duration = Duration::from_millis(50);

/// The right to write to a home, until it is dropped; a process that is killed loses it too.
#[derive(Debug)]
pub struct Writer {
    /// What is written down of it.
    pub journal: Journal,
    lock: File,
}

impl Writer {
    /// Waits until nobody else writes, at most for `wait` where that is given; then mends what was left by one who was
    /// killed.
    ///
    /// # Errors
    /// [`StateError::Busy`] where `wait` has passed, with the other process; others where the lock or the journal cannot be used.
    pub fn enter(home: &Home, wait: Option<Duration>, observer: &dyn Observer) -> Result<Self, StateError> {
        let lock = take(&home.lock(), wait, observer)?;
        Self::mended(home, lock, observer)
    }

    /// Mends what was left by one who was killed, for those who find nothing else to do; waits for nobody.
    ///
    /// # Errors
    /// [`StateError`] where something is to be mended and cannot be.
    pub fn mend(home: &Home, observer: &dyn Observer) -> Result<(), StateError> {
        let path = home.lock();
        // Whoever writes has its number in there, and takes it out in the end.
        if fs::metadata(&path).map_or(0, |meta| meta.len()) == 0 {
            return Ok(());
        }
        let lock = fs::OpenOptions::new().read(true).write(true).open(&path).on("open", &path)?;
        if lock.try_lock().is_ok() {
            Self::mended(home, lock, observer)?;
        }
        Ok(())
    }

    fn mended(home: &Home, lock: File, observer: &dyn Observer) -> Result<Self, StateError> {
        let journal = Journal::open(&home.data)?;
        super::recover::recover(home, &journal, observer)?;
        Ok(Self { journal, lock })
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        // Where that fails, the next one looks for something to mend and finds nothing.
        let _ = self.lock.set_len(0);
    }
}

/// Takes the lock and writes this process's number into it; held until the file is dropped, also by a crash.
fn take(path: &Path, wait: Option<Duration>, observer: &dyn Observer) -> Result<File, StateError> {
    files::create_folder(path.parent().unwrap_or(Path::new("/")))?;
    let open =
        || fs::OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path).on("open", path);
    let mut file = open()?;
    let (mut told, started) = (false, Instant::now());
    loop {
        match file.try_lock() {
            Ok(()) if is_at(&file, path) => break,
            // Whoever had it has cleared everything: this is the lock of a home that is gone.
            Ok(()) => {
                files::create_folder(path.parent().unwrap_or(Path::new("/")))?;
                file = open()?;
            }
            Err(TryLockError::Error(error)) => Err(error).on("lock", path)?,
            Err(TryLockError::WouldBlock) => {
                check_cancelled(observer)?;
                if wait.is_some_and(|wait| started.elapsed() >= wait) {
                    return Err(StateError::Busy { process: holder(&mut file) });
                }
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

/// Whether an open file is the one that stands at a path.
fn is_at(file: &File, path: &Path) -> bool {
    let of = |meta: io::Result<fs::Metadata>| meta.ok().map(|meta| (meta.dev(), meta.ino()));
    of(file.metadata()) == of(fs::metadata(path))
}

fn holder(file: &mut File) -> Option<u32> {
    let mut text = String::new();
    file.rewind().and_then(|()| file.read_to_string(&mut text)).ok()?;
    text.trim().parse().ok()
}
