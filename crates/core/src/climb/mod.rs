//! The climb: follows a route from the bottom rung to a landing. The only orchestrator.

mod lock;

use std::path::Path;

use crate::catalog::Catalog;
use crate::event::{Cancelled, Event, Observer, go_on};
use crate::fetch::{self, Cache, FetchError, Yard};
use crate::files::{self, Attach, FileError};
use crate::home::Home;
use crate::ladder::Ladder;
use crate::landing::{LandedRung, Landing, LandingError, Landings};
use crate::pins::Pins;
use crate::route::{self, Ground, Route, RouteError, Rung, Work};
use crate::shelf::{Manifest, Shelf};
use crate::survey::Host;
use crate::unpack::{self, UnpackError};
use crate::verdict::Verdict;
use crate::verify::{Bench, VerifyError};
use crate::wire::{self, WireError, Wired};

/// Why a climb did not reach its landing. The landing that was current before still is.
#[derive(Debug, thiserror::Error)]
pub enum ClimbError {
    /// There is no route.
    #[error(transparent)]
    Route(#[from] RouteError),
    /// An artifact could not be fetched.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// An archive was not unpacked.
    #[error(transparent)]
    Unpack(#[from] UnpackError),
    /// Rungs could not be wired.
    #[error(transparent)]
    Wire(#[from] WireError),
    /// A check could not be run.
    #[error(transparent)]
    Verify(#[from] VerifyError),
    /// A check failed.
    #[error("a check of {} failed", .0.subject.owner())]
    Check(Box<Verdict>),
    /// A landing could not be read.
    #[error(transparent)]
    Landing(#[from] LandingError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// One ladder on one machine: everything that routes, climbs and verifications start from.
pub struct Site<'s> {
    /// What is wanted.
    pub ladder: &'s Ladder,
    /// The chosen releases.
    pub pins: &'s Pins,
    /// Their definitions.
    pub catalog: &'s Catalog,
    /// The machine.
    pub host: &'s Host,
    /// Where things are kept.
    pub home: &'s Home,
    /// Where artifacts come from, best first.
    pub yards: &'s [Yard],
}

/// How a climb ended.
#[derive(Debug)]
pub enum Climbed {
    /// Everything was there.
    NothingToDo(Option<Landing>),
    /// A new landing is current.
    Landed(Landing),
}

impl Site<'_> {
    /// The landings of this ladder.
    pub fn landings(&self) -> Landings {
        Landings::of(&self.home.ladders(), &self.ladder.path)
    }

    /// What a climb would do.
    pub fn route(&self) -> Result<Route, ClimbError> {
        self.route_over(self.landings().current()?.as_ref())
    }

    fn route_over(&self, landing: Option<&Landing>) -> Result<Route, ClimbError> {
        Ok(route::plan(&Ground {
            ladder: self.ladder,
            pins: self.pins,
            catalog: self.catalog,
            platform: &self.host.platform,
            shelf: &Shelf::new(&self.home.shelf()),
            cache: &Cache::new(&self.home.cache),
            landing,
        })?)
    }

    /// Takes the machine to what the pins say.
    pub fn climb(&self, observer: &dyn Observer) -> Result<Climbed, ClimbError> {
        let current = self.landings().current()?;
        if current.is_some() && self.route_over(current.as_ref())?.is_done() {
            return Ok(Climbed::NothingToDo(current));
        }
        let _lock = lock::take(&self.home.lock(), observer)?;
        // Another process may have landed while this one waited.
        let current = self.landings().current()?;
        let route = self.route_over(current.as_ref())?;
        if current.is_some() && route.is_done() {
            return Ok(Climbed::NothingToDo(current));
        }
        // Nobody else writes now, so what stands in staging was left by a climb that was killed.
        files::remove_tree(&self.home.staging())?;
        let landing = self.land(&route, observer)?;
        observer.event(&Event::Landed { number: landing.number });
        Ok(Climbed::Landed(landing))
    }

    fn land(&self, route: &Route, observer: &dyn Observer) -> Result<Landing, ClimbError> {
        let table = wire::table(route.rungs.iter().map(wired))?;
        let draft = self.landings().draft()?;
        wire::write(&table, draft.folder(), &self.home.data)?;
        let bench = Bench::new(draft.folder(), &table, self.host, observer)?;
        for (at, rung) in route.rungs.iter().enumerate() {
            go_on(observer)?;
            let name = rung.name.clone();
            observer.event(&Event::Rung { rung: name.clone(), number: at + 1, of: route.rungs.len() });
            self.climb_rung(rung, observer)?;
            wire::check_files(&wired(rung))?;
            if let Some(failed) = bench.check(rung)?.into_iter().find(Verdict::failed) {
                return Err(ClimbError::Check(Box::new(failed)));
            }
            observer.event(&Event::Climbed { rung: name });
        }
        let rungs = route.rungs.iter().map(|rung| LandedRung {
            tool: rung.name.tool.clone(),
            version: rung.name.version.clone(),
            folder: rung.place.folder.clone(),
        });
        Ok(draft.commit(&self.ladder.path, &self.pins.to_toml(), rungs.collect())?)
    }

    /// Fetches, unpacks and shelves what is not on the shelf.
    fn climb_rung(&self, rung: &Rung, observer: &dyn Observer) -> Result<(), ClimbError> {
        if rung.work < Work::Unpack {
            return Ok(());
        }
        let cache = Cache::new(&self.home.cache);
        let archive = fetch::fetch(&rung.artifact, self.yards, &cache, observer)?;
        let staging = self.home.staging();
        files::create_folder(&staging)?;
        let prepared =
            tempfile::Builder::new().prefix("rung-").tempdir_in(&staging).on("make a folder in", &staging)?;
        let done = shelve(rung, &archive, prepared.path(), observer);
        // The folder is gone by renaming, or holds what must not stay; its read-only parts need our own removal.
        files::remove_tree(&prepared.keep())?;
        done
    }

    /// Verifies the landing that is current: files, answers, checks and rehearsals.
    pub fn verify(&self, route: &Route, observer: &dyn Observer) -> Result<Vec<Verdict>, ClimbError> {
        let table = wire::table(route.rungs.iter().map(wired))?;
        let landing = self.landings().current_link();
        let bench = Bench::new(&landing, &table, self.host, observer)?;
        let mut verdicts = Vec::new();
        for rung in &route.rungs {
            verdicts.push(bench.files(rung)?);
            verdicts.extend(bench.answer(rung)?);
            verdicts.extend(bench.check(rung)?);
        }
        for rehearsal in self.catalog.rehearsals().map_err(RouteError::from)? {
            verdicts.extend(bench.rehearse(&rehearsal, &route.rungs)?);
        }
        Ok(verdicts)
    }
}

fn wired(rung: &Rung) -> Wired<'_> {
    Wired { definition: &rung.definition, version: &rung.name.version, folder: rung.place.files() }
}

fn shelve(rung: &Rung, archive: &Path, prepared: &Path, observer: &dyn Observer) -> Result<(), ClimbError> {
    let folder = prepared.join("files");
    files::create_folder(&folder)?;
    let entries = unpack::unpack(archive, &rung.artifact, &folder, observer)?;
    let files = entries.len();
    let manifest = Manifest::new(&rung.name.tool, &rung.name.version, rung.artifact.sha256, entries);
    rung.place.put(prepared, &manifest)?;
    observer.event(&Event::Shelved { rung: rung.name.clone(), files, folder: rung.place.folder.clone() });
    Ok(())
}
