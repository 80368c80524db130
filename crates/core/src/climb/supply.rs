//! The files of the rungs, brought in ahead of the climb: several rungs at once, in the order of the route.
//!
//! As many rungs at once as `network.at-once` says, otherwise one more than there are cores (three to five); each is received, hashed, unpacked and hashed again
//! file by file in one stream. The climb takes them in the order of the route and waits for the one that is next.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::Scope;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Artifact;
use kladder_choose::names::RungKey;

use crate::base::event::{Cancelled, Event, For, Observer};
use crate::base::files::FileError;
use crate::bring::fetch::Sources;
use crate::bring::intake::{self, IntakeError};
use crate::bring::parts::Parts;
use crate::bring::shelf::{Place, Shelf, Standing, Twins};
use crate::tasks::{Prepared, Rung, TaskError, parts};

/// A rung's files are to be brought in.
#[derive(Clone, Debug)]
pub(super) struct Order {
    /// Its place in the route.
    at: usize,
    rung: RungKey,
    artifacts: Vec<Artifact>,
    /// Versions of the tool that are on the shelf already.
    others: Vec<Place>,
    /// Libraries that it is put together from, where it is, and where they can be trusted.
    parts: Option<Parts>,
    folder: PathBuf,
}

/// Where files are brought in from and to.
#[derive(Clone, Copy)]
pub(super) struct Way<'w> {
    pub(super) sources: Sources<'w>,
    pub(super) shelf: &'w Shelf,
    pub(super) staging: &'w Path,
    /// How many rungs at once.
    pub(super) at_once: usize,
}

type Arrived = (usize, Result<Prepared, IntakeError>);

/// Rungs that are being brought in.
pub(super) struct Supply<'s> {
    arriving: Receiver<Arrived>,
    here: BTreeMap<usize, Result<Prepared, IntakeError>>,
    halt: &'s AtomicBool,
    started: Instant,
    last: Duration,
}

/// The observer of those who work ahead: they end when the climb does.
pub(super) struct Ahead<'o> {
    pub(super) observer: &'o dyn Observer,
    pub(super) halt: AtomicBool,
}

impl Observer for Ahead<'_> {
    fn behind(&self) -> Option<&dyn Observer> {
        Some(self.observer)
    }

    fn event_of(&self, rung: &RungKey, event: &Event) {
        self.observer.event_of(rung, event);
    }

    fn cancelled(&self) -> bool {
        self.halt.load(Ordering::Relaxed) || self.observer.cancelled()
    }
}

impl Order {
    /// What is to be brought in for the rungs that are not on the shelf.
    pub(super) fn list(rungs: &[Rung], way: &Way<'_>) -> Result<Vec<Self>, FileError> {
        let needed = rungs.iter().enumerate().filter(|(_, rung)| rung.is_to_bring());
        let order = |(at, rung): (usize, &Rung)| {
            let artifacts = rung.shelved().map(|shelved| shelved.artifacts.clone()).unwrap_or_default();
            let folder = way.staging.join([at.to_string().as_str(), "-", &rung.key.folder_name()].concat());
            // What set-up commands may change must be nobody else's.
            let is_shared = rung.definition.says.set_up.is_empty();
            let others = if is_shared { way.shelf.versions(&rung.key.tool)? } else { Vec::new() };
            let parts = rung.shelved().and_then(|shelved| parts(rung, shelved));
            let is_damaged = || rung.shelved().is_some_and(|set| set.place.glance() == Standing::Damaged);
            if let Some(parts) = parts.as_ref().filter(|_| is_damaged()) {
                parts.sift()?;
            }
            Ok(Self { at, rung: rung.key.clone(), artifacts, others, parts, folder })
        };
        needed.map(order).collect()
    }

    fn bring(&self, way: &Way<'_>, observer: &dyn Observer) -> Result<Prepared, IntakeError> {
        let observer = &For { observer, rung: &self.rung };
        let twins = Twins::among(&self.others);
        let files = self.folder.join("files");
        let brought = match &self.parts {
            Some(parts) => parts.bring_in(&self.artifacts, way.sources, &files, observer)?,
            None => intake::bring_in(&self.artifacts, way.sources, &files, &twins, observer)?,
        };
        Ok(Prepared { folder: self.folder.clone(), brought })
    }
}

impl<'s> Supply<'s> {
    /// Starts to bring in; dropping the supply ends what is under way.
    pub(super) fn start(scope: &'s Scope<'s, '_>, orders: &'s [Order], way: Way<'s>, ahead: &'s Ahead<'s>) -> Self {
        let (send, arriving) = channel();
        let next = Arc::new(AtomicUsize::new(0));
        for _ in 0..way.at_once.min(orders.len()) {
            let (send, next): (Sender<Arrived>, _) = (send.clone(), Arc::clone(&next));
            scope.spawn(move || {
                while let Some(order) = orders.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if ahead.cancelled() || send.send((order.at, order.bring(&way, ahead))).is_err() {
                        return;
                    }
                }
            });
        }
        Self { arriving, here: BTreeMap::new(), halt: &ahead.halt, started: Instant::now(), last: Duration::ZERO }
    }

    /// The files of the rung at this place of the route, or why they are not there. Other rungs go on arriving.
    pub(super) fn take(&mut self, at: usize) -> Result<Prepared, TaskError> {
        loop {
            if let Some(arrived) = self.here.remove(&at) {
                return Ok(arrived?);
            }
            // Those who bring in end early only when the climb was cancelled.
            let (number, brought) = self.arriving.recv().map_err(|_| Cancelled)?;
            self.last = self.started.elapsed();
            self.here.insert(number, brought);
        }
    }

    /// How long it took until the last files were there.
    pub(super) fn took(&self) -> Duration {
        self.last
    }
}

impl Drop for Supply<'_> {
    fn drop(&mut self) {
        self.halt.store(true, Ordering::Relaxed);
    }
}
