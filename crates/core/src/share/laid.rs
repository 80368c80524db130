//! The ladder of a bale is put where a person works.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::bale::FETCHED;
use crate::base::digest::Digest;
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError, path as encoded};
use crate::bring::bale::{Bale, BaleError, LADDER};
use crate::desk::{FILE_NAME, Surroundings};
use crate::settings::Home;

const FORMAT: u32 = 1;

/// Why the ladder of a bale cannot be put there.
#[derive(Debug, thiserror::Error)]
pub enum LayError {
    /// The bale cannot be used.
    #[error(transparent)]
    Bale(#[from] BaleError),
    /// It has no ladder.
    #[error("{} has no ladder in it", .0.display())]
    NoLadder(PathBuf),
    /// Files that are there already are others, and not from an earlier bale.
    #[error("there is another ladder in {}", folder.display())]
    Others {
        /// The folder.
        folder: PathBuf,
        /// The files.
        files: Vec<PathBuf>,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// What was put there before is not known.
    #[error(transparent)]
    Record(#[from] RecordError),
}

/// What a bale put into a folder; JSON, format 1.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Laid {
    format: u32,
    /// By path below the folder: what a file is, or may be while it is replaced.
    files: BTreeMap<String, BTreeSet<Digest>>,
    /// The bales, as paths are recorded.
    bales: Vec<String>,
}

/// Puts the ladder of the last bale, its pins and its catalogs into the caller's folder, and catalogs from elsewhere where they are kept.
/// What an earlier bale put there, and nobody changed, gives way; so does everything where `replace` says so, kept beside under
/// another name. Returns the ladder's file.
///
/// # Errors
/// [`LayError`]; nothing is written where another ladder is there.
pub fn lay(bales: &[Bale], around: &Surroundings, replace: bool) -> Result<Option<PathBuf>, LayError> {
    let Some(bale) = bales.last() else { return Ok(None) };
    let folder = &around.folder;
    let inside = |path: &str| path.strip_prefix(LADDER)?.strip_prefix('/').map(str::to_owned);
    let wanted: Vec<(String, &String)> =
        bale.index.files.keys().filter_map(|path| Some((inside(path)?, path))).collect();
    if !wanted.iter().any(|(path, _)| path == FILE_NAME) {
        return Err(LayError::NoLadder(bale.path().to_path_buf()));
    }
    let record = record_of(folder, &around.home);
    let before: Laid = if record.exists() { record::read(&record, FORMAT)? } else { Laid::default() };
    let mut all = Vec::new();
    let mut others = Vec::new();
    for (path, member) in wanted {
        let bytes = bale.read(member)?;
        let to = folder.join(&path);
        let there = if fs::symlink_metadata(&to).is_ok() { Some(files::read(&to)?) } else { None };
        let is_ours = |there: &Vec<u8>| {
            *there == bytes || before.files.get(&path).is_some_and(|known| known.contains(&Digest::of(there)))
        };
        if there.as_ref().is_some_and(|there| !is_ours(there)) {
            others.push(to.clone());
        }
        all.push((path, to, bytes));
    }
    if !others.is_empty() && !replace {
        return Err(LayError::Others { folder: folder.clone(), files: others });
    }
    for path in others {
        let kept = files::free_beside(&path);
        fs::rename(&path, &kept).on("keep aside", &path)?;
    }
    let files = all.iter().map(|(path, _, bytes)| (path.clone(), BTreeSet::from([Digest::of(bytes)]))).collect();
    let absolute = |bale: &Bale| std::path::absolute(bale.path()).unwrap_or_else(|_| bale.path().to_path_buf());
    let paths = bales.iter().map(|bale| encoded::to_text(&absolute(bale))).collect();
    // First, so that whoever is killed on the way leaves nothing that looks like a person's.
    let known = Laid { format: FORMAT, files, bales: paths };
    let mut both = known.clone();
    for (path, digests) in before.files {
        both.files.entry(path).or_default().extend(digests);
    }
    files::create_folder(record.parent().unwrap_or(folder))?;
    record::write(&record, &both)?;
    // The ladder last: it is what the others belong to.
    all.sort_by_key(|(path, ..)| path == FILE_NAME);
    for (_, to, bytes) in &all {
        files::create_folder(to.parent().unwrap_or(folder))?;
        if !files::read(to).is_ok_and(|there| there == *bytes) {
            files::replace(to, bytes)?;
        }
    }
    seed(bale, around)?;
    record::write(&record, &known)?;
    Ok(Some(folder.join(FILE_NAME)))
}

/// The bales that a ladder came out of, as far as they are still there.
pub fn bales_of(ladder: &Path, home: &Home) -> Vec<Bale> {
    let record = record_of(ladder.parent().unwrap_or(Path::new(".")), home);
    // What cannot be read is no help, and nothing depends on it.
    let laid: Laid = record::read(&record, FORMAT).unwrap_or_default();
    laid.bales.iter().filter_map(|path| Bale::open(&encoded::of_text(path)).ok()).collect()
}

fn record_of(folder: &Path, home: &Home) -> PathBuf {
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
    let name = Digest::of(folder.as_os_str().as_encoded_bytes()).hex();
    home.data.join("baled").join(name).with_extension("json")
}

/// Puts catalogs from elsewhere where they are kept, unless they are there.
fn seed(bale: &Bale, around: &Surroundings) -> Result<(), LayError> {
    let top = around.home.cache.join("catalogs-fetched");
    for path in bale.index.files.keys() {
        let inner = path.strip_prefix(FETCHED).and_then(|rest| rest.strip_prefix('/')?.split_once('/'));
        let Some((name, inner)) = inner else { continue };
        let to = top.join(name).join("files").join(inner);
        if !to.exists() {
            files::create_folder(to.parent().unwrap_or(&top))?;
            files::replace(&to, &bale.read(path)?)?;
        }
    }
    Ok(())
}
