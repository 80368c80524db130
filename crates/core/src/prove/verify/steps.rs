//! Rehearsals: steps in a folder, one after the other, some of which run on while the others do.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Filled, Laid, Pattern, Rehearsal, Step, Talk};
use kladder_choose::names::Household;
use kladder_choose::path::InnerPath;

use super::cell::paths;
use super::{Around, Bench, VerifyError, not_started};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Undeclared, Verdict, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::host::process::Lasting;
use crate::prove::project::{bytes_of, of_rung, put};
use crate::prove::speak;
use crate::prove::together::{Owners, Seen, launched};
use crate::prove::wants;
use crate::sys::Start;
use crate::tasks::Rung;

/// How often what is waited for is looked at.
const GLANCE: Duration = Duration::from_millis(20);
/// How long a step that is tried again rests before.
const REST: Duration = Duration::from_millis(200);

/// Bytes of a file that a program is asked about.
const LONGEST: u64 = 16 << 20;

/// Something that runs on.
struct Running {
    subject: Subject,
    started: Instant,
    process: Lasting,
    is_to_be_watched: bool,
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
        let filled = rehearsal.filled(&BTreeMap::new(), &[], &|tool, what| of_rung(rungs, tool, what));
        let cannot = |error: String| {
            let failed = Finding::NotStarted { command: rehearsal.rehearsal.clone(), error };
            Ok(vec![self.conclude(whole.clone(), Instant::now(), Outcome::failed(failed))])
        };
        let filled = match filled {
            Ok(filled) => filled,
            Err(error) => return cannot(error.to_string()),
        };
        let folder = self.scratch.path().join("rehearsals").join(&rehearsal.rehearsal);
        files::create_folder(&folder)?;
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
        let told = self.scratch.path().join(["starts-of-", &rehearsal.rehearsal].concat());
        files::replace(&told, b"")?;
        let let_go = Some(self.keeping.let_go());
        let network = self.keeping.inside();
        let mut seen = Seen::default();
        let mut verdicts: Vec<Verdict> = Vec::new();
        let mut running: Vec<Running> = Vec::new();
        let mut written: BTreeMap<&InnerPath, &Laid> = BTreeMap::new();
        let mut left_alone: Option<String> = None;
        let plain = Around { folder, network, reads: &reads, watched: let_go, told: Some(&told), shown: &[] };
        let (stage, set) = self.stage(rehearsal, &plain)?;
        if set.iter().any(|verdict| matches!(verdict.outcome, Outcome::Skipped(_))) {
            return Ok(set);
        }
        verdicts.extend(set);
        for step in &project.steps {
            let subject = Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: Some(step.name()) };
            let stops =
                |verdict: &Verdict| verdict.failed() || verdict.outcome == Outcome::Skipped(Skipped::EarlierFailed);
            if verdicts.iter().any(stops) {
                verdicts.push(self.conclude(subject, Instant::now(), Outcome::Skipped(Skipped::EarlierFailed)));
                continue;
            }
            let before = |path: &InnerPath| written.get(path).copied().or_else(|| project.files.get(path));
            // What follows may look for what was to be written.
            let theirs = step.write.keys().find(|path| !is_as(&path.below(folder), before(path)));
            left_alone = left_alone.or_else(|| theirs.map(|path| format!("{path} is yours, and left as it is")));
            if let Some(reason) = left_alone.clone() {
                verdicts.push(self.conclude(subject, Instant::now(), Outcome::Skipped(Skipped::PassedOver { reason })));
                continue;
            }
            let laid = step.write.iter().try_for_each(|(path, file)| {
                written.insert(path, file);
                put(&path.below(folder), &bytes_of(file)?, file.executable)
            });
            if let Err(FileError { path, source, .. }) = laid {
                let error = format!("{}: {source}", path.display());
                let failed = Outcome::failed(Finding::NotStarted { command: step.name(), error });
                verdicts.push(self.conclude(subject, Instant::now(), failed));
                continue;
            }
            let watched = let_go.filter(|_| step.watched && self.keeping.encloser().is_some());
            let around = Around { watched, shown: &stage.shown, ..plain };
            match (&step.stays, &step.talk) {
                (_, Some(talk)) => {
                    let mut starts = None;
                    verdicts.extend(self.talked(&subject, step, talk, &around, &mut starts)?);
                    seen.started(starts, step.watched);
                }
                (Some(pattern), None) => {
                    verdicts.push(self.left_running(subject, step, pattern, &around, &mut running)?)
                }
                (None, None) => {
                    let mut starts = None;
                    verdicts.extend(self.tried(&subject, step, &around, &mut starts)?);
                    seen.started(starts, step.watched);
                }
            }
        }
        verdicts.extend(self.ended_early(&mut running));
        for (subject, mut process) in stage.running {
            // It should have run to the end.
            if let Some(status) = process.ended().ok().flatten().filter(|_| !verdicts.iter().any(Verdict::failed)) {
                let outcome = failed(Finding::EndedEarly { status }, &process);
                verdicts.push(self.conclude(subject, Instant::now(), outcome));
            }
            seen.started(process.starts(), true);
        }
        for one in running.drain(..) {
            seen.started(one.process.starts(), one.is_to_be_watched);
        }
        seen.launched = launched(&String::from_utf8_lossy(&files::read(&told)?));
        verdicts.extend(self.starts(rehearsal, &seen, folder, !verdicts.iter().any(Verdict::failed)));
        for (path, file) in written {
            let full = path.below(folder);
            if is_as(&full, Some(file)) {
                match project.files.get(path) {
                    Some(own) => put(&full, &bytes_of(own)?, own.executable)?,
                    None => std::fs::remove_file(&full).on("remove", &full)?,
                }
            }
        }
        Ok(verdicts)
    }

    /// Writes down who worked with whom, and whether something of the host was started that nothing declares.
    fn starts(&self, rehearsal: &Rehearsal, seen: &Seen, folder: &Path, passed: bool) -> Option<Verdict> {
        let owners = Owners::of(self.rungs);
        let named = |rung: &&Rung| rehearsal.tools.iter().any(|tool| rung.answers_to(tool));
        let named: Vec<&Rung> = self.rungs.iter().filter(named).collect();
        self.together.borrow_mut().add(seen, &named, &owners, self.rungs, passed);
        let (started, mut programs) = (Instant::now(), BTreeSet::new());
        // What was made meanwhile is nobody else's.
        let made = [folder, self.scratch.path()].map(|folder| std::fs::canonicalize(folder).unwrap_or_default());
        for starts in &seen.starts {
            let owner = |start: &Start| start.files.iter().rev().find_map(|file| owners.owner(file).cloned());
            for start in starts {
                let is_foreign = |file: &&PathBuf| {
                    !self.keeping.is_declared(file) && !made.iter().any(|made| file.starts_with(made))
                };
                // A script is started by its interpreter.
                let script = start.files.get(1).filter(|file| wants::script_interpreter(file).is_some());
                let Some(program) = start.files.first().into_iter().chain(script).find(is_foreign) else { continue };
                let above = |start: &Start| starts.get(start.by?);
                let by = std::iter::successors(above(start), |start| above(start)).take(starts.len()).find_map(owner);
                programs.insert(Undeclared { program: program.clone(), by: owner(start).or(by) });
            }
        }
        if seen.starts.is_empty() || !passed {
            return None;
        }
        let outcome = if programs.is_empty() {
            Outcome::Passed
        } else {
            Outcome::failed(Finding::Undeclared { programs: programs.into_iter().collect() })
        };
        Some(self.conclude(Subject::Starts { rehearsal: rehearsal.rehearsal.clone() }, started, outcome))
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

    /// Talks to a program over its protocol, with a verdict for each thing it is asked.
    fn talked(
        &self,
        subject: &Subject,
        step: &Step,
        talk: &Talk,
        around: &Around<'_>,
        starts: &mut Option<Vec<Start>>,
    ) -> Result<Vec<Verdict>, VerifyError> {
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let begun = self.begun(&step.trial, &Household::shared(), None, around)?;
        let failed_to = |finding| Ok(vec![self.conclude(subject.clone(), started, Outcome::failed(finding))]);
        let file = match talk {
            Talk::LanguageServer(ask) => &ask.file,
            Talk::DebugAdapter(ask) => &ask.file,
        };
        let Some(text) = files::text_of_at_most(&file.below(around.folder), LONGEST) else {
            let error = "it is no text, or too long".to_owned();
            return failed_to(Finding::NoFile { file: file.to_string(), error });
        };
        let (mut process, input) = match Lasting::talking(&self.setting(&begun, &step.trial, around)) {
            Ok(talking) => talking,
            Err(error) => return failed_to(not_started(&step.trial, &error)),
        };
        let mut open = speak::Talk::new(&mut process, input, step.limit);
        let heard = match talk {
            Talk::LanguageServer(ask) => speak::serve(&mut open, ask, around.folder, &text),
            Talk::DebugAdapter(ask) => speak::debug(&mut open, ask, around.folder, &text),
        };
        drop(open);
        check_cancelled(self.observer)?;
        let mut verdicts = Vec::new();
        for speak::Said { claim, heard, took } in heard {
            let outcome = heard.map_or_else(|finding| self.known(failed(finding, &process)), |()| Outcome::Passed);
            let verdict = Verdict { subject: subject.claiming(claim), outcome, took };
            self.observer.event(&Event::Checked(verdict.clone()));
            verdicts.push(verdict);
        }
        *starts = process.starts();
        Ok(verdicts)
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

fn failed(finding: Finding, process: &Lasting) -> Outcome {
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
