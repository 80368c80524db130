//! Files.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{CWD, Mode, OFlags, RenameFlags, openat, renameat_with};

/// Writes a file's folder through to the disk (fcntl(2), `F_FULLFSYNC`); there is no call for a whole file system.
///
/// # Errors
/// Those of the system.
pub(crate) fn sync_all_of(file: &File) -> io::Result<()> {
    Ok(rustix::fs::fcntl_fullfsync(file)?)
}

/// Swaps two paths in one step (renameatx_np(2), `RENAME_SWAP`).
///
/// # Errors
/// Those of the system; also where the file system cannot.
pub(crate) fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    Ok(renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE)?)
}

/// Cloning into a file that is open is not offered here.
///
/// # Errors
/// Always.
pub(crate) fn clone_into(_new: &File, _source: &File) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Opens below a handle. The path's names were checked, and no link is made before all files are written.
///
/// # Errors
/// Those of the system.
pub(crate) fn open_beneath(handle: &OwnedFd, path: &Path, flags: OFlags, mode: Mode) -> rustix::io::Result<OwnedFd> {
    openat(handle, path, flags, mode)
}

/// Takes away the mark of a file that came from elsewhere (`com.apple.quarantine`): its digest was compared, which is more
/// than a question to the person would find out. Where there is none, nothing is done.
pub(crate) fn unmark(path: &Path) {
    let _ = rustix::fs::removexattr(path, "com.apple.quarantine");
}
