//! Rehearsals: steps in a folder, one after the other, some of which run on while the others do.

use std::collections::BTreeMap;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Filled, Laid, Pattern, Rehearsal, Step};
use kladder_choose::names::Household;
use kladder_choose::path::InnerPath;

use super::cell::paths;
use super::{Around, Bench, VerifyError, not_started};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Verdict, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::host::confine::Network;
use crate::host::process::{Lasting, Watching};
use crate::host::rooms::Room;
use crate::prove::project::{bytes_of, put};
use crate::prove::together::{Seen, launched};
use crate::sys::Start;
use crate::tasks::{Rung, word_of};

/// How often what is waited for is looked at.
const GLANCE: Duration = Duration::from_millis(20);
/// How long a step that is tried again rests before.
const REST: Duration = Duration::from_millis(200);

/// Something that runs on.
struct Running {
    subject: Subject,
    started: Instant,
    process: Lasting,
    is_to_be_watched: bool,
}

/// What goes on while the steps of a project are run.
struct Play<'p> {
    project: &'p Filled,
    around: Around<'p>,
    verdicts: Vec<Verdict>,
    running: Vec<Running>,
    seen: Seen,
    /// Files that steps wrote.
    written: BTreeMap<&'p InnerPath, &'p Laid>,
    /// Why nothing is written any more, since a file is a person's.
    left_alone: Option<String>,
}

impl<'p> Play<'p> {
    fn of(project: &'p Filled, around: Around<'p>) -> Self {
        let (verdicts, running) = (Vec::new(), Vec::new());
        Self { project, around, verdicts, running, seen: Seen::default(), written: BTreeMap::new(), left_alone: None }
    }

    fn has_failed(&self) -> bool {
        self.verdicts.iter().any(Verdict::failed)
    }

    /// Why a step is not run; else its files are there.
    fn prevented(&mut self, step: &'p Step) -> Option<Outcome> {
        let earlier = |verdict: &Verdict| verdict.outcome == Outcome::Skipped(Skipped::EarlierFailed);
        if self.has_failed() || self.verdicts.iter().any(earlier) {
            return Some(Outcome::Skipped(Skipped::EarlierFailed));
        }
        let folder = self.around.folder;
        let before = |path: &InnerPath| self.written.get(path).copied().or_else(|| self.project.files.get(path));
        // What follows may look for what was to be written.
        let theirs = step.write.keys().find(|path| !is_as(&path.below(folder), before(path)));
        let theirs = theirs.map(|path| format!("{path} is yours, and left as it is"));
        self.left_alone = self.left_alone.take().or(theirs);
        if let Some(reason) = self.left_alone.clone() {
            return Some(Outcome::Skipped(Skipped::PassedOver { reason }));
        }
        let laid = step.write.iter().try_for_each(|(path, file)| {
            self.written.insert(path, file);
            put(&path.below(folder), &bytes_of(file)?, file.executable)
        });
        let FileError { path, source, .. } = laid.err()?;
        let error = format!("{}: {source}", path.display());
        Some(Outcome::failed(Finding::NotStarted { command: step.name(), error }))
    }

    /// Makes files that steps wrote what the project has again.
    fn put_back(&self) -> Result<(), FileError> {
        for (path, file) in &self.written {
            let full = path.below(self.around.folder);
            if is_as(&full, Some(file)) {
                match self.project.files.get(path) {
                    Some(own) => put(&full, &bytes_of(own)?, own.executable)?,
                    None => std::fs::remove_file(&full).on("remove", &full)?,
                }
            }
        }
        Ok(())
    }
}

impl Bench<'_> {
    /// Runs a rehearsal; after a step that fails the others are skipped. Where tools are missing it is skipped as a whole.
    ///
    /// # Errors
    /// [`VerifyError`] where its folder cannot be made. A step that fails is a verdict.
    pub fn rehearse(&self, rehearsal: &Rehearsal, rungs: &[Rung]) -> Result<Vec<Verdict>, VerifyError> {
        let whole = Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: None };
        let on_ladder = |name: &str| rungs.iter().any(|rung| rung.answers_to(name));
        let missing: Vec<_> = rehearsal.tools.iter().filter(|tool| !on_ladder(tool)).cloned().collect();
        if !missing.is_empty() {
            let skipped = Outcome::Skipped(Skipped::NotOnLadder { tools: missing });
            return Ok(vec![self.conclude(whole, Instant::now(), skipped)]);
        }
        let filled = rehearsal.filled(&BTreeMap::new(), &[], &|tool, what| word_of(rungs, tool, what));
        let cannot = |error: String| {
            let failed = Finding::NotStarted { command: rehearsal.rehearsal.clone(), error };
            Ok(vec![self.conclude(whole.clone(), Instant::now(), Outcome::failed(failed))])
        };
        let filled = match filled {
            Ok(filled) => filled,
            Err(error) => return cannot(error.to_string()),
        };
        let folder = self.nook("rehearsals", &rehearsal.rehearsal)?.join("work");
        for (path, file) in &filled.files {
            // What the rehearsal names and does not have, or has in each other's way, is its own fault.
            let put = bytes_of(file).and_then(|bytes| put(&path.below(&folder), &bytes, file.executable));
            if let Err(FileError { path, source, .. }) = put {
                return cannot(format!("{}: {source}", path.display()));
            }
        }
        self.run_steps(rehearsal, &filled, &folder)
    }

    /// Runs the steps of a project in its folder, where they may write; after one that fails the others are skipped. Files that
    /// steps write are as the project has them again at the end; one that a person changed is left alone, and what would write it
    /// is passed over.
    ///
    /// # Errors
    /// [`VerifyError`] where one could not be run at all. One that fails is a verdict.
    pub fn run_steps(
        &self,
        rehearsal: &Rehearsal,
        project: &Filled,
        folder: &Path,
    ) -> Result<Vec<Verdict>, VerifyError> {
        self.keeping.also(&rehearsal.calls, &self.host.path);
        let reads = paths(&rehearsal.reads, self.host);
        let nook = self.nook("rehearsals", &rehearsal.rehearsal)?;
        let told = nook.join("starts");
        files::replace(&told, b"")?;
        let named = |rung: &&Rung| rehearsal.tools.iter().any(|tool| rung.answers_to(tool));
        self.lay_choices(&self.rungs.iter().filter(named).collect::<Vec<_>>(), &nook.join("home"))?;
        let watched = Some(Watching { let_go: self.keeping.let_go(), reach: false });
        let room = self.keeping.room();
        let network = room.as_ref().map_or(Network::All, Room::network);
        let plain = Around { nook: &nook, folder, network, reads: &reads, watched, told: Some(&told), shown: &[] };
        let (stage, set) = self.stage(rehearsal, &plain)?;
        if set.iter().any(|verdict| matches!(verdict.outcome, Outcome::Skipped(_))) {
            return Ok(set);
        }
        let around = Around { shown: &stage.shown, ..plain };
        let mut play = Play { verdicts: set, ..Play::of(project, around) };
        for step in &project.steps {
            let subject = Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: Some(step.name()) };
            match play.prevented(step) {
                Some(outcome) => play.verdicts.push(self.conclude(subject, Instant::now(), outcome)),
                None => self.play(&mut play, &subject, step)?,
            }
        }
        let early = self.ended_early(&mut play.running);
        play.verdicts.extend(early);
        for (subject, mut process) in stage.running {
            // It should have run to the end.
            if let Some(status) = process.ended().ok().flatten().filter(|_| !play.has_failed()) {
                let outcome = failed(Finding::EndedEarly { status }, &process);
                play.verdicts.push(self.conclude(subject, Instant::now(), outcome));
            }
            play.seen.started(process.starts(), true);
        }
        for one in play.running.drain(..) {
            play.seen.started(one.process.starts(), one.is_to_be_watched);
        }
        play.seen.launched = launched(&String::from_utf8_lossy(&files::read(&told)?));
        let starts = self.starts(rehearsal, &play.seen, folder, !play.has_failed());
        play.verdicts.extend(starts);
        play.put_back()?;
        Ok(play.verdicts)
    }

    /// Runs one step.
    fn play(&self, play: &mut Play<'_>, subject: &Subject, step: &Step) -> Result<(), VerifyError> {
        let watched = play.around.watched.filter(|_| step.watched && self.keeping.encloser().is_some());
        let watched = watched.map(|watching| Watching { reach: step.reaches_nobody, ..watching });
        let around = Around { watched, ..play.around };
        let mut starts = None;
        let verdicts = match (&step.stays, &step.talk, &step.terminal) {
            (_, Some(talk), _) => self.talked(subject, step, talk, &around, &mut starts)?,
            (_, _, Some(terminal)) => self.sat(subject, terminal, step, &around, &mut starts)?,
            (None, None, None) => self.tried(subject, step, &around, &mut starts)?,
            (Some(pattern), None, None) => {
                let verdict = self.left_running(subject.clone(), step, pattern, &around, &mut play.running)?;
                play.verdicts.push(verdict);
                return Ok(());
            }
        };
        let told = step.reaches_nobody.then(|| self.reached_nobody(subject, &around, starts.as_deref()));
        play.verdicts.extend(verdicts.into_iter().chain(told));
        play.seen.started(starts, step.watched);
        Ok(())
    }

    /// Whether a step that was watched tried to reach no other machine.
    fn reached_nobody(&self, subject: &Subject, around: &Around<'_>, starts: Option<&[Start]>) -> Verdict {
        // Without a network of its own it could not even have tried.
        let seen = starts.filter(|_| matches!(around.network, Network::Room(_)));
        let outcome = if let Some(starts) = seen {
            let mut whom: Vec<String> = starts.iter().flat_map(|start| start.reached.iter().cloned()).collect();
            whom.sort();
            whom.dedup();
            if whom.is_empty() { Outcome::Passed } else { Outcome::failed(Finding::Reached { whom }) }
        } else {
            let reason = "this system does not let it be seen whom a program tries to reach".to_owned();
            Outcome::Skipped(Skipped::PassedOver { reason })
        };
        self.conclude(subject.claiming("it tries to reach no other machine"), Instant::now(), outcome)
    }

    /// Runs a step, again and again while it fails and there is time.
    fn tried(
        &self,
        subject: &Subject,
        step: &Step,
        around: &Around<'_>,
        starts: &mut Option<Vec<Start>>,
    ) -> Result<Vec<Verdict>, VerifyError> {
        let (started, patience) = (Instant::now(), Duration::from_secs(step.patience));
        loop {
            let mut verdicts = self.trial(subject.clone(), &step.trial, &Household::shared(), None, around, starts)?;
            if step.must_not_hold {
                verdicts = vec![self.conclude(subject.clone(), started, refuted(&verdicts))];
            }
            if !verdicts.iter().any(Verdict::failed) || started.elapsed() >= patience {
                return Ok(verdicts);
            }
            check_cancelled(self.observer)?;
            thread::sleep(REST);
        }
    }

    /// Starts what runs on, and waits until it is up.
    fn left_running(
        &self,
        subject: Subject,
        step: &Step,
        pattern: &Pattern,
        around: &Around<'_>,
        running: &mut Vec<Running>,
    ) -> Result<Verdict, VerifyError> {
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let begun = self.begun(&step.trial, &Household::shared(), None, around)?;
        let mut process = match Lasting::start(&self.setting(&begun, &step.trial, around)) {
            Ok(process) => process,
            Err(error) => {
                let failed = Outcome::failed(not_started(&step.trial, &error));
                return Ok(self.conclude(subject, started, failed));
            }
        };
        let regex = pattern.regex();
        let finding = loop {
            check_cancelled(self.observer)?;
            let (stdout, stderr) = process.said();
            if regex.is_match(&stdout) || regex.is_match(&stderr) {
                break None;
            }
            // A system that does not tell is taken at its word: it runs.
            if let Some(status) = process.ended().ok().flatten() {
                break Some(Finding::EndedEarly { status });
            }
            if started.elapsed() > Duration::from_secs(step.limit) {
                break Some(Finding::NotUp { limit: step.limit, pattern: pattern.as_str().to_owned() });
            }
            thread::sleep(GLANCE);
        };
        let outcome = finding.map_or(Outcome::Passed, |finding| failed(finding, &process));
        if outcome == Outcome::Passed {
            let is_to_be_watched = step.watched;
            running.push(Running { subject: subject.clone(), started, process, is_to_be_watched });
        }
        Ok(self.conclude(subject, started, outcome))
    }

    /// What should have run to the end and did not.
    fn ended_early(&self, running: &mut [Running]) -> Vec<Verdict> {
        let ended = |Running { subject, started, process, .. }: &mut Running| {
            let status = process.ended().ok().flatten()?;
            Some(self.conclude(subject.clone(), *started, failed(Finding::EndedEarly { status }, process)))
        };
        running.iter_mut().filter_map(ended).collect()
    }
}

pub(super) fn failed(finding: Finding, process: &Lasting) -> Outcome {
    let (stdout, stderr) = process.said();
    let output = Output::of(&[stdout, stderr].concat());
    Outcome::Failed { finding, output, causes: Vec::new() }
}

/// What must not hold: it is proved where the command ran and something that was expected did not come of it.
fn refuted(verdicts: &[Verdict]) -> Outcome {
    let failed = verdicts.iter().filter(|verdict| verdict.failed());
    let could_not_run = |verdict: &&Verdict| {
        let Outcome::Failed { finding, .. } = &verdict.outcome else { return false };
        matches!(finding, Finding::NoCommand { .. } | Finding::NotStarted { .. } | Finding::TooLong { .. })
    };
    match failed.clone().find(could_not_run) {
        Some(verdict) => verdict.outcome.clone(),
        None if failed.count() > 0 => Outcome::Passed,
        None => Outcome::failed(Finding::Holds),
    }
}

/// Whether a file is as a project has it; one that it does not have is not there.
fn is_as(full: &Path, laid: Option<&Laid>) -> bool {
    match laid {
        None => std::fs::symlink_metadata(full).is_err(),
        Some(laid) => files::read(full).is_ok_and(|bytes| bytes_of(laid).is_ok_and(|wanted| wanted == bytes)),
    }
}
