//! The guard that no path gets past.
//!
//! It writes into one empty folder that only this process knows of, so what it made itself is all that is there. Why
//! nothing gets out:
//!
//! - A path is a row of plain names; anything else is refused before the file system hears of it.
//! - Every folder above an entry was made by the guard as a real folder; a link is never walked through.
//! - Files are created new; an entry that is there already is refused, so that no link is written through either.
//! - A link's target is relative: some `..` first, not more than there are folders above it, then plain names. Since the
//!   folders above it are real, it ends up inside; and since all other links do too, so does everything behind it.

use std::collections::HashSet;
use std::fs;
use std::io::{self, Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use crate::digest::Hasher;
use crate::files::{Attach, FileError};
use crate::shelf::{ManifestEntry, What};

/// How much an archive may hold.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Entries.
    pub entries: usize,
    /// Bytes of all files together.
    pub bytes: u64,
    /// Folders above an entry.
    pub depth: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { entries: 4_000_000, bytes: 256 << 30, depth: 128 }
    }
}

/// Why an entry was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// Its path starts at the root.
    #[error("its path is absolute")]
    Absolute,
    /// Its path has a `..` in it.
    #[error("its path climbs out with `..`")]
    Climbs,
    /// Its path is empty, or has a NUL in it.
    #[error("its path is empty or not a path")]
    NoPath,
    /// Something on its path is a file or a link.
    #[error("its path goes through something that is not a folder")]
    NotAFolder,
    /// There is something at its path already.
    #[error("there is something at its path already")]
    Twice,
    /// It is a link to an absolute path.
    #[error("it is a link to the absolute path `{0}`")]
    LinkAbsolute(String),
    /// It is a link that leads out, or whose way cannot be told.
    #[error("it is a link to `{0}`, which leads out of the folder")]
    LinkOut(String),
    /// It is a hard link to something that is no file of the archive.
    #[error("it is a hard link to `{0}`, which is no file of this archive")]
    HardLink(String),
    /// It is a device, a pipe or a socket.
    #[error("it is neither a file, a folder nor a link")]
    Special,
    /// It would vanish, since it has no folder to strip.
    #[error("it stands outside the {0} leading folder(s) that are left out")]
    Stripped(usize),
    /// It is encrypted.
    #[error("it is encrypted")]
    Encrypted,
    /// One of the limits is reached.
    #[error("the archive goes beyond the limit of {0}")]
    Limit(String),
}

/// Why an entry was not written.
#[derive(Debug)]
pub(super) enum Stop {
    Refused(Refusal),
    File(FileError),
    /// The archive ended or broke within the entry.
    Damaged(io::Error),
}

impl From<Refusal> for Stop {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(refusal)
    }
}

impl From<FileError> for Stop {
    fn from(error: FileError) -> Self {
        Self::File(error)
    }
}

/// Writes the entries of an archive below one folder.
pub struct Guard {
    root: PathBuf,
    strip: usize,
    runs: globset::GlobSet,
    limits: Limits,
    folders: HashSet<PathBuf>,
    made: Vec<ManifestEntry>,
    bytes: u64,
    entries: usize,
    buffer: Vec<u8>,
}

impl Guard {
    /// A guard over the empty folder `root`.
    pub(super) fn new(root: &Path, limits: Limits) -> Self {
        let (folders, buffer) = (HashSet::from([PathBuf::new()]), vec![0; 128 * 1024]);
        let (root, runs) = (root.to_path_buf(), globset::GlobSet::empty());
        Self { root, strip: 0, runs, limits, folders, made: Vec::new(), bytes: 0, entries: 0, buffer }
    }

    /// Begins the next archive, which goes beside what is there already.
    pub(super) fn begin(&mut self, strip: usize, runs: globset::GlobSet) {
        (self.strip, self.runs) = (strip, runs);
    }

    /// What was made, sorted by path.
    pub(super) fn finish(mut self) -> Vec<ManifestEntry> {
        self.made.sort_by(|a, b| a.path.cmp(&b.path));
        self.made
    }

    pub(super) fn folder(&mut self, raw: &[u8]) -> Result<(), Stop> {
        self.count()?;
        // A folder that is stripped away altogether is no loss.
        match self.place(raw)? {
            None => Ok(()),
            Some(path) => self.ensure_folder(&path),
        }
    }

    pub(super) fn file(&mut self, raw: &[u8], runs: bool, content: &mut dyn Read) -> Result<(), Stop> {
        let path = self.new_entry(raw)?;
        let runs = runs || self.runs.is_match(&path);
        let full = self.root.join(&path);
        let mode = if runs { 0o755 } else { 0o644 };
        let created = fs::OpenOptions::new().write(true).create_new(true).mode(mode).open(&full);
        let mut file = created.or_else(|error| taken(error, &full))?;
        let (mut hasher, mut size) = (Hasher::default(), 0u64);
        loop {
            let got = match content.read(&mut self.buffer) {
                Ok(0) => break,
                Ok(got) => got,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(Stop::Damaged(error)),
            };
            size += got as u64;
            if self.bytes + size > self.limits.bytes {
                return Err(Refusal::Limit(format!("{} bytes", self.limits.bytes)).into());
            }
            hasher.update(&self.buffer[..got]);
            file.write_all(&self.buffer[..got]).on("write", &full)?;
        }
        self.bytes += size;
        self.made.push(ManifestEntry { path, what: What::File { runs, size, sha256: hasher.finish() } });
        Ok(())
    }

    pub(super) fn link(&mut self, raw: &[u8], target: &[u8]) -> Result<(), Stop> {
        let path = self.new_entry(raw)?;
        let target = PathBuf::from(std::ffi::OsString::from_vec(target.to_vec()));
        check_target(&path, &target)?;
        let full = self.root.join(&path);
        std::os::unix::fs::symlink(&target, &full).or_else(|error| taken(error, &full))?;
        self.made.push(ManifestEntry { path, what: What::Link { target } });
        Ok(())
    }

    pub(super) fn hard_link(&mut self, raw: &[u8], target: &[u8]) -> Result<(), Stop> {
        let path = self.new_entry(raw)?;
        let refused = || Refusal::HardLink(String::from_utf8_lossy(target).into_owned());
        let Ok(Some(existing)) = self.place(target) else { return Err(refused().into()) };
        let same = self.made.iter().find(|made| made.path == existing && matches!(made.what, What::File { .. }));
        let what = same.ok_or_else(refused)?.what.clone();
        let full = self.root.join(&path);
        fs::hard_link(self.root.join(existing), &full).or_else(|error| taken(error, &full))?;
        self.made.push(ManifestEntry { path, what });
        Ok(())
    }

    fn count(&mut self) -> Result<(), Refusal> {
        self.entries += 1;
        if self.entries > self.limits.entries {
            return Err(Refusal::Limit(format!("{} entries", self.limits.entries)));
        }
        Ok(())
    }

    /// Where a new entry goes; the folders above it are there when this returns.
    fn new_entry(&mut self, raw: &[u8]) -> Result<PathBuf, Stop> {
        self.count()?;
        let path = self.place(raw)?.ok_or(Refusal::Stripped(self.strip))?;
        if self.folders.contains(&path) {
            return Err(Refusal::Twice.into());
        }
        self.ensure_folder(path.parent().unwrap_or(Path::new("")))?;
        Ok(path)
    }

    fn ensure_folder(&mut self, path: &Path) -> Result<(), Stop> {
        if self.folders.contains(path) {
            return Ok(());
        }
        self.ensure_folder(path.parent().unwrap_or(Path::new("")))?;
        let full = self.root.join(path);
        match fs::create_dir(&full) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Err(Refusal::NotAFolder.into()),
            made => made.on("create the folder", &full)?,
        }
        self.folders.insert(path.to_path_buf());
        Ok(())
    }

    /// The path below the root; `None` when nothing of it is left after stripping.
    fn place(&self, raw: &[u8]) -> Result<Option<PathBuf>, Refusal> {
        if raw.starts_with(b"/") {
            return Err(Refusal::Absolute);
        }
        if raw.is_empty() || raw.contains(&0) {
            return Err(Refusal::NoPath);
        }
        let names: Vec<&[u8]> = raw.split(|&b| b == b'/').filter(|name| !matches!(*name, b"" | b".")).collect();
        if names.contains(&b"..".as_slice()) {
            return Err(Refusal::Climbs);
        }
        if names.len() > self.limits.depth {
            return Err(Refusal::Limit(format!("{} folders", self.limits.depth)));
        }
        let kept: PathBuf = names.iter().skip(self.strip).map(|name| std::ffi::OsStr::from_bytes(name)).collect();
        Ok((!kept.as_os_str().is_empty()).then_some(kept))
    }
}

/// Tells an occupied path from a failing file system.
fn taken<T>(error: io::Error, full: &Path) -> Result<T, Stop> {
    match error.kind() {
        io::ErrorKind::AlreadyExists | io::ErrorKind::IsADirectory => Err(Refusal::Twice.into()),
        _ => Err(error).on("write", full).map_err(Stop::from),
    }
}

fn check_target(path: &Path, target: &Path) -> Result<(), Refusal> {
    let text = || target.display().to_string();
    let bytes = target.as_os_str().as_bytes();
    if bytes.starts_with(b"/") {
        return Err(Refusal::LinkAbsolute(text()));
    }
    let names: Vec<&[u8]> = bytes.split(|&b| b == b'/').filter(|name| !matches!(*name, b"" | b".")).collect();
    let up = names.iter().take_while(|name| **name == b"..").count();
    let above = path.components().count() - 1;
    if bytes.is_empty() || bytes.contains(&0) || up > above || names[up..].contains(&b"..".as_slice()) {
        return Err(Refusal::LinkOut(text()));
    }
    Ok(())
}
