//! Verifying a landing and rehearsing on it, and what is learned from that.

use kladder_choose::catalog::Rehearsal;

use super::{ClimbError, RouteError, Site};
use crate::base::event::{Confined, Finding, Observer, Outcome, Subject, Verdict};
use crate::climb::route::Route;
use crate::keep::rates::Rates;
use crate::keep::state::{Ended, Kind, Notes};
use crate::prove::project::Project;
use crate::prove::together::Together;
use crate::prove::verify::Bench;
use crate::tasks::Rung;
use crate::tasks::launch::Wiring;
use crate::wire::Surroundings;

/// How far it is looked.
#[derive(Clone, Copy, Debug, Default)]
pub struct Looking<'l> {
    /// Whose shells are asked; nobody's where it is not known.
    pub person: Option<&'l Surroundings>,
    /// Whether every program and library is looked at, and not only what commands start.
    pub deep: bool,
}

/// What came of verifying.
#[derive(Debug)]
pub struct Verified {
    /// All that was looked at.
    pub verdicts: Vec<Verdict>,
    /// Who was seen with whom.
    pub together: Together,
    /// What programs were kept from; `None` where none was run.
    pub kept: Option<Confined>,
}

impl Site<'_> {
    /// Verifies the landing that is current: files, answers, checks and rehearsals. What is seen to be damaged is written
    /// down, so that nobody takes it and the next climb mends it.
    ///
    /// # Errors
    /// [`ClimbError`] where something could not be looked at. What was looked at and is wrong is a verdict.
    pub fn verify(&self, route: &Route, looking: Looking<'_>, observer: &dyn Observer) -> Result<Verified, ClimbError> {
        let notes = Notes::begin(observer);
        let verified = self.verify_all(route, looking, &notes)?;
        let verdicts = &verified.verdicts;
        let ended = if verdicts.iter().any(Verdict::failed) { Ended::Failed } else { Ended::Done };
        // Verifying needs no right to write: where the journal cannot be written, nothing is.
        let _ = notes.write(&self.home.data, Kind::Verify, &self.ladder.path, ended);
        self.learn(verdicts);
        for verdict in verdicts {
            self.mark_damaged(verdict, route);
        }
        Ok(verified)
    }

    /// Learns how long the rehearsals take that passed.
    fn learn(&self, verdicts: &[Verdict]) {
        let of = |verdict: &Verdict| match &verdict.subject {
            Subject::Rehearsal { rehearsal, .. } => Some(rehearsal.clone()),
            _ => None,
        };
        let mut rates = Rates::read(&self.home.data);
        for steps in verdicts.chunk_by(|one, next| of(one) == of(next)) {
            let passed = steps.iter().all(|step| matches!(step.outcome, Outcome::Passed));
            let took = steps.iter().map(|step| step.took).sum();
            if passed && of(&steps[0]).is_some() {
                rates.learn_work(&steps[0].subject, took);
            }
        }
        // An estimate, which verifying does without where it may not write.
        let _ = rates.write(&self.home.data);
    }

    /// Runs the steps of a project in its folder, with the landing that is current.
    ///
    /// # Errors
    /// [`ClimbError`] where a step could not be run at all. One that fails is a verdict.
    pub fn rehearse(
        &self,
        route: &Route,
        project: &Project,
        rehearsal: &Rehearsal,
        observer: &dyn Observer,
    ) -> Result<Vec<Verdict>, ClimbError> {
        let notes = Notes::begin(observer);
        let wiring = Wiring::of(&route.rungs, self.ladder)?;
        let landing = self.landings().current_link();
        let bench = Bench::new(&landing, &wiring, &route.rungs, self.catalogs, self.host, &notes)?;
        let verdicts = bench.run_steps(rehearsal, &project.filled, &project.folder)?;
        let ended = if verdicts.iter().any(Verdict::failed) { Ended::Failed } else { Ended::Done };
        let _ = notes.write(&self.home.data, Kind::Verify, &self.ladder.path, ended);
        Ok(verdicts)
    }

    fn verify_all(&self, route: &Route, looking: Looking<'_>, observer: &dyn Observer) -> Result<Verified, ClimbError> {
        let wiring = Wiring::of(&route.rungs, self.ladder)?;
        let landing = self.landings().current_link();
        let bench = Bench::new(&landing, &wiring, &route.rungs, self.catalogs, self.host, observer)?;
        let mut verdicts = vec![bench.commands()?];
        for rung in &route.rungs {
            verdicts.extend(bench.files(rung)?);
            verdicts.extend(bench.answer(rung)?);
            verdicts.extend(bench.check(rung)?);
            verdicts.extend(bench.windows(rung)?);
        }
        verdicts.push(self.surroundings_verdict(route, &wiring, observer));
        if looking.deep {
            verdicts.extend(bench.loads()?);
        }
        verdicts.extend(looking.person.into_iter().flat_map(|person| self.shell_verdicts(route, person, observer)));
        verdicts.extend(self.font_verdicts(route, observer));
        verdicts.extend(self.service_verdicts(route, observer)?);
        for rehearsal in self.rehearsals()?.into_iter().filter(|rehearsal| rehearsal.code.is_none()) {
            verdicts.extend(bench.rehearse(&rehearsal, &route.rungs)?);
        }
        let (together, kept) = bench.seen();
        Ok(Verified { verdicts, together, kept })
    }

    /// The rehearsals of the ladder, then those of the catalogs that are called otherwise.
    ///
    /// # Errors
    /// [`ClimbError`] for the first one of a catalog that cannot be used.
    pub fn rehearsals(&self) -> Result<Vec<Rehearsal>, ClimbError> {
        let mut all = self.ladder.rehearsals.clone();
        for rehearsal in self.catalogs.rehearsals().map_err(RouteError::from)? {
            if !all.iter().any(|own| own.rehearsal == rehearsal.rehearsal) {
                all.push(rehearsal);
            }
        }
        Ok(all)
    }

    /// Writes down what a verdict shows to be damaged. Who may not write sees it all the same.
    fn mark_damaged(&self, verdict: &Verdict, route: &Route) {
        let Outcome::Failed { finding, .. } = &verdict.outcome else { return };
        match (&verdict.subject, finding) {
            (Subject::Files { rung }, Finding::NoManifest) => {
                let rung = route.rungs.iter().find(|other| other.key == *rung);
                if let Some(shelved) = rung.and_then(Rung::shelved) {
                    let _ = shelved.place.mark_damaged();
                }
            }
            (Subject::Files { rung }, Finding::Differs { differences, .. }) => {
                let Some(rung) = route.rungs.iter().find(|other| other.key == *rung) else { return };
                let in_berth = |path: &std::path::Path| path.is_absolute();
                if let Some(shelved) = rung.shelved().filter(|_| differences.iter().any(|d| !in_berth(&d.path))) {
                    let _ = shelved.place.mark_damaged();
                }
                if let Some(berth) = rung.berth.as_ref().filter(|_| differences.iter().any(|d| in_berth(&d.path))) {
                    let _ = berth.mark_damaged();
                }
            }
            (Subject::Commands, _) | (Subject::Answer { .. }, Finding::OtherLauncher | Finding::NoEntry) => {
                let landings = self.landings();
                let _ = landings.current_number().map(|number| landings.mark_damaged(number));
            }
            (Subject::FitOut { rung, .. }, _) => {
                // Without its record a fit-out is looked at anew, and made where it is not seen.
                let rung = route.rungs.iter().find(|other| other.key == *rung);
                let _ = rung.map(|rung| std::fs::remove_file(&rung.fitted));
            }
            _ => {}
        }
    }
}
