//! Yards for many machines: filled with what pins need, and checked.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::thread;
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::needed::{Needed, Wanted};
use crate::base::digest::Hashing;
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{Cache, FetchError, Stock, Yard, YardError};
use crate::desk::Desk;

/// Bytes at once: a wish to end is heard between them.
const AT_ONCE: u64 = 4 << 20;

/// A registry that two give the same to at once may refuse both for a moment, whatever the settings say of retries.
const LEAST_RETRIES: u32 = 3;

/// Why a yard could not be filled, or looked into.
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
    /// The yard does not take, or tell, what it should.
    #[error("{file} cannot be put into {yard}")]
    Yard {
        /// The yard.
        yard: String,
        /// The file.
        file: InnerPath,
        /// Why not.
        source: Box<YardError>,
    },
    /// The yard does not answer, or not to whoever asks.
    #[error("{yard} cannot be looked into")]
    Closed {
        /// The yard.
        yard: String,
        /// Why not.
        source: Box<YardError>,
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

/// Puts what is needed into a yard, each file by its path. What is there already stays, and what was begun by another one at the same
/// time does no harm: each file appears in whole.
///
/// # Errors
/// [`FillError`]; what came until then is there.
pub fn fill(yard: &dyn Stock, needed: &Needed, desk: &Desk, observer: &dyn Observer) -> Result<Filled, FillError> {
    let mut known: BTreeMap<&InnerPath, &Wanted> = BTreeMap::new();
    for wanted in needed.all.values() {
        if let Some(other) = known.insert(&wanted.artifact.file, wanted) {
            let of = [other, wanted].map(|one| one.of.join(", "));
            return Err(FillError::Twice { file: wanted.artifact.file.clone(), of });
        }
    }
    let mut left = BTreeMap::new();
    for wanted in known.into_values() {
        check_cancelled(observer)?;
        let artifact = &wanted.artifact;
        if !yard.has(artifact).map_err(|source| refused(yard, &artifact.file, source))? {
            left.insert((artifact.file.clone(), artifact.sha256), wanted.clone());
        }
    }
    let there = needed.all.len() - left.len();
    let needed = Needed { machines: Vec::new(), all: left };
    let cache = needed.bring(desk, observer)?;
    let mut filled = Filled { there, ..Filled::default() };
    for wanted in needed.all.values() {
        if !put(&cache, &wanted.artifact, yard, desk.network.tries(), observer)? {
            // What the cache has is not what it should be: it is brought anew, once.
            let path = cache.path(&wanted.artifact.sha256);
            files::vanish(&path)?;
            needed.bring(desk, observer)?;
            if !put(&cache, &wanted.artifact, yard, desk.network.tries(), observer)? {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "it changed meanwhile")).on("copy", &path)?;
            }
        }
        filled.new += 1;
        filled.bytes += wanted.artifact.size;
    }
    Ok(filled)
}

fn refused(yard: &dyn Stock, file: &InnerPath, source: YardError) -> FillError {
    FillError::Yard { yard: yard.shown(), file: file.clone(), source: Box::new(source) }
}

/// Puts what the cache has under a digest into a yard; tells whether it was what it should be, and is there now.
fn put(
    cache: &Cache,
    artifact: &Artifact,
    yard: &dyn Stock,
    tries: (u32, Duration),
    observer: &dyn Observer,
) -> Result<bool, FillError> {
    let (retries, first) = (tries.0.max(LEAST_RETRIES), tries.1);
    for again in 0..=retries {
        let file = files::open(&cache.path(&artifact.sha256))?;
        let mut body = Whole { hashing: Some(Hashing::new(file)), artifact, observer, wrong: false };
        let put = yard.put(artifact, &mut body);
        let wrong = body.wrong;
        check_cancelled(observer)?;
        match put {
            Ok(()) => return Ok(true),
            Err(_) if wrong => return Ok(false),
            Err(error) if error.is_retryable() && again < retries => thread::sleep(first * 2_u32.pow(again.min(6))),
            Err(source) => return Err(refused(yard, &artifact.file, source)),
        }
    }
    Ok(false)
}

/// The bytes of an artifact, which fail at their end where they are not its.
struct Whole<'w> {
    hashing: Option<Hashing<File>>,
    artifact: &'w Artifact,
    observer: &'w dyn Observer,
    wrong: bool,
}

impl Read for Whole<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        check_cancelled(self.observer).map_err(io::Error::other)?;
        let Some(hashing) = &mut self.hashing else { return Ok(0) };
        let got = hashing.read(into)?;
        if got == 0 && !into.is_empty() {
            let is = self.hashing.take().map(Hashing::finish);
            self.wrong = is != Some((self.artifact.sha256, self.artifact.size));
            if self.wrong {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "its bytes are not the pinned ones"));
            }
        }
        Ok(got)
    }
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

/// How what is needed is in a yard, in the order of the paths; every byte is read. Whatever keeps one from asking it ends this at once:
/// the next file would only wait for the same.
///
/// # Errors
/// [`FillError::Closed`] and [`FillError::Cancelled`].
pub fn check(yard: &dyn Yard, needed: &Needed, observer: &dyn Observer) -> Result<Vec<InYard>, FillError> {
    let mut all = Vec::new();
    for wanted in needed.all.values() {
        let artifact = &wanted.artifact;
        let kept = match yard.open(artifact, 0) {
            Err(error) if error.is_of_all() => {
                return Err(FillError::Closed { yard: yard.shown(), source: Box::new(error) });
            }
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

/// Takes away what is damaged in a yard, so that it can be filled anew.
///
/// # Errors
/// [`FillError::Yard`].
pub fn drop_damaged(yard: &dyn Stock, needed: &Needed, all: &[InYard]) -> Result<(), FillError> {
    let is_damaged = |wanted: &&Wanted| {
        let of = all.iter().find(|one| one.file == wanted.artifact.file);
        of.is_some_and(|one| matches!(one.kept, Kept::Damaged))
    };
    needed.all.values().filter(is_damaged).try_for_each(|wanted| {
        yard.remove(&wanted.artifact).map_err(|source| refused(yard, &wanted.artifact.file, source))
    })
}
