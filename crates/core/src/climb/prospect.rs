//! What lies ahead of a climb: everything that can be known before the first byte.

use std::path::PathBuf;
use std::time::Duration;

use kladder_choose::catalog::{Artifact, Visit};
use kladder_choose::names::RungKey;

use super::gates::{self, Room, Standing};
use super::licences;
use super::route::{Ground, Route, RouteError, plan};
use super::{ClimbError, Site};
use crate::base::event::Subject;
use crate::bring::fetch::{Cache, downloaded};
use crate::bring::shelf::Shelf;
use crate::host::survey::{self, Survey};
use crate::keep::chores::Chores;
use crate::keep::landing::Landing;
use crate::keep::rates::{Pace, Rates};
use crate::keep::state::TaskName;
use crate::keep::terms::{Asked, Terms};
use crate::tasks::Rung;
use crate::tasks::launch::Wiring;

/// What lies ahead.
#[derive(Clone, Debug)]
pub struct Prospect {
    /// Bottom first.
    pub route: Route,
    /// The host.
    pub survey: Survey,
    /// How every gate of the route stands.
    pub gates: Vec<Standing>,
    /// Licences that are still to be accepted.
    pub licences: Vec<Asked>,
    /// What a person must fetch, as far as nothing on this machine has it.
    pub by_person: Vec<Awaited>,
    /// Bytes to fetch.
    pub fetch: u64,
    /// Bytes of archives that are in the cache already, and are to be unpacked.
    pub from_cache: u64,
    /// Bytes that the shelf will take.
    pub unpacked: u64,
    /// How fast fetching is; `None` where nobody knows yet.
    pub pace: Option<Known>,
    /// What earlier climbs were seen to take.
    pub rates: Rates,
}

/// How long some commands take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Work {
    /// Of those that are known, by this machine or by whoever wrote them.
    pub time: Duration,
    /// How many nobody has timed.
    pub untimed: usize,
}

impl Work {
    fn and(self, other: Self) -> Self {
        Self { time: self.time.saturating_add(other.time), untimed: self.untimed + other.untimed }
    }
}

/// How fast something is, and how that is known.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Known {
    /// From earlier climbs.
    Before(Pace),
    /// Measured just now.
    Measured(Pace),
}

impl Known {
    fn pace(self) -> Pace {
        match self {
            Self::Before(pace) | Self::Measured(pace) => pace,
        }
    }
}

/// A file that a person must fetch.
#[derive(Clone, Debug)]
pub struct Awaited {
    /// The tool that it is for.
    pub tool: RungKey,
    /// Its name.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// The page.
    pub visit: Visit,
    /// Where a file of that name and size lies among the person's downloads.
    pub found: Option<PathBuf>,
}

impl Prospect {
    /// How long fetching and unpacking will take, and what definitions do, as far as it was timed; `None` where nobody knows.
    pub fn time(&self) -> Option<Duration> {
        let (fetching, unpacking) = (self.time_to_fetch(self.fetch)?, self.time_to_unpack(self.from_cache)?);
        Some(fetching.saturating_add(unpacking).saturating_add(self.work().time))
    }

    /// How long set-ups and fit-outs of the whole route take.
    pub fn work(&self) -> Work {
        self.route.rungs.iter().map(|rung| self.work_of(rung)).fold(Work::default(), Work::and)
    }

    /// How long the set-ups and fit-outs of a rung take that are left to do.
    pub fn work_of(&self, rung: &Rung) -> Work {
        let (key, says) = (&rung.key, &rung.definition.says);
        let set_ups = says.set_up.iter().filter(|_| rung.is_to_bring());
        let set_ups = set_ups.map(|trial| (Subject::SetUp { rung: key.clone(), name: trial.name() }, trial.takes));
        let fit_outs = says.fit_outs.iter().filter(|_| rung.todo.contains(&TaskName::FitOut));
        let fit_outs = fit_outs
            .map(|fit_out| (Subject::FitOut { rung: key.clone(), name: fit_out.name.clone() }, fit_out.run.takes));
        let one = |(subject, takes): (Subject, Option<u64>)| {
            let known = self.rates.time_of(&subject).or(takes.map(Duration::from_secs));
            Work { time: known.unwrap_or_default(), untimed: usize::from(known.is_none()) }
        };
        set_ups.chain(fit_outs).map(one).fold(Work::default(), Work::and)
    }

    /// How long so many bytes take to come, and to be unpacked meanwhile.
    pub fn time_to_fetch(&self, bytes: u64) -> Option<Duration> {
        if bytes == 0 { Some(Duration::ZERO) } else { self.pace?.pace().time_for(bytes) }
    }

    fn time_to_unpack(&self, bytes: u64) -> Option<Duration> {
        if bytes == 0 { Some(Duration::ZERO) } else { self.rates.unpack.time_for(bytes) }
    }

    /// The gates that are closed.
    pub fn closed(&self) -> impl Iterator<Item = &Standing> {
        self.gates.iter().filter(|gate| !gate.open)
    }
}

impl Site<'_> {
    /// What a climb would do.
    ///
    /// # Errors
    /// [`ClimbError::Route`] where a pinned release has left the catalog or has no artifact for this host.
    pub fn route(&self) -> Result<Route, ClimbError> {
        self.route_over(self.landings().usable().as_ref())
    }

    pub(super) fn route_over(&self, landing: Option<&Landing>) -> Result<Route, ClimbError> {
        let landings = self.landings();
        let mut route = plan(&Ground {
            ladder: self.ladder,
            pins: self.pins,
            catalogs: self.catalogs,
            machine: &self.machine,
            shelf: &Shelf::new(&self.home.shelf()),
            cache: &Cache::new(&self.home.artifacts),
            folder: landings.folder(),
            landing,
        })?;
        if let Some(landing) = landing {
            route.landing_is_whole = !landings.is_marked(landing.number) && self.is_as_written(&route)?;
        }
        Ok(route)
    }

    /// Whether the current landing's tables and launchers are what the route would write, at a glance. Where the route has
    /// something to do they may well be others; then that is no damage.
    fn is_as_written(&self, route: &Route) -> Result<bool, ClimbError> {
        let changes = !route.leaving.is_empty() || route.rungs.iter().any(|rung| !rung.todo.is_empty());
        if changes {
            return Ok(true);
        }
        let current = self.landings().current_link();
        let wiring = Wiring::of(&route.rungs, self.ladder)?.with_sets(&route.rungs, self.ladder, &current);
        Ok(wiring.differences(&current, false).is_ok_and(|differences| differences.is_empty()))
    }

    fn awaited(&self, route: &Route) -> Vec<Awaited> {
        let cache = Cache::new(&self.home.artifacts);
        let at_hand = |artifact: &Artifact| {
            cache.seems_to_hold(artifact) || self.yards.iter().any(|yard| yard.has_at_hand(artifact))
        };
        let of_rung = |rung: &Rung| {
            let artifacts = rung.shelved().into_iter().flat_map(|shelved| shelved.artifacts.clone());
            let missing = artifacts.filter(|artifact| !at_hand(artifact));
            let awaited = missing.filter_map(|artifact| {
                let visit = artifact.by_person.clone()?;
                let found = downloaded(&artifact, self.network);
                let (tool, file) = (rung.key.clone(), artifact.file.to_string());
                Some(Awaited { tool, file, size: artifact.size, visit, found })
            });
            awaited.collect::<Vec<_>>()
        };
        route.rungs.iter().filter(|rung| rung.is_to_bring()).flat_map(of_rung).collect()
    }

    /// The route with its gates, licences, sizes and time.
    ///
    /// # Errors
    /// [`ClimbError`] where there is no route, or the licences that were accepted cannot be read.
    pub fn prospect(&self) -> Result<Prospect, ClimbError> {
        self.prospect_of(self.route()?)
    }

    pub(super) fn prospect_of(&self, route: Route) -> Result<Prospect, ClimbError> {
        let survey = survey::facts(self.host, &self.home.places(&self.host.temporary));
        let terms = Terms::read(&self.home.data)?;
        // A licence counts for what stands, too.
        let all: Vec<_> = route.rungs.iter().collect();
        let left: Vec<_> = route.rungs.iter().filter(|rung| rung.is_to_bring()).collect();
        let Room { fetched: fetch, unpacked } = gates::room(&left);
        let archives: u64 = left.iter().map(|rung| rung.size()).fold(0, u64::saturating_add);
        let from_cache = archives.saturating_sub(fetch);
        let rates = Rates::read(&self.home.data);
        Ok(Prospect {
            gates: gates::check(&route, &survey, self.host, self.yards, &Chores::read(&self.home.data)?),
            licences: licences::open(&all, self.catalogs, &terms).map_err(RouteError::from)?,
            by_person: self.awaited(&route),
            pace: Some(rates.fetch).filter(|pace| !pace.is_unknown()).map(Known::Before),
            rates,
            fetch,
            from_cache,
            unpacked,
            survey,
            route,
        })
    }
}
