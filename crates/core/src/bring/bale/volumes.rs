//! The file of a bale, or the several that it is when it is too large for what carries it: each `FILE.NUMBER` has so many bytes, and
//! put together in their order they are the file.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Write};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};

use crate::base::files::{self, Attach, FileError};

/// The path of a volume, from 1.
pub fn volume_path(base: &Path, number: u64) -> PathBuf {
    base.with_added_extension(number.to_string())
}

/// A bale's bytes, wherever they are.
#[derive(Clone, Debug)]
pub(super) struct Volumes {
    base: PathBuf,
    /// Bytes of each but the last; one file where it is `None`.
    pub(super) each: Option<u64>,
}

impl Volumes {
    /// The bale that a path names: itself, the first of its volumes, or any of them.
    pub(super) fn of(path: &Path) -> Self {
        let number = path.extension().and_then(|end| end.to_str()?.parse::<u64>().ok());
        if path.is_file() && number.is_none() {
            return Self { base: path.to_path_buf(), each: None };
        }
        let base = if number.is_some() { path.with_extension("") } else { path.to_path_buf() };
        if volume_path(&base, 1).is_file() || number.is_some() {
            // How large each is stands in the index, which the first has; it is known for sure then.
            let first = fs::metadata(volume_path(&base, 1)).map_or(u64::MAX, |meta| meta.len());
            return Self { base, each: Some(first.max(1)) };
        }
        Self { base: path.to_path_buf(), each: None }
    }

    /// The file that a position is in, with the position there and how much of it follows.
    fn at(&self, position: u64) -> (PathBuf, u64, u64) {
        match self.each {
            None => (self.base.clone(), position, u64::MAX),
            Some(each) => (volume_path(&self.base, position / each + 1), position % each, each - position % each),
        }
    }

    /// The bytes from a position on; an error names the file that is missing.
    pub(super) fn reader(&self, position: u64, length: u64) -> Span {
        Span { volumes: self.clone(), at: position, left: length, open: None }
    }

    /// The file to name where something is wrong at a position.
    pub(super) fn file(&self, position: u64) -> PathBuf {
        self.at(position).0
    }
}

/// Some of a bale's bytes.
pub(super) struct Span {
    volumes: Volumes,
    at: u64,
    left: u64,
    open: Option<(PathBuf, File)>,
}

impl Read for Span {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 || buffer.is_empty() {
            return Ok(0);
        }
        let (path, within, follows) = self.volumes.at(self.at);
        let named = |error: io::Error| io::Error::new(error.kind(), format!("{}: {error}", path.display()));
        if self.open.as_ref().is_none_or(|(open, _)| *open != path) {
            self.open = Some((path.clone(), File::open(&path).map_err(named)?));
        }
        let Some((_, file)) = &self.open else { return Ok(0) };
        let most = usize::try_from(self.left.min(follows)).unwrap_or(usize::MAX).min(buffer.len());
        let read = file.read_at(&mut buffer[..most], within).map_err(named)?;
        if read == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, format!("{} ends too early", path.display())));
        }
        self.at += read as u64;
        self.left -= read as u64;
        Ok(read)
    }
}

/// A bale that is written: beside its place, and put there when it is whole.
pub(super) struct Writing {
    base: PathBuf,
    each: Option<u64>,
    written: u64,
    files: Vec<(File, PathBuf, PathBuf)>,
}

impl Writing {
    pub(super) fn new(base: &Path, each: Option<u64>) -> Self {
        Self { base: base.to_path_buf(), each, written: 0, files: Vec::new() }
    }

    fn next(&mut self) -> io::Result<()> {
        let place = match self.each {
            None => self.base.clone(),
            Some(_) => volume_path(&self.base, self.files.len() as u64 + 1),
        };
        let part = place.with_added_extension("part");
        let busy = || io::Error::other("another process writes it");
        let file = OpenOptions::new().write(true).create(true).truncate(false).open(&part)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(busy()),
            Err(TryLockError::Error(error)) => return Err(error),
        }
        // The one who held it may have put it into its place in between: then it is a bale, and no part any more.
        let ours = file.metadata()?.ino();
        if !fs::metadata(&part).is_ok_and(|there| there.ino() == ours) {
            return Err(busy());
        }
        file.set_len(0)?;
        self.files.push((file, part, place));
        Ok(())
    }

    /// Puts what was written into its place, durably.
    pub(super) fn finish(mut self) -> Result<Vec<PathBuf>, FileError> {
        let files = std::mem::take(&mut self.files);
        for (file, part, _) in &files {
            file.sync_all().on("write", part)?;
        }
        for (_, part, place) in &files {
            fs::rename(part, place).on("finish", place)?;
        }
        if let Some(folder) = self.base.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            files::sync(folder)?;
        }
        Ok(files.into_iter().map(|(_, _, place)| place).collect())
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        for (_, part, _) in &self.files {
            // It is only a part, and the next one that writes there begins anew.
            let _ = fs::remove_file(part);
        }
    }
}

impl Write for Writing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let left = match self.each {
            None => u64::MAX,
            Some(each) => each - self.written % each,
        };
        let begins = self.files.is_empty() || self.each.is_some_and(|each| self.written.is_multiple_of(each));
        if begins {
            self.next()?;
        }
        let most = usize::try_from(left).unwrap_or(usize::MAX).min(bytes.len());
        let Some((file, ..)) = self.files.last_mut() else { return Ok(0) };
        let written = file.write(&bytes[..most])?;
        self.written += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
