//! What an item of the shelf holds, file by file.
//!
//! JSON, format 2. Paths are percent-encoded (RFC 3986, section 2.1) outside printable ASCII, so that any byte string
//! survives.

use std::fs;
use std::io;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, percent_encode};
use serde::{Deserialize, Serialize};

use crate::digest::{Digest, Fingerprint};
use crate::files::{Attach, FileError};
use crate::record::{self, RecordError};
use crate::version::Version;

const ENCODED: &AsciiSet = &CONTROLS.add(b'%');
const FORMAT: u32 = 2;

/// Every file and link of an item.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    format: u32,
    /// The tool.
    pub tool: String,
    /// Its version.
    pub version: Version,
    /// The digests of the artifacts it was unpacked from.
    pub artifacts: Vec<Digest>,
    /// What it holds, sorted by path.
    pub entries: Vec<ManifestEntry>,
}

/// One file or link.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ManifestEntry {
    /// Its path below the item's files.
    #[serde(serialize_with = "encode", deserialize_with = "decode")]
    pub path: PathBuf,
    /// What stands there.
    #[serde(flatten)]
    pub what: What,
}

/// What stands at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum What {
    /// A file.
    File {
        /// It may be run.
        runs: bool,
        /// Its size in bytes.
        size: u64,
        /// Its digest.
        blake3: Fingerprint,
    },
    /// A symbolic link.
    Link {
        /// Where it points.
        #[serde(serialize_with = "encode", deserialize_with = "decode")]
        target: PathBuf,
    },
}

/// How a file differs from the manifest.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// It is gone, or something else stands there.
    Missing(PathBuf),
    /// Its bytes, its target or its run bit are others.
    Changed(PathBuf),
    /// It is there although the manifest does not have it.
    Extra(PathBuf),
}

impl Manifest {
    /// A manifest of the present format.
    pub fn new(tool: &str, version: &Version, artifacts: Vec<Digest>, entries: Vec<ManifestEntry>) -> Self {
        Self { format: FORMAT, tool: tool.to_owned(), version: version.clone(), artifacts, entries }
    }

    /// What stands below `root`, as a manifest has it: for what did not come out of an archive.
    ///
    /// # Errors
    /// [`FileError`] for the first file that cannot be read; sockets, pipes and devices are refused likewise.
    pub fn scan(root: &Path) -> Result<Vec<ManifestEntry>, FileError> {
        let mut entries = Vec::new();
        for item in walkdir::WalkDir::new(root).min_depth(1) {
            let item = item.map_err(io::Error::from).on("read the folder", root)?;
            let path = item.path().strip_prefix(root).unwrap_or(item.path()).to_path_buf();
            let what = if item.file_type().is_symlink() {
                What::Link { target: fs::read_link(item.path()).on("read", item.path())? }
            } else if item.file_type().is_file() {
                let meta = item.metadata().map_err(io::Error::from).on("read", item.path())?;
                let blake3 = Fingerprint::of_file(item.path()).on("read", item.path())?;
                What::File { runs: meta.permissions().mode() & 0o111 != 0, size: meta.len(), blake3 }
            } else if item.file_type().is_dir() {
                continue;
            } else {
                let special = io::Error::other("it is neither a file, a folder nor a link");
                return Err(special).on("put on the shelf", item.path());
            };
            entries.push(ManifestEntry { path, what });
        }
        entries.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        Ok(entries)
    }

    pub(super) fn read(path: &Path) -> Result<Self, RecordError> {
        record::read(path, FORMAT)
    }

    pub(super) fn write(&self, path: &Path) -> Result<(), FileError> {
        record::write(path, self)
    }

    /// Compares the files below `root` with the manifest: all bytes are read.
    ///
    /// # Errors
    /// [`FileError`] where a file is there and cannot be read; whatever else is wrong is a difference.
    pub fn compare(&self, root: &Path) -> Result<Vec<Difference>, FileError> {
        let mut found = Vec::new();
        for entry in &self.entries {
            found.extend(entry.compare(root)?);
        }
        for item in walkdir::WalkDir::new(root).sort_by_file_name() {
            let item = item.map_err(io::Error::from).on("read the folder", root)?;
            let path = item.path().strip_prefix(root).unwrap_or(item.path());
            let known = self.entries.binary_search_by(|entry| entry.path.as_path().cmp(path)).is_ok();
            if !item.file_type().is_dir() && !known {
                found.push(Difference::Extra(path.to_path_buf()));
            }
        }
        Ok(found)
    }
}

impl ManifestEntry {
    fn compare(&self, root: &Path) -> Result<Option<Difference>, FileError> {
        let full = root.join(&self.path);
        let Ok(meta) = fs::symlink_metadata(&full) else {
            return Ok(Some(Difference::Missing(self.path.clone())));
        };
        let same = match &self.what {
            What::File { runs, size, blake3 } => {
                meta.is_file()
                    && meta.len() == *size
                    && (meta.permissions().mode() & 0o111 != 0) == *runs
                    && Fingerprint::of_file(&full).on("read", &full)? == *blake3
            }
            What::Link { target } => meta.is_symlink() && fs::read_link(&full).on("read", &full)? == *target,
        };
        Ok((!same).then(|| Difference::Changed(self.path.clone())))
    }
}

fn encode<S: serde::Serializer>(path: &Path, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(&percent_encode(path.as_os_str().as_bytes(), ENCODED))
}

fn decode<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<PathBuf, D::Error> {
    let text = String::deserialize(deserializer)?;
    let bytes: Vec<u8> = percent_decode_str(&text).collect();
    Ok(PathBuf::from(std::ffi::OsString::from_vec(bytes)))
}
