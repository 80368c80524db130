//! The climb: follows a route from the bottom rung to a landing. The only orchestrator.

mod around;
mod ascent;
mod back;
mod chores;
mod code;
mod conditions;
mod desktop;
mod fonts;
pub mod gates;
mod kernels;
mod licences;
mod pace;
mod prospect;
mod remembered;
pub mod route;
mod services;
mod session;
pub mod settings;
mod supply;
mod verify;

pub use session::has_user_services;
pub use verify::{Looking, Verified};

pub use back::{Back, BackError, BackRequest, back};
pub use code::{CodeStanding, CodeState, WhyMissing};
pub use prospect::{Awaited, Known, Prospect, Work};

use std::collections::BTreeSet;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

pub(crate) use chores::PAUSE;
pub use chores::{Holder, Told};
use gates::Standing;
use kladder_choose::catalog::{Anew, Artifact, Catalogs, Machine};
use kladder_choose::ladder::Ladder;
use kladder_choose::names::RungKey;
use kladder_choose::pins::Pins;
use kladder_choose::version::Version;
pub use remembered::Remembered;
use route::{Route, RouteError};

use self::settings::WantedThere;
use crate::base::crash;
use crate::base::event::{Cancelled, Observer};
use crate::base::files::{self, FileError};
use crate::base::record::RecordError;
use crate::bring::fetch::{Cache, Network, Yard, downloaded, unnamed_indexes};
use crate::host::survey::Host;
use crate::keep::landing::{Landing, LandingError, Landings};
use crate::keep::state::{JournalError, Kind, Recorder, StateError, Writer};
use crate::keep::terms::{Asked, Terms};
use crate::keep::wired::Wired;
use crate::prove::verify::VerifyError;
use crate::settings::Home;
use crate::tasks::launch::LaunchError;
use crate::tasks::{Rung, TaskError};

/// A rung that was not climbed, and why.
#[derive(Debug)]
pub struct Failure {
    /// Which one.
    pub rung: RungKey,
    /// At which version.
    pub version: Version,
    /// What its task said.
    pub error: TaskError,
}

/// Why a climb did not come to an end. The landing that was current before still is.
#[derive(Debug, thiserror::Error)]
pub enum ClimbError {
    /// There is no route.
    #[error(transparent)]
    Route(#[from] RouteError),
    /// Rungs could not be climbed; all that do not stand on them were.
    #[error("{} not climbed", if failures.len() == 1 { "a rung was".to_owned() } else { format!("{} rungs were", failures.len()) })]
    Failed {
        /// Those rungs, bottom first.
        failures: Vec<Failure>,
        /// Rungs that stand on them.
        held_up: Vec<RungKey>,
        /// How many others are on the shelf now.
        climbed: usize,
    },
    /// Artifacts are missing, and nothing may be fetched.
    #[error("{} not here, and nothing may be fetched", if .0.len() == 1 { "a file is".to_owned() } else { format!("{} files are", .0.len()) })]
    Offline(Vec<Artifact>),
    /// What is to be fetched would have to be asked of indexes that the settings do not name.
    #[error("{} not named in config.toml", indexes(.0))]
    Unnamed(Vec<UnnamedIndex>),
    /// Rungs could not be wired.
    #[error(transparent)]
    Launch(#[from] LaunchError),
    /// Something could not be looked at.
    #[error(transparent)]
    Verify(#[from] VerifyError),
    /// Somebody else writes to the home, or what was done cannot be written down.
    #[error(transparent)]
    State(#[from] StateError),
    /// A record could not be read.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A name in the request means nothing on this route.
    #[error("there is no {what} `{name}` on this route")]
    NoSuch {
        /// What kind of thing it should be.
        what: &'static str,
        /// The name.
        name: String,
        /// Those that there are.
        there: Vec<String>,
    },
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

impl From<JournalError> for ClimbError {
    fn from(error: JournalError) -> Self {
        Self::State(StateError::Journal(error))
    }
}

/// Takes the decisions of a climb; without a person at hand every answer is no, except to go on.
pub trait Decide {
    /// Whether what only a person can do is done.
    fn is_done(&self, _chore: &Standing) -> bool {
        false
    }

    /// Whether the machine or the session was started anew, asked where the system does not tell.
    fn has_restarted(&self, _due: &RestartDue) -> bool {
        false
    }

    /// Whether the text of a licence is accepted.
    fn accept(&self, _asked: &Asked) -> bool {
        false
    }

    /// Whether somebody is asked to go on, so that it is worth to find out how long that takes.
    fn is_asked(&self) -> bool {
        false
    }

    /// Whether to go on, with all that is known before the first byte.
    fn go_on(&self, _prospect: &Prospect) -> bool {
        true
    }
}

/// What was asked for beforehand.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// How long to wait for another process that writes to the home; without an end where it is `None`.
    pub wait: Option<Duration>,
    /// Gates to skip although they are closed; recorded in the landing.
    pub skip_gates: Vec<String>,
    /// Licences that are accepted, by name.
    pub accept: Vec<String>,
    /// Chores that only a person can tell are done, by the names of their gates.
    pub done: Vec<String>,
}

/// One ladder on one machine: everything that routes, climbs and verifications start from.
pub struct Site<'s> {
    /// What is wanted.
    pub ladder: &'s Ladder,
    /// The chosen releases.
    pub pins: &'s Pins,
    /// Their definitions.
    pub catalogs: &'s Catalogs,
    /// The machine.
    pub host: &'s Host,
    /// The machine of the ladder that this one counts as.
    pub machine: Machine,
    /// Where things are kept.
    pub home: &'s Home,
    /// Where artifacts come from, best first.
    pub yards: &'s [Arc<dyn Yard>],
    /// The way to those that are servers.
    pub network: &'s Network,
    /// Nothing but the cache and yards that are folders may be used.
    pub offline: bool,
    /// What the ladder wants in the home, once it was found out.
    pub wanted: OnceLock<WantedThere>,
}

/// An index that the settings do not name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnnamedIndex {
    /// What the catalog calls it.
    pub name: String,
    /// What it speaks, where the catalog says so.
    pub speaks: Option<String>,
}

fn indexes(all: &[UnnamedIndex]) -> String {
    let names: Vec<&str> = all.iter().map(|index| index.name.as_str()).collect();
    match names.as_slice() {
        [one] => format!("the index {one} is"),
        [front @ .., last] => format!("the indexes {} and {last} are", front.join(", ")),
        [] => "no index is".to_owned(),
    }
}

/// A restart or a new session is due before the climb can go on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RestartDue {
    /// The rung that is in place and waits for it.
    pub rung: RungKey,
    /// What must be started anew.
    pub anew: Anew,
    /// The first rung that stands on it.
    pub above: RungKey,
}

/// Why a climb stopped before its landing although nothing failed.
#[derive(Clone, Debug)]
pub enum Stopped {
    /// Gates are closed.
    Gates(Vec<Standing>),
    /// Licences were not accepted.
    Licences(Vec<Asked>),
    /// The user did not want to go on.
    Declined,
    /// Something must be started anew first: for each rung that waits, the one below it that wants that.
    Restart(Vec<RestartDue>),
}

/// How a climb ended.
#[derive(Debug)]
pub enum Climbed {
    /// Every rung stood already; this landing is current.
    AllStand(Landing),
    /// What was damaged was brought anew; this landing is current, as before.
    Mended(Landing, Vec<RungKey>),
    /// A new landing is current.
    Landed(Landing),
    /// It stopped before the landing; the one that was current still is.
    Stopped(Stopped),
}

impl Site<'_> {
    /// The landings of the ladder.
    pub fn landings(&self) -> Landings {
        Landings::of(&self.home.ladders(), &self.ladder.path)
    }

    /// What came of verifying the last time.
    pub fn remembered(&self) -> Option<Remembered> {
        Remembered::read(self.landings().folder())
    }

    /// Takes the machine to what the pins say. Whatever happens, the landing that was current stays current until the new
    /// one is complete.
    ///
    /// # Errors
    /// [`ClimbError`]; what was put on the shelf stays there, and the next climb goes on from it.
    pub fn climb(
        &self,
        request: &Request,
        decide: &dyn Decide,
        observer: &dyn Observer,
    ) -> Result<Climbed, ClimbError> {
        // What a killed run left is mended first: what it left may well be what the route is about.
        Writer::mend(self.home, observer)?;
        let route = self.route()?;
        if let Some(landing) = self.all_stand(&route) {
            Self::check_licences(&route, request)?;
            if let Some(stopped) = self.hear_of_withdrawn(&route, request, decide, observer)? {
                return Ok(Climbed::Stopped(stopped));
            }
            // The route is not planned again only for this; what cannot be told is told by whoever asks for it.
            if let Ok(wanted) = self.wanted_on(&route) {
                let _ = self.wanted.set(wanted);
            }
            if !Wired::of(self.home).is_true() {
                // Entering mends it.
                drop(Writer::enter(self.home, request.wait, observer)?);
            }
            return Ok(Climbed::AllStand(landing));
        }
        let writer = Writer::enter(self.home, request.wait, observer)?;
        // Someone else may have climbed meanwhile.
        let route = self.route()?;
        if let Some(landing) = self.all_stand(&route) {
            return Ok(Climbed::AllStand(landing));
        }
        let recorder = Recorder::begin(&writer.journal, Kind::Climb, &self.ladder.path, observer)?;
        crash::point("run-begun");
        let climbed = self.climb_route(route, request, decide, &recorder);
        // What a failed climb prepared is of no use to the next one.
        files::remove_tree(&self.home.staging())?;
        let ended = match &climbed {
            Ok(Climbed::Stopped(_)) => recorder.stop(),
            _ => recorder.end(&climbed),
        };
        crash::point("run-ended");
        let climbed = climbed?;
        ended?;
        Ok(climbed)
    }

    /// Has licences of rungs that stand accepted again that were withdrawn, or whose texts changed.
    fn hear_of_withdrawn(
        &self,
        route: &Route,
        request: &Request,
        decide: &dyn Decide,
        observer: &dyn Observer,
    ) -> Result<Option<Stopped>, ClimbError> {
        let rungs: Vec<&Rung> = route.rungs.iter().collect();
        let open = |terms: &Terms| licences::open(&rungs, self.catalogs, terms).map_err(RouteError::from);
        let asked = open(&Terms::read(&self.home.data)?)?;
        if asked.is_empty() {
            return Ok(None);
        }
        let _writer = Writer::enter(self.home, request.wait, observer)?;
        let mut terms = Terms::read(&self.home.data)?;
        let refused = hear_licences(&asked, &mut terms, request, decide);
        if !refused.is_empty() {
            return Ok(Some(Stopped::Licences(refused)));
        }
        terms.write(&self.home.data)?;
        Ok(None)
    }

    fn climb_route(
        &self,
        route: Route,
        request: &Request,
        decide: &dyn Decide,
        recorder: &Recorder<'_>,
    ) -> Result<Climbed, ClimbError> {
        let mut prospect = self.prospect_of(route)?;
        Self::check_names(&prospect, request)?;
        self.hear(&mut prospect, request, decide)?;
        self.hear_of_restarts(&prospect, request, decide)?;
        self.check_offline(&prospect)?;
        self.check_indexes(&prospect)?;
        let is_skipped = |gate: &&Standing| request.skip_gates.contains(&gate.gate);
        let (skipped, closed): (Vec<_>, Vec<_>) = prospect.closed().partition(is_skipped);
        if !closed.is_empty() {
            return Ok(Climbed::Stopped(Stopped::Gates(closed.into_iter().cloned().collect())));
        }
        let skipped = skipped.into_iter().map(|gate| gate.gate.clone()).collect();
        let mut terms = Terms::read(&self.home.data)?;
        let refused = hear_licences(&prospect.licences, &mut terms, request, decide);
        if !refused.is_empty() {
            return Ok(Climbed::Stopped(Stopped::Licences(refused)));
        }
        if prospect.pace.is_none() && prospect.fetch >= pace::WORTH_IT && decide.is_asked() && !self.offline {
            prospect.pace = self.pace(&prospect.route, recorder).map(Known::Measured);
        }
        if !decide.go_on(&prospect) {
            return Ok(Climbed::Stopped(Stopped::Declined));
        }
        // Only now: a no at the last question takes back what was accepted on the way to it.
        if !prospect.licences.is_empty() {
            terms.write(&self.home.data)?;
        }
        self.ascend(&prospect, skipped, recorder)
    }

    /// Fails for a licence or gate that was named beforehand and means nothing here.
    fn check_names(prospect: &Prospect, request: &Request) -> Result<(), ClimbError> {
        let gates: Vec<String> =
            prospect.gates.iter().map(|gate| gate.gate.clone()).chain(["disk".to_owned()]).collect();
        if let Some(name) = request.skip_gates.iter().find(|name| !gates.contains(name)) {
            return Err(ClimbError::NoSuch { what: "gate", name: name.clone(), there: gates });
        }
        let told = prospect.gates.iter().filter(|gate| gate.is_told()).map(|gate| gate.gate.clone());
        let restarted = prospect.route.rungs.iter().filter(|rung| rung.definition.says.after.is_some());
        let chores: Vec<String> = told.chain(restarted.map(|rung| rung.key.to_string())).collect();
        if let Some(name) = request.done.iter().find(|name| !chores.contains(name)) {
            return Err(ClimbError::NoSuch {
                what: "chore that only you can tell of",
                name: name.clone(),
                there: chores,
            });
        }
        Self::check_licences(&prospect.route, request)
    }

    fn check_licences(route: &Route, request: &Request) -> Result<(), ClimbError> {
        let rungs = route.rungs.iter();
        let mut licences: Vec<String> = rungs.flat_map(|rung| rung.definition.says.licences.clone()).collect();
        licences.dedup();
        if let Some(name) = request.accept.iter().find(|name| !licences.contains(name)) {
            return Err(ClimbError::NoSuch { what: "licence", name: name.clone(), there: licences });
        }
        Ok(())
    }

    /// Fails with all that is missing at once, where nothing can be fetched.
    fn check_offline(&self, prospect: &Prospect) -> Result<(), ClimbError> {
        let cache = Cache::new(&self.home.artifacts);
        let to_bring = prospect.route.rungs.iter().filter(|rung| rung.is_to_bring()).filter_map(Rung::shelved);
        let at_hand = |artifact: &Artifact| {
            let has = |yard: &Arc<dyn Yard>| yard.has_at_hand(artifact);
            cache.seems_to_hold(artifact) || self.yards.iter().any(has) || downloaded(artifact, self.network).is_some()
        };
        let missing = to_bring.flat_map(|shelved| &shelved.artifacts).filter(|artifact| !at_hand(artifact));
        let missing: Vec<Artifact> = if self.offline { missing.cloned().collect() } else { Vec::new() };
        if missing.is_empty() { Ok(()) } else { Err(ClimbError::Offline(missing)) }
    }

    /// Fails with all indexes at once that would have to be asked, and that the settings do not name.
    fn check_indexes(&self, prospect: &Prospect) -> Result<(), ClimbError> {
        let unnamed = self.unnamed_indexes(&prospect.route);
        if unnamed.is_empty() { Ok(()) } else { Err(ClimbError::Unnamed(unnamed)) }
    }

    /// The indexes that a route needs, and that the settings do not name.
    pub fn unnamed_indexes(&self, route: &Route) -> Vec<UnnamedIndex> {
        if !self.yards.is_empty() {
            return Vec::new();
        }
        let cache = Cache::new(&self.home.artifacts);
        let to_bring = route.rungs.iter().filter(|rung| rung.is_to_bring()).filter_map(Rung::shelved);
        let missing = to_bring.flat_map(|shelved| &shelved.artifacts).filter(|one| !cache.seems_to_hold(one));
        let names: BTreeSet<String> = missing.flat_map(|one| unnamed_indexes(one, self.network)).collect();
        let speaks = |name: &str| self.catalogs.speaks(name).map(str::to_owned);
        names.into_iter().map(|name| UnnamedIndex { speaks: speaks(&name), name }).collect()
    }

    /// The current landing, if it is what the route leads to.
    fn all_stand(&self, route: &Route) -> Option<Landing> {
        self.landings().usable().filter(|_| route.is_done())
    }
}

/// Asks for licences; those that are refused come back.
fn hear_licences(all: &[Asked], terms: &mut Terms, request: &Request, decide: &dyn Decide) -> Vec<Asked> {
    let mut refused = Vec::new();
    for asked in all {
        if request.accept.contains(&asked.licence.id) || decide.accept(asked) {
            terms.accept(asked);
        } else {
            refused.push(asked.clone());
        }
    }
    refused
}
