//! What only a person can fetch: found in the folder that their browser puts things into, by name and size.

use std::fs::{self, File};
use std::io::{Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::Network;
use super::yard::{Offer, Yard, YardError, check_size};
use crate::base::files;
use crate::bring::index::Around;

/// The folder that a person's downloads go to: as `user-dirs.dirs` has it (xdg-user-dirs), otherwise `Downloads`.
pub(super) fn downloads(around: &Around) -> Option<PathBuf> {
    let home = around.home.clone()?;
    let settings = around.environment.get("XDG_CONFIG_HOME").map_or_else(|| home.join(".config"), PathBuf::from);
    let text = files::text_of_at_most(&settings.join("user-dirs.dirs"), 64 << 10).unwrap_or_default();
    let said = text.lines().find_map(|line| line.trim().strip_prefix("XDG_DOWNLOAD_DIR="));
    let said = said.map(|value| value.trim().trim_matches('"')).filter(|value| !value.is_empty());
    Some(match said {
        Some(value) => value.strip_prefix("$HOME/").map_or_else(|| PathBuf::from(value), |below| home.join(below)),
        None => home.join("Downloads"),
    })
}

/// Where a file lies that a person has fetched, by its name and size; its bytes are not looked at.
pub fn downloaded(artifact: &Artifact, network: &Network) -> Option<PathBuf> {
    let folder = network.downloads.as_deref().filter(|_| artifact.by_person.is_some())?;
    let path = folder.join(artifact.file.as_str().rsplit('/').next()?);
    let is_it = fs::metadata(&path).is_ok_and(|meta| meta.is_file() && meta.len() == artifact.size);
    is_it.then_some(path)
}

/// The folder of a person's downloads, for one file that is there.
#[derive(Debug)]
pub(super) struct Downloaded(pub(super) PathBuf);

impl Yard for Downloaded {
    fn shown(&self) -> String {
        self.0.parent().unwrap_or(Path::new("/")).display().to_string()
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let unreadable = |source| YardError::Folder { source };
        let mut file = File::open(&self.0).map_err(unreadable)?;
        check_size(file.metadata().map_err(unreadable)?.len(), artifact)?;
        file.seek(SeekFrom::Start(from)).map_err(unreadable)?;
        Ok(Offer { from, body: Box::new(file) })
    }

    fn size(&self, _file: &InnerPath) -> Result<Option<u64>, YardError> {
        Ok(fs::metadata(&self.0).ok().map(|meta| meta.len()))
    }

    fn is_here(&self) -> bool {
        true
    }

    fn answers(&self, _: Duration) -> bool {
        self.0.is_file()
    }
}
