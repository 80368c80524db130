//! From yards to a folder: artifacts are received, hashed, decompressed and written in one go.
//!
//! An artifact is unpacked while it arrives, or while what the cache has of it is hashed again. What came of it counts only
//! when the fetching ended well; otherwise it is thrown away, and unpacked anew once the right bytes are there.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use crate::base::blocks::{Blocks, Giver, pair};
use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{FetchError, Fetched, Onward, Sources, fetch};
use crate::bring::inner::{InnerError, unpack_inner};
use crate::bring::layout::lay_out;
use crate::bring::record;
pub use crate::bring::record::RecordFault;
use crate::bring::shelf::{Manifest, ManifestEntry, Twins};
use crate::bring::unpack::{Content, UnpackError, streams, unpack};
use kladder_choose::catalog::Artifact;

/// Why artifacts were not brought in.
#[derive(Debug, thiserror::Error)]
pub enum IntakeError {
    /// One could not be fetched.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// One was not unpacked.
    #[error(transparent)]
    Unpack(#[from] UnpackError),
    /// An archive inside one was not unpacked.
    #[error(transparent)]
    Inner(#[from] InnerError),
    /// A wheel is not what it lists.
    #[error(transparent)]
    Record(#[from] RecordFault),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What was brought in.
#[derive(Clone, Debug, Default)]
pub struct Brought {
    /// What is in the folder, sorted by path.
    pub entries: Vec<ManifestEntry>,
    /// Bytes of archives that came from yards.
    pub fetched: u64,
    /// Bytes of archives that were in the cache.
    pub from_cache: u64,
    /// It is as it was when it was set up before: nothing need be done to it.
    pub ready: bool,
}

/// Fetches artifacts and unpacks them, one beside the other, into the folder `into`, which is made.
///
/// # Errors
/// [`IntakeError`]; what was made so far stays in `into`, which is the caller's to throw away.
pub fn bring_in(
    artifacts: &[Artifact],
    sources: Sources<'_>,
    into: &Path,
    twins: &Twins,
    observer: &dyn Observer,
) -> Result<Brought, IntakeError> {
    files::create_folder(into)?;
    let (send, contents) = sync_channel(1);
    let (fetched, unpacked) = thread::scope(|scope| {
        let fetching = scope.spawn(move || fetch_all(artifacts, sources, &send, observer));
        let unpacked = unpack(Opening { contents: &contents, left: artifacts }, into, twins, observer);
        // Whoever fetches must not wait for someone who has stopped listening.
        drop(contents);
        (fetching.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), unpacked)
    });
    let fetched = fetched?;
    let mut brought = Brought::default();
    for (artifact, (fetched, _)) in artifacts.iter().zip(&fetched) {
        *(if fetched.cached { &mut brought.from_cache } else { &mut brought.fetched }) += artifact.size;
    }
    if fetched.iter().all(|(_, looked_right)| *looked_right) {
        let entries = with_inner(unpacked?, artifacts, into, observer)?;
        return Ok(Brought { entries, ..brought });
    }
    // Some bytes that were unpacked were not the right ones, whatever came of them.
    files::remove_tree(into)?;
    files::create_folder(into)?;
    let opened = fetched.iter().map(|(fetched, _)| open(&fetched.path));
    let whole: Vec<Content<'_>> = opened.collect::<Result<_, _>>()?;
    let entries = unpack(whole.into_iter().zip(artifacts), into, twins, observer)?;
    Ok(Brought { entries: with_inner(entries, artifacts, into, observer)?, ..brought })
}

/// Unpacks archives that are files already, one beside the other, into the folder `into`, which is made. Whoever calls knows that
/// they are the right ones.
///
/// # Errors
/// [`IntakeError`]; what was made so far stays in `into`, which is the caller's to throw away.
pub fn unpack_files(
    paths: &[PathBuf],
    artifacts: &[Artifact],
    into: &Path,
    observer: &dyn Observer,
) -> Result<(), IntakeError> {
    files::create_folder(into)?;
    let whole: Vec<Content<'_>> = paths.iter().map(|path| open(path)).collect::<Result<_, _>>()?;
    let entries = unpack(whole.into_iter().zip(artifacts), into, &Twins::default(), observer)?;
    with_inner(entries, artifacts, into, observer).map(drop)
}

/// What is there once archives inside are unpacked too, and what packages say of their commands is done.
fn with_inner(
    entries: Vec<ManifestEntry>,
    artifacts: &[Artifact],
    into: &Path,
    observer: &dyn Observer,
) -> Result<Vec<ManifestEntry>, IntakeError> {
    let entries = if unpack_inner(artifacts, into, observer)? { Manifest::scan(into)? } else { entries };
    record::check(&entries, artifacts, into)?;
    Ok(lay_out(entries, artifacts, into)?)
}

fn open(path: &Path) -> Result<Content<'static>, FileError> {
    Ok(Content::Whole(File::open(path).on("open", path)?))
}

/// What the one who unpacks is given: content, or why there is none.
type Given = Content<'static>;

/// Fetches one artifact after the other; tells of each whether all that was seen of it was right.
fn fetch_all(
    artifacts: &[Artifact],
    sources: Sources<'_>,
    send: &SyncSender<Given>,
    observer: &dyn Observer,
) -> Result<Vec<(Fetched, bool)>, IntakeError> {
    let mut fetched = Vec::new();
    for artifact in artifacts {
        let mut feed = Feed { streams: streams(artifact), send, giver: None, given: false, void: false };
        let there = fetch(artifact, sources, &mut feed, observer)?;
        if !feed.given && !feed.void {
            feed.open(&there.path);
        }
        fetched.push((there, feed.given && !feed.void));
    }
    Ok(fetched)
}

/// The contents in their order, each waited for.
struct Opening<'o, 'a> {
    contents: &'o Receiver<Given>,
    left: &'a [Artifact],
}

impl<'a> Iterator for Opening<'_, 'a> {
    type Item = (Content<'a>, &'a Artifact);

    fn next(&mut self) -> Option<Self::Item> {
        let (artifact, left) = self.left.split_first()?;
        // Nothing comes where the fetching has ended; its error is the one that is told.
        let content = self.contents.recv().ok()?;
        self.left = left;
        Some((content, artifact))
    }
}

/// Hands on what is seen of one artifact.
struct Feed<'f> {
    streams: bool,
    send: &'f SyncSender<Given>,
    giver: Option<Giver>,
    given: bool,
    void: bool,
}

impl Feed<'_> {
    fn open(&mut self, path: &Path) {
        // What cannot be opened is found out by the one who fetches.
        let Ok(content) = open(path) else { return };
        self.given = self.send.send(content).is_ok();
    }
}

impl Onward for Feed<'_> {
    fn whole(&mut self, path: &Path) {
        // What is read from front to back is read once, as it is hashed: neither runs ahead of the other.
        if !self.streams && !self.given && !self.void {
            self.open(path);
        }
    }

    fn bytes(&mut self, bytes: &[u8]) {
        if !self.streams || self.void {
            return;
        }
        if !self.given {
            let (giver, blocks): (Giver, Blocks) = pair();
            self.given = self.send.send(Content::Stream(Box::new(blocks))).is_ok();
            self.giver = Some(giver);
        }
        if let Some(giver) = &self.giver {
            let mut block = giver.empty();
            block.extend_from_slice(bytes);
            // One who stopped unpacking says why, once the bytes turn out to be right.
            giver.give(Ok(block));
        }
    }

    fn void(&mut self) {
        self.void = self.void || self.given;
        if let Some(giver) = self.giver.take() {
            giver.give(Err(io::Error::other("other bytes are coming")));
        }
    }
}
