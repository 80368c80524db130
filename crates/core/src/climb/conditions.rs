//! What a landing goes on standing on besides its own files: what its rungs demand of the host, licences, what was to be started
//! anew, what the ladder brought into the home, the terminal that this is called from, the clock, and room on the disk.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{CommandName, Demand};

use super::gates::{self, Needed, Standing};
use super::route::{Route, RouteError};
use super::{ClimbError, Site, licences};
use crate::base::event::{Event, Finding, Observer, Outcome, Shadow, Skipped, Subject, Verdict};
use crate::host::restart::Restarts;
use crate::host::survey::{self, Survey, answers};
use crate::keep::chores::Chores;
use crate::keep::landing::Landing;
use crate::keep::terms::Terms;
use crate::keep::wired::Wired;
use crate::tasks::Rung;
use crate::wire::placed::{Placing, State};
use crate::wire::{Surroundings, is_wired};

/// Clocks of one machine may differ so much from one start to the next.
const DRIFT: Duration = Duration::from_mins(10);

/// Tells verdicts as they come.
pub(super) struct Teller<'t> {
    pub(super) observer: &'t dyn Observer,
    pub(super) since: Instant,
}

impl Teller<'_> {
    pub(super) fn tell(&self, subject: Subject, outcome: Outcome) -> Verdict {
        let verdict = Verdict { subject, outcome, took: self.since.elapsed() };
        self.observer.event(&Event::Checked(verdict.clone()));
        verdict
    }
}

/// Less room than this, in bytes, is too little for what programs write by the way.
const LITTLE: u64 = 16 << 20;

/// What no landing depends on once it stands: it counts while something is brought.
fn is_for_the_climb(demand: &Demand) -> bool {
    matches!(demand, Demand::Disk(_) | Demand::Port(_) | Demand::Reach(_))
}

impl Site<'_> {
    /// How the conditions are; the gates that are closed come along.
    pub(super) fn conditions(
        &self,
        route: &Route,
        observer: &dyn Observer,
    ) -> Result<(Vec<Verdict>, Vec<Standing>), ClimbError> {
        let teller = Teller { observer, since: Instant::now() };
        let survey = survey::facts(self.host, &self.home.places(&self.host.temporary));
        let landing = self.landings().usable();
        let skipped = landing.as_ref().map(|landing| landing.skipped_gates.clone()).unwrap_or_default();
        let chores = Chores::read(&self.home.data)?;
        let (mut verdicts, mut closed) = (Vec::new(), Vec::new());
        for rung in &route.rungs {
            for standing in gates::of_rung(rung, &survey, self.host, self.yards, &chores) {
                let is_met = matches!(&standing.needed, Needed::Demand(demand) if is_for_the_climb(demand));
                if is_met || skipped.contains(&standing.gate) {
                    continue;
                }
                let subject = Subject::Gate { rung: rung.key.clone(), gate: standing.gate.clone() };
                let outcome = if standing.open { Outcome::Passed } else { Outcome::failed(Finding::Closed) };
                verdicts.push(teller.tell(subject, outcome));
                closed.extend((!standing.open).then_some(standing));
            }
        }
        verdicts.extend(self.licence_verdicts(route, &teller)?);
        verdicts.extend(self.restart_verdicts(&route.rungs, &survey, &teller)?);
        verdicts.extend(self.setting_verdicts(&teller));
        let wired = Wired::of(self.home);
        let is_stale = landing.is_some() && !wired.is_true();
        let outcome = if is_stale { Outcome::failed(Finding::Stale) } else { Outcome::Passed };
        verdicts.push(teller.tell(Subject::Wired, outcome));
        verdicts.extend(landing.map(|landing| clock(&landing, &teller)));
        verdicts.extend(room(&survey, &teller));
        Ok((verdicts, closed))
    }

    fn licence_verdicts(&self, route: &Route, teller: &Teller<'_>) -> Result<Vec<Verdict>, ClimbError> {
        let terms = Terms::read(&self.home.data)?;
        let rungs: Vec<&Rung> = route.rungs.iter().collect();
        let open = licences::open(&rungs, self.catalogs, &terms).map_err(RouteError::from)?;
        let all: BTreeSet<&String> = rungs.iter().flat_map(|rung| &rung.definition.says.licences).collect();
        let one = |licence: &String| {
            let is_open = open.iter().any(|asked| asked.licence.id == *licence);
            let outcome = if is_open { Outcome::failed(Finding::NotAccepted) } else { Outcome::Passed };
            teller.tell(Subject::Licence { licence: licence.clone() }, outcome)
        };
        Ok(all.into_iter().map(one).collect())
    }

    fn restart_verdicts(
        &self,
        rungs: &[Rung],
        survey: &Survey,
        teller: &Teller<'_>,
    ) -> Result<Vec<Verdict>, ClimbError> {
        let restarts = Restarts::read(&self.home.data)?;
        let one = |rung: &Rung| {
            rung.definition.says.after?;
            let due = restarts.due(&rung.shelved()?.place.folder, &survey.identity);
            let outcome = due.map_or(Outcome::Passed, |anew| Outcome::failed(Finding::Due { anew }));
            Some(teller.tell(Subject::Restart { rung: rung.key.clone() }, outcome))
        };
        Ok(rungs.iter().filter_map(one).collect())
    }

    /// What a person made of it is theirs; what is gone or was never placed is missed.
    fn setting_verdicts(&self, teller: &Teller<'_>) -> Vec<Verdict> {
        let passed_over = |reason: &str| Outcome::Skipped(Skipped::PassedOver { reason: reason.to_owned() });
        let kernels = self.kernels();
        let one = |placing: Placing| {
            let is_kernel = kernels.iter().any(|kernel| kernel.path == placing.path);
            let outcome = match placing.state {
                State::Differs | State::Yours | State::Clash if is_kernel => Outcome::failed(Finding::OtherKernel),
                State::Stands => Outcome::Passed,
                State::ToWrite | State::ToUndo => Outcome::failed(Finding::NotPlaced),
                State::Differs | State::Yours => passed_over("you have it otherwise, which stays"),
                State::Clash => passed_over("you and the ladder both changed it, and yours stays"),
                State::Left(error) => Outcome::failed(Finding::Unusable { error }),
            };
            teller.tell(Subject::Setting { path: placing.path }, outcome)
        };
        // Whoever cannot read what the ladder brings is told by the climb.
        self.settings().unwrap_or_default().into_iter().map(one).collect()
    }

    /// Which files answer to the ladder's commands where this is called, for whoever has them in their shells.
    pub(super) fn terminal_verdict(
        &self,
        names: &[&CommandName],
        person: &Surroundings,
        observer: &dyn Observer,
    ) -> Option<Verdict> {
        let (teller, wired) = (Teller { observer, since: Instant::now() }, Wired::of(self.home));
        let commands = wired.commands();
        if person.home.as_os_str().is_empty() || !is_wired(person.all(), &wired) {
            return None;
        }
        if !std::env::split_paths(&self.host.path).any(|folder| folder == commands) {
            let reason = "this terminal is older than that its shell has the ladder; a new one has it".to_owned();
            return Some(teller.tell(Subject::Terminal, Outcome::Skipped(Skipped::PassedOver { reason })));
        }
        let other = |name: &&&CommandName| {
            let found = answers(name.as_str(), &self.host.path);
            (found.as_ref() != Some(&commands.join(name.as_str())))
                .then(|| Shadow { command: name.to_string(), by: found.map(|file| file.display().to_string()) })
        };
        let shadows: Vec<Shadow> = names.iter().filter_map(|name| other(&name)).collect();
        let outcome =
            if shadows.is_empty() { Outcome::Passed } else { Outcome::failed(Finding::Shadowed { commands: shadows }) };
        Some(teller.tell(Subject::Terminal, outcome))
    }
}

fn clock(landing: &Landing, teller: &Teller<'_>) -> Verdict {
    let drift = jiff::SignedDuration::try_from(DRIFT).unwrap_or_default();
    let is_behind = jiff::Timestamp::now().duration_until(landing.made) > drift;
    let outcome = if is_behind { Outcome::failed(Finding::Behind { landing: landing.made }) } else { Outcome::Passed };
    teller.tell(Subject::Clock, outcome)
}

fn room(survey: &Survey, teller: &Teller<'_>) -> Option<Verdict> {
    let least = survey.disks.iter().filter_map(|disk| Some((disk.free?, &disk.path))).min()?;
    let outcome = match least {
        (free, at) if free < LITTLE => Outcome::failed(Finding::Little { free, at: at.clone() }),
        _ => Outcome::Passed,
    };
    Some(teller.tell(Subject::Room, outcome))
}
