//! Verifying a landing and rehearsing on it, and what is learned from that.

use std::num::NonZeroUsize;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

use kladder_choose::catalog::Rehearsal;
use kladder_choose::names::RungKey;

use super::gates::Standing;
use super::remembered::Remembered;
use super::{ClimbError, RouteError, Site};
use crate::base::event::{Cause, Confined, Event, Finding, Observer, Outcome, Subject, Verdict};
use crate::climb::route::Route;
use crate::keep::rates::Rates;
use crate::keep::state::{Ended, Kind, Notes};
use crate::keep::wired::Wired;
use crate::prove::project::Project;
use crate::prove::side::{Job, side_by_side};
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
    /// The rungs and rehearsals that are looked at, by their names; everything where there is none.
    pub only: &'l [String],
    /// How much is done side by side; as much as there are cores for where it is not said.
    pub jobs: Option<NonZeroUsize>,
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
    /// The gates that are closed.
    pub closed: Vec<Standing>,
    /// What came of it the last time.
    pub before: Option<Remembered>,
}

/// A part of what is looked at, in its place among the others.
type Part<'p> = Job<'p, &'p RungKey, Result<Vec<Verdict>, ClimbError>>;

impl Site<'_> {
    /// Verifies the landing that is current: files, answers, checks and rehearsals. What is seen to be damaged is written
    /// down, so that nobody takes it and the next climb mends it.
    ///
    /// # Errors
    /// [`ClimbError`] where something could not be looked at. What was looked at and is wrong is a verdict.
    pub fn verify(&self, route: &Route, looking: Looking<'_>, observer: &dyn Observer) -> Result<Verified, ClimbError> {
        let notes = Notes::begin(observer);
        let (everything, deep) = (looking.only.is_empty() && looking.person.is_some(), looking.deep);
        let mut verified = self.verify_all(route, looking, &notes)?;
        self.name_stopped(&mut verified.verdicts, route);
        name_damaged(&mut verified.verdicts, route, &self.rehearsals()?);
        let (verdicts, landings) = (&verified.verdicts, self.landings());
        verified.before = Remembered::read(landings.folder());
        // Without a rehearsal nobody was seen with anybody.
        let proved = verified.together.is_watched.map(|_| verified.together.needs(&route.rungs));
        let all_of = |subject: &Subject| everything && (deep || !matches!(subject, Subject::Loads { .. }));
        Remembered::write(verified.before.as_ref(), verdicts, all_of, proved.as_deref(), landings.folder());
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
        let landing = self.landings().current_link();
        let wiring = Wiring::of(&route.rungs, self.ladder)?.with_sets(&route.rungs, self.ladder, &landing);
        let bench = Bench::new(&landing, &wiring, &route.rungs, self.catalogs, self.host, observer)?;
        let rehearsals: Vec<Rehearsal> =
            self.rehearsals()?.into_iter().filter(|rehearsal| rehearsal.code.is_none()).collect();
        check_names(looking.only, &route.rungs, &rehearsals)?;
        let is_meant =
            |names: &[&str]| looking.only.is_empty() || looking.only.iter().any(|only| names.contains(&only.as_str()));
        let (closed, wired) = (Mutex::new(Vec::new()), Wired::of(self.home).commands());
        let whole = looking.only.is_empty();
        let mut parts: Vec<Part<'_>> = Vec::new();
        if whole {
            parts.push(Job::new(|| Ok(vec![bench.commands()?])));
        }
        for rung in &route.rungs {
            if is_meant(&[rung.key.tool.as_str(), &rung.key.to_string()]) {
                parts.extend(of_rung(rung, &bench));
                parts.extend(choosing(rung, &bench, &wired));
            }
        }
        if whole {
            parts.push(Job::new(|| {
                let (verdicts, gates) = self.conditions(route, observer)?;
                *closed.lock().unwrap_or_else(PoisonError::into_inner) = gates;
                Ok(verdicts)
            }));
            parts.push(Job::new(|| Ok(vec![self.surroundings_verdict(route, &wiring, observer)])));
            parts.extend(looking.deep.then(|| Job::new(|| Ok(bench.loads()?))));
            parts.extend(looking.person.map(|person| {
                Job::new(move || {
                    let here = self.terminal_verdict(&self.wired_names(route), person, observer);
                    Ok(here.into_iter().chain(self.shell_verdicts(route, person, observer)).collect())
                })
            }));
            parts.push(Job::new(|| Ok(self.font_verdicts(route, observer))));
            parts.push(Job::new(|| self.service_verdicts(route, observer)));
        }
        for rehearsal in rehearsals.iter().filter(|rehearsal| is_meant(&[&rehearsal.rehearsal])) {
            let named = |rung: &&Rung| rehearsal.tools.iter().any(|tool| rung.answers_to(tool));
            let uses = route.rungs.iter().filter(named).filter(|rung| has_corners(rung)).map(|rung| &rung.key);
            parts.push(Job::new(|| Ok(bench.rehearse(rehearsal, &route.rungs)?)).using(uses));
        }
        let cores = || thread::available_parallelism().unwrap_or(NonZeroUsize::MIN);
        let verdicts = side_by_side(counted(parts, observer), looking.jobs.unwrap_or_else(cores))?;
        let (together, kept) = bench.seen();
        let closed = closed.into_inner().unwrap_or_else(PoisonError::into_inner);
        Ok(Verified { verdicts: verdicts.into_iter().flatten().collect(), together, kept, closed, before: None })
    }

    /// Where nobody listened, the ladder's services that do not run are a likely cause.
    fn name_stopped(&self, verdicts: &mut [Verdict], route: &Route) {
        let causes = verdicts.iter_mut().filter_map(|verdict| match &mut verdict.outcome {
            Outcome::Failed { causes, .. } => Some(causes),
            _ => None,
        });
        let stopped: Vec<&mut Vec<String>> = causes
            .flatten()
            .filter_map(|cause| if let Cause::Stopped { services } = cause { Some(services) } else { None })
            .collect();
        if stopped.is_empty() {
            return;
        }
        let running: Vec<String> = self.services_that_run().into_iter().map(|(name, _)| name).collect();
        let services = route.rungs.iter().flat_map(|rung| &rung.definition.says.services);
        let names: Vec<String> =
            services.map(|service| service.name.clone()).filter(|name| !running.contains(name)).collect();
        for services in stopped {
            services.clone_from(&names);
        }
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

/// Where a rung is damaged, that is the likely cause of what fails with it.
fn name_damaged(verdicts: &mut [Verdict], route: &Route, rehearsals: &[Rehearsal]) {
    let is_damaged = |verdict: &&Verdict| verdict.failed() && matches!(verdict.subject, Subject::Files { .. });
    let damaged: Vec<RungKey> =
        verdicts.iter().filter(is_damaged).filter_map(|verdict| verdict.subject.rung().cloned()).collect();
    if damaged.is_empty() {
        return;
    }
    let by_key = |key: &RungKey| route.rungs.iter().find(|rung| rung.key == *key);
    for verdict in verdicts {
        let Outcome::Failed { causes, .. } = &mut verdict.outcome else { continue };
        let mut open: Vec<&Rung> = match &verdict.subject {
            Subject::Check { rung, .. } | Subject::FitOut { rung, .. } | Subject::Service { rung, .. } => {
                by_key(rung).into_iter().collect()
            }
            Subject::Rehearsal { rehearsal, .. } => {
                let tools = rehearsals.iter().find(|one| one.rehearsal == *rehearsal).map(|one| &one.tools);
                let named = |rung: &&Rung| tools.is_some_and(|tools| tools.iter().any(|tool| rung.answers_to(tool)));
                route.rungs.iter().filter(named).collect()
            }
            _ => continue,
        };
        let mut used: Vec<&RungKey> = Vec::new();
        while let Some(rung) = open.pop() {
            if !used.contains(&&rung.key) {
                used.push(&rung.key);
                open.extend(rung.needs.iter().filter_map(by_key));
            }
        }
        let rungs: Vec<RungKey> = damaged.iter().filter(|key| used.contains(key)).cloned().collect();
        if !rungs.is_empty() {
            causes.insert(0, Cause::Damaged { rungs });
        }
    }
}

/// What is looked at of one rung. Its checks have its corners for themselves.
fn of_rung<'p>(rung: &'p Rung, bench: &'p Bench<'p>) -> [Part<'p>; 2] {
    let files = Job::new(|| {
        let files = bench.files(rung)?;
        Ok(files.into_iter().chain(bench.answer(rung)?).collect())
    });
    let checks = Job::new(|| {
        let mut verdicts = bench.check(rung)?;
        verdicts.extend(bench.windows(rung)?);
        Ok(verdicts)
    });
    [files, checks.using(Some(&rung.key).filter(|_| has_corners(rung)))]
}

/// What a rung that chooses tools for a person is asked.
fn choosing<'p>(rung: &'p Rung, bench: &'p Bench<'p>, wired: &'p Path) -> Option<Part<'p>> {
    let has_some = !rung.definition.says.chooses.is_empty();
    let asked = has_some.then(|| Job::new(move || Ok(bench.choices(rung, wired)?)));
    Some(asked?.using(Some(&rung.key).filter(|_| has_corners(rung))))
}

fn has_corners(rung: &Rung) -> bool {
    rung.berth.as_ref().is_some_and(|berth| berth.corners().next().is_some())
}

/// The same parts, each of which tells when it is done.
fn counted<'p>(parts: Vec<Part<'p>>, observer: &'p dyn Observer) -> Vec<Part<'p>> {
    let (of, done) = (parts.len(), std::sync::Arc::new(AtomicUsize::new(0)));
    let counted = |part: Part<'p>| {
        let done = std::sync::Arc::clone(&done);
        part.then(move || {
            let done = done.fetch_add(1, Ordering::Relaxed) + 1;
            observer.event(&Event::Looked { done, of });
        })
    };
    parts.into_iter().map(counted).collect()
}

/// Fails for the first name that is neither a rung's nor a rehearsal's.
fn check_names(only: &[String], rungs: &[Rung], rehearsals: &[Rehearsal]) -> Result<(), ClimbError> {
    let keys = rungs.iter().flat_map(|rung| [rung.key.tool.to_string(), rung.key.to_string()]);
    let mut there: Vec<String> = keys.chain(rehearsals.iter().map(|one| one.rehearsal.clone())).collect();
    there.dedup();
    match only.iter().find(|name| !there.contains(name)) {
        Some(name) => Err(ClimbError::NoSuch { what: "rung or rehearsal", name: name.clone(), there }),
        None => Ok(()),
    }
}
