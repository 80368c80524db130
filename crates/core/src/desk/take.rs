//! Files that a person has fetched, taken into the cache by their digests.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Definition, PinnedArtifact};
use kladder_choose::digest::{Digest, Hasher};
use kladder_choose::names::ToolName;
use kladder_choose::pins::Pins;
use kladder_choose::version::Version;

use super::Surroundings;
use super::ladders::read_pins;
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::{Attach, FileError};
use crate::bring::fetch::Cache;

/// Why a file was not taken.
#[derive(Debug, thiserror::Error)]
pub enum TakeError {
    /// It cannot be read, or what was read cannot be kept.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no file.
    #[error("{} is no file", .0.display())]
    NoFile(PathBuf),
    /// Nothing in the catalogs has these bytes.
    #[error("{} is no file that the pins or the catalogs know", path.display())]
    Unknown {
        /// The file.
        path: PathBuf,
        /// Its digest.
        digest: Digest,
        /// Its size in bytes.
        size: u64,
        /// What is known by its name: with other bytes.
        namesake: Option<Box<Namesake>>,
    },
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// What is known by the name of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Namesake {
    /// Whose file it is.
    pub tool: ToolName,
    /// Of which version.
    pub version: Version,
    /// Its digest.
    pub sha256: Digest,
    /// Its size in bytes, where that is known.
    pub size: Option<u64>,
}

/// A file that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    /// Whose file it is.
    pub tool: ToolName,
    /// Of which version.
    pub version: Version,
    /// Its size in bytes.
    pub size: u64,
    /// The ladder's pins have it.
    pub pinned: bool,
    /// It was there already.
    pub before: bool,
}

/// All files that are known, by digest: whose, and what they are called.
struct Known {
    by_digest: BTreeMap<Digest, (Namesake, bool)>,
    by_name: BTreeMap<String, Namesake>,
}

impl Known {
    fn of(around: &Surroundings) -> Self {
        let mut known = Self { by_digest: BTreeMap::new(), by_name: BTreeMap::new() };
        // What cannot be read is what nothing is known of; a file can be taken all the same by what is left.
        let ladder = around.read_ladder().ok();
        let pins = ladder.and_then(|ladder| read_pins(&ladder.pins_path()).ok().flatten());
        if let Some(pins) = &pins {
            known.add_pins(pins);
        }
        let Ok(catalogs) = around.open_catalogs() else { return known };
        for name in catalogs.names() {
            if let Ok(Some(definition)) = catalogs.tool(name) {
                known.add_definition(&definition);
            }
        }
        known
    }

    fn add_pins(&mut self, pins: &Pins) {
        for (tool, pinned) in pins.all() {
            for file in pinned.files() {
                let of = |file: &PinnedArtifact| Namesake {
                    tool: tool.clone(),
                    version: pinned.version.clone(),
                    sha256: file.sha256,
                    size: file.size,
                };
                self.add(file.file.as_str(), of(file), true);
            }
        }
    }

    fn add_definition(&mut self, definition: &Definition) {
        for release in &definition.releases {
            let pieces = release.pieces.values().flat_map(|piece| &piece.artifacts);
            for file in release.artifacts.iter().chain(pieces).flat_map(|one| one.also.iter().chain([one])) {
                let (tool, version) = (definition.tool.clone(), release.version.clone());
                let whose = Namesake { tool, version, sha256: file.sha256, size: file.size };
                self.add(file.file.as_str(), whose, false);
            }
        }
    }

    fn add(&mut self, file: &str, whose: Namesake, pinned: bool) {
        let name = file.rsplit('/').next().unwrap_or(file).to_owned();
        self.by_name.entry(name).or_insert_with(|| whose.clone());
        self.by_digest.entry(whose.sha256).or_insert((whose, pinned));
    }
}

/// Takes files into the cache; each is told of by itself, so that one that is wrong does not keep the others out.
pub fn take(
    around: &Surroundings,
    paths: &[PathBuf],
    observer: &dyn Observer,
) -> Vec<(PathBuf, Result<Taken, TakeError>)> {
    let (known, cache) = (Known::of(around), Cache::new(&around.home.artifacts));
    paths.iter().map(|path| (path.clone(), take_one(path, &known, &cache, observer))).collect()
}

fn take_one(path: &Path, known: &Known, cache: &Cache, observer: &dyn Observer) -> Result<Taken, TakeError> {
    if !fs::metadata(path).on("read", path)?.is_file() {
        return Err(TakeError::NoFile(path.to_path_buf()));
    }
    let mut file = File::open(path).on("open", path)?;
    // What is copied is what is hashed: the file may change meanwhile.
    let mut copy = cache.incoming()?;
    let (mut hasher, mut block, mut size) = (Hasher::default(), vec![0; 256 * 1024], 0u64);
    loop {
        check_cancelled(observer)?;
        let got = file.read(&mut block).on("read", path)?;
        if got == 0 {
            break;
        }
        hasher.update(&block[..got]);
        copy.write_all(&block[..got]).on("write", copy.path())?;
        size += got as u64;
    }
    let digest = hasher.finish();
    let Some((whose, pinned)) = known.by_digest.get(&digest) else {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let namesake = known.by_name.get(name).cloned().map(Box::new);
        return Err(TakeError::Unknown { path: path.to_path_buf(), digest, size, namesake });
    };
    let whole = cache.path(&digest);
    let before = fs::metadata(&whole).is_ok_and(|meta| meta.len() == size);
    cache.keep(copy, &digest)?;
    let (tool, version) = (whose.tool.clone(), whose.version.clone());
    Ok(Taken { tool, version, size, pinned: *pinned, before })
}
