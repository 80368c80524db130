//! The launcher as a file: one in each home, and a link to it for each command.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_launch::PROGRAM;

use crate::base::digest::Digest;
use crate::base::event::How;
use crate::base::files::{self, Attach, FileError};

/// How a launcher is not the one that was put there.
pub fn launcher_differs(path: &Path, thoroughly: bool) -> Option<How> {
    let Ok(meta) = fs::symlink_metadata(path) else { return Some(How::Missing) };
    if !meta.is_file() || meta.len() != PROGRAM.len() as u64 {
        return Some(How::Changed);
    }
    if meta.permissions().mode() & 0o7777 != 0o555 {
        return Some(How::Mode);
    }
    let is_other = thoroughly && fs::read(path).map_or(true, |bytes| bytes != PROGRAM);
    is_other.then_some(How::Changed)
}

/// The launcher in this home, under a name that changes with its bytes.
///
/// # Errors
/// [`FileError`] where it cannot be written.
pub fn at(data: &Path) -> Result<PathBuf, FileError> {
    let folder = data.join("launchers");
    let path = folder.join(Digest::of(PROGRAM).short());
    // One that was changed is made anew under its name; landings that have the changed one notice that themselves.
    if launcher_differs(&path, true).is_some() {
        files::create_folder(&folder)?;
        let mut new = tempfile::Builder::new().prefix(".new-").tempfile_in(&folder).on("write", &path)?;
        io::Write::write_all(&mut new, PROGRAM).on("write", &path)?;
        new.as_file().set_permissions(fs::Permissions::from_mode(0o555)).on("write", &path)?;
        // The handle must be closed before anyone runs the file.
        new.into_temp_path().persist(&path).map_err(|failed| failed.error).on("write", &path)?;
    }
    Ok(path)
}

/// Puts the launcher at a path where nothing is.
///
/// # Errors
/// [`FileError`] where it cannot be put there.
pub fn put(program: &Path, link: &Path) -> Result<(), FileError> {
    match fs::hard_link(program, link) {
        // A file has only so many links on some file systems, and none on others.
        Err(error) if error.kind() != io::ErrorKind::NotFound => fs::copy(program, link).map(drop).on("write", link),
        done => done.on("write", link),
    }
}
