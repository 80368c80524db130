//! From an archive to a folder.
//!
//! Threat model: the archive's bytes are the pinned ones, but nobody vouches for what is in them. An archive may try to
//! write outside its folder (absolute paths, `..`, through a link of its own), to point a link out of it so that a later
//! reader leaves it, to fill the disk, or to bring devices and set-user-id files. Every entry of every format goes
//! through [`guard::Guard`], which knows all folders and links that were made and refuses the rest.

mod formats;
pub mod guard;

pub use guard::{Limits, Refusal};

use std::io;
use std::path::Path;

use crate::catalog::{Artifact, Unpacking};
use crate::event::{Cancelled, Observer, go_on};
use crate::files::{Attach, FileError};
use crate::shelf::ManifestEntry;

/// Why an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// An entry of it was refused.
    #[error("the archive {archive} was refused at `{entry}`")]
    Refused {
        /// The archive.
        archive: String,
        /// The entry, as the archive names it.
        entry: String,
        /// Why.
        #[source]
        reason: Refusal,
    },
    /// It is not what its name says, or it is damaged.
    #[error("{archive} cannot be read as an archive")]
    Damaged {
        /// The archive.
        archive: String,
        /// What the reader said.
        source: io::Error,
    },
    /// A pattern of its definition is wrong.
    #[error("`{pattern}` is not a pattern of files")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        source: globset::Error,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// Unpacks archives, each fetched to its path, into the empty folder `into`; returns what was made, sorted by path.
///
/// # Errors
/// [`UnpackError`]; what was made so far stays in `into`, which is the caller's to throw away.
pub fn unpack<'a>(
    archives: impl IntoIterator<Item = (&'a Path, &'a Artifact)>,
    into: &Path,
    observer: &dyn Observer,
) -> Result<Vec<ManifestEntry>, UnpackError> {
    let mut guard = guard::Guard::new(into, Limits::default());
    for (path, artifact) in archives {
        let Unpacking { strip, runs } = &artifact.unpack;
        guard.begin(*strip, patterns(runs)?);
        let file = std::fs::File::open(path).on("open", path)?;
        let done = formats::feed(&artifact.file, file, observer, &mut guard);
        go_on(observer)?;
        done.map_err(|stop| stopped(&artifact.file, stop))?;
    }
    Ok(guard.finish())
}

fn stopped(archive: &str, stop: formats::Stop) -> UnpackError {
    let archive = archive.to_owned();
    match stop {
        formats::Stop::Damaged(source) => UnpackError::Damaged { archive, source },
        formats::Stop::Refused(entry, reason) => UnpackError::Refused { archive, entry, reason },
        formats::Stop::File(error) => UnpackError::File(error),
    }
}

fn patterns(runs: &[String]) -> Result<globset::GlobSet, UnpackError> {
    let mut set = globset::GlobSetBuilder::new();
    for pattern in runs {
        let glob = globset::GlobBuilder::new(pattern).literal_separator(true).build();
        set.add(glob.map_err(|source| UnpackError::Pattern { pattern: pattern.clone(), source })?);
    }
    set.build().map_err(|source| UnpackError::Pattern { pattern: runs.join(", "), source })
}
