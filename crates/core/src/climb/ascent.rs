//! From rung to rung, and the landing at the end.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::thread;

use kladder_choose::catalog::{Anew, FitOut, Trial};
use kladder_choose::names::RungKey;
use kladder_choose::sets::LibrarySet;

use super::route::Route;
use super::supply::{Ahead, Order, Supply, Way};
use super::{ClimbError, Climbed, Failure, Prospect, RestartDue, Site, Stopped};
use crate::base::crash;
use crate::base::event::{Event, Observer, Planned, Verdict, chain, check_cancelled};
use crate::base::files::{self, FileError};
use crate::bring::fetch::{Cache, Sources};
use crate::bring::shelf::{Shelf, Standing};
use crate::host::restart::Restarts;
use crate::keep::berth;
use crate::keep::landing::{LandedRung, Landing, Landings, Made};
use crate::keep::rates::Rates;
use crate::keep::state::{Intent, Recorder, TaskName};
use crate::keep::wired::Wired;
use crate::prove::verify::Bench;
use crate::tasks::launch::{self, Wiring};
use crate::tasks::sets::Environments;
use crate::tasks::{FitStep, Hands, Prepared, Rung, Shelved, Source, Task, TaskError};

/// What a climb learns on its way and keeps for the next one.
struct Memory {
    data: PathBuf,
    rates: Rates,
    restarts: Restarts,
}

impl Memory {
    /// Learns how long some work takes; what failed might take longer.
    fn learn(&mut self, verdict: &Verdict) {
        if !verdict.failed() {
            self.rates.learn_work(&verdict.subject, verdict.took);
        }
    }
}

/// What came of the rungs.
#[derive(Default)]
struct Outcome {
    failures: Vec<Failure>,
    /// Rungs that stand on one that failed or waits for a restart.
    held_up: Vec<RungKey>,
    restarts: Vec<RestartDue>,
}

impl Outcome {
    /// The rung below another one that keeps it from being climbed.
    fn in_the_way<'r>(&self, rung: &'r Rung) -> Option<&'r RungKey> {
        let failed: BTreeSet<&RungKey> =
            self.failures.iter().map(|failure| &failure.rung).chain(&self.held_up).collect();
        rung.needs.iter().find(|need| failed.contains(need))
    }
}

impl Site<'_> {
    pub(super) fn ascend(
        &self,
        prospect: &Prospect,
        skipped_gates: Vec<String>,
        recorder: &Recorder<'_>,
    ) -> Result<Climbed, ClimbError> {
        let observer: &dyn Observer = recorder;
        let rungs = &prospect.route.rungs;
        let wiring = Wiring::of(rungs, self.ladder)?;
        let landings = self.landings();
        let draft = landings.draft()?;
        launch::write(&wiring, draft.folder(), &self.home.data)?;
        let bench = Bench::new(draft.folder(), &wiring, rungs, self.catalogs, self.host, observer)?;
        let outcome = self.climb_rungs(prospect, &bench, recorder)?;
        if !outcome.failures.is_empty() {
            let Outcome { failures, held_up, .. } = outcome;
            let climbed = rungs.len() - failures.len() - held_up.len();
            return Err(ClimbError::Failed { failures, held_up, climbed });
        }
        if !outcome.restarts.is_empty() {
            return Ok(Climbed::Stopped(Stopped::Restart(outcome.restarts)));
        }
        let environments = Environments::of(rungs, &wiring, self.ladder, &landings.current_link());
        environments.write(draft.folder(), &self.home.data)?;
        let before = landings.usable();
        if let Some(before) = before.as_ref().filter(|before| is_the_same(before, prospect)) {
            let mended = rungs.iter().filter(|rung| !rung.todo.is_empty()).map(|rung| rung.key.clone()).collect();
            return Ok(Climbed::Mended(before.clone(), mended));
        }
        let (ladder, text, pins) = (&self.ladder.path, &self.ladder.text, self.pins.to_toml());
        let rungs = rungs.iter().map(Rung::landed).collect();
        let written = self.ladder.sets.iter().flat_map(LibrarySet::written);
        let locks = written.map(|(file, text)| (file.as_str(), text)).collect();
        // From here on whoever finds this climb killed can finish it.
        let (folder, number) = (landings.folder().to_path_buf(), draft.number());
        files::sync(&self.home.data)?;
        recorder.intend(&Intent::Land { landings: folder, number, pins: None })?;
        crash::point("landing-intended");
        let after = before.map(|landing| landing.number);
        let landing = draft.finish(Made { ladder, text, pins: &pins, locks, rungs, skipped_gates, after })?;
        landings.make_current(number, None)?;
        Wired::of(self.home).refresh()?;
        observer.event(&Event::Landed { number });
        Ok(Climbed::Landed(landing))
    }

    /// Rung after rung, while the files of those above are brought in. One that fails keeps only those from being climbed
    /// that stand on it.
    fn climb_rungs(
        &self,
        prospect: &Prospect,
        bench: &Bench<'_>,
        recorder: &Recorder<'_>,
    ) -> Result<Outcome, ClimbError> {
        let (staging, cache, shelf) =
            (self.home.staging(), Cache::new(&self.home.artifacts), Shelf::new(&self.home.shelf()));
        let sources = Sources { yards: self.yards, cache: &cache, network: self.network };
        let way = Way { sources, shelf: &shelf, staging: &staging, at_once: self.network.at_once() };
        let rungs = &prospect.route.rungs;
        let orders = Order::list(rungs, &way)?;
        let data = self.home.data.clone();
        let mut memory = Memory { rates: Rates::read(&data).faded(), restarts: Restarts::read(&data)?, data };
        let ahead = Ahead { observer: recorder, halt: AtomicBool::new(false) };
        recorder.event(&Event::Ahead {
            fetch: prospect.fetch,
            rungs: rungs.iter().map(|rung| planned(rung, &cache)).collect(),
        });
        let mut outcome = Outcome::default();
        let changed = changed(&prospect.route);
        let took = thread::scope(|scope| {
            let mut supply = Supply::start(scope, &orders, way, &ahead);
            for (at, rung) in rungs.iter().enumerate() {
                check_cancelled(recorder)?;
                let stop =
                    |why: String| Event::Stopped { rung: rung.key.clone(), number: at + 1, of: rungs.len(), why };
                if let Some(below) = outcome.in_the_way(rung) {
                    recorder.event(&stop([below.to_string().as_str(), " is not in place"].concat()));
                    outcome.held_up.push(rung.key.clone());
                    continue;
                }
                if let Some(due) = restart_due(rung, prospect, &memory.restarts) {
                    outcome.restarts.push(due);
                    outcome.held_up.push(rung.key.clone());
                    continue;
                }
                let mut climber = Climber {
                    site: self,
                    rung,
                    at,
                    prospect,
                    bench,
                    recorder,
                    supply: &mut supply,
                    memory: &mut memory,
                    prepared: None,
                    is_changed: changed.contains(&rung.key),
                };
                let Err(error) = climber.climb() else { continue };
                if is_cancelled(&error) {
                    return Err(ClimbError::Cancelled(crate::base::event::Cancelled));
                }
                recorder.event(&stop(chain(&error)));
                outcome.failures.push(Failure { rung: rung.key.clone(), version: rung.version.clone(), error });
            }
            Ok::<_, ClimbError>(supply.took())
        })?;
        // What failed came in part at most.
        if outcome.failures.is_empty() && outcome.held_up.is_empty() {
            memory.rates.learn(prospect.fetch, prospect.from_cache, took);
        }
        // Estimates alone come from these: what stands is not lost over them, and what failed is what is told.
        let _ = memory.rates.write(&memory.data);
        Ok(outcome)
    }
}

/// A rung, for those who draw the climb.
fn planned(rung: &Rung, cache: &Cache) -> Planned {
    let missing = |shelved: &Shelved| -> u64 {
        let all = shelved.artifacts.iter().filter(|artifact| !cache.seems_to_hold(artifact));
        all.map(|artifact| artifact.size).sum()
    };
    let fetch = rung.shelved().filter(|_| rung.to_fetch).map_or(0, missing);
    let (key, needs) = (rung.key.clone(), rung.needs.clone());
    Planned { key, rung: rung.name(), needs, fetch, stands: rung.todo.is_empty() }
}

/// Whether a landing has just what the route has, so that whatever was done has only mended.
fn is_the_same(landing: &Landing, prospect: &Prospect) -> bool {
    let route = &prospect.route;
    let landed: BTreeMap<&RungKey, &LandedRung> = landing.rungs.iter().map(|rung| (&rung.key, rung)).collect();
    let same = |rung: &Rung| landed.get(&rung.key).is_some_and(|landed| **landed == rung.landed());
    route.landing_is_whole && landing.rungs.len() == route.rungs.len() && route.rungs.iter().all(same)
}

fn is_cancelled(error: &TaskError) -> bool {
    let mut causes = std::iter::successors(Some(error as &dyn std::error::Error), |error| error.source());
    causes.any(<dyn std::error::Error>::is::<crate::base::event::Cancelled>) || matches!(error, TaskError::Cancelled(_))
}

/// The restart that a rung waits for, since something it needs does.
fn restart_due(rung: &Rung, prospect: &Prospect, restarts: &Restarts) -> Option<RestartDue> {
    let below = prospect.route.rungs.iter().filter(|other| rung.needs.contains(&other.key));
    let mut due = below.filter_map(|other| {
        let anew: Anew = restarts.due(other.folder(), &prospect.survey.identity)?;
        Some(RestartDue { rung: other.key.clone(), anew, above: rung.key.clone() })
    });
    due.next()
}

/// Who climbs one rung.
struct Climber<'c, 's> {
    site: &'c Site<'c>,
    rung: &'c Rung,
    at: usize,
    prospect: &'c Prospect,
    bench: &'c Bench<'c>,
    recorder: &'c Recorder<'c>,
    supply: &'c mut Supply<'s>,
    memory: &'c mut Memory,
    prepared: Option<Prepared>,
    /// Whether it, or something that it stands on, is another than in the landing that is current.
    is_changed: bool,
}

impl Climber<'_, '_> {
    fn climb(&mut self) -> Result<(), TaskError> {
        let (rung, is_changed) = (self.rung, self.is_changed);
        let (number, of) = (self.at + 1, self.prospect.route.rungs.len());
        self.tell(&Event::Rung { key: rung.key.clone(), rung: rung.name(), number, of });
        if let Source::Host(copy) = &rung.source {
            self.tell(&Event::OnHost { copy: copy.clone() });
        }
        let was_damaged =
            rung.is_to_bring() && rung.shelved().is_some_and(|it| it.place.standing() == Standing::Damaged);
        for task in rung.tasks().iter().filter(|task| is_due(task.as_ref(), rung, is_changed)) {
            check_cancelled(self.recorder)?;
            let traces = task.traces();
            if !traces.is_empty() {
                self.recorder.intend(&Intent::Task { rung: rung.key.clone(), task: task.name(), traces })?;
            }
            task.perform(self)?;
            if task.name() == TaskName::Shelve && was_damaged {
                self.relink_berths()?;
            }
        }
        crash::point("checked");
        self.tell(&Event::Climbed { key: rung.key.clone(), rung: rung.name() });
        Ok(())
    }

    /// The berths of other ladders over a place that was brought anew get its new files.
    fn relink_berths(&self) -> Result<(), TaskError> {
        let Some(Shelved { place, .. }) = self.rung.shelved() else { return Ok(()) };
        for landings in Landings::everywhere(&self.site.home.ladders())? {
            let rungs = landings.usable().map(|landing| landing.rungs).unwrap_or_default();
            for berth in rungs.into_iter().filter(|rung| rung.folder == place.folder).filter_map(|rung| rung.berth) {
                berth::relink(&berth, &place.files())?;
            }
        }
        Ok(())
    }
}

/// Whether a task is to be done in this climb. A fit-out is looked for in every landing, since the rungs that it is seen by may be
/// others; checks run for what changed, and for what stands on that.
fn is_due(task: &dyn Task, rung: &Rung, is_changed: bool) -> bool {
    let is_seen_anew = match task.name() {
        TaskName::Launch | TaskName::FitOut => true,
        TaskName::Check => is_changed,
        _ => false,
    };
    is_seen_anew || rung.todo.contains(&task.name())
}

/// The rungs that are others than in the landing that is current, and those that stand on them; all where that one is not whole.
fn changed(route: &Route) -> BTreeSet<&RungKey> {
    let is_new = |rung: &&Rung| !rung.todo.is_empty() || !route.landing_is_whole;
    let mut changed: BTreeSet<&RungKey> = route.rungs.iter().filter(is_new).map(|rung| &rung.key).collect();
    loop {
        let stands_on = |rung: &&Rung| rung.needs.iter().any(|below| changed.contains(below));
        let more: Vec<&RungKey> = route
            .rungs
            .iter()
            .filter(|rung| !changed.contains(&rung.key))
            .filter(stands_on)
            .map(|rung| &rung.key)
            .collect();
        if more.is_empty() {
            return changed;
        }
        changed.extend(more);
    }
}

impl Hands for Climber<'_, '_> {
    fn take(&mut self) -> Result<Prepared, TaskError> {
        self.supply.take(self.at)
    }

    fn prepared(&mut self) -> &mut Option<Prepared> {
        &mut self.prepared
    }

    fn set_up(&mut self, trial: &Trial, files: &Path) -> Result<Verdict, TaskError> {
        let Some(shelved) = self.rung.shelved() else {
            return Err(TaskError::Cancelled(crate::base::event::Cancelled));
        };
        let verdict = self.bench.set_up(trial, self.rung, shelved, files)?;
        self.memory.learn(&verdict);
        Ok(verdict)
    }

    fn fit_out(&mut self, fit_out: &FitOut, step: FitStep) -> Result<Verdict, TaskError> {
        let verdict = self.bench.fit_out(fit_out, step, self.rung)?;
        if step == FitStep::Do {
            self.memory.learn(&verdict);
        }
        Ok(verdict)
    }

    fn remember_restart(&mut self) -> Result<(), FileError> {
        if let Some(anew) = self.rung.definition.says.after {
            self.memory.restarts.remember(self.rung.folder(), anew, &self.prospect.survey.identity);
            self.memory.restarts.write(&self.memory.data)?;
        }
        Ok(())
    }

    fn check(&mut self) -> Result<Vec<Verdict>, TaskError> {
        Ok(self.bench.check(self.rung)?)
    }

    fn tell(&self, event: &Event) {
        self.recorder.event(event);
    }
}
