//! The pins to go by: those on file where they fit, else new ones.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::sync::Arc;

use kladder_choose::catalog::{Definition, Gate, PinnedArtifact, Published, Release};
use kladder_choose::path::InnerPath;
use kladder_choose::pins::{Choosing, HostPin, Limits, Moves, OnHost, Pins, PinsError, host_pins_that_differ};

use super::Desk;
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::bring::fetch::{Cache, Yard, YardError, Yards, origin};
use crate::climb::{Holder, PAUSE};
use crate::host::system::package_holder;

/// How far old pins can be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Freshness {
    /// They were made for this very ladder.
    Current,
    /// The ladder has changed since.
    Stale,
    /// What they pin on the host has changed.
    HostMoved,
    /// There are none.
    Missing,
}

/// The pins to go by, and how the ones on file fit.
#[derive(Clone, Debug)]
pub struct Pinned {
    /// The pins.
    pub pins: Pins,
    /// How the old ones fit.
    pub freshness: Freshness,
    /// What was pinned on the host and does not hold any more.
    pub differing: Vec<HostPin>,
}

/// A file whose size nobody told.
#[derive(Debug)]
pub struct Unsized {
    /// The file.
    pub file: InnerPath,
    /// Who was asked, and why that did not help; a place without an error does not tell sizes.
    pub asked: Vec<(String, Option<YardError>)>,
}

/// Places that did not answer, one after the other; more are not waited for.
const NO_ANSWERS: usize = 3;

/// Asks for sizes, until nobody answers any more: a network that is down must not be waited for once for each file.
#[derive(Default)]
struct Asking(Cell<usize>);

impl Asking {
    /// `None` where nobody is asked any more.
    fn size(&self, place: &Arc<dyn Yard>, file: &PinnedArtifact) -> Option<Result<Option<u64>, YardError>> {
        if self.0.get() >= NO_ANSWERS {
            return None;
        }
        let told = place.size(&file.file);
        let failed = told.as_ref().is_err_and(YardError::is_retryable);
        self.0.set(if failed { self.0.get() + 1 } else { 0 });
        Some(told)
    }
}

impl Desk {
    /// The pins to go by: those on file where they fit the ladder and the host as they are now, else new ones that keep
    /// what they can.
    ///
    /// # Errors
    /// [`PinsError`] as of choosing; pins that still fit never fail.
    pub fn pinned(&self) -> Result<Pinned, PinsError> {
        let host = self.host_tools();
        let old = self.old.as_ref();
        let differing = self.differing(&host);
        let freshness = match old {
            None => Freshness::Missing,
            Some(old) if old.ladder != self.ladder.digest => Freshness::Stale,
            Some(_) if !differing.is_empty() => Freshness::HostMoved,
            Some(old) => return Ok(Pinned { pins: old.clone(), freshness: Freshness::Current, differing }),
        };
        let pins = self.choosing(&host, &Moves::default(), Limits::default()).pins()?;
        let pins = self.sized(pins);
        Ok(Pinned { pins, freshness, differing })
    }

    /// Waits until the host has what only it could have, as far as somebody can bring that. `told` hears of the chores, and who
    /// holds the package database, each time that this changes.
    ///
    /// # Errors
    /// [`Cancelled`] where the person asked for an end.
    pub fn wait_for_host(
        &self,
        told: &dyn Fn(&[Gate], Option<&Holder>),
        observer: &dyn Observer,
    ) -> Result<(), Cancelled> {
        let mut last = None;
        loop {
            let chores = self.pinned().err().map(|error| error.chores()).unwrap_or_default();
            if chores.is_empty() {
                return Ok(());
            }
            let holder = package_holder(&self.surroundings.host);
            let now = (chores.iter().map(|gate| gate.name.clone()).collect::<Vec<_>>(), holder);
            if last.as_ref() != Some(&now) {
                told(&chores, now.1.as_ref());
                last = Some(now);
            }
            check_cancelled(observer)?;
            std::thread::sleep(PAUSE);
        }
    }

    /// Pins with the sizes that their definitions do not say: as pinned before, as in the cache, or as the first yard says
    /// that knows the file. One that nobody knows stays unknown.
    #[must_use]
    pub fn sized(&self, chosen: Pins) -> Pins {
        let pins = chosen.clone();
        let cache = Cache::new(&self.surroundings.home.artifacts);
        let before = |file: &PinnedArtifact| {
            let mut old = self.old.iter().flat_map(Pins::files);
            old.find(|old| old.sha256 == file.sha256).and_then(|old| old.size)
        };
        let asking = Asking::default();
        let untold: RefCell<BTreeMap<InnerPath, Unsized>> = RefCell::default();
        let sized = chosen.sized(&|file| {
            let told = before(file).or_else(|| cache.size(&file.sha256));
            told.or_else(|| {
                let mut asked = Vec::new();
                for place in self.places_of(&pins, file) {
                    match asking.size(&place, file) {
                        Some(Ok(Some(size))) => return Some(size),
                        Some(told) => asked.push((place.shown(), told.err())),
                        None => {}
                    }
                }
                let one = Unsized { file: file.file.clone(), asked };
                untold.borrow_mut().entry(file.file.clone()).or_insert(one);
                None
            })
        });
        *self.untold.borrow_mut() = untold.into_inner().into_values().collect();
        sized
    }

    /// The files whose sizes stayed unknown when pins were chosen last, and why; each is told once.
    pub fn unsized_files(&self) -> Vec<Unsized> {
        self.untold.take()
    }

    /// Where a pinned file can be had, best first.
    fn places_of(&self, pins: &Pins, file: &PinnedArtifact) -> Yards {
        let origins = self.origins_of(pins, file);
        let makers = origins.iter().filter_map(|text| origin(text, &file.file, &self.network));
        self.yards.iter().cloned().chain(makers).collect()
    }

    /// Where the maker of a pinned file publishes it, as its definition says.
    fn origins_of(&self, pins: &Pins, file: &PinnedArtifact) -> Vec<String> {
        let definitions = pins.all().into_iter().filter_map(|(tool, _)| self.catalogs.tool(tool).ok()?);
        let of = |definition: Arc<Definition>| {
            let pieces =
                |release: &Release| release.pieces.values().flat_map(|piece| piece.artifacts.clone()).collect();
            let all = definition.releases.iter().flat_map(|release| {
                let pieces: Vec<Published> = pieces(release);
                release.artifacts.iter().cloned().chain(pieces).collect::<Vec<_>>()
            });
            let each = all.flat_map(|one| one.also.clone().into_iter().chain([one]));
            each.filter(|one| one.sha256 == file.sha256).flat_map(|one| one.origins).collect::<Vec<_>>()
        };
        definitions.flat_map(of).collect()
    }

    /// The pins on the host's own tools that do not hold any more.
    pub fn differing(&self, host: &dyn OnHost) -> Vec<HostPin> {
        self.old.as_ref().map(|old| host_pins_that_differ(host, old, &self.catalogs)).unwrap_or_default()
    }

    /// What new pins are chosen from, and how.
    pub fn choosing<'d>(&'d self, host: &'d dyn OnHost, moves: &'d Moves, limits: Limits) -> Choosing<'d> {
        Choosing {
            ladder: &self.ladder,
            catalogs: &self.catalogs,
            here: &self.here,
            host,
            old: self.old.as_ref(),
            moves,
            limits,
        }
    }
}
