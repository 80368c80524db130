//! The file system with its errors made tellable: what was attempted, on which path.
//!
//! Three promises are made here and relied on elsewhere: a file is replaced by writing another one beside it and renaming
//! (rename(2) is atomic), so that who reads sees the old or the new one; a tree vanishes by being renamed to `*.leaving` first,
//! so that nobody sees half of it; what is opened for reading is a plain file, so that nobody waits for a pipe.

use std::ffi::OsString;
use std::fs;
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

pub use kladder_choose::document::FileError;
use kladder_choose::document::Source;
use rustix::fs::OFlags;

/// Opens a plain file for reading. What stands in its place, a pipe for instance, is refused and not waited for.
///
/// # Errors
/// [`FileError`] where it is missing, cannot be read, or is no plain file.
pub fn open(path: &Path) -> Result<fs::File, FileError> {
    let at_once = i32::try_from(OFlags::NONBLOCK.bits()).unwrap_or_default();
    let file = fs::OpenOptions::new().read(true).custom_flags(at_once).open(path).on("read", path)?;
    if !file.metadata().on("read", path)?.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "it is not a plain file")).on("read", path);
    }
    Ok(file)
}

/// Reads all of a plain file.
///
/// # Errors
/// As of [`open`].
pub fn read(path: &Path) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::new();
    open(path)?.read_to_end(&mut bytes).on("read", path)?;
    Ok(bytes)
}

/// The first bytes of a file.
///
/// # Errors
/// [`FileError`] where it cannot be read.
pub fn read_start(path: &Path, most: usize) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::new();
    io::Read::read_to_end(&mut io::Read::take(open(path)?, most as u64), &mut bytes).on("read", path)?;
    Ok(bytes)
}

/// The text of a plain file that is no larger than `most` bytes, with what is no UTF-8 replaced; `None` where it is not there or
/// cannot be read.
pub fn text_of_at_most(path: &Path, most: u64) -> Option<String> {
    let mut bytes = Vec::new();
    open(path).ok()?.take(most).read_to_end(&mut bytes).ok()?;
    Some(String::from_utf8_lossy(&bytes).into_owned())
}

/// Reads a file that people write as text, of at most 16 MiB.
///
/// # Errors
/// [`FileError`] where it is missing, cannot be read, is no plain file, is larger, or is not UTF-8.
pub fn source(path: &Path) -> Result<Source, FileError> {
    const MOST: u64 = 16 << 20;
    let wrong = |text: &str| io::Error::new(io::ErrorKind::InvalidData, text.to_owned());
    let file = open(path)?;
    let size = file.metadata().on("read", path)?.len();
    if size > MOST {
        return Err(wrong("it has more than 16 MiB, which no file that people write has")).on("read", path);
    }
    // With room for all of it, and one byte more that shows the end, it is read at once.
    let mut bytes = Vec::with_capacity(usize::try_from(size + 1).unwrap_or_default());
    file.take(MOST + 1).read_to_end(&mut bytes).on("read", path)?;
    let text = String::from_utf8(bytes).map_err(|error| {
        let line = error.as_bytes()[..error.utf8_error().valid_up_to()].split(|byte| *byte == b'\n').count();
        wrong(&format!("it is not UTF-8 text: line {line}"))
    });
    Ok(Source::new(path, text.on("read", path)?))
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
    let mut new = tempfile::Builder::new().prefix(NEW).tempfile_in(folder).on("write", path)?;
    new.as_file().set_permissions(fs::Permissions::from_mode(0o644)).on("write", path)?;
    new.write_all(bytes).and_then(|()| new.as_file().sync_all()).on("write", path)?;
    new.persist(path).map_err(|failed| failed.error).on("write", path)?;
    Ok(())
}

/// Writes a file where a person wants one: in one step, but through what is there and is no plain file, like a device, a pipe or a
/// link.
///
/// # Errors
/// [`FileError`] where it cannot be written.
pub fn hand_out(path: &Path, bytes: &[u8]) -> Result<(), FileError> {
    match fs::symlink_metadata(path) {
        Ok(meta) if !meta.is_file() => {
            let mut there = fs::OpenOptions::new().write(true).truncate(true).open(path).on("write", path)?;
            there.write_all(bytes).on("write", path)
        }
        _ => replace(path, bytes),
    }
}

/// A name beside a file that nothing has yet: what is there is kept under it.
pub fn free_beside(path: &Path) -> PathBuf {
    let named = |ending: String| path.with_added_extension(ending);
    let mut names =
        std::iter::once(named("before".to_owned())).chain((2..).map(|at: u32| named(format!("before-{at}"))));
    names.find(|name| fs::symlink_metadata(name).is_err()).unwrap_or_else(|| named("before".to_owned()))
}

/// Swaps two folders or files of one file system in one step; where the system cannot, in three, in which the second path
/// is missing for a moment.
///
/// # Errors
/// [`FileError`]; both are where they were then.
pub fn exchange(one: &Path, other: &Path) -> Result<(), FileError> {
    if crate::sys::files::exchange(one, other).is_ok() {
        return Ok(());
    }
    let aside = other.with_added_extension("leaving");
    remove_tree(&aside)?;
    fs::rename(other, &aside).on("move", other)?;
    if let Err(error) = fs::rename(one, other) {
        // Back to where it was; if even that fails, the next one finds it as `leaving`.
        let _ = fs::rename(&aside, other);
        return Err(error).on("put in place", other);
    }
    fs::rename(&aside, one).on("move", &aside)
}

/// Removes a folder with everything in it, read-only parts included; one that is not there is fine.
///
/// # Errors
/// [`FileError`] for the first thing that cannot be removed; what was removed before stays so.
pub fn remove_tree(path: &Path) -> Result<(), FileError> {
    match fs::symlink_metadata(path) {
        Err(_) => return Ok(()),
        // What is behind a link is not ours: only the link goes.
        Ok(meta) if !meta.is_dir() => return fs::remove_file(path).on("remove", path),
        Ok(_) => {}
    }
    for entry in walkdir::WalkDir::new(path).into_iter().filter_map(Result::ok) {
        if entry.file_type().is_dir() {
            // What cannot be made writable is named by the removal below.
            let _ = fs::set_permissions(entry.path(), fs::Permissions::from_mode(0o755));
        }
    }
    fs::remove_dir_all(path).on("remove the folder", path)
}

/// Removes what a killed process left of files that it was about to replace in a folder.
///
/// # Errors
/// [`FileError`] where the folder cannot be listed, or something cannot be removed.
pub fn sweep_new(folder: &Path) -> Result<(), FileError> {
    let is_new = |name: &OsString| name.as_encoded_bytes().starts_with(NEW.as_bytes());
    names(folder)?.iter().filter(|name| is_new(name)).try_for_each(|name| remove_tree(&folder.join(name)))
}

/// How the name of a file begins that is about to replace another one.
const NEW: &str = ".new-";

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
    loosen(path, |kind| !kind.is_symlink())
}

/// Gives the owner the right to make and remove files in every folder of a tree; the files stay as they are.
///
/// # Errors
/// [`FileError`] for the first folder whose rights cannot be changed.
pub fn make_folders_writable(path: &Path) -> Result<(), FileError> {
    loosen(path, fs::FileType::is_dir)
}

fn loosen(path: &Path, is_meant: impl Fn(&fs::FileType) -> bool) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(path) {
        let entry = entry.map_err(io::Error::from).on("read the folder", path)?;
        if is_meant(&entry.file_type()) {
            let mode = entry.metadata().map_err(io::Error::from).on("read", entry.path())?.permissions().mode();
            let loose = mode & 0o777 | 0o200;
            if mode & 0o7777 != loose {
                fs::set_permissions(entry.path(), fs::Permissions::from_mode(loose))
                    .on("make writable", entry.path())?;
            }
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
    crate::sys::files::sync_all_of(&handle).on("write", folder)
}

/// Takes every write permission from a tree, and the marks by which a system would ask before it runs a file; links are left
/// alone.
///
/// # Errors
/// [`FileError`] for the first file whose rights cannot be changed.
pub fn make_read_only(path: &Path) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(path).contents_first(true) {
        let entry = entry.map_err(io::Error::from).on("read the folder", path)?;
        if entry.file_type().is_symlink() {
            continue;
        }
        crate::sys::files::unmark(entry.path());
        let mode = entry.metadata().map_err(io::Error::from).on("read", entry.path())?.permissions().mode();
        if mode & 0o7777 != mode & 0o555 {
            let tight = fs::Permissions::from_mode(mode & 0o555);
            fs::set_permissions(entry.path(), tight).on("make read-only", entry.path())?;
        }
    }
    Ok(())
}
