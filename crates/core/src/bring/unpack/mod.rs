//! From an archive to a folder.
//!
//! Threat model: the archive's bytes are the pinned ones, or will be thrown away; but nobody vouches for what is in them.
//! An archive may try to write outside its folder (absolute paths, `..`, through a link of its own), to point a link out
//! of it so that a later reader leaves it, to fill the disk, to hide one file behind another, or to bring devices and
//! set-user-id files. Every entry of every format is admitted by `guard::Guard` before anything of it is written.

mod cpio;
mod entries;
mod formats;
mod guard;
mod names;
mod packing;
mod portion;
mod records;
mod refusal;
mod root;
mod session;
mod sevenz;
mod sparse;
mod squashfs;
mod tar;
mod writer;
mod xar;
mod zip;

pub use formats::{Content, streams};
pub(in crate::bring) use names::Placing;
pub use names::link_stays_inside;
pub use refusal::Refusal;

use std::io;
use std::path::Path;
use std::thread;

use guard::Guard;
use names::Naming;
use root::Root;
use session::Session;
use writer::Target;

use crate::base::event::{Cancelled, Observer};
use crate::base::files::FileError;
use crate::bring::shelf::{ManifestEntry, Twins};
use kladder_choose::catalog::Artifact;

/// How much an archive may hold.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Entries of all archives together.
    pub entries: usize,
    /// Bytes of all files of an archive.
    pub bytes: u64,
    /// Bytes that one byte of an archive may become. What is small altogether may become more.
    pub ratio: u64,
    /// Folders above an entry.
    pub depth: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { entries: 4_000_000, bytes: 256 << 30, ratio: 250, depth: 128 }
    }
}

/// Below this many bytes the ratio does not matter.
const SMALL: u64 = 64 << 20;

impl Limits {
    /// What an artifact's files may weigh; a size that its definition names counts more than the ratio.
    fn of(&self, artifact: &Artifact) -> u64 {
        let told = artifact.unpacked.unwrap_or(0).saturating_mul(2);
        artifact.size.saturating_mul(self.ratio).max(SMALL).max(told).min(self.bytes)
    }
}

/// Why an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// An entry of it was refused.
    #[error("the archive {archive} was refused{}", at(entry))]
    Refused {
        /// The archive.
        archive: String,
        /// The entry, as the archive names it; empty when it is the archive as a whole.
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

fn at(entry: &str) -> String {
    if entry.is_empty() { String::new() } else { format!(" at `{entry}`") }
}

/// Why an entry or an archive was not written.
#[derive(Debug)]
enum Stop {
    /// The entry at hand is refused.
    Refused(Refusal),
    /// The entry of this name is refused.
    Entry(String, Refusal),
    /// The archive ended or broke.
    Damaged(io::Error),
    Pattern(names::NoPattern),
    File(FileError),
    /// Another thread knows why.
    Elsewhere,
}

impl From<Refusal> for Stop {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(refusal)
    }
}

impl From<io::Error> for Stop {
    fn from(error: io::Error) -> Self {
        Self::Damaged(error)
    }
}

impl From<FileError> for Stop {
    fn from(error: FileError) -> Self {
        Self::File(error)
    }
}

/// How many threads share the work.
fn threads() -> usize {
    thread::available_parallelism().map_or(2, usize::from).min(4)
}

/// Unpacks archives, one after the other, into the empty folder `into`; returns what was made, sorted by path. Files that
/// are on the shelf already, by `twins`, are linked instead of written where that can be done.
///
/// # Errors
/// [`UnpackError`]; what was made so far stays in `into`, which is the caller's to throw away.
pub fn unpack<'a>(
    archives: impl IntoIterator<Item = (Content<'a>, &'a Artifact)>,
    into: &Path,
    twins: &Twins,
    observer: &dyn Observer,
) -> Result<Vec<ManifestEntry>, UnpackError> {
    let (limits, root) = (Limits::default(), Root::open(into)?);
    let target = Target::new(&root, twins);
    thread::scope(|scope| {
        let guard = Guard::new(&root, limits, Naming::default());
        let mut session = Session::start(scope, guard, &target, observer);
        let (mut done, mut last) = (Ok(()), None);
        for (content, artifact) in archives {
            last = Some(artifact);
            target.allow(limits.of(artifact));
            let before = session.guard.things();
            done = Naming::new(&artifact.unpack, artifact.layout(), limits.depth).map_err(Stop::Pattern).and_then(
                |naming| {
                    session.guard.begin(naming, limits.of(artifact));
                    formats::feed(artifact, content, &mut session)?;
                    session.guard.end()
                },
            );
            if done.is_ok() && session.guard.things() == before {
                done = Err(Stop::Damaged(io::Error::other("there is nothing in it")));
            }
            if done.is_err() {
                break;
            }
        }
        session.finish(last.map_or("", |artifact| artifact.file.as_str()), done)
    })
}
