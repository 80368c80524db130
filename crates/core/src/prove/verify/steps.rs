//! Rehearsals: steps in a folder, one after the other, some of which run on while the others do.

use std::collections::BTreeMap;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Filled, Laid, Pattern, Rehearsal, Step};
use kladder_choose::names::Household;
use kladder_choose::path::InnerPath;

use super::{Bench, VerifyError, not_started};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Verdict, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::host::process::Lasting;
use crate::prove::project::{bytes_of, of_rung, put};
use crate::tasks::Rung;

/// How often what is waited for is looked at.
const GLANCE: Duration = Duration::from_millis(20);
/// How long a step that is tried again rests before.
const REST: Duration = Duration::from_millis(200);

/// Something that runs on.
struct Running {
    subject: Subject,
    started: Instant,
    process: Lasting,
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
        self.run_steps(&rehearsal.rehearsal, &filled, &folder)
    }

    /// Runs the steps of a project in its folder, where they may write; after one that fails the others are skipped. Files that
    /// steps write are as the project has them again at the end; one that a person changed is left alone, and what would write it
    /// is passed over.
    ///
    /// # Errors
    /// [`VerifyError`] where one could not be run at all. One that fails is a verdict.
    pub fn run_steps(&self, rehearsal: &str, project: &Filled, folder: &Path) -> Result<Vec<Verdict>, VerifyError> {
        let mut verdicts: Vec<Verdict> = Vec::new();
        let mut running: Vec<Running> = Vec::new();
        let mut written: BTreeMap<&InnerPath, &Laid> = BTreeMap::new();
        let mut left_alone: Option<String> = None;
        for step in &project.steps {
            let subject = Subject::Rehearsal { rehearsal: rehearsal.to_owned(), step: Some(step.name()) };
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
            match &step.stays {
                Some(pattern) => verdicts.push(self.left_running(subject, step, pattern, folder, &mut running)?),
                None => verdicts.extend(self.tried(&subject, step, folder)?),
            }
        }
        verdicts.extend(self.ended_early(&mut running));
        drop(running);
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

    /// Runs a step, again and again while it fails and there is time.
    fn tried(&self, subject: &Subject, step: &Step, folder: &Path) -> Result<Vec<Verdict>, VerifyError> {
        let (started, patience) = (Instant::now(), Duration::from_secs(step.patience));
        loop {
            let mut verdicts = self.trial(subject.clone(), &step.trial, &Household::shared(), None, folder)?;
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
        folder: &Path,
        running: &mut Vec<Running>,
    ) -> Result<Verdict, VerifyError> {
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let begun = self.begun(&step.trial, &Household::shared(), None, folder)?;
        let mut process = match Lasting::start(&begun.setting(&step.trial)) {
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
            running.push(Running { subject: subject.clone(), started, process });
        }
        Ok(self.conclude(subject, started, outcome))
    }

    /// What should have run to the end and did not.
    fn ended_early(&self, running: &mut [Running]) -> Vec<Verdict> {
        let ended = |Running { subject, started, process }: &mut Running| {
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
