//! The folder that is unpacked into, held by a handle: whatever happens to the paths above, this folder is meant.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, linkat, mkdirat, open, renameat, symlinkat, unlinkat};

use super::{Refusal, Stop};
use crate::base::files::{Attach, FileError};
use crate::sys::files as sys;

/// A folder that is written into.
pub(super) struct Root {
    handle: OwnedFd,
    path: PathBuf,
    /// The file system was not seen yet to have no clones.
    clones: AtomicBool,
}

impl Root {
    pub(super) fn open(path: &Path) -> Result<Self, FileError> {
        let handle = open(path, OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        Ok(Self {
            handle: handle.map_err(io::Error::from).on("open", path)?,
            path: path.to_path_buf(),
            clones: AtomicBool::new(true),
        })
    }

    /// The whole path of something in it.
    pub(super) fn full(&self, path: &Path) -> PathBuf {
        self.path.join(path)
    }

    /// Makes a folder; one that is there is refused.
    pub(super) fn folder(&self, path: &Path) -> Result<(), Stop> {
        match mkdirat(&self.handle, path, Mode::from_raw_mode(0o755)) {
            Err(rustix::io::Errno::EXIST) => Err(Refusal::NotAFolder.into()),
            made => Ok(made.map_err(io::Error::from).on("create the folder", &self.full(path))?),
        }
    }

    /// Creates a file that can be written now and by nobody later. No link on its path is followed.
    pub(super) fn create(&self, path: &Path, runs: bool) -> Result<File, Stop> {
        let mode = Mode::from_raw_mode(if runs { 0o555 } else { 0o444 });
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let made = sys::open_beneath(&self.handle, path, flags, mode);
        Ok(File::from(made.or_else(|error| self.taken(error, path))?))
    }

    pub(super) fn link(&self, path: &Path, target: &Path) -> Result<(), Stop> {
        symlinkat(target, &self.handle, path).or_else(|error| self.taken(error, path))
    }

    pub(super) fn hard_link(&self, path: &Path, existing: &Path) -> Result<(), Stop> {
        let made = linkat(&self.handle, existing, &self.handle, path, AtFlags::empty());
        made.or_else(|error| self.taken(error, path))
    }

    /// A file with the bytes of another one on the same file system, stored once: a clone where the file system has such,
    /// else a hard link.
    pub(super) fn share(&self, path: &Path, existing: &Path, runs: bool) -> io::Result<()> {
        if self.clones.load(Ordering::Relaxed) {
            if self.clone_file(path, existing, runs).is_ok() {
                return Ok(());
            }
            self.clones.store(false, Ordering::Relaxed);
            // What was begun is in the way of the link; where there is nothing, all the better.
            let _ = unlinkat(&self.handle, path, AtFlags::empty());
        }
        Ok(linkat(CWD, existing, &self.handle, path, AtFlags::empty())?)
    }

    fn clone_file(&self, path: &Path, existing: &Path, runs: bool) -> io::Result<()> {
        let source = File::open(existing)?;
        let new = self.create(path, runs).map_err(|_| io::ErrorKind::Other)?;
        sys::clone_into(&new, &source)
    }

    pub(super) fn rename(&self, from: &Path, to: &Path) -> Result<(), FileError> {
        renameat(&self.handle, from, &self.handle, to).map_err(io::Error::from).on("write", &self.full(to))
    }

    /// Tells an occupied path from a failing file system.
    fn taken<T>(&self, error: rustix::io::Errno, path: &Path) -> Result<T, Stop> {
        match error {
            rustix::io::Errno::EXIST | rustix::io::Errno::ISDIR => Err(Refusal::Twice.into()),
            // A link where a folder should be.
            rustix::io::Errno::LOOP | rustix::io::Errno::XDEV => Err(Refusal::NotAFolder.into()),
            _ => Ok(Err(io::Error::from(error)).on("write", &self.full(path))?),
        }
    }
}
