//! Bringing artifacts in: from yards into the cache, hashed while they arrive.
//!
//! What stands in the cache under a digest had that digest when it was put there, and is hashed again before it counts: a
//! cache is shared and old, and a flipped bit in it must not reach the shelf. Whoever unpacks may look on while bytes
//! arrive or are hashed ([`Onward`]), and must throw away what came of it when they turn out to be others.

mod cache;
mod course;
mod document;
mod folder;
mod network;
mod objects;
mod origin;
mod parts;
mod person;
mod receive;
mod redirect;
mod registry;
mod rehash;
mod remote;
mod server;
mod sign_in;
mod token;
mod unknown;
mod yard;

pub use cache::Cache;
pub use document::{Document, Reading, read_anywhere, read_text};
pub use network::{Network, NetworkError};
pub use origin::{addresses, makers, origin, unnamed_indexes};
pub use person::downloaded;
pub(in crate::bring) use redirect::resolved;
pub use remote::Remote;
pub use server::put_text;
pub(in crate::bring) use server::read_from_near;
pub use sign_in::SignInError;
pub(in crate::bring) use sign_in::{Authorization, is_bare};
pub(in crate::bring) use token::token;
pub use unknown::{UnknownError, receive, receive_from};
pub use yard::{Offer, Stock, Yard, YardError, Yards};

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use course::Outcome;
use folder::Folder;
use objects::Objects;
use person::Downloaded;
use receive::Transfer;
use registry::Registry;
use server::Server;

use crate::base::event::{Cancelled, Event, Observer, check_cancelled};
use crate::base::files::FileError;
use kladder_choose::address::YardAddress;
use kladder_choose::catalog::{Artifact, Visit};

/// The yard at an address.
pub fn at(address: &YardAddress, network: &Network) -> Arc<dyn Yard> {
    match address {
        YardAddress::Folder(folder) => Arc::new(Folder::new(folder)),
        YardAddress::Server(address) => Arc::new(Server::new(address, network)),
        YardAddress::Store(address) => Arc::new(Objects::new(address, network)),
        YardAddress::Registry(address) => Arc::new(Registry::new(address, network)),
    }
}

/// The yard at an address, to fill it; `None` where only whoever keeps it can do that.
pub fn stock_at(address: &YardAddress, network: &Network) -> Option<Arc<dyn Stock>> {
    Some(match address {
        YardAddress::Folder(folder) => Arc::new(Folder::new(folder)),
        YardAddress::Server(_) => return None,
        YardAddress::Store(address) => Arc::new(Objects::new(address, network)),
        YardAddress::Registry(address) => Arc::new(Registry::new(address, network)),
    })
}

/// How often a wish to end is looked for.
const GLANCE: Duration = Duration::from_millis(50);

/// Why an artifact could not be brought in.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// Neither the settings nor the catalog name a yard, and no origin may be asked.
    #[error("no yard or origin is known to fetch {file} from")]
    NoYard {
        /// The file.
        file: String,
    },
    /// Only a person can fetch it, from a page.
    #[error("{file} is to be fetched by you")]
    ByPerson {
        /// The file.
        file: String,
        /// Its size in bytes.
        size: u64,
        /// The page.
        visit: Visit,
    },
    /// Every yard failed.
    #[error("{file} could not be fetched")]
    AllFailed {
        /// The file.
        file: String,
        /// What each yard did last, in the order they were tried.
        attempts: Vec<Attempt>,
    },
    /// The cache could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// One yard's failure.
#[derive(Debug)]
pub struct Attempt {
    /// The yard, as a person knows it.
    pub yard: String,
    /// How often it was tried.
    pub times: usize,
    /// What went wrong the last time.
    pub error: YardError,
}

impl FetchError {
    /// Whether some yard gave bytes that are not the pinned ones.
    pub fn is_integrity(&self) -> bool {
        matches!(self, Self::AllFailed { attempts, .. } if attempts.iter().any(|a| a.error.is_integrity()))
    }
}

/// Where artifacts come from and go to.
#[derive(Clone, Copy, Debug)]
pub struct Sources<'s> {
    /// Yards, best first.
    pub yards: &'s [Arc<dyn Yard>],
    /// Where they are kept.
    pub cache: &'s Cache,
    /// The way to servers.
    pub network: &'s Network,
}

/// Who looks on while an artifact comes in. Nothing of what is seen is known to be right before the fetching is over.
pub trait Onward {
    /// It is there in whole, at this path; its bytes follow nevertheless, while they are hashed.
    fn whole(&mut self, _path: &Path) {}
    /// The next bytes of it.
    fn bytes(&mut self, _bytes: &[u8]) {}
    /// What was seen so far is not it.
    fn void(&mut self) {}
}

/// Nobody looks on.
impl Onward for () {}

/// An artifact that is in the cache; its digest was seen to agree just now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fetched {
    /// Where it is.
    pub path: PathBuf,
    /// It was there already.
    pub cached: bool,
}

/// Brings an artifact into the cache.
///
/// # Errors
/// [`FetchError`]; what came so far of an artifact is kept for a later try where it is worth that, and never under its name.
pub fn fetch(
    artifact: &Artifact,
    sources: Sources<'_>,
    onward: &mut dyn Onward,
    observer: &dyn Observer,
) -> Result<Fetched, FetchError> {
    let fetched = |cached, from| Event::Fetched { file: artifact.file.to_string(), size: artifact.size, cached, from };
    let mut yards: Yards = sources.yards.iter().cloned().chain(origin::of(artifact, sources.network)).collect();
    yards.extend(downloaded(artifact, sources.network).map(|path| Arc::new(Downloaded(path)) as Arc<dyn Yard>));
    let mut waiting = false;
    let partial = loop {
        if sources.cache.seems_to_hold(artifact) {
            let path = sources.cache.path(&artifact.sha256);
            onward.whole(&path);
            if sources.cache.check(artifact, onward, observer)? {
                observer.event(&fetched(true, None));
                return Ok(Fetched { path, cached: true });
            }
            onward.void();
        }
        if yards.is_empty() {
            return Err(by_person(artifact).unwrap_or_else(|| FetchError::NoYard { file: artifact.file.to_string() }));
        }
        match sources.cache.partial(artifact)? {
            Some(partial) => break partial,
            None => check_cancelled(observer)?,
        }
        if !std::mem::replace(&mut waiting, true) {
            observer.event(&Event::FetchedElsewhere { file: artifact.file.to_string() });
        }
        thread::sleep(GLANCE);
    };
    let received = Transfer::begin(artifact, partial, sources.network, onward, observer)?.run(&yards);
    // Where nobody has it, a person may.
    let nobody = |error: &FetchError| match error {
        FetchError::AllFailed { attempts, .. } => attempts.iter().all(|one| matches!(one.error, YardError::NotThere)),
        _ => false,
    };
    let (path, from) = received.map_err(|error| by_person(artifact).filter(|_| nobody(&error)).unwrap_or(error))?;
    observer.event(&fetched(false, Some(from)));
    Ok(Fetched { path, cached: false })
}

/// That only a person can fetch it, where that is so.
fn by_person(artifact: &Artifact) -> Option<FetchError> {
    let (file, size) = (artifact.file.to_string(), artifact.size);
    artifact.by_person.clone().map(|visit| FetchError::ByPerson { file, size, visit })
}

/// Waits, unless the user asks for an end.
fn pause(time: Duration, observer: &dyn Observer) -> Result<(), Cancelled> {
    let started = Instant::now();
    while let Some(left) = time.checked_sub(started.elapsed()).filter(|left| !left.is_zero()) {
        check_cancelled(observer)?;
        thread::sleep(left.min(GLANCE));
    }
    check_cancelled(observer)
}

/// A yard that stalls must have sent this many bytes before, or another one is tried.
const WORTH_THE_WAIT: u64 = 64 * 1024;

/// What the course makes of a failure after so many new bytes.
fn outcome(error: &YardError, came: u64) -> Outcome {
    let enough = if matches!(error, YardError::Stalled { .. }) { WORTH_THE_WAIT } else { 1 };
    let progress = came >= enough;
    let pause = if let YardError::Status { pause, .. } = error { *pause } else { None };
    if error.is_retryable() { Outcome::Broke { progress, pause } } else { Outcome::Hopeless }
}

/// Takes note of a yard's failure.
fn note(attempts: &mut Vec<Attempt>, yard: &dyn Yard, error: YardError) {
    let yard = yard.shown();
    match attempts.iter_mut().find(|attempt| attempt.yard == yard) {
        Some(known) => (known.times, known.error) = (known.times + 1, error),
        None => attempts.push(Attempt { yard, times: 1, error }),
    }
}

/// The seed of an artifact's jitter: other machines and other moments get others.
fn seed(artifact: &Artifact) -> u64 {
    let now = jiff::Timestamp::now().as_nanosecond().cast_unsigned();
    let low = u64::try_from(now & u128::from(u64::MAX)).unwrap_or(1);
    low ^ artifact.size ^ u64::from(std::process::id()) << 32
}
