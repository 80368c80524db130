//! Verifying: every command answers from the shelf, every check and rehearsal comes out as it should.
//!
//! Threat model: checks run programs that were just fetched. They get an environment of their own (an empty home, our
//! commands first on PATH, nothing of the caller's variables), a folder that is thrown away, a time limit and a limit on
//! output, and they take their children with them. They are not kept from the network or from other files yet.

mod judge;
mod set_up;

use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use kladder_launch::TABLE;
use kladder_launch::table;

use crate::catalog::{Rehearsal, Trial};
use crate::event::{Cancelled, Event, Observer, go_on};
use crate::files::{self, Attach, FileError};
use crate::landing::path_with;
use crate::process;
use crate::record::RecordError;
use crate::route::{Rung, Shelved, Source};
use crate::shelf::Difference;
use crate::survey::{Host, answers};
use crate::verdict::{Outcome, Subject, Verdict};
use crate::version::Version;
use crate::wire::{self, Wiring};

/// Why something could not even be looked at.
#[derive(Debug, thiserror::Error)]
pub enum VerifyError {
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The manifest of a rung could not be read.
    #[error(transparent)]
    Manifest(#[from] RecordError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// A landing, finished or in the making, to verify rungs in.
pub struct Bench<'b> {
    landing: &'b Path,
    host: &'b Host,
    wiring: &'b Wiring,
    scratch: tempfile::TempDir,
    observer: &'b dyn Observer,
}

impl<'b> Bench<'b> {
    /// A bench over the landing in the folder `landing`, whose launchers start what `wiring` says.
    pub fn new(
        landing: &'b Path,
        wiring: &'b Wiring,
        host: &'b Host,
        observer: &'b dyn Observer,
    ) -> Result<Self, FileError> {
        let scratch = tempfile::Builder::new().prefix("kladder-check-").tempdir_in(&host.temporary);
        let scratch = scratch.on("make a folder in", &host.temporary)?;
        for folder in ["home", "tmp"] {
            files::create_folder(&scratch.path().join(folder))?;
        }
        Ok(Self { landing, host, wiring, scratch, observer })
    }

    /// What programs get: the variables and commands of a household, and nothing of the caller's.
    fn environment(&self, household: Option<&str>) -> Vec<(OsString, OsString)> {
        let mut variables = self.wiring.table(household).variables.clone();
        variables.push(("PATH".into(), self.path(household)));
        for (name, folder) in [("HOME", "home"), ("TMPDIR", "tmp")] {
            variables.push((name.into(), self.scratch.path().join(folder).into()));
        }
        variables.push(("LC_ALL".into(), "C".into()));
        variables
    }

    /// PATH as a household has it.
    fn path(&self, household: Option<&str>) -> OsString {
        let fronts = self.wiring.fronts(household).into_iter().rev();
        fronts.fold(self.host.path.clone(), |path, front| path_with(&self.landing.join(front), &path))
    }

    fn conclude(&self, subject: Subject, started: Instant, outcome: Outcome) -> Verdict {
        let verdict = Verdict { subject, outcome, took: started.elapsed() };
        self.observer.event(&Event::Checked(verdict.clone()));
        verdict
    }

    /// Runs the checks of one rung; the first that fails ends it.
    ///
    /// # Errors
    /// [`VerifyError`] where a check could not be run at all. One that fails is a verdict.
    pub fn check(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        let mut verdicts = Vec::new();
        for trial in &rung.definition.checks {
            let (tool, name) = (rung.key(), trial.name.clone());
            let folder = self.scratch.path().join("checks").join(&tool);
            files::create_folder(&folder)?;
            let household = rung.kept_by.as_deref();
            let filled = Filled { version: &rung.name.version, folder: &rung.files(), household };
            let verdict = self.trial(Subject::Check { tool, name }, trial, Some(&filled), &folder)?;
            verdicts.push(verdict);
            if verdicts.last().is_some_and(Verdict::failed) {
                break;
            }
        }
        Ok(verdicts)
    }

    /// Sees which file answers to each command of a rung, and what it would start.
    ///
    /// # Errors
    /// [`VerifyError`] where a launcher or its table cannot be read.
    pub fn answer(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        let household = rung.kept_by.as_deref();
        let path = self.path(household);
        let folder =
            household.map_or_else(|| self.landing.to_path_buf(), |h| self.landing.join(wire::household_folder(h)));
        let table = folder.join(TABLE);
        let bytes = fs::read(&table).on("read", &table)?;
        let nearest = self.wiring.fronts(household).into_iter().next().unwrap_or_default();
        let commands = self.landing.join(nearest);
        let judged = |(name, command): (&String, &crate::catalog::Command)| {
            let started = Instant::now();
            let subject = Subject::Answer { tool: rung.key(), command: name.clone() };
            let file = rung.files().join(crate::shelf::filled(&command.file, &rung.name.version));
            let outcome = answered(&commands.join(name), &file, &path, &bytes);
            self.conclude(subject, started, outcome)
        };
        if let Source::Host(file) = &rung.source {
            return Ok(vec![self.host_answers(rung, file, &path)]);
        }
        Ok(rung.commands.iter().map(judged).collect())
    }

    /// For what the host has: the pinned file must still be the one that answers.
    fn host_answers(&self, rung: &Rung, file: &Path, path: &OsString) -> Verdict {
        let started = Instant::now();
        let command = file.file_name().map(|name| name.display().to_string()).unwrap_or_default();
        let outcome = match answers(&command, path) {
            Some(first) if first == file => Outcome::Passed,
            Some(other) => Outcome::Failed { why: format!("{} answers", other.display()), output: String::new() },
            None => Outcome::Failed { why: "no file answers".into(), output: String::new() },
        };
        self.conclude(Subject::Answer { tool: rung.key(), command }, started, outcome)
    }

    /// Compares a rung's files with its manifest; what the host has, has none.
    ///
    /// # Errors
    /// [`VerifyError`] where the manifest or a file cannot be read.
    pub fn files(&self, rung: &Rung) -> Result<Option<Verdict>, VerifyError> {
        let started = Instant::now();
        go_on(self.observer)?;
        let Some(Shelved { place, .. }) = rung.shelved() else { return Ok(None) };
        let mut differences = place.manifest()?.compare(&place.files())?;
        if let Some(berth) = &rung.berth {
            // What cannot be planned any more cannot be as it was planned.
            let differing = berth.differences().unwrap_or_else(|_| vec![berth.folder.clone()]);
            differences.extend(differing.into_iter().map(|path| Difference::Missing(berth.folder.join(path))));
        }
        let outcome = if differences.is_empty() {
            Outcome::Passed
        } else {
            let lines: Vec<String> = differences.iter().take(20).map(|d| format!("{d:?}")).collect();
            let why = format!("{} of its files are not as they were unpacked", differences.len());
            Outcome::Failed { why, output: lines.join("\n") }
        };
        Ok(Some(self.conclude(Subject::Files { tool: rung.key() }, started, outcome)))
    }

    /// Runs a rehearsal; after a step that fails the others are skipped. Where tools are missing it is one skipped step.
    ///
    /// # Errors
    /// [`VerifyError`] where its folder cannot be made. A step that fails is a verdict.
    pub fn rehearse(&self, rehearsal: &Rehearsal, rungs: &[Rung]) -> Result<Vec<Verdict>, VerifyError> {
        let subject = |step: &str| Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: step.to_owned() };
        let on_ladder = |tool: &&String| rungs.iter().any(|rung| rung.name.tool == **tool);
        let missing: Vec<String> = rehearsal.tools.iter().filter(|tool| !on_ladder(tool)).cloned().collect();
        if !missing.is_empty() {
            let why = format!("{} not on the ladder", missing.join(", "));
            return Ok(vec![self.conclude(subject("the tools are there"), Instant::now(), Outcome::Skipped { why })]);
        }
        let folder = self.scratch.path().join("rehearsals").join(&rehearsal.rehearsal);
        lay_out(rehearsal, &folder)?;
        let mut verdicts: Vec<Verdict> = Vec::new();
        for step in &rehearsal.steps {
            let verdict = if verdicts.last().is_some_and(|last| last.outcome != Outcome::Passed) {
                let why = "the step before it failed".into();
                self.conclude(subject(&step.name), Instant::now(), Outcome::Skipped { why })
            } else {
                self.trial(subject(&step.name), step, None, &folder)?
            };
            verdicts.push(verdict);
        }
        Ok(verdicts)
    }

    fn trial(
        &self,
        subject: Subject,
        trial: &Trial,
        filled: Option<&Filled<'_>>,
        folder: &Path,
    ) -> Result<Verdict, VerifyError> {
        go_on(self.observer)?;
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let run: Vec<OsString> = trial.run.iter().map(|text| Filled::fill(filled, text)).collect();
        let variables = self.environment(filled.and_then(|filled| filled.household));
        let setting = process::Setting {
            run: &resolved(run, &variables),
            input: &trial.input,
            folder,
            variables: &variables,
            limit: Duration::from_secs(trial.limit),
            cell: None,
        };
        let outcome = match process::run(&setting, self.observer) {
            Ok(ran) => judge::judge(trial, &ran, filled.map(|filled| filled.version)),
            Err(error) => Outcome::Failed { why: not_started(trial, &error), output: String::new() },
        };
        go_on(self.observer)?;
        Ok(self.conclude(subject, started, outcome))
    }
}

/// The command as these variables' PATH has it; the caller's must not decide.
fn resolved(mut run: Vec<OsString>, variables: &[(OsString, OsString)]) -> Vec<OsString> {
    let path = variables.iter().find(|(name, _)| name == "PATH").map(|(_, path)| path);
    let found = run.first().and_then(|name| name.to_str()).filter(|name| !name.contains('/')).zip(path);
    if let Some(file) = found.and_then(|(name, path)| answers(name, path)) {
        run[0] = file.into();
    }
    run
}

/// Whether the launcher `ours` answers to its name, and starts `file`.
fn answered(ours: &Path, file: &Path, path: &OsString, table: &[u8]) -> Outcome {
    let failed = |why: String| Outcome::Failed { why, output: String::new() };
    let name = ours.file_name().unwrap_or_default();
    match answers(&name.to_string_lossy(), path) {
        None => return failed("no file answers".into()),
        Some(other) if other != ours => return failed(format!("{} answers", other.display())),
        Some(_) => {}
    }
    match table::find(table, name) {
        Err(error) => failed(format!("the launch table cannot be used: {error}")),
        Ok(None) => failed("the launch table does not have it".into()),
        Ok(Some(found)) if found.entry.program != file => {
            failed(format!("it starts {}", found.entry.program.display()))
        }
        Ok(Some(_)) => Outcome::Passed,
    }
}

struct Filled<'f> {
    version: &'f Version,
    folder: &'f PathBuf,
    household: Option<&'f str>,
}

impl Filled<'_> {
    fn fill(filled: Option<&Self>, text: &str) -> OsString {
        filled.map_or_else(|| text.into(), |filled| wire::fill(text, filled.version, filled.folder))
    }
}

fn not_started(trial: &Trial, error: &io::Error) -> String {
    let name = trial.run.first().map_or("", String::as_str);
    if error.kind() == io::ErrorKind::NotFound {
        return format!("there is no command `{name}`");
    }
    format!("`{name}` could not be started: {error}")
}

fn lay_out(rehearsal: &Rehearsal, folder: &Path) -> Result<(), FileError> {
    files::create_folder(folder)?;
    for (path, text) in &rehearsal.files {
        let full = folder.join(path);
        files::create_folder(full.parent().unwrap_or(folder))?;
        fs::write(&full, text).on("write", &full)?;
    }
    Ok(())
}
