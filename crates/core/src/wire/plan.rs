//! What wiring would change, and changing it.

use std::fs;
use std::io::{self, ErrorKind, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use super::block::{self, NoEnd};
use super::files_of::{Shell, StartFile};
use crate::base::digest::Digest;
use crate::base::files::{self, Attach, FileError};
use crate::keep::wired::Wired;

/// What becomes of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The file.
    pub file: StartFile,
    /// What it is behind all links.
    pub target: PathBuf,
    /// Its bytes; `None` where there is none.
    pub before: Option<Vec<u8>>,
    /// Its bytes afterwards; `None` where it is removed.
    pub after: Option<Vec<u8>>,
    /// The folder under version control that it lies in.
    pub repository: Option<PathBuf>,
}

/// Why a file is left as it is.
#[derive(Debug)]
pub enum Obstacle {
    /// Somebody made it read-only.
    ReadOnly,
    /// It is a link to nothing.
    Nowhere,
    /// It is a folder, a pipe, or the like.
    NotAFile,
    /// A block begins in it and does not end.
    NoEnd(NoEnd),
    /// The folder of commands has a path that this file cannot hold.
    Path,
    /// It cannot be read.
    Unreadable(io::Error),
}

/// A file, and what would become of it: nothing where it is as it should be.
#[derive(Debug)]
pub struct Planned {
    /// The file.
    pub file: StartFile,
    /// What would become of it.
    pub change: Result<Option<Change>, Obstacle>,
}

/// Why a file could not be changed.
#[derive(Debug, thiserror::Error)]
pub enum WireError {
    /// Somebody changed it since it was looked at.
    #[error("{} has changed meanwhile", .0.display())]
    Changed(PathBuf),
    /// It could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What wiring makes of some files.
pub fn wired(files: Vec<StartFile>, wired: &Wired) -> Vec<Planned> {
    let change = |file: StartFile| {
        let change =
            lines(&file, wired).and_then(|lines| planned(&file, |before| block::put(before, &lines).map(Some)));
        Planned { file, change }
    };
    files.into_iter().map(change).collect()
}

/// What taking all out again makes of some files; files without a block are not among them.
pub fn unwired(files: Vec<StartFile>) -> Vec<Planned> {
    let change = |file: StartFile| {
        let change = planned(&file, |before| {
            let Some(bytes) = before else { return Ok(None) };
            let left = block::take_out(bytes)?.unwrap_or_else(|| bytes.to_vec());
            Ok((!left.is_empty() || !block::is_own(bytes)).then_some(left))
        });
        (!matches!(change, Ok(None) | Err(Obstacle::Nowhere | Obstacle::NotAFile))).then_some(Planned { file, change })
    };
    files.into_iter().filter_map(change).collect()
}

/// Whether some file has the block of this home. One of another home, which may be there as well, does not count.
pub fn is_wired(files: Vec<StartFile>, home: &Wired) -> bool {
    let with_block = unwired(files).into_iter().map(|planned| planned.file).collect();
    wired(with_block, home).iter().any(|planned| matches!(planned.change, Ok(None)))
}

/// The lines of a file's block.
fn lines(file: &StartFile, wired: &Wired) -> Result<Vec<u8>, Obstacle> {
    if file.shell != Shell::Session {
        return Ok(file.shell.lines(&wired.start_file(file.shell.dialect())));
    }
    let commands = wired.commands();
    let plain = |&byte: &u8| byte.is_ascii_alphanumeric() || b"/._-+@".contains(&byte);
    let bytes = commands.as_os_str().as_bytes();
    if !bytes.iter().all(plain) {
        return Err(Obstacle::Path);
    }
    Ok([b"PATH=", bytes, b":$PATH\n"].concat())
}

fn planned(
    file: &StartFile,
    make: impl Fn(Option<&[u8]>) -> Result<Option<Vec<u8>>, NoEnd>,
) -> Result<Option<Change>, Obstacle> {
    let before = now(&file.path)?;
    let after = make(before.as_deref()).map_err(Obstacle::NoEnd)?;
    change_of(file, before, after)
}

/// A file's bytes as they are; `None` where there is none.
pub(super) fn now(path: &Path) -> Result<Option<Vec<u8>>, Obstacle> {
    match fs::symlink_metadata(path) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        Err(error) => Err(Obstacle::Unreadable(error)),
        Ok(_) => Ok(Some(read(path)?)),
    }
}

/// The change from bytes to others; `None` where they are the same.
pub(super) fn change_of(
    file: &StartFile,
    before: Option<Vec<u8>>,
    after: Option<Vec<u8>>,
) -> Result<Option<Change>, Obstacle> {
    if before == after {
        return Ok(None);
    }
    let target = file.path.canonicalize().unwrap_or_else(|_| file.path.clone());
    if fs::metadata(&target).is_ok_and(|meta| meta.permissions().mode() & 0o200 == 0) {
        return Err(Obstacle::ReadOnly);
    }
    let repository = repository(&target);
    Ok(Some(Change { file: file.clone(), target, before, after, repository }))
}

fn read(path: &Path) -> Result<Vec<u8>, Obstacle> {
    match fs::metadata(path) {
        Ok(meta) if meta.is_file() => fs::read(path).map_err(Obstacle::Unreadable),
        Ok(_) => Err(Obstacle::NotAFile),
        Err(error) if error.kind() == ErrorKind::NotFound => Err(Obstacle::Nowhere),
        Err(error) => Err(Obstacle::Unreadable(error)),
    }
}

/// The nearest folder upwards that is under version control.
fn repository(path: &Path) -> Option<PathBuf> {
    let kept = |folder: &&Path| [".git", ".hg", ".jj", ".svn"].iter().any(|name| folder.join(name).exists());
    path.ancestors().skip(1).find(kept).map(Path::to_path_buf)
}

/// Makes a change, after a copy of what was there was put into `backups`; tells where.
///
/// # Errors
/// [`WireError`]; the file is as it was then.
pub fn apply(change: &Change, backups: &Path) -> Result<Option<PathBuf>, WireError> {
    let path = &change.target;
    let now = match fs::read(path) {
        Ok(bytes) => Some(bytes),
        Err(error) if error.kind() == ErrorKind::NotFound => None,
        Err(error) => return Err(error).on("read", path).map_err(WireError::from),
    };
    if now != change.before {
        return Err(WireError::Changed(path.clone()));
    }
    let backup = change.before.as_ref().map(|before| keep(before, path, backups)).transpose()?;
    if let Some(bytes) = &change.after {
        write(path, bytes)?;
        return Ok(backup);
    }
    fs::remove_file(path).on("remove", path)?;
    // The folders that were made for it below the settings; one with anything in it stays.
    if matches!(change.file.shell, Shell::Fish | Shell::Session) {
        let empty = |folder: &&Path| fs::remove_dir(folder).is_ok();
        let _ = path.ancestors().skip(1).take(2).take_while(empty).count();
    }
    Ok(backup)
}

/// Keeps bytes under a name that tells of which file they are.
fn keep(bytes: &[u8], path: &Path, backups: &Path) -> Result<PathBuf, FileError> {
    files::create_folder(backups)?;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let digest = Digest::of(path.as_os_str().as_bytes()).short();
    let backup = backups.join([name.trim_start_matches('.'), "-", &digest].concat());
    files::replace(&backup, bytes)?;
    Ok(backup)
}

/// Writes a person's file: in one step where that keeps all that the file is, else in place.
fn write(path: &Path, bytes: &[u8]) -> Result<(), FileError> {
    let folder = path.parent().unwrap_or(Path::new("/"));
    files::create_folder(folder)?;
    let Ok(meta) = fs::metadata(path) else { return files::replace(path, bytes) };
    let is_plain = meta.nlink() == 1 && meta.uid() == rustix::process::geteuid().as_raw();
    let new = if is_plain { tempfile::Builder::new().prefix(".kladder-").tempfile_in(folder).ok() } else { None };
    let Some(mut new) = new else {
        // Other names of the file, its owner, or a folder that cannot be written. What was there had room before.
        let before = fs::read(path).on("read", path)?;
        let written = fs::write(path, bytes);
        if written.is_err() {
            let _ = fs::write(path, before);
        }
        return written.on("write", path);
    };
    new.write_all(bytes).and_then(|()| new.as_file().sync_all()).on("write", path)?;
    new.as_file().set_permissions(meta.permissions()).on("write", path)?;
    new.persist(path).map_err(|failed| failed.error).on("write", path)?;
    Ok(())
}
