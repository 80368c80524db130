//! The file system with its errors made tellable: what was attempted, on which path.

use std::ffi::OsString;
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// An operation on a file that failed; the cause is in `source()`.
#[derive(Debug, thiserror::Error)]
#[error("cannot {action} {}", path.display())]
pub struct FileError {
    /// What was attempted, as a verb: "read", "create the folder".
    pub action: &'static str,
    /// On what.
    pub path: PathBuf,
    /// What the system said.
    pub source: io::Error,
}

/// Attaches the attempt and its path to an I/O result.
pub trait Attach<T> {
    /// Names what was attempted and on which path.
    fn on(self, action: &'static str, path: &Path) -> Result<T, FileError>;
}

impl<T> Attach<T> for io::Result<T> {
    fn on(self, action: &'static str, path: &Path) -> Result<T, FileError> {
        self.map_err(|source| FileError { action, path: path.to_path_buf(), source })
    }
}

/// Creates a folder and all above it.
pub fn create_folder(path: &Path) -> Result<(), FileError> {
    fs::create_dir_all(path).on("create the folder", path)
}

/// The names in a folder, sorted; none where it is not there.
pub fn names(path: &Path) -> Result<Vec<OsString>, FileError> {
    let entries = match fs::read_dir(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.on("list", path)?,
    };
    let names = entries.map(|entry| Ok(entry.on("list", path)?.file_name()));
    let mut names: Vec<OsString> = names.collect::<Result<_, FileError>>()?;
    names.sort();
    Ok(names)
}

/// Writes a file in one step: readers see the old content or the new one, also after a power cut.
///
/// # Errors
/// [`FileError`]; the old content is still there then.
pub fn replace(path: &Path, bytes: &[u8]) -> Result<(), FileError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let mut new = tempfile::Builder::new().prefix(".new-").tempfile_in(folder).on("write", path)?;
    new.as_file().set_permissions(fs::Permissions::from_mode(0o644)).on("write", path)?;
    new.write_all(bytes).and_then(|()| new.as_file().sync_all()).on("write", path)?;
    new.persist(path).map_err(|failed| failed.error).on("write", path)?;
    Ok(())
}

/// Removes a folder with everything in it, read-only parts included; one that is not there is fine.
///
/// # Errors
/// [`FileError`] for the first thing that cannot be removed; what was removed before stays so.
pub fn remove_tree(path: &Path) -> Result<(), FileError> {
    if fs::symlink_metadata(path).is_err() {
        return Ok(());
    }
    for entry in walkdir::WalkDir::new(path).into_iter().filter_map(Result::ok) {
        if entry.file_type().is_dir() {
            // What cannot be made writable is named by the removal below.
            let _ = fs::set_permissions(entry.path(), fs::Permissions::from_mode(0o755));
        }
    }
    fs::remove_dir_all(path).on("remove the folder", path)
}

/// Takes a folder out of its place in one step, and then removes it: nobody takes what is half removed for whole.
///
/// # Errors
/// [`FileError`]; what could be renamed and not removed is left as `NAME.leaving`.
pub fn vanish(path: &Path) -> Result<(), FileError> {
    let aside = path.with_added_extension("leaving");
    remove_tree(&aside)?;
    fs::rename(path, &aside).on("remove", path)?;
    remove_tree(&aside)
}

/// Gives the owner the right to write to every file of a tree.
///
/// # Errors
/// [`FileError`] for the first file whose rights cannot be changed.
pub fn make_writable(path: &Path) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(path) {
        let entry = entry.map_err(io::Error::from).on("read the folder", path)?;
        if !entry.file_type().is_symlink() {
            let mode = entry.metadata().map_err(io::Error::from).on("read", entry.path())?.permissions().mode();
            let loose = fs::Permissions::from_mode(mode & 0o777 | 0o200);
            fs::set_permissions(entry.path(), loose).on("make writable", entry.path())?;
        }
    }
    Ok(())
}

/// Writes everything on a folder's file system through to the disk.
///
/// # Errors
/// [`FileError`] where the disk did not take it: nothing may be promised then.
pub fn sync(folder: &Path) -> Result<(), FileError> {
    let handle = fs::File::open(folder).on("open", folder)?;
    #[cfg(target_os = "linux")]
    rustix::fs::syncfs(&handle).map_err(io::Error::from).on("write", folder)?;
    #[cfg(not(target_os = "linux"))]
    drop(handle);
    Ok(())
}

/// Takes every write permission from a tree; links are left alone.
///
/// # Errors
/// [`FileError`] for the first file whose rights cannot be changed.
pub fn make_read_only(path: &Path) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(path).contents_first(true) {
        let entry = entry.map_err(io::Error::from).on("read the folder", path)?;
        if entry.file_type().is_symlink() {
            continue;
        }
        let mode = entry.metadata().map_err(io::Error::from).on("read", entry.path())?.permissions().mode();
        if mode & 0o7777 != mode & 0o555 {
            let tight = fs::Permissions::from_mode(mode & 0o555);
            fs::set_permissions(entry.path(), tight).on("make read-only", entry.path())?;
        }
    }
    Ok(())
}
