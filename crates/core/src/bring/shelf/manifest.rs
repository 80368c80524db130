//! What a place on the shelf holds, file by file.
//!
//! ```json
//! { "format": 3, "tool": "skerroc", "version": "1.4.3", "artifacts": ["0c84…"],
//!   "entries": [ { "path": "bin/skerroc", "executable": true, "size": 2513, "blake3": "77e1…" },
//!                { "path": "bin/sk", "target": "skerroc" } ] }
//! ```
//!
//! Folders follow from paths. Whether a place is as its manifest says is found out at two depths: a glance (kind, size and
//! mode of some hundred files spread over all, and the bytes of those that were changed since), and the digest of every
//! file, on as many threads as there are cores.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use serde::{Deserialize, Serialize};

use crate::base::digest::{Digest, Fingerprint};
use crate::base::event::{Difference, How};
use crate::base::files::{Attach, FileError};
use crate::base::record::{self, RecordError};
use crate::base::side::{cores, side_by_side};

const FORMAT: u32 = 3;

/// Every file and link of a place; JSON, format 3.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    format: u32,
    /// Whose files.
    pub tool: ToolName,
    /// At which version.
    pub version: Version,
    /// The SHA-256 digests of the artifacts they were unpacked from.
    pub artifacts: Vec<Digest>,
    /// Sorted by path.
    pub entries: Vec<ManifestEntry>,
}

/// One file or link.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "EntryForm")]
pub struct ManifestEntry {
    /// Below the place's files.
    #[serde(with = "record::path")]
    pub path: PathBuf,
    /// What stands there.
    #[serde(flatten)]
    pub what: What,
}

/// What stands at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum What {
    /// A file.
    File {
        /// It may be run.
        executable: bool,
        /// Bytes.
        size: u64,
        /// Of its bytes.
        blake3: Fingerprint,
    },
    /// A symbolic link.
    Link {
        /// Where it points.
        #[serde(with = "record::path")]
        target: PathBuf,
    },
}

/// An entry as it is read: in one go, since trying what it could be keeps a copy of each value.
#[derive(Deserialize)]
struct EntryForm {
    path: Coded,
    executable: Option<bool>,
    size: Option<u64>,
    blake3: Option<Fingerprint>,
    target: Option<Coded>,
}

#[derive(Deserialize)]
struct Coded(#[serde(with = "record::path")] PathBuf);

impl TryFrom<EntryForm> for ManifestEntry {
    type Error = &'static str;

    fn try_from(form: EntryForm) -> Result<Self, Self::Error> {
        let what = match form {
            EntryForm {
                executable: Some(executable), size: Some(size), blake3: Some(blake3), target: None, ..
            } => What::File { executable, size, blake3 },
            EntryForm { executable: None, size: None, blake3: None, target: Some(target), .. } => {
                What::Link { target: target.0 }
            }
            _ => return Err("an entry is a file or a link"),
        };
        Ok(Self { path: form.path.0, what })
    }
}

/// Files of a place that are looked at without being read.
const GLANCED_AT: usize = 400;

impl Manifest {
    /// A manifest of the present format.
    pub fn new(tool: &ToolName, version: &Version, artifacts: Vec<Digest>, entries: Vec<ManifestEntry>) -> Self {
        Self { format: FORMAT, tool: tool.clone(), version: version.clone(), artifacts, entries }
    }

    /// What stands below `root`, as a manifest has it: for what did not come out of an archive.
    ///
    /// # Errors
    /// [`FileError`] for the first file that cannot be read; sockets, pipes and devices are refused likewise.
    pub fn scan(root: &Path) -> Result<Vec<ManifestEntry>, FileError> {
        Self::scan_since(root, &Known::default())
    }

    /// The same for what was worked on since some of it was known. What nobody touched is not read again.
    ///
    /// # Errors
    /// As for [`Manifest::scan`].
    pub fn scan_since(root: &Path, known: &Known<'_>) -> Result<Vec<ManifestEntry>, FileError> {
        let mut found = Vec::new();
        for item in walkdir::WalkDir::new(root).min_depth(1) {
            let item = item.map_err(io::Error::from).on("read the folder", root)?;
            if !item.file_type().is_dir() {
                found.push(item);
            }
        }
        let nothing = Known::default();
        let known = if known.still_holds() { known } else { &nothing };
        let entry = |item: &walkdir::DirEntry| {
            let path = item.path().strip_prefix(root).unwrap_or(item.path()).to_path_buf();
            Ok(ManifestEntry { what: What::at(item, &path, known)?, path })
        };
        let mut entries = side_by_side(&found, cores(), entry).into_iter().collect::<Result<Vec<_>, _>>()?;
        entries.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        Ok(entries)
    }

    pub(super) fn read(path: &Path) -> Result<Self, RecordError> {
        record::read(path, FORMAT)
    }

    pub(super) fn write(&self, path: &Path) -> Result<(), FileError> {
        record::write(path, self)
    }

    /// The files below `root` that are not as the manifest has them: all bytes are read.
    ///
    /// # Errors
    /// [`FileError`] where a file is there and cannot be read; whatever else is wrong is a difference.
    pub fn compare(&self, root: &Path) -> Result<Vec<Difference>, FileError> {
        let mut found = Vec::new();
        let owner = root.ancestors().nth(2).and_then(|shelf| fs::metadata(shelf).ok()).map(|meta| meta.uid());
        for entry in &self.entries {
            found.extend(entry.compare(root, true, owner)?.map(|how| Difference { path: entry.path.clone(), how }));
        }
        if !root.is_dir() {
            return Ok(found);
        }
        for item in walkdir::WalkDir::new(root).sort_by_file_name() {
            let item = item.map_err(io::Error::from).on("read the folder", root)?;
            let path = item.path().strip_prefix(root).unwrap_or(item.path());
            let known = self.entries.binary_search_by(|entry| entry.path.as_path().cmp(path)).is_ok();
            if !item.file_type().is_dir() && !known {
                found.push(Difference { path: path.to_path_buf(), how: How::Extra });
            }
        }
        Ok(found)
    }

    /// Whether some files, spread over all of them, look as the manifest has them: nothing is read but what was changed
    /// after `written`, when the manifest was.
    pub fn seems_right(&self, root: &Path, written: Option<SystemTime>) -> bool {
        let apart = self.entries.len().div_ceil(GLANCED_AT).max(1);
        self.entries.iter().step_by(apart).all(|entry| {
            let modified = || fs::symlink_metadata(root.join(&entry.path)).and_then(|meta| meta.modified()).ok();
            let suspicious = matches!(entry.what, What::File { .. }) && modified() > written;
            matches!(entry.compare(root, suspicious, None), Ok(None))
        })
    }
}

impl What {
    fn at(item: &walkdir::DirEntry, path: &Path, known: &Known<'_>) -> Result<Self, FileError> {
        if item.file_type().is_symlink() {
            return Ok(Self::Link { target: fs::read_link(item.path()).on("read", item.path())? });
        }
        if !item.file_type().is_file() {
            let special = io::Error::other("it is neither a file, a folder nor a link");
            return Err(special).on("put on the shelf", item.path());
        }
        let meta = item.metadata().map_err(io::Error::from).on("read", item.path())?;
        let executable = meta.permissions().mode() & 0o111 != 0;
        let blake3 = match known.of(path, &meta) {
            Some(blake3) => blake3,
            None => Fingerprint::of_file(item.path()).on("read", item.path())?,
        };
        Ok(Self::File { executable, size: meta.len(), blake3 })
    }
}

/// What was true of files at a moment.
#[derive(Default)]
pub struct Known<'k> {
    files: HashMap<&'k OsStr, &'k What>,
    /// When that was, as the file system tells time: seconds and nanoseconds since 1970.
    at: (i64, i64),
    folder: PathBuf,
}

impl<'k> Known<'k> {
    /// Entries that are true now of files on the file system of `folder`.
    ///
    /// # Errors
    /// [`FileError`] where the folder cannot be written in.
    pub fn now(entries: &'k [ManifestEntry], folder: &Path) -> Result<Self, FileError> {
        let files = entries.iter().map(|entry| (entry.path.as_os_str(), &entry.what)).collect();
        Ok(Self { files, at: time_at(folder).on("write in", folder)?, folder: folder.to_path_buf() })
    }

    /// Whether nobody set the clock back since.
    fn still_holds(&self) -> bool {
        self.files.is_empty() || time_at(&self.folder).is_ok_and(|now| now >= self.at)
    }

    /// The fingerprint of a file that was last changed before. No program sets that time (inode(7)); where both are of one tick,
    /// the file is read.
    fn of(&self, path: &Path, meta: &fs::Metadata) -> Option<Fingerprint> {
        match self.files.get(path.as_os_str())? {
            What::File { size, blake3, .. } if *size == meta.len() && (meta.ctime(), meta.ctime_nsec()) < self.at => {
                Some(*blake3)
            }
            _ => None,
        }
    }
}

/// What a file that is made now has as its time of change.
fn time_at(folder: &Path) -> io::Result<(i64, i64)> {
    let meta = tempfile::tempfile_in(folder)?.metadata()?;
    Ok((meta.ctime(), meta.ctime_nsec()))
}

impl ManifestEntry {
    /// How it differs; `thoroughly` by its bytes, otherwise by kind, size and mode; and by its owner, where that one is known.
    fn compare(&self, root: &Path, thoroughly: bool, owner: Option<u32>) -> Result<Option<How>, FileError> {
        let full = root.join(&self.path);
        let Ok(meta) = fs::symlink_metadata(&full) else { return Ok(Some(How::Missing)) };
        let differs = self.differs(&full, &meta, thoroughly)?;
        Ok(differs.or_else(|| owner.is_some_and(|owner| owner != meta.uid()).then_some(How::Owner)))
    }

    fn differs(&self, full: &Path, meta: &fs::Metadata, thoroughly: bool) -> Result<Option<How>, FileError> {
        let digest = || match Fingerprint::of_file(full) {
            // It was made so that its owner may read it.
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(None),
            other => other.map(Some).on("read", full),
        };
        Ok(match &self.what {
            What::File { executable, size, blake3 } => {
                let mode = meta.permissions().mode();
                if !meta.is_file() || meta.len() != *size {
                    Some(How::Changed)
                } else if (mode & 0o111 != 0) != *executable || mode & 0o7022 != 0 {
                    Some(How::Mode)
                } else if thoroughly {
                    match digest()? {
                        None => Some(How::Mode),
                        Some(found) => (found != *blake3).then_some(How::Changed),
                    }
                } else {
                    None
                }
            }
            What::Link { target } => {
                let same = meta.is_symlink() && fs::read_link(full).on("read", full)? == *target;
                (!same).then_some(How::Changed)
            }
        })
    }
}
