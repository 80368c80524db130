//! Files.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{CWD, Mode, OFlags, RenameFlags, ResolveFlags, openat, openat2, renameat_with};
use rustix::io::Errno;

/// Writes everything on a file's file system through to the disk (syncfs(2)).
///
/// # Errors
/// Those of the system.
pub(crate) fn sync_all_of(file: &File) -> io::Result<()> {
    Ok(rustix::fs::syncfs(file)?)
}

/// Swaps two paths in one step (renameat2(2), Linux 3.15).
///
/// # Errors
/// Those of the system; also where the file system cannot.
pub(crate) fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    Ok(renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE)?)
}

/// Makes `new` share the blocks of `source` (`ioctl_ficlone(2)`).
///
/// # Errors
/// Those of the system; also where the file system has no clones.
pub(crate) fn clone_into(new: &File, source: &File) -> io::Result<()> {
    Ok(rustix::fs::ioctl_ficlone(new, source)?)
}

/// Opens below a handle; where the kernel can, it makes sure of that itself (openat2(2), Linux 5.6).
///
/// # Errors
/// Those of the system.
pub(crate) fn open_beneath(handle: &OwnedFd, path: &Path, flags: OFlags, mode: Mode) -> rustix::io::Result<OwnedFd> {
    match openat2(handle, path, flags, mode, ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS) {
        // An older kernel, or a filter in front of it that does not know the call.
        Err(Errno::NOSYS | Errno::PERM) => openat(handle, path, flags, mode),
        opened => opened,
    }
}

/// Files that came from elsewhere carry no marks here.
pub(crate) fn unmark(_path: &Path) {}
