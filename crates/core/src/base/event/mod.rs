//! What happens, told as it happens.
//!
//! Events are values: whoever observes may draw them, write them down, or forget them, and a run says the same whoever looks
//! on. An observer also carries the wish to stop, which long work asks for between its steps; what is half done then is left
//! in the state that a kill would leave, which the next run mends.

mod cause;
mod finding;
mod verdict;
mod work;

pub use crate::sys::{Confined, Kept};
pub use cause::Cause;
pub use finding::{Difference, Finding, How, Looked, Much, Shadow, Undeclared, Unloadable};
pub use verdict::{Outcome, Output, Skipped, Stream, Subject, Verdict};
pub use work::Work;

use std::path::PathBuf;
use std::time::Duration;

use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::pins::HostCopy;
use kladder_choose::version::Version;

/// A rung in a message: the tool at its version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RungName {
    /// Which tool it is of.
    pub tool: ToolName,
    /// The version it stands at.
    pub version: Version,
}

impl std::fmt::Display for RungName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {}", self.tool, self.version)
    }
}

/// A rung of a route that is about to be climbed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Planned {
    /// Which one.
    pub key: RungKey,
    /// The tool at its version.
    pub rung: RungName,
    /// Those that it stands on.
    pub needs: Vec<RungKey>,
    /// Bytes of it to fetch.
    pub fetch: u64,
    /// Nothing is left to do with it.
    pub stands: bool,
}

/// Something that happened in a climb or a verification.
#[derive(Clone, Debug)]
pub enum Event {
    /// Another process writes to this home; the climb waits for it.
    Waiting {
        /// The other process, where it said so.
        process: Option<u32>,
    },
    /// The climb begins.
    Ahead {
        /// Bytes to fetch.
        fetch: u64,
        /// The rungs of the route, in its order.
        rungs: Vec<Planned>,
    },
    /// What a killed process had begun was brought to an end.
    Recovered {
        /// The process.
        process: u32,
        /// Its landing was all but current, and is now; otherwise what it had begun was removed.
        finished: bool,
    },
    /// A command of a definition ran, to set a rung up or to fit it out.
    Worked {
        /// What it was for.
        work: Work,
        /// Whose command it is.
        rung: RungKey,
        /// The command's name.
        name: String,
        /// What it was kept from.
        confined: Confined,
        /// What it printed.
        output: String,
        /// How long it took.
        took: Duration,
    },
    /// Work on a rung begins.
    Rung {
        /// Which one.
        key: RungKey,
        /// The tool at its version.
        rung: RungName,
        /// Its place in the route, from 1.
        number: usize,
        /// How many rungs the route has.
        of: usize,
    },
    /// Code is about to be brought.
    Code {
        /// The name of its folder.
        name: String,
        /// Where it comes from, as it may be shown.
        from: String,
    },
    /// The rung is what the host has; nothing is fetched.
    OnHost {
        /// Where.
        copy: HostCopy,
    },
    /// An artifact is about to be received.
    Fetching {
        /// The file's name.
        file: String,
        /// Its size in bytes.
        size: u64,
        /// Bytes that came in an earlier try.
        had: u64,
        /// The yard it comes from.
        from: String,
    },
    /// Machines of the room still take something from here; they are waited for.
    Lingering {
        /// How many still take something.
        neighbours: usize,
    },
    /// Another process fetches this artifact; its outcome is waited for.
    FetchedElsewhere {
        /// The file's name.
        file: String,
    },
    /// Every yard broke; they are left alone for a while.
    Pausing {
        /// The file's name.
        file: String,
        /// For how long.
        time: Duration,
    },
    /// A yard failed, and another one is tried.
    YardFailed {
        /// Which one failed.
        yard: String,
        /// Why.
        reason: String,
        /// Which one is next.
        next: String,
    },
    /// The artifact is there and its digest agrees.
    Fetched {
        /// The file's name.
        file: String,
        /// Its size in bytes.
        size: u64,
        /// It was in the cache and was only hashed again.
        cached: bool,
        /// The yard or origin that it came from, as it may be shown; `None` for what was in the cache.
        from: Option<String>,
    },
    /// The version stands on the shelf.
    Shelved {
        /// Which one.
        rung: RungName,
        /// How many files and links it has.
        files: usize,
        /// Bytes of its archives that came from yards.
        fetched: u64,
        /// Bytes of its archives that were in the cache.
        from_cache: u64,
        /// Where.
        folder: PathBuf,
    },
    /// So much of what is to be verified was looked at.
    Looked {
        /// Parts that are done.
        done: usize,
        /// How many there are.
        of: usize,
    },
    /// A check is about to run.
    Checking {
        /// What it looks at.
        subject: Subject,
    },
    /// A check or rehearsal came to an end.
    Checked(Verdict),
    /// Work on a rung is done.
    Climbed {
        /// Which one.
        key: RungKey,
        /// The tool at its version.
        rung: RungName,
    },
    /// Work on a rung ended early: it failed, or something it needs did.
    Stopped {
        /// Which one.
        rung: RungKey,
        /// Its place in the route, from 1.
        number: usize,
        /// How many rungs the route has.
        of: usize,
        /// Why, with causes.
        why: String,
    },
    /// The landing was recorded and is current.
    Landed {
        /// Its number.
        number: u32,
    },
}

/// Who listens. Every method may be left out: what is left out is passed on to whoever is behind this one.
pub trait Observer: Sync {
    /// Who is behind this one, for those who listen in on their way.
    fn behind(&self) -> Option<&dyn Observer> {
        None
    }

    /// Something happened.
    fn event(&self, event: &Event) {
        if let Some(behind) = self.behind() {
            behind.event(event);
        }
    }

    /// Asked often; `true` ends the work at the next safe point.
    fn cancelled(&self) -> bool {
        match self.behind() {
            Some(behind) => behind.cancelled(),
            None => false,
        }
    }

    /// Something happened for a rung, whichever is being climbed just now.
    fn event_of(&self, rung: &RungKey, event: &Event) {
        let _ = rung;
        self.event(event);
    }

    /// So many bytes were received, for a rung where that is known; called for every block.
    fn received(&self, rung: Option<&RungKey>, bytes: u64) {
        if let Some(behind) = self.behind() {
            behind.received(rung, bytes);
        }
    }
}

/// Whoever works for one rung while another one may be climbed.
pub struct For<'o> {
    /// Who is behind.
    pub observer: &'o dyn Observer,
    /// Which rung.
    pub rung: &'o RungKey,
}

impl Observer for For<'_> {
    fn behind(&self) -> Option<&dyn Observer> {
        Some(self.observer)
    }

    fn event(&self, event: &Event) {
        self.observer.event_of(self.rung, event);
    }

    fn received(&self, _: Option<&RungKey>, bytes: u64) {
        self.observer.received(Some(self.rung), bytes);
    }
}

/// Listens to nothing.
pub struct Silent;

impl Observer for Silent {}

/// Ends a reading when the observer is cancelled.
pub struct Cancellable<'o, R> {
    inner: R,
    observer: &'o dyn Observer,
}

impl<'o, R> Cancellable<'o, R> {
    /// Wraps a reader.
    pub fn new(inner: R, observer: &'o dyn Observer) -> Self {
        Self { inner, observer }
    }
}

impl<R: std::io::Read> std::io::Read for Cancellable<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.observer.cancelled() {
            return Err(std::io::Error::other(Cancelled));
        }
        self.inner.read(buffer)
    }
}

/// Tells an observer how many bytes were received, as they pass.
pub struct Counted<'o, R> {
    inner: Cancellable<'o, R>,
}

impl<'o, R> Counted<'o, R> {
    /// Wraps a reader.
    pub fn new(inner: R, observer: &'o dyn Observer) -> Self {
        Self { inner: Cancellable::new(inner, observer) }
    }
}

impl<R: std::io::Read> std::io::Read for Counted<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let got = self.inner.read(buffer)?;
        self.inner.observer.received(None, got as u64);
        Ok(got)
    }
}

/// An error with its causes, in one line, for what is written down.
pub fn chain(error: &dyn std::error::Error) -> String {
    let causes = std::iter::successors(Some(error), |error| error.source());
    let mut told: Vec<String> = Vec::new();
    for cause in causes.map(ToString::to_string) {
        // What is passed on as it is says the same again.
        if told.last() != Some(&cause) {
            told.push(cause);
        }
    }
    told.join(": ")
}

/// The user asked for an end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("interrupted")]
pub struct Cancelled;

/// Fails where the observer was cancelled, so that the caller ends.
///
/// # Errors
/// [`Cancelled`], which every error of a longer work has a case for.
pub fn check_cancelled(observer: &dyn Observer) -> Result<(), Cancelled> {
    if observer.cancelled() { Err(Cancelled) } else { Ok(()) }
}
