//! The cache: artifacts by their digest, shared by all processes and, where the settings say so, by all users.
//!
//! ```text
//! artifacts/ab/abcd…          whole; had this digest when it was put there
//! artifacts/ab/abcd….part     what came of it so far; its lock is held by the one who fetches it
//! ```

use std::fs::{self, File, OpenOptions, TryLockError};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::base::crash;
use crate::base::digest::Digest;
use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use kladder_choose::catalog::Artifact;

use super::rehash::rehash;
use super::{FetchError, Onward};

/// Artifacts by their digest.
#[derive(Clone, Debug)]
pub struct Cache {
    folder: PathBuf,
}

/// What came of an artifact so far, held by this process alone.
#[derive(Debug)]
pub(super) struct Partial {
    pub(super) file: File,
    pub(super) path: PathBuf,
    whole: PathBuf,
}

impl Cache {
    /// The cache in `folder`, which need not exist yet.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.join("artifacts") }
    }

    /// Where all of it is.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// A file of what comes in before its digest is known; what a kill leaves of it is cleared like other downloads.
    ///
    /// # Errors
    /// [`FileError`] where it cannot be made.
    pub fn incoming(&self) -> Result<tempfile::NamedTempFile, FileError> {
        let folder = self.folder.join("new");
        files::create_folder(&folder)?;
        tempfile::Builder::new().suffix(".part").tempfile_in(&folder).on("write in", &folder)
    }

    /// Puts what came in, and was hashed, where it belongs, durably.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn keep(&self, file: tempfile::NamedTempFile, digest: &Digest) -> Result<(), FileError> {
        let whole = self.path(digest);
        files::create_folder(whole.parent().unwrap_or(&self.folder))?;
        file.as_file().sync_all().on("write", file.path())?;
        fs::rename(file.path(), &whole).on("finish", &whole)?;
        // It has its own name now, and is not there to be removed.
        let _ = file.into_temp_path().keep();
        Ok(())
    }

    /// Where an artifact stands or would stand.
    pub fn path(&self, digest: &Digest) -> PathBuf {
        let name = digest.to_string();
        self.folder.join(&name[..2]).join(name)
    }

    /// Whether something stands there with the right size; the digest is not looked at.
    pub fn seems_to_hold(&self, artifact: &Artifact) -> bool {
        fs::metadata(self.path(&artifact.sha256)).is_ok_and(|meta| meta.len() == artifact.size)
    }

    /// How large what stands there is, in bytes.
    pub fn size(&self, digest: &Digest) -> Option<u64> {
        fs::metadata(self.path(digest)).ok().map(|meta| meta.len())
    }

    /// Whether the artifact's bytes agree; damaged ones are removed. What is used is marked as of now, so that what was
    /// not used for long can be told.
    pub(super) fn check(
        &self,
        artifact: &Artifact,
        onward: &mut dyn Onward,
        observer: &dyn Observer,
    ) -> Result<bool, FetchError> {
        let path = self.path(&artifact.sha256);
        let file = File::open(&path).on("open", &path)?;
        let (hasher, _) = rehash(&file, &path, onward, observer)?;
        let agrees = hasher.finish() == artifact.sha256;
        if agrees {
            // In a cache that others own it cannot be marked, and need not be.
            let _ = file.set_modified(std::time::SystemTime::now());
        } else {
            fs::remove_file(&path).on("remove the damaged", &path)?;
        }
        Ok(agrees)
    }

    /// Takes hold of what came so far; `None` while another process fetches it.
    pub(super) fn partial(&self, artifact: &Artifact) -> Result<Option<Partial>, FileError> {
        let whole = self.path(&artifact.sha256);
        files::create_folder(whole.parent().unwrap_or(&self.folder))?;
        let path = whole.with_added_extension("part");
        let file =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path).on("open", &path)?;
        match file.try_lock() {
            Err(TryLockError::WouldBlock) => return Ok(None),
            Err(TryLockError::Error(error)) => Err(error).on("lock", &path)?,
            Ok(()) => {}
        }
        // The one who held it may have finished in between: then this is no longer the file of that name.
        let ours = file.metadata().on("read", &path)?.ino();
        let is_it = fs::metadata(&path).is_ok_and(|there| there.ino() == ours);
        Ok(is_it.then_some(Partial { file, path, whole }))
    }
}

impl Partial {
    /// Puts the finished file into its place, durably.
    pub(super) fn finish(self) -> Result<PathBuf, FileError> {
        self.file.sync_all().on("write", &self.path)?;
        fs::rename(&self.path, &self.whole).on("finish", &self.whole)?;
        crash::point("artifact-whole");
        Ok(self.whole)
    }

    /// Throws away what came.
    pub(super) fn discard(self) -> Result<(), FileError> {
        fs::remove_file(&self.path).on("remove", &self.path)
    }
}
