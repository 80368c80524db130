//! The shelf: versions side by side, read-only, each with a manifest.
//!
//! ```text
//! shelf/TOOL/VERSION-RECIPE/files/...        what was unpacked
//! shelf/TOOL/VERSION-RECIPE/manifest.json    every file's mode, size and digest
//! ```
//!
//! RECIPE is a digest over the artifacts (the release's own and its pieces') and how they are unpacked, so that one release
//! with other pieces, or unpacked in another way, stands beside the first. An item appears in one rename; what is there is whole.

mod manifest;
mod twins;

pub use manifest::{Difference, Manifest, ManifestEntry, What};
pub use twins::Twins;

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::catalog::{Artifact, Command, Trial};
use crate::crash;
use crate::digest::{Digest, Hasher};
use crate::files::{self, Attach, FileError};
use crate::record::RecordError;
use crate::version::Version;

/// Where versions stand.
#[derive(Clone, Debug)]
pub struct Shelf {
    folder: PathBuf,
}

/// One place on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The folder of the item.
    pub folder: PathBuf,
}

impl Shelf {
    /// The shelf in `folder`, which need not exist yet.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_path_buf() }
    }

    /// The place of a release, unpacked from `artifacts` (its own, then those of its pieces) and set up by `set_up`.
    pub fn place(&self, tool: &str, version: &Version, artifacts: &[Artifact], set_up: &[Trial]) -> Place {
        let name = format!("{version}-{}", recipe(artifacts, set_up).short());
        Place { folder: self.folder.join(tool).join(name) }
    }

    /// The places of all versions of a tool, in the order of their names.
    pub fn versions(&self, tool: &str) -> Result<Vec<Place>, FileError> {
        let folder = self.folder.join(tool);
        let names = files::names(&folder)?;
        let mut places: Vec<Place> = names.iter().map(|name| Place { folder: folder.join(name) }).collect();
        places.retain(Place::is_taken);
        Ok(places)
    }
}

/// The artifact of a release as it is unpacked: the files behind its commands may always be run.
pub fn prepared(commands: &BTreeMap<String, Command>, version: &Version, mut artifact: Artifact) -> Artifact {
    let files = commands.values().map(|command| globset::escape(&filled(&command.file, version)));
    artifact.unpack.runs.extend(files);
    artifact.unpack.runs.sort();
    artifact.unpack.runs.dedup();
    artifact
}

/// A path of a definition with its version filled in.
pub fn filled(text: &str, version: &Version) -> String {
    text.replace("{version}", version.as_str())
}

fn recipe(artifacts: &[Artifact], set_up: &[Trial]) -> Digest {
    let mut hasher = Hasher::default();
    for Artifact { sha256, unpack, .. } in artifacts {
        hasher.update(format!("{sha256} {unpack:?}\n").as_bytes());
    }
    for Trial { run, input, .. } in set_up {
        hasher.update(format!("{run:?} {input:?}\n").as_bytes());
    }
    hasher.finish()
}

impl Place {
    /// The tool's own files.
    pub fn files(&self) -> PathBuf {
        self.folder.join("files")
    }

    /// Whether the item is there.
    pub fn is_taken(&self) -> bool {
        self.folder.join("manifest.json").is_file()
    }

    /// The manifest of the item.
    ///
    /// # Errors
    /// [`RecordError`] where the item is not there, or its manifest is damaged or newer than this program.
    pub fn manifest(&self) -> Result<Manifest, RecordError> {
        Manifest::read(&self.folder.join("manifest.json"))
    }

    /// Puts a prepared folder, with `files/` in it, at this place, in one step.
    ///
    /// # Errors
    /// [`FileError`]; nothing is at the place then, and the prepared folder is still there.
    pub fn put(&self, prepared: &Path, manifest: &Manifest) -> Result<(), FileError> {
        manifest.write(&prepared.join("manifest.json"))?;
        crash::point("manifest-written");
        files::make_read_only(&prepared.join("files"))?;
        let above = self.folder.parent().unwrap_or(&self.folder);
        files::create_folder(above)?;
        match fs::rename(prepared, &self.folder) {
            // Another climb was faster: what it put there is the same.
            Err(error) if is_occupied(&error) && self.is_taken() => Ok(()),
            done => done.on("put on the shelf", &self.folder),
        }?;
        crash::point("shelved");
        Ok(())
    }
}

fn is_occupied(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::AlreadyExists | io::ErrorKind::DirectoryNotEmpty)
}
