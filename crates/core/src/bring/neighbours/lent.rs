//! What this machine gives to its neighbours.
//!
//! Threat model: whoever is on the network may ask. Only what has a digest is given, to whoever knows the digest; no names are told,
//! and nothing outside the cache is read. Threads wait for bounded times.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use kladder_yard::{Asked, Given, Giver};

use super::WHOLE;
use crate::base::digest::Digest;
use crate::bring::fetch::Cache;

/// How long a request is held for bytes that are about to arrive.
const HOLD: Duration = Duration::from_secs(3);
/// Something was asked for here, and nothing of it arrived for so long: nobody is sent here for it any more.
const FRESH: Duration = Duration::from_secs(20);
/// How often it is looked for new bytes.
const GLANCE: Duration = Duration::from_millis(5);
/// Nothing arrived for so long: whoever follows looks elsewhere.
const STILL: Duration = Duration::from_secs(15);
/// Bodies that are sent at once.
const MOST: usize = 32;
/// Digests that something is known of; whoever asks for more of them is told that nobody has them.
const BOOKS: usize = 10_000;
/// Who asked is remembered of so many for each digest.
const REMEMBERED: usize = 16;

/// What there is to give, and who asked for it.
#[derive(Debug)]
pub(super) struct Lent {
    cache: Cache,
    name: OnceLock<String>,
    books: Mutex<HashMap<Digest, Book>>,
    gives: Arc<AtomicUsize>,
    given: Arc<AtomicU64>,
}

/// What is known of a digest.
#[derive(Debug, Default)]
struct Book {
    /// Those who asked, the last one last.
    asked: Vec<SocketAddr>,
    /// Who was told that nobody has it.
    first: Option<SocketAddr>,
    /// How large it is, and when this machine began to look for it.
    awaited: Option<(u64, Instant)>,
    /// Bodies on their way.
    gives: Arc<AtomicUsize>,
}

impl Lent {
    pub(super) fn new(cache: Cache) -> Self {
        Self { cache, name: OnceLock::new(), books: Mutex::default(), gives: Arc::default(), given: Arc::default() }
    }

    /// What this machine is called.
    pub(super) fn is_called(&self, name: &str) {
        // It enters the room once.
        let _ = self.name.set(name.to_owned());
    }

    /// Bodies on their way.
    pub(super) fn gives(&self) -> usize {
        self.gives.load(Ordering::Relaxed)
    }

    /// Bytes that were given.
    pub(super) fn given(&self) -> u64 {
        self.given.load(Ordering::Relaxed)
    }

    fn books(&self) -> MutexGuard<'_, HashMap<Digest, Book>> {
        self.books.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// This machine looks for something now.
    pub(super) fn awaits(&self, digest: &Digest, size: u64) {
        self.books().entry(*digest).or_default().awaited = Some((size, Instant::now()));
    }

    /// Who was told that nobody has it, and so went to where it is: the only one who waits for nobody here.
    pub(super) fn first(&self, digest: &Digest, but: &[SocketAddr]) -> Option<SocketAddr> {
        self.books().get(digest)?.first.filter(|first| !but.contains(first))
    }

    /// The last one who asked for something, but for some; whoever asks is the last one from now on.
    fn after(&self, digest: &Digest, asks: SocketAddr, but: &[SocketAddr]) -> Option<SocketAddr> {
        let mut books = self.books();
        let asked = &mut books.entry(*digest).or_default().asked;
        let last = asked.iter().rev().find(|asked| !but.contains(asked)).copied();
        asked.retain(|known| *known != asks);
        if asked.len() >= REMEMBERED {
            asked.remove(0);
        }
        asked.push(asks);
        last
    }

    /// What of it is here: the file, its bytes by now, those of all of it. What is not whole is locked by whoever brings it in.
    fn here(&self, digest: &Digest) -> Option<(File, u64, u64)> {
        let path = self.cache.path(digest);
        if let Ok(file) = File::open(&path) {
            let size = file.metadata().ok()?.len();
            return Some((file, size, size));
        }
        let (size, _) = self.books().get(digest)?.awaited?;
        let file = File::open(path.with_added_extension("part")).ok()?;
        let there = file.metadata().ok()?.len();
        Some((file, there, size))
    }

    fn is_awaited(&self, digest: &Digest) -> bool {
        let books = self.books();
        books.get(digest).and_then(|book| book.awaited).is_some_and(|(_, since)| since.elapsed() < FRESH)
    }

    /// Takes a body's place, where there is room for one more; whether all of the file is there decides for how many there is.
    fn place(&self, digest: &Digest, is_whole: bool) -> Option<Sending> {
        let own = Arc::clone(&self.books().entry(*digest).or_default().gives);
        let sending = Sending { all: [own, Arc::clone(&self.gives)] };
        let [of_this, of_all] = [&sending.all[0], &sending.all[1]].map(|count| count.fetch_add(1, Ordering::Relaxed));
        let room = if is_whole { WHOLE } else { 1 };
        (of_this < room && of_all < MOST).then_some(sending)
    }

    fn bytes(&self, digest: &Digest, from: u64, hold: Duration) -> Option<Given> {
        let since = Instant::now();
        loop {
            if let Some((file, there, size)) = self.here(digest)
                && (there > from || there == size)
            {
                let sending = self.place(digest, there == size)?;
                let given = Arc::clone(&self.given);
                return Some(Given::Bytes {
                    size,
                    body: Box::new(Following { file, at: from, size, given, _sending: sending }),
                });
            }
            if since.elapsed() >= hold || !self.is_awaited(digest) {
                return None;
            }
            thread::sleep(GLANCE);
        }
    }
}

impl Giver for Lent {
    fn give(&self, asked: &Asked<'_>) -> Given {
        if let Some(name) = self.name.get().filter(|_| asked.path == "/name") {
            return Given::Bytes {
                size: name.len() as u64,
                body: Box::new(io::Cursor::new(name.clone().into_bytes())),
            };
        }
        let Some(digest) = asked.path.strip_prefix("/sha256/").and_then(|text| text.parse::<Digest>().ok()) else {
            return Given::Nothing;
        };
        let value = |name: &str| asked.query.split('&').find_map(|pair| pair.strip_prefix(name)?.strip_prefix('='));
        let Some(port) = value("for").and_then(|port| port.parse().ok()) else { return Given::Nothing };
        let asks = SocketAddr::new(asked.client, port);
        let mut but: Vec<SocketAddr> =
            value("not").unwrap_or_default().split(',').filter_map(|text| text.parse().ok()).collect();
        but.push(asks);
        let hold = if asked.query.split('&').any(|word| word == "wait") { HOLD } else { Duration::ZERO };
        let is_known = |books: &HashMap<Digest, Book>| books.len() < BOOKS || books.contains_key(&digest);
        if !is_known(&self.books()) {
            return self.bytes(&digest, asked.from, Duration::ZERO).unwrap_or(Given::Nothing);
        }
        // Known before anything is given: whoever comes next must find somebody.
        let last = self.after(&digest, asks, &but);
        if let Some(given) = self.bytes(&digest, asked.from, hold) {
            return given;
        }
        match last {
            Some(other) => Given::Elsewhere(format!("http://{other}/sha256/{}", digest.hex())),
            None if self.is_awaited(&digest) || self.here(&digest).is_some() => Given::Later(1),
            None => {
                self.books().entry(digest).or_default().first = Some(asks);
                Given::Nothing
            }
        }
    }
}

/// A body's place among those that are sent.
#[derive(Debug)]
struct Sending {
    all: [Arc<AtomicUsize>; 2],
}

impl Drop for Sending {
    fn drop(&mut self) {
        for count in &self.all {
            count.fetch_sub(1, Ordering::Relaxed);
        }
    }
}

/// A file that may still grow, read to the end that it will have.
struct Following {
    file: File,
    at: u64,
    size: u64,
    given: Arc<AtomicU64>,
    _sending: Sending,
}

impl Read for Following {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let since = Instant::now();
        let most = usize::try_from(self.size - self.at).unwrap_or(usize::MAX).min(into.len());
        if most == 0 {
            return Ok(0);
        }
        loop {
            self.file.seek(SeekFrom::Start(self.at))?;
            let got = self.file.read(&mut into[..most])?;
            if got > 0 {
                self.at += got as u64;
                self.given.fetch_add(got as u64, Ordering::Relaxed);
                return Ok(got);
            }
            if since.elapsed() > STILL {
                return Err(io::ErrorKind::TimedOut.into());
            }
            thread::sleep(GLANCE);
        }
    }
}
