//! Yards for many machines: filled with what pins need, and checked.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::path::InnerPath;

use super::needed::{Needed, Wanted};
use crate::base::digest::{Digest, Hashing};
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{Cache, FetchError, Yard, YardError};
use crate::desk::Desk;

/// Bytes at once: a wish to end is heard between them.
const AT_ONCE: u64 = 4 << 20;

/// Why a yard could not be filled.
#[derive(Debug, thiserror::Error)]
pub enum FillError {
    /// Two artifacts that are needed have one path.
    #[error("two different files are called {file}")]
    Twice {
        /// The path.
        file: InnerPath,
        /// Whose they are.
        of: [String; 2],
    },
    /// Something could not be had.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// What became of a yard.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Filled {
    /// Files that are new in it.
    pub new: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Files that were there already.
    pub there: usize,
}

/// Puts what is needed into a folder, each file by its path in a yard. What is there already stays, and what was begun by another one
/// at the same time does no harm: each file appears in whole.
///
/// # Errors
/// [`FillError`]; what came until then is there.
pub fn fill(folder: &Path, needed: &Needed, desk: &Desk, observer: &dyn Observer) -> Result<Filled, FillError> {
    let mut known: BTreeMap<&InnerPath, &Wanted> = BTreeMap::new();
    for wanted in needed.all.values() {
        if let Some(other) = known.insert(&wanted.artifact.file, wanted) {
            let of = [other, wanted].map(|one| one.of.join(", "));
            return Err(FillError::Twice { file: wanted.artifact.file.clone(), of });
        }
    }
    let missing = |wanted: &&Wanted| {
        let path = wanted.artifact.file.below(folder);
        !fs::metadata(&path).is_ok_and(|meta| meta.is_file() && meta.len() == wanted.artifact.size)
    };
    let left: Vec<Wanted> = known.into_values().filter(missing).cloned().collect();
    let there = needed.all.len() - left.len();
    let all = left.into_iter().map(|wanted| ((wanted.artifact.file.clone(), wanted.artifact.sha256), wanted)).collect();
    let needed = Needed { machines: Vec::new(), all };
    let cache = needed.bring(desk, observer)?;
    let mut filled = Filled { there, ..Filled::default() };
    for wanted in needed.all.values() {
        let path = wanted.artifact.file.below(folder);
        if !put(&cache, &wanted.artifact.sha256, &path, observer)? {
            // What the cache has is not what it should be: it is brought anew, once.
            files::vanish(&cache.path(&wanted.artifact.sha256))?;
            needed.bring(desk, observer)?;
            if !put(&cache, &wanted.artifact.sha256, &path, observer)? {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "it changed meanwhile")).on("copy", &path)?;
            }
        }
        filled.new += 1;
        filled.bytes += wanted.artifact.size;
    }
    Ok(filled)
}

/// Copies what the cache has under a digest, held against it on the way; tells whether it agreed, and is there now.
fn put(cache: &Cache, digest: &Digest, path: &Path, observer: &dyn Observer) -> Result<bool, FillError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    files::create_folder(folder)?;
    let mut file = tempfile::Builder::new().prefix(".new-").tempfile_in(folder).on("write in", folder)?;
    let from = cache.path(digest);
    let mut hashing = Hashing::new(files::open(&from)?);
    while io::copy(&mut (&mut hashing).take(AT_ONCE), &mut file).on("write", path)? > 0 {
        check_cancelled(observer)?;
    }
    if hashing.finish().0 != *digest {
        return Ok(false);
    }
    // Others read it, whoever filled the yard.
    fs::set_permissions(file.path(), fs::Permissions::from_mode(0o644)).on("write", path)?;
    file.as_file().sync_all().on("write", path)?;
    file.persist(path).map_err(|error| error.error).on("finish", path)?;
    Ok(true)
}

/// How a file that is needed is in a yard.
#[derive(Debug)]
pub enum Kept {
    /// As it is pinned.
    Whole,
    /// Its bytes are others.
    Damaged,
    /// It cannot be had.
    Missing(YardError),
}

/// One file that is needed, in a yard.
#[derive(Debug)]
pub struct InYard {
    /// Its path.
    pub file: InnerPath,
    /// The rungs that need it.
    pub of: Vec<String>,
    /// How it is.
    pub kept: Kept,
}

/// How what is needed is in a yard, in the order of the paths; every byte is read.
///
/// # Errors
/// [`Cancelled`].
pub fn check(yard: &dyn Yard, needed: &Needed, observer: &dyn Observer) -> Result<Vec<InYard>, Cancelled> {
    let mut all = Vec::new();
    for wanted in needed.all.values() {
        let artifact = &wanted.artifact;
        let kept = match yard.open(artifact, 0) {
            Err(error) => Kept::Missing(error),
            Ok(offer) => {
                let mut hashing = Hashing::new(offer.body.take(artifact.size));
                let whole = loop {
                    check_cancelled(observer)?;
                    match io::copy(&mut (&mut hashing).take(AT_ONCE), &mut io::sink()) {
                        Ok(0) => break Ok(hashing.finish()),
                        Ok(_) => {}
                        Err(source) => break Err(YardError::Unreachable { source }),
                    }
                };
                match whole {
                    Ok(is) if is == (artifact.sha256, artifact.size) => Kept::Whole,
                    Ok(_) => Kept::Damaged,
                    Err(error) => Kept::Missing(error),
                }
            }
        };
        all.push(InYard { file: artifact.file.clone(), of: wanted.of.clone(), kept });
    }
    all.sort_by(|one, other| one.file.cmp(&other.file));
    Ok(all)
}

/// Removes files of a yard that are damaged, so that it can be filled anew; those that are gone.
///
/// # Errors
/// [`FileError`].
pub fn drop_damaged(folder: &Path, all: &[InYard]) -> Result<Vec<PathBuf>, FileError> {
    let damaged = all.iter().filter(|one| matches!(one.kept, Kept::Damaged)).map(|one| one.file.below(folder));
    damaged.map(|path| fs::remove_file(&path).on("remove", &path).map(|()| path)).collect()
}
