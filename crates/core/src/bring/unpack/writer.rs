//! Writing admitted files, each hashed while it is written, on as many threads as there are cores.
//!
//! Small files are read into memory and handed in portions to whoever is free: making a file costs more than its bytes do.
//! Large ones are written by the one who reads them.

use std::io::{self, Read, Write};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{Scope, ScopedJoinHandle};

use super::guard::Ticket;
use super::portion::Portions;
use super::root::Root;
use super::{Refusal, Stop};
use crate::base::crash;
use crate::base::digest::Fingerprint;
use crate::base::files::{Attach, FileError};
use crate::bring::shelf::{ManifestEntry, Twins, What};

/// Files up to this many bytes are handed over in memory.
const SMALL: u64 = 512 * 1024;
const OTHER_LENGTH: &str = "an entry is not as long as it says";
/// Portions of files that wait to be written; with their size the most memory that it takes.
const WAITING: usize = 4;

/// Where files go, what they may weigh together, and what is on the shelf already.
pub(super) struct Target<'t> {
    pub(super) root: &'t Root,
    pub(super) twins: &'t Twins,
    written: AtomicU64,
    most: AtomicU64,
}

impl<'t> Target<'t> {
    pub(super) fn new(root: &'t Root, twins: &'t Twins) -> Self {
        Self { root, twins, written: AtomicU64::new(0), most: AtomicU64::new(0) }
    }

    /// Allows this many bytes more than were written until now.
    pub(super) fn allow(&self, bytes: u64) {
        self.most.store(self.written.load(Ordering::Relaxed).saturating_add(bytes), Ordering::Relaxed);
    }

    fn count(&self, bytes: usize) -> Result<(), Refusal> {
        let most = self.most.load(Ordering::Relaxed);
        if self.written.fetch_add(bytes as u64, Ordering::Relaxed) + bytes as u64 > most {
            return Err(Refusal::Limit(format!("{most} bytes for what it weighs")));
        }
        Ok(())
    }

    /// Writes a file from a reader.
    pub(super) fn stream(&self, ticket: Ticket, content: &mut dyn Read) -> Result<ManifestEntry, Stop> {
        let mut file = self.root.create(&ticket.path, ticket.runs)?;
        let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
        let mut buffer = vec![0; 128 * 1024];
        loop {
            let got = match content.read(&mut buffer) {
                Ok(0) => break,
                Ok(got) => got,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(Stop::Damaged(error)),
            };
            self.count(got)?;
            size += got as u64;
            hasher.update(&buffer[..got]);
            file.write_all(&buffer[..got]).on("write", &self.root.full(&ticket.path))?;
        }
        let blake3 = Fingerprint::from(hasher);
        if self.twins.find(blake3, ticket.runs, size).is_some() {
            self.share(&ticket, blake3, size)?;
        }
        Ok(entry(ticket, size, blake3))
    }

    /// Writes a file of `size` bytes, as the archive says.
    pub(super) fn file(&self, ticket: Ticket, size: u64, content: &mut dyn Read) -> Result<ManifestEntry, Stop> {
        if size <= SMALL {
            return self.whole(ticket, &in_memory(size, content)?);
        }
        let made = self.stream(ticket, content)?;
        match made.what {
            What::File { size: there, .. } if there != size => Err(Stop::Damaged(io::Error::other(OTHER_LENGTH))),
            _ => Ok(made),
        }
    }

    /// Writes a file from memory.
    fn whole(&self, ticket: Ticket, bytes: &[u8]) -> Result<ManifestEntry, Stop> {
        self.count(bytes.len())?;
        let (blake3, size) = (Fingerprint::of(bytes), bytes.len() as u64);
        if let Some(twin) = self.twins.find(blake3, ticket.runs, size)
            && std::fs::read(twin).is_ok_and(|there| there == bytes)
            && self.root.share(&ticket.path, twin, ticket.runs).is_ok()
        {
            return Ok(entry(ticket, size, blake3));
        }
        let mut file = self.root.create(&ticket.path, ticket.runs)?;
        file.write_all(bytes).on("write", &self.root.full(&ticket.path))?;
        crash::point("file-unpacked");
        Ok(entry(ticket, size, blake3))
    }

    /// Puts a link to the same bytes in the place of a file that was just written, where that can be done.
    fn share(&self, ticket: &Ticket, blake3: Fingerprint, size: u64) -> Result<(), FileError> {
        let Some(twin) = self.twins.find(blake3, ticket.runs, size) else { return Ok(()) };
        // What stands there may have been damaged since.
        if !Fingerprint::of_file(twin).is_ok_and(|there| there == blake3) {
            return Ok(());
        }
        let aside = ticket.path.with_added_extension("shared");
        if self.root.share(&aside, twin, ticket.runs).is_ok() {
            self.root.rename(&aside, &ticket.path)?;
        }
        Ok(())
    }
}

/// A small file's content.
fn in_memory(size: u64, content: &mut dyn Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or(0));
    content.take(SMALL + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == size { Ok(bytes) } else { Err(io::Error::other(OTHER_LENGTH)) }
}

fn entry(ticket: Ticket, size: u64, blake3: Fingerprint) -> ManifestEntry {
    ManifestEntry { path: ticket.path, what: What::File { executable: ticket.runs, size, blake3 } }
}

/// A file that was not written, by its path.
pub(super) type Failed = (std::path::PathBuf, Stop);

/// The threads that write small files.
pub(super) struct Writers<'s, 't> {
    target: &'t Target<'t>,
    portion: Portion,
    ends: Portions,
    jobs: SyncSender<Portion>,
    threads: Vec<ScopedJoinHandle<'s, Result<Vec<ManifestEntry>, Failed>>>,
    made: Vec<ManifestEntry>,
    failed: Arc<AtomicBool>,
}

/// Small files and their content.
type Portion = Vec<(Ticket, Vec<u8>)>;
type Jobs = Arc<Mutex<Receiver<Portion>>>;

impl<'s, 't: 's> Writers<'s, 't> {
    pub(super) fn start(scope: &'s Scope<'s, '_>, target: &'t Target<'t>) -> Self {
        let (jobs, waiting) = sync_channel(WAITING);
        let (waiting, failed) = (Arc::new(Mutex::new(waiting)), Arc::new(AtomicBool::new(false)));
        let work = |_| {
            let (waiting, failed) = (Arc::clone(&waiting), Arc::clone(&failed));
            scope.spawn(move || {
                let done = work(target, &waiting);
                failed.fetch_or(done.is_err(), Ordering::Relaxed);
                done
            })
        };
        let threads = (0..super::threads()).map(work).collect();
        let (portion, ends) = (Vec::new(), Portions::default());
        Self { target, portion, ends, jobs, threads, made: Vec::new(), failed }
    }
}

impl Writers<'_, '_> {
    /// Takes a file of `size` bytes, as the archive says.
    pub(super) fn file(&mut self, ticket: Ticket, size: u64, content: &mut dyn Read) -> Result<(), Stop> {
        if size > SMALL {
            self.made.push(self.target.file(ticket, size, content)?);
            return Ok(());
        }
        let bytes = in_memory(size, content)?;
        let goes_on = self.portion.last().is_none_or(|(last, _)| self.ends.goes_on(&last.path, &ticket.path, size));
        let handed = goes_on || self.hand_over();
        self.portion.push((ticket, bytes));
        if handed { Ok(()) } else { Err(Stop::Elsewhere) }
    }

    /// Hands the portion to whoever is free. Where nobody takes it, somebody failed: that one's reason is told in the end.
    fn hand_over(&mut self) -> bool {
        self.jobs.send(std::mem::take(&mut self.portion)).is_ok() && !self.failed.load(Ordering::Relaxed)
    }

    /// Waits until all is written.
    pub(super) fn finish(mut self) -> Result<Vec<ManifestEntry>, Failed> {
        self.hand_over();
        drop(self.jobs);
        let mut made = self.made;
        let mut failed = None;
        for thread in self.threads {
            match thread.join() {
                Ok(Ok(more)) => made.extend(more),
                Ok(Err(error)) => failed = failed.or(Some(error)),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        failed.map_or(Ok(made), Err)
    }
}

fn work(target: &Target<'_>, waiting: &Jobs) -> Result<Vec<ManifestEntry>, Failed> {
    let mut made = Vec::new();
    loop {
        let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(portion) = next else { return Ok(made) };
        for (ticket, bytes) in portion {
            let path = ticket.path.clone();
            made.push(target.whole(ticket, &bytes).map_err(|stop| (path, stop))?);
        }
    }
}
