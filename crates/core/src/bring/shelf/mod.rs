//! The shelf: versions side by side, read-only, each with a manifest of what it holds.
//!
//! ```text
//! shelf/TOOL/VERSION-RECIPE/files/          what was unpacked
//! shelf/TOOL/VERSION-RECIPE/manifest.json   every file with mode, size and digest
//! shelf/TOOL/VERSION-RECIPE/damaged         somebody saw that the files are not as the manifest has them
//! ```
//!
//! A place comes into being by one rename; what is there without the mark `damaged` was whole. One that is known to be
//! damaged is taken by nobody, and is brought anew in its place by one exchange.

mod manifest;
mod twins;

pub use manifest::{Known, Manifest, ManifestEntry, What};
pub use twins::Twins;

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Layout, Trial, Unpacking};
use kladder_choose::names::ToolName;
use kladder_choose::path::InnerPath;
use kladder_choose::template::Template;
use kladder_choose::version::Version;

use crate::base::crash;
use crate::base::digest::{Canonical, Digest};
use crate::base::files::{self, Attach, FileError};
use crate::base::record::RecordError;

/// Where versions stand.
#[derive(Clone, Debug)]
pub struct Shelf {
    folder: PathBuf,
}

/// What a place is made from; places of different recipes stand side by side.
#[derive(Clone, Copy, Debug)]
pub struct PlaceRecipe<'r> {
    /// The release's own, then those of its pieces; with all that may be run.
    pub artifacts: &'r [Artifact],
    /// What is run once over the unpacked files.
    pub set_up: &'r [Trial],
}

impl PlaceRecipe<'_> {
    /// The recipe's digest.
    pub fn digest(&self) -> Digest {
        let mut digest = Canonical::new("kladder place", 4);
        for artifact in self.artifacts {
            digest = digest.field("artifact", artifact.sha256.bytes()).field("layout", artifact.layout().as_str());
            digest = unpacking(digest, &artifact.unpack);
        }
        for trial in self.set_up {
            digest = digest.list("run", trial.run.iter().map(Template::as_written)).field("input", &trial.input);
            digest = digest.list("status", trial.expect.status.iter().map(|status| status.to_le_bytes()));
        }
        digest.finish()
    }
}

fn unpacking(digest: Canonical, unpack: &Unpacking) -> Canonical {
    let Unpacking { strip, leave_out, moves, executable, absolute_links, case_clashes, layout, into, inner } = unpack;
    let digest = digest
        .field("strip", (*strip as u64).to_le_bytes())
        .list("leave-out", leave_out)
        .list("move-from", moves.keys())
        .list("move-to", moves.values())
        .list("executable", executable)
        .field("absolute-links", absolute_links.as_str())
        .field("case-clashes", [u8::from(*case_clashes)])
        .field("told", layout.map_or("", Layout::as_str))
        .field("into", into.as_ref().map_or("", InnerPath::as_str));
    inner.iter().fold(digest, |digest, (path, unpack)| unpacking(digest.field("inner", path.as_str()), unpack))
}

/// The folder of sets on the shelf; no tool is called so.
const SETS: &str = ".sets";

/// How a place stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Nothing is there.
    Absent,
    /// Somebody saw that it is not as it was, or a glance shows it.
    Damaged,
    /// As far as is known it is whole.
    Whole,
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

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The place of a release that is made by a recipe.
    pub fn place(&self, tool: &ToolName, version: &Version, recipe: &PlaceRecipe<'_>) -> Place {
        self.place_in(tool.as_str(), version, recipe)
    }

    /// The place of a set's libraries, whatever the set is called: those of another one with the same libraries are the same.
    pub fn place_of_set(&self, version: &Version, recipe: &PlaceRecipe<'_>) -> Place {
        self.place_in(SETS, version, recipe)
    }

    fn place_in(&self, folder: &str, version: &Version, recipe: &PlaceRecipe<'_>) -> Place {
        // A colon would divide the folders of PATH and of what is like it.
        let name = [&version.as_str().replace(':', "_"), "-", &recipe.digest().short()].concat();
        Place { folder: self.folder.join(folder).join(name) }
    }

    /// The whole places of all versions of a tool, in the order of their names.
    ///
    /// # Errors
    /// [`FileError`] where the tool's folder cannot be listed.
    pub fn versions(&self, tool: &ToolName) -> Result<Vec<Place>, FileError> {
        let folder = self.folder.join(tool.as_str());
        let names = files::names(&folder)?;
        let mut places: Vec<Place> = names.iter().map(|name| Place { folder: folder.join(name) }).collect();
        places.retain(|place| place.standing() == Standing::Whole);
        Ok(places)
    }
}

impl Place {
    /// The tool's own files.
    pub fn files(&self) -> PathBuf {
        self.folder.join("files")
    }

    fn manifest_file(&self) -> PathBuf {
        self.folder.join("manifest.json")
    }

    fn mark(&self) -> PathBuf {
        self.folder.join("damaged")
    }

    /// How it stands, as far as a look at its folder tells.
    pub fn standing(&self) -> Standing {
        if fs::symlink_metadata(&self.folder).is_err() {
            return Standing::Absent;
        }
        let is_real = |path: &Path| fs::symlink_metadata(path).is_ok_and(|meta| !meta.is_symlink());
        let has_all = self.manifest_file().is_file() && self.files().is_dir() && is_real(&self.files());
        let is_marked = fs::symlink_metadata(self.mark()).is_ok();
        if has_all && is_real(&self.folder) && !is_marked { Standing::Whole } else { Standing::Damaged }
    }

    /// The same, after a glance at some of its files: sizes, modes and times, no bytes.
    pub fn glance(&self) -> Standing {
        match self.standing() {
            Standing::Whole if self.whole().is_none() => Standing::Damaged,
            other => other,
        }
    }

    /// Its manifest, where it stands and a glance finds nothing wrong.
    pub fn whole(&self) -> Option<Manifest> {
        let manifest = self.manifest().ok().filter(|_| self.standing() == Standing::Whole)?;
        let written = fs::metadata(self.manifest_file()).and_then(|meta| meta.modified()).ok();
        manifest.seems_right(&self.files(), written).then_some(manifest)
    }

    /// Writes down that it is damaged, so that nobody takes it until it is brought anew.
    ///
    /// # Errors
    /// [`FileError`] where the mark cannot be made.
    pub fn mark_damaged(&self) -> Result<(), FileError> {
        fs::write(self.mark(), b"").on("write", &self.mark())
    }

    /// The manifest of the item.
    ///
    /// # Errors
    /// [`RecordError`] where the item is not there, or its manifest is damaged or newer than this program.
    pub fn manifest(&self) -> Result<Manifest, RecordError> {
        Manifest::read(&self.manifest_file())
    }

    /// Puts a prepared folder, with `files/` in it, at this place, in one step. What is there and damaged makes room; the
    /// damaged one is at the prepared folder then, for the caller to throw away.
    ///
    /// # Errors
    /// [`FileError`]; what was at the place is still there then, and the prepared folder too.
    pub fn put(&self, prepared: &Path, manifest: &Manifest) -> Result<(), FileError> {
        manifest.write(&prepared.join("manifest.json"))?;
        crash::point("manifest-written");
        files::make_read_only(&prepared.join("files"))?;
        let above = self.folder.parent().unwrap_or(&self.folder);
        files::create_folder(above)?;
        // What somebody found damaged at a glance must not stay because its folder looks right.
        if self.glance() == Standing::Damaged {
            files::exchange(prepared, &self.folder)?;
            crash::point("shelved");
            return Ok(());
        }
        match fs::rename(prepared, &self.folder) {
            // Another climb was faster: what it put there is the same.
            Err(error) if is_occupied(&error) && self.standing() == Standing::Whole => Ok(()),
            done => done.on("put on the shelf", &self.folder),
        }?;
        crash::point("shelved");
        Ok(())
    }
}

fn is_occupied(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::AlreadyExists | io::ErrorKind::DirectoryNotEmpty)
}
