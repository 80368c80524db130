//! A yard that is a folder of this machine.

use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::yard::{Offer, Stock, Yard, YardError, check_size};
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

impl Stock for Folder {
    fn has(&self, artifact: &Artifact) -> Result<bool, YardError> {
        let path = artifact.file.below(&self.0);
        Ok(fs::metadata(path).is_ok_and(|meta| meta.is_file() && meta.len() == artifact.size))
    }

    fn put(&self, artifact: &Artifact, body: &mut dyn Read) -> Result<(), YardError> {
        let path = artifact.file.below(&self.0);
        let mut put = || {
            let folder = path.parent().unwrap_or(&self.0);
            fs::create_dir_all(folder)?;
            let mut file = tempfile::Builder::new().prefix(".new-").tempfile_in(folder)?;
            io::copy(body, &mut file)?;
            // Others read it, whoever filled the yard.
            fs::set_permissions(file.path(), fs::Permissions::from_mode(0o644))?;
            file.as_file().sync_all()?;
            file.persist(&path).map_err(|error| error.error).map(drop)
        };
        put().map_err(|source| YardError::Unwritten { source })
    }

    fn remove(&self, artifact: &Artifact) -> Result<(), YardError> {
        fs::remove_file(artifact.file.below(&self.0)).map_err(|source| YardError::Unwritten { source })
    }
}
