//! One artifact on its way: attempts after attempts into one partial file, until it is whole.
//!
//! The partial file is `DIGEST.part` in the cache, locked (flock(2)) by whoever fills it, and kept where at least 64 KiB came.
//! A later attempt, at whatever yard, asks for the rest with `Range` (RFC 9110, section 14.2); what is there already is hashed
//! first, and the digest of the whole decides in the end. A yard that answers with all of the file begins anew. Bytes are handed over by a thread of the yard's own, so that one that stalls can be left behind.

use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::mem;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::thread;
use std::time::Instant;

use super::cache::Partial;
use super::course::{Course, Next};
use super::rehash::rehash;
use super::{Attempt, FetchError, GLANCE, Network, Onward, Yard, YardError, note, outcome, pause, seed};
use crate::base::crash;
use crate::base::digest::{Digest, Hasher};
use crate::base::event::{Event, Observer, check_cancelled};
use crate::base::files::{Attach, FileError};
use kladder_choose::catalog::Artifact;

/// Bytes handed over at once.
const BLOCK: usize = 256 * 1024;
/// Less than this is not worth keeping for a later try.
const WORTH_KEEPING: u64 = 64 * 1024;

/// Blocks as they come from a yard, or what went wrong.
type Blocks = Receiver<Result<Block, YardError>>;

enum Block {
    /// The yard answers; its bytes begin here.
    From(u64),
    Bytes(Vec<u8>),
}

/// An artifact on its way.
pub(super) struct Transfer<'t> {
    artifact: &'t Artifact,
    partial: Partial,
    network: &'t Network,
    onward: &'t mut dyn Onward,
    observer: &'t dyn Observer,
    hasher: Hasher,
    got: u64,
}

impl<'t> Transfer<'t> {
    /// Goes on where an earlier try ended.
    pub(super) fn begin(
        artifact: &'t Artifact,
        partial: Partial,
        network: &'t Network,
        onward: &'t mut dyn Onward,
        observer: &'t dyn Observer,
    ) -> Result<Self, FetchError> {
        let mut transfer = Self { artifact, partial, network, onward, observer, hasher: Hasher::default(), got: 0 };
        let there = transfer.partial.file.metadata().on("read", &transfer.partial.path)?.len();
        if there > artifact.size {
            transfer.start_over()?;
        } else if there > 0 {
            transfer.take_up()?;
        }
        Ok(transfer)
    }

    /// Tries yard after yard, again and again, as the course has it.
    pub(super) fn run(mut self, yards: &[Arc<dyn Yard>]) -> Result<(PathBuf, String), FetchError> {
        let (file, size) = (self.artifact.file.to_string(), self.artifact.size);
        let mut course = Course::new(yards.len(), self.network.retries, self.network.pause, seed(self.artifact));
        let (mut attempts, mut next) = (Vec::<Attempt>::new(), course.first());
        while let Next::Try { yard, after } = next {
            let yard = &yards[yard];
            if !after.is_zero() {
                self.observer.event(&Event::Pausing { file: file.clone(), time: after });
            }
            pause(after, self.observer)?;
            let (from, had) = (yard.shown(), self.got);
            self.observer.event(&Event::Fetching { file: file.clone(), size, had, from });
            let received = self.attempt(yard);
            let Err(error) = self.kept_or_gone(received)? else {
                return Ok((self.partial.finish()?, yard.shown()));
            };
            let what = outcome(&error, self.got.saturating_sub(had));
            next = course.after(what);
            let is_news = !(yard.is_by_chance() && matches!(error, YardError::NotThere));
            if let Next::Try { yard: next, .. } = next
                && is_news
            {
                let (yard, reason, next) = (yard.shown(), told(&error), yards[next].shown());
                self.observer.event(&Event::YardFailed { yard, reason, next });
            }
            note(&mut attempts, yard.as_ref(), error);
        }
        if self.got < WORTH_KEEPING {
            self.partial.discard()?;
        }
        Err(FetchError::AllFailed { file, attempts })
    }

    /// A cancelled transfer leaves what came for the next climb; one that fills the disk leaves nothing.
    fn kept_or_gone<T>(&mut self, received: Result<T, FetchError>) -> Result<T, FetchError> {
        if let Err(FetchError::File(FileError { source, .. })) = &received
            && source.kind() == io::ErrorKind::StorageFull
        {
            // The error that is told is the one that matters.
            let _ = fs::remove_file(&self.partial.path);
        }
        received
    }

    /// The inner result is the yard's: another one may do better.
    fn attempt(&mut self, yard: &Arc<dyn Yard>) -> Result<Result<(), YardError>, FetchError> {
        let blocks = request(yard, self.artifact, self.got);
        let resumed = self.got > 0;
        match self.receive(&blocks)? {
            // What came before may have been wrong: this yard gets another chance, from the start.
            Err(YardError::OtherPart | YardError::OtherDigest { .. }) if resumed => {
                self.start_over()?;
                let blocks = request(yard, self.artifact, 0);
                let again = self.receive(&blocks)?;
                if matches!(again, Err(YardError::OtherDigest { .. } | YardError::Long { .. })) {
                    self.start_over()?;
                }
                Ok(again)
            }
            Err(error) if matches!(error, YardError::OtherDigest { .. } | YardError::Long { .. }) => {
                self.start_over()?;
                Ok(Err(error))
            }
            other => Ok(other),
        }
    }

    fn receive(&mut self, blocks: &Blocks) -> Result<Result<(), YardError>, FetchError> {
        let expected = self.artifact.size;
        let (mut since, mut then) = (Instant::now(), self.got);
        loop {
            check_cancelled(self.observer)?;
            let enough = self.network.least();
            if since.elapsed() > self.network.patience {
                if self.got - then < enough.min(expected - self.got) {
                    return Ok(Err(YardError::Stalled { got: self.got, expected, patience: self.network.patience }));
                }
                (since, then) = (Instant::now(), self.got);
            }
            match blocks.recv_timeout(GLANCE) {
                Err(RecvTimeoutError::Disconnected) => return Ok(self.compare()),
                Ok(Err(YardError::Broke { source, .. })) => {
                    return Ok(Err(YardError::Broke { got: self.got, expected, source }));
                }
                Ok(Err(error)) => return Ok(Err(error)),
                Ok(Ok(Block::From(0))) if self.got > 0 => {
                    self.start_over()?;
                    then = 0;
                }
                Err(RecvTimeoutError::Timeout) | Ok(Ok(Block::From(_))) => {}
                Ok(Ok(Block::Bytes(bytes))) => {
                    if self.got + bytes.len() as u64 > expected {
                        return Ok(Err(YardError::Long { expected }));
                    }
                    self.take(&bytes)?;
                }
            }
        }
    }

    /// Takes the next bytes in, no faster than the manners allow.
    fn take(&mut self, bytes: &[u8]) -> Result<(), FetchError> {
        self.partial.file.write_all(bytes).on("write", &self.partial.path)?;
        crash::point("part-written");
        self.hasher.update(bytes);
        self.got += bytes.len() as u64;
        self.onward.bytes(bytes);
        self.observer.received(None, bytes.len() as u64);
        Ok(pause(self.network.owed(bytes.len()), self.observer)?)
    }

    /// Hashes what an earlier try left.
    fn take_up(&mut self) -> Result<(), FetchError> {
        let Partial { file, path, .. } = &self.partial;
        (self.hasher, self.got) = rehash(file, path, self.onward, self.observer)?;
        Ok(())
    }

    /// Throws away what came.
    fn start_over(&mut self) -> Result<(), FileError> {
        self.partial.file.set_len(0).on("write", &self.partial.path)?;
        self.partial.file.seek(SeekFrom::Start(0)).on("write", &self.partial.path)?;
        (self.hasher, self.got) = (Hasher::default(), 0);
        self.onward.void();
        Ok(())
    }

    fn compare(&self) -> Result<(), YardError> {
        let (got, expected) = (self.got, self.artifact.size);
        if got < expected {
            return Err(YardError::Short { got, expected });
        }
        let digest: Digest = self.hasher.clone().finish();
        if digest == self.artifact.sha256 {
            return Ok(());
        }
        Err(YardError::OtherDigest { got: digest, expected: self.artifact.sha256 })
    }
}

/// A failure with its cause, in one line.
fn told(error: &YardError) -> String {
    let cause = std::error::Error::source(error).map(|cause| format!(": {cause}"));
    format!("{error}{}", cause.unwrap_or_default())
}

/// Asks a yard, on a thread that may be left behind: nobody waits for a server that does not answer.
fn request(yard: &Arc<dyn Yard>, artifact: &Artifact, from: u64) -> Blocks {
    let (send, blocks) = sync_channel(8);
    let (yard, artifact) = (Arc::clone(yard), artifact.clone());
    thread::spawn(move || {
        if from == artifact.size {
            return;
        }
        let mut offer = match yard.open(&artifact, from) {
            Ok(offer) => offer,
            Err(error) => return drop(send.send(Err(error))),
        };
        if send.send(Ok(Block::From(offer.from))).is_err() {
            return;
        }
        let mut block = vec![0; BLOCK];
        loop {
            let part = match offer.body.read(&mut block) {
                Ok(0) => return,
                // A slow server gives little at a time: a large block for each costs more than the copy.
                Ok(got) if got < BLOCK / 2 => Ok(Block::Bytes(block[..got].to_vec())),
                Ok(got) => {
                    block.truncate(got);
                    Ok(Block::Bytes(mem::replace(&mut block, vec![0; BLOCK])))
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(source) => Err(YardError::Broke { got: 0, expected: 0, source }),
            };
            // Nobody listens any more, or nothing is left to say.
            let failed = part.is_err();
            if send.send(part).is_err() || failed {
                return;
            }
        }
    });
    blocks
}
