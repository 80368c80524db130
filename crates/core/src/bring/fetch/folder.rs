//! A yard that is a folder of this machine.

use std::fs;
use std::io::{self, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::yard::{Offer, Yard, YardError, check_size};
use crate::base::files;

/// A folder of artifacts.
#[derive(Clone, Debug)]
pub(super) struct Folder(PathBuf);

impl Folder {
    /// One that is not there is named as it was written, when someone tries to fetch from it.
    pub(super) fn new(folder: &Path) -> Self {
        Self(folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf()))
    }
}

impl Yard for Folder {
    fn shown(&self) -> String {
        self.0.display().to_string()
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let unreadable = |source| YardError::Folder { source };
        fs::read_dir(&self.0).map_err(unreadable)?;
        let mut file = match files::open(&artifact.file.below(&self.0)).map_err(|error| error.source) {
            Ok(file) => file,
            // A folder or a pipe of this name is no artifact.
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::InvalidData) => {
                return Err(YardError::NotThere);
            }
            Err(source) => return Err(unreadable(source)),
        };
        check_size(file.metadata().map_err(unreadable)?.len(), artifact)?;
        file.seek(SeekFrom::Start(from)).map_err(unreadable)?;
        Ok(Offer { from, body: Box::new(file) })
    }

    fn has_at_hand(&self, artifact: &Artifact) -> bool {
        artifact.file.below(&self.0).is_file()
    }

    fn size(&self, file: &InnerPath) -> Result<Option<u64>, YardError> {
        let meta = fs::metadata(file.below(&self.0)).ok().filter(fs::Metadata::is_file);
        meta.map(|meta| Some(meta.len())).ok_or(YardError::NotThere)
    }

    fn is_here(&self) -> bool {
        true
    }

    fn answers(&self, _: Duration) -> bool {
        self.0.is_dir()
    }
}
