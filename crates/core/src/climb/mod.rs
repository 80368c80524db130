//! The climb: follows a route from the bottom rung to a landing. The only orchestrator.

mod ascent;
mod back;
mod prospect;
mod supply;

pub use back::{Back, BackError, BackRequest, back};
pub use prospect::Prospect;

use std::time::Duration;

use crate::berth::BerthError;
use crate::catalog::{Artifact, Catalog};
use crate::crash;
use crate::event::{Cancelled, Event, Observer};
use crate::fetch::{Cache, FetchError, Network, Yard};
use crate::files::{self, FileError};
use crate::gates::Standing;
use crate::home::Home;
use crate::intake::IntakeError;
use crate::ladder::Ladder;
use crate::landing::{Landing, LandingError, Landings};
use crate::pins::Pins;
use crate::record::RecordError;
use crate::restart::Anew;
use crate::route::{Route, RouteError, Rung};
use crate::state::{Ended, JournalError, Kind, Notes, Recorder, StateError, Writer};
use crate::survey::Host;
use crate::terms::{Asked, Terms};
use crate::unpack::UnpackError;
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
    /// Artifacts are missing, and nothing may be fetched.
    #[error("{} not here, and nothing may be fetched", if .0.len() == 1 { "a file is".to_owned() } else { format!("{} files are", .0.len()) })]
    Offline(Vec<Artifact>),
    /// An archive was not unpacked.
    #[error(transparent)]
    Unpack(#[from] UnpackError),
    /// A berth could not be made.
    #[error(transparent)]
    Berth(#[from] BerthError),
    /// Rungs could not be wired.
    #[error(transparent)]
    Wire(#[from] WireError),
    /// A check could not be run.
    #[error(transparent)]
    Verify(#[from] VerifyError),
    /// Somebody else writes to the home, or what was done cannot be written down.
    #[error(transparent)]
    State(#[from] StateError),
    /// A set-up command failed.
    #[error("a set-up command of {} failed", .0.subject.owner())]
    SetUp(Box<Verdict>),
    /// A check failed.
    #[error("a check of {} failed", .0.subject.owner())]
    Check(Box<Verdict>),
    /// Gates are closed.
    #[error("{} closed", if .0.len() == 1 { "a gate is".to_owned() } else { format!("{} gates are", .0.len()) })]
    Gates(Vec<Standing>),
    /// Licences were not accepted.
    #[error("{} not accepted", if .0.len() == 1 { "a licence is".to_owned() } else { format!("{} licences are", .0.len()) })]
    Licences(Vec<Asked>),
    /// What was accepted could not be read.
    #[error(transparent)]
    Terms(#[from] RecordError),
    /// The user did not want to go on.
    #[error("not wanted")]
    Declined,
    /// A restart or a new session is due before the climb can go on.
    #[error("{tool} is in place; {} before {above} can follow", anew_words(*anew))]
    Restart {
        /// The rung after which it is due.
        tool: String,
        /// What must be started anew.
        anew: Anew,
        /// The first rung that stands on it.
        above: String,
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

fn anew_words(anew: Anew) -> &'static str {
    match anew {
        Anew::Restart => "the machine must be restarted",
        Anew::Session => "you must log in anew",
    }
}

impl From<JournalError> for ClimbError {
    fn from(error: JournalError) -> Self {
        Self::State(StateError::Journal(error))
    }
}

impl From<IntakeError> for ClimbError {
    fn from(error: IntakeError) -> Self {
        match error {
            IntakeError::Fetch(error) => Self::Fetch(error),
            IntakeError::Unpack(error) => Self::Unpack(error),
            IntakeError::File(error) => Self::File(error),
        }
    }
}

/// Takes the decisions of a climb; without a person at hand every answer is no, except to go on.
pub trait Decide {
    /// Whether the text of a licence is accepted.
    fn accept(&self, _asked: &Asked) -> bool {
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
    /// The way to those that are servers.
    pub network: &'s Network,
    /// Nothing but the cache and yards that are folders may be used.
    pub offline: bool,
}

/// How a climb ended.
#[derive(Debug)]
pub enum Climbed {
    /// Everything was there; this landing is current.
    NothingToDo(Landing),
    /// A new landing is current.
    Landed(Landing),
}

impl Site<'_> {
    /// The landings of this ladder.
    pub fn landings(&self) -> Landings {
        Landings::of(&self.home.ladders(), &self.ladder.path)
    }

    /// Takes the machine to what the pins say.
    ///
    /// # Errors
    /// [`ClimbError`]; the landing that was current before still is, and untouched.
    pub fn climb(
        &self,
        request: &Request,
        decide: &dyn Decide,
        observer: &dyn Observer,
    ) -> Result<Climbed, ClimbError> {
        if let Some(landing) = self.finished()? {
            Writer::mend(self.home, observer)?;
            return Ok(Climbed::NothingToDo(landing));
        }
        let writer = Writer::enter(self.home, request.wait, observer)?;
        // Another process may have landed while this one waited.
        if let Some(landing) = self.finished()? {
            return Ok(Climbed::NothingToDo(landing));
        }
        let recorder = Recorder::begin(&writer.journal, Kind::Climb, &self.ladder.path, observer)?;
        crash::point("run-begun");
        let landed = self.to_landing(request, decide, &recorder);
        // What a failed climb prepared is of no use to the next one.
        files::remove_tree(&self.home.staging())?;
        if let Ok(landing) = &landed {
            recorder.event(&Event::Landed { number: landing.number });
        }
        let ended = recorder.end(&landed);
        crash::point("run-ended");
        let landing = landed?;
        ended?;
        Ok(Climbed::Landed(landing))
    }

    fn to_landing(
        &self,
        request: &Request,
        decide: &dyn Decide,
        recorder: &Recorder<'_>,
    ) -> Result<Landing, ClimbError> {
        let prospect = self.prospect()?;
        self.check_offline(&prospect)?;
        let skipped = closed_gates(&prospect, request)?;
        self.accept_licences(&prospect, request, decide)?;
        if !decide.go_on(&prospect) {
            return Err(ClimbError::Declined);
        }
        self.ascend(&prospect, skipped, recorder)
    }

    /// Fails with all that is missing at once, where nothing can be fetched.
    fn check_offline(&self, prospect: &Prospect) -> Result<(), ClimbError> {
        let cache = Cache::new(&self.home.artifacts);
        let to_bring = prospect.route.rungs.iter().filter(|rung| rung.is_to_bring()).filter_map(Rung::shelved);
        let at_hand = |artifact: &Artifact| {
            cache.seems_to_hold(artifact) || self.yards.iter().any(|yard| yard.has_at_hand(artifact))
        };
        let missing = to_bring.flat_map(|shelved| &shelved.artifacts).filter(|artifact| !at_hand(artifact));
        let missing: Vec<Artifact> = if self.offline { missing.cloned().collect() } else { Vec::new() };
        if missing.is_empty() { Ok(()) } else { Err(ClimbError::Offline(missing)) }
    }

    /// The current landing, if it is what the pins say.
    fn finished(&self) -> Result<Option<Landing>, ClimbError> {
        let Some(landing) = self.landings().current()? else { return Ok(None) };
        Ok(self.route_over(Some(&landing))?.is_done().then_some(landing))
    }

    fn accept_licences(&self, prospect: &Prospect, request: &Request, decide: &dyn Decide) -> Result<(), ClimbError> {
        let mut terms = Terms::read(&self.home.data)?;
        let mut refused = Vec::new();
        for asked in &prospect.licences {
            if request.accept.contains(&asked.licence.id) || decide.accept(asked) {
                terms.accept(asked);
                terms.write(&self.home.data)?;
            } else {
                refused.push(asked.clone());
            }
        }
        if refused.is_empty() { Ok(()) } else { Err(ClimbError::Licences(refused)) }
    }

    /// Verifies the landing that is current: files, answers, checks and rehearsals.
    ///
    /// # Errors
    /// [`ClimbError`] where something could not be looked at. What was looked at and is wrong is a verdict.
    pub fn verify(&self, route: &Route, observer: &dyn Observer) -> Result<Vec<Verdict>, ClimbError> {
        let notes = Notes::begin(observer);
        let verdicts = self.verify_all(route, &notes)?;
        let ended = if verdicts.iter().any(Verdict::failed) { Ended::Failed } else { Ended::Done };
        // Verifying needs no right to write: where the journal cannot be written, nothing is.
        let _ = notes.write(&self.home.data, Kind::Verify, &self.ladder.path, ended);
        Ok(verdicts)
    }

    fn verify_all(&self, route: &Route, observer: &dyn Observer) -> Result<Vec<Verdict>, ClimbError> {
        let wiring = wire::wiring(route.rungs.iter().filter_map(wired))?;
        let landing = self.landings().current_link();
        let bench = Bench::new(&landing, &wiring, self.host, observer)?;
        let mut verdicts = Vec::new();
        for rung in &route.rungs {
            verdicts.extend(bench.files(rung)?);
            verdicts.extend(bench.answer(rung)?);
            verdicts.extend(bench.check(rung)?);
        }
        for rehearsal in self.catalog.rehearsals().map_err(RouteError::from)? {
            verdicts.extend(bench.rehearse(&rehearsal, &route.rungs)?);
        }
        Ok(verdicts)
    }
}

/// Fails with all closed gates at once; returns the names of those that were skipped.
fn closed_gates(prospect: &Prospect, request: &Request) -> Result<Vec<String>, ClimbError> {
    let is_skipped = |gate: &&Standing| request.skip_gates.contains(&gate.gate);
    let (skipped, closed): (Vec<_>, Vec<_>) = prospect.gates.iter().filter(|gate| !gate.open).partition(is_skipped);
    if closed.is_empty() {
        return Ok(skipped.iter().map(|gate| gate.gate.clone()).collect());
    }
    Err(ClimbError::Gates(closed.into_iter().cloned().collect()))
}

/// What is wired of a rung; what the host has is on PATH already.
fn wired(rung: &Rung) -> Option<Wired<'_>> {
    rung.shelved()?;
    Some(Wired {
        definition: &rung.definition,
        commands: &rung.commands,
        version: &rung.name.version,
        folder: rung.files(),
        kept_by: rung.kept_by.as_deref(),
    })
}
