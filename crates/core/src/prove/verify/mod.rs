//! Verifying: every command answers from the shelf, every check and rehearsal comes out as it should.
//!
//! Threat model: checks run programs that were just fetched. They get an environment of their own (an empty home, our
//! commands first on PATH, nothing of the caller's variables), a folder that is thrown away, a time limit and a limit on
//! output, and they take their children with them. They may read what the caller may, and write nothing but that folder and
//! the rungs' corners, as far as the kernel can see to that: a check leaves no trace on the shelf, not even root's.

mod cell;
mod choice;
mod deep;
mod judge;
mod stage;
mod start;
mod starts;
mod steps;
mod talked;
mod window;
mod work;

pub use work::Asked;

use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Catalogs, Command, CommandName, Trial};
use kladder_choose::names::Household;
use kladder_choose::pins::HostCopy;
use kladder_choose::template::Hole;
use kladder_launch::table::{self, Entry};
use kladder_launch::variables::applied;

use self::cell::Keeping;
use self::judge::Judged;
use crate::base::event::{
    Cancelled, Confined, Difference, Event, Finding, How, Observer, Outcome, Skipped, Subject, Verdict, check_cancelled,
};
use crate::base::files::{self, Attach, FileError};
use crate::bring::shelf::Standing;
use crate::host::confine::{Cell, Network};
use crate::host::process::{self, Watching};
use crate::host::survey::{Host, SCRATCH, answers, scratch};
use crate::keep::berth::Berth;
use crate::keep::landing::{ladder_of, path_with};
use crate::keep::launchers::launcher_differs;
use crate::prove::together::Together;
use crate::sys::{Shown, Start};
use crate::tasks::launch::{Filling, Wiring, filled, filled_hole};
use crate::tasks::{FitStep, Rung, Shelved, Source, TaskError};

/// Why something could not even be looked at.
#[derive(Debug, thiserror::Error)]
pub enum VerifyError {
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

impl From<VerifyError> for TaskError {
    fn from(error: VerifyError) -> Self {
        match error {
            VerifyError::File(error) => Self::File(error),
            VerifyError::Cancelled(error) => Self::Cancelled(error),
        }
    }
}

/// Differences that a verdict names.
const NAMED: usize = 20;

/// A landing, finished or in the making, to verify rungs in.
pub struct Bench<'b> {
    landing: &'b Path,
    host: &'b Host,
    wiring: &'b Wiring,
    rungs: &'b [Rung],
    catalogs: &'b Catalogs,
    scratch: tempfile::TempDir,
    /// Where rungs may write besides the scratch folder.
    corners: Vec<PathBuf>,
    keeping: Keeping,
    together: Mutex<Together>,
    observer: &'b dyn Observer,
}

impl<'b> Bench<'b> {
    /// A bench over the landing in the folder `landing`, whose launchers start what `wiring` says.
    ///
    /// # Errors
    /// [`FileError`] where there is no room for temporary files.
    pub fn new(
        landing: &'b Path,
        wiring: &'b Wiring,
        rungs: &'b [Rung],
        catalogs: &'b Catalogs,
        host: &'b Host,
        observer: &'b dyn Observer,
    ) -> Result<Self, FileError> {
        sweep(&host.temporary);
        let name = scratch();
        let scratch = tempfile::Builder::new().prefix(&name).tempdir_in(&host.temporary);
        let scratch = scratch.on("make a folder in", &host.temporary)?;
        let corners = rungs.iter().filter_map(|rung| rung.berth.as_ref()).flat_map(Berth::corners).collect();
        let keeping = Keeping::of(rungs, ladder_of(landing), scratch.path(), host);
        Ok(Self {
            landing,
            host,
            wiring,
            rungs,
            catalogs,
            scratch,
            corners,
            keeping,
            together: Mutex::default(),
            observer,
        })
    }

    /// A folder for one thing that is tried, in which nothing else writes: its home and its temporary files are in it.
    fn nook(&self, kind: &str, name: &str) -> Result<PathBuf, FileError> {
        nook_in(self.scratch.path(), kind, name)
    }

    /// What programs get: the variables and commands of a household, and nothing of the caller's.
    fn environment(&self, household: &Household, nook: &Path) -> Vec<(OsString, OsString)> {
        let mut variables = applied(&self.wiring.table(household).variables, |_| None);
        variables.push(("PATH".into(), self.before(household, self.keeping.commands().into())));
        for (name, folder) in [("HOME", "home"), ("TMPDIR", "tmp")] {
            variables.push((name.into(), nook.join(folder).into()));
        }
        variables.push(("LC_ALL".into(), "C".into()));
        variables
    }

    /// PATH as a household has it.
    fn path(&self, household: &Household) -> OsString {
        self.before(household, self.host.path.clone())
    }

    /// A household's commands in front of others.
    fn before(&self, household: &Household, path: OsString) -> OsString {
        let fronts = self.wiring.fronts(household).into_iter().rev();
        fronts.fold(path, |path, front| path_with(&self.landing.join(front), &path))
    }

    fn conclude(&self, subject: Subject, started: Instant, outcome: Outcome) -> Verdict {
        let verdict = Verdict { subject, outcome, took: started.elapsed() };
        self.observer.event(&Event::Checked(verdict.clone()));
        verdict
    }

    /// Runs the checks of one rung, all of them. Where one of its commands could not be started, that is told, and none is run.
    ///
    /// # Errors
    /// [`VerifyError`] where a check could not be run at all. One that fails is a verdict.
    pub fn check(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        let mut verdicts = self.not_startable(rung)?;
        let is_startable = verdicts.is_empty();
        let fit_outs = rung.definition.says.fit_outs.iter().filter(|_| is_startable && rung.berth.is_some());
        for fit_out in fit_outs {
            let verdict = self.fit_out(fit_out, FitStep::Done, rung)?;
            self.observer.event(&Event::Checked(verdict.clone()));
            verdicts.push(verdict);
        }
        for trial in &rung.definition.says.checks {
            let subject = Subject::Check { rung: rung.key.clone(), name: trial.name() };
            if !is_startable {
                verdicts.push(self.conclude(subject, Instant::now(), Outcome::Skipped(Skipped::EarlierFailed)));
                continue;
            }
            let said = rung.definition.said_at(&rung.version);
            let files = rung.files();
            let with = Filling { rung, folder: &files, place: &files, rungs: self.rungs, port: None };
            let filled = Filled { said, with };
            let nook = self.nook("checks", &rung.key.folder_name())?;
            let folder = nook.join("work");
            let around = Around::check(&nook, &folder);
            verdicts.extend(self.trial(subject, trial, &rung.key.household, Some(&filled), &around, &mut None)?);
        }
        Ok(verdicts)
    }

    /// Sees which file answers to each command of a rung, and what it would start.
    ///
    /// # Errors
    /// [`VerifyError`] where the user asked for an end.
    pub fn answer(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        check_cancelled(self.observer)?;
        let household = &rung.key.household;
        let path = self.path(household);
        match &rung.source {
            Source::Host(HostCopy::Itself(file)) => {
                let command = rung.definition.host.as_ref().and_then(|probe| probe.command.as_ref());
                return Ok(command.map(|command| self.host_answers(rung, command, file, &path)).into_iter().collect());
            }
            Source::Host(HostCopy::Package { .. }) => return Ok(Vec::new()),
            Source::Host(_) | Source::Shelf(_) => {}
        }
        let bytes = fs::read(self.landing.join(self.wiring.table_file(household))).unwrap_or_default();
        let nearest = self.wiring.fronts(household).into_iter().next().unwrap_or_default();
        let commands = self.landing.join(nearest);
        let wired = &self.wiring.table(household).entries;
        let judged = |(name, command): (&CommandName, &Command)| {
            let file = rung.file_of(command).below(&rung.files());
            // Another tool may answer to it, where the ladder says so.
            let is_own = |entry: &&Entry| entry.program == file || entry.arguments.contains(&file.clone().into());
            let entry = wired.iter().find(|entry| entry.command == name.as_str()).filter(is_own)?;
            let started = Instant::now();
            let subject = Subject::Answer { rung: rung.key.clone(), command: name.to_string() };
            let outcome = answered(&commands.join(name.as_str()), entry, &path, &bytes);
            Some(self.conclude(subject, started, outcome))
        };
        Ok(rung.commands.iter().filter_map(judged).collect())
    }

    /// For what the host has: the pinned file must still be the one that answers.
    fn host_answers(&self, rung: &Rung, command: &CommandName, file: &Path, path: &OsString) -> Verdict {
        let started = Instant::now();
        let command = command.to_string();
        let outcome = match answers(&command, path) {
            Some(first) if first == file => Outcome::Passed,
            Some(other) => Outcome::failed(Finding::OtherAnswers { file: other }),
            None => Outcome::failed(Finding::NobodyAnswers),
        };
        self.conclude(Subject::Answer { rung: rung.key.clone(), command }, started, outcome)
    }

    /// Compares a rung's files with its manifest and its berth with its plan; what the host has, has neither.
    ///
    /// # Errors
    /// [`VerifyError`] where a file is there and cannot be read.
    pub fn files(&self, rung: &Rung) -> Result<Option<Verdict>, VerifyError> {
        let started = Instant::now();
        check_cancelled(self.observer)?;
        let Some(Shelved { place, .. }) = rung.shelved() else { return Ok(None) };
        let subject = Subject::Files { rung: rung.key.clone() };
        let Some(manifest) = place.manifest().ok().filter(|_| place.standing() != Standing::Absent) else {
            return Ok(Some(self.conclude(subject, started, Outcome::failed(Finding::NoManifest))));
        };
        let mut differences = manifest.compare(&place.files())?;
        if let Some(berth) = &rung.berth {
            // What cannot be planned any more cannot be as it was planned.
            let whole = || vec![Difference { path: berth.folder.clone(), how: How::Changed }];
            differences.extend(berth.differences().unwrap_or_else(|_| whole()));
        }
        Ok(Some(self.conclude(subject, started, differing(differences))))
    }

    /// Who was seen with whom in the rehearsals that were run, and what all that was run was kept from; `None` where nothing was.
    pub fn seen(&self) -> (Together, Option<Confined>) {
        (self.together.lock().unwrap_or_else(PoisonError::into_inner).clone(), self.keeping.seen())
    }

    /// Looks whether the folders of commands hold what was put there, and nothing else.
    ///
    /// # Errors
    /// [`VerifyError`] where a folder of commands cannot be listed.
    pub fn commands(&self) -> Result<Verdict, VerifyError> {
        let started = Instant::now();
        let differences = self.wiring.differences(self.landing, true)?;
        Ok(self.conclude(Subject::Commands, started, differing(differences)))
    }

    /// What a command is run with, kept to its folder and to the ladder's corners.
    fn begun(
        &self,
        trial: &Trial,
        household: &Household,
        filled: Option<&Filled<'_>>,
        around: &Around<'_>,
    ) -> Result<Begun, VerifyError> {
        let whole = around.folder;
        let run = words(trial, filled);
        let mut variables = self.environment(household, around.nook);
        variables.extend(own_variables(trial, filled.map(|filled| &filled.with)));
        variables.extend(around.told.map(|told| ("KLADDER_STARTS".into(), told.into())));
        let folder = trial.folder.below(whole);
        files::create_folder(&folder)?;
        let network = if trial.network { Network::All } else { around.network };
        let mut cell = self.keeping.cell(self.writable(around), network, around.reads);
        cell.shown = around.shown.to_vec();
        Ok(Begun { run: resolved(run, &variables), folder, variables, cell })
    }

    fn setting<'s>(&'s self, begun: &'s Begun, trial: &'s Trial, around: &'s Around<'_>) -> process::Setting<'s> {
        // Whoever has a room of its own, or is watched, goes by way of an encloser; a check of a moment does without.
        let is_alone = !matches!(begun.cell.network, Network::Room(_)) && around.watched.is_none();
        process::Setting {
            run: &begun.run,
            input: &trial.input,
            folder: &begun.folder,
            variables: &begun.variables,
            limit: Duration::from_secs(trial.limit),
            cell: Some(&begun.cell),
            encloser: self.keeping.encloser().filter(|_| !is_alone),
            watched: around.watched,
            most: Some(self.keeping.most(trial)),
        }
    }

    fn trial(
        &self,
        subject: Subject,
        trial: &Trial,
        household: &Household,
        filled: Option<&Filled<'_>>,
        around: &Around<'_>,
        starts: &mut Option<Vec<Start>>,
    ) -> Result<Vec<Verdict>, VerifyError> {
        check_cancelled(self.observer)?;
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let begun = self.begun(trial, household, filled, around)?;
        let mut ran = process::run(&self.setting(&begun, trial, around), self.observer);
        check_cancelled(self.observer)?;
        if let Ok(ran) = &mut ran {
            self.keeping.was(&ran.confined);
            *starts = ran.starts.take();
        }
        let ran = match ran {
            Ok(ran) => ran,
            Err(error) => {
                return Ok(vec![self.conclude(subject, started, Outcome::failed(not_started(trial, &error)))]);
            }
        };
        let value = |hole: &Hole| filled.map(|filled| filled_hole(hole, &filled.with).to_string_lossy().into_owned());
        let said = filled.map(|filled| filled.said);
        let judged = Judged {
            trial,
            ran: &ran,
            said,
            value: &value,
            folder: &begun.folder,
            most: self.keeping.most(trial),
            host: self.host,
        };
        let mut verdicts = vec![self.conclude(subject.clone(), started, self.known(judged.outcome()))];
        for claim in &trial.claims {
            verdicts.push(self.conclude(subject.claiming(&claim.name), started, judged.claimed(claim)));
        }
        Ok(verdicts)
    }
}

/// A command about to be run.
struct Begun {
    run: Vec<OsString>,
    folder: PathBuf,
    variables: Vec<(OsString, OsString)>,
    cell: Cell,
}

/// What a command is run amid.
#[derive(Clone, Copy)]
struct Around<'a> {
    /// Where its home and temporary files are.
    nook: &'a Path,
    /// The folder of the check or project.
    folder: &'a Path,
    /// The network that it has where it does not say that it wants another.
    network: Network,
    /// What it may read besides.
    reads: &'a [PathBuf],
    /// Programs that are let go, where what others start is written down.
    watched: Option<Watching<'a>>,
    /// Where launchers write down what they start.
    told: Option<&'a Path>,
    /// Folders that it sees in place of the corners.
    shown: &'a [Shown],
}

impl<'a> Around<'a> {
    /// A check: by itself, in its folder.
    fn check(nook: &'a Path, folder: &'a Path) -> Self {
        Self { nook, folder, network: Network::None, reads: &[], watched: None, told: None, shown: &[] }
    }
}

/// The same below some folder.
fn nook_in(within: &Path, kind: &str, name: &str) -> Result<PathBuf, FileError> {
    let nook = within.join(kind).join(name);
    for folder in ["home", "tmp", "work"] {
        files::create_folder(&nook.join(folder))?;
    }
    Ok(nook)
}

/// Removes what killed processes of this user left among temporary files, and ends what they left running.
fn sweep(temporary: &Path) {
    // Whatever cannot be listed or removed is somebody else's.
    for name in files::names(temporary).unwrap_or_default() {
        let number = name.to_str().and_then(|name| name.strip_prefix(SCRATCH)?.split('-').next()?.parse::<i32>().ok());
        let is_gone = |number| {
            let pid = rustix::process::Pid::from_raw(number);
            pid.is_some_and(|pid| rustix::process::test_kill_process(pid) == Err(rustix::io::Errno::SRCH))
        };
        if let Some(number) = number.filter(|number| is_gone(*number)) {
            process::end_left_behind(number);
            let _ = files::remove_tree(&temporary.join(name));
        }
    }
}

fn differing(mut differences: Vec<Difference>) -> Outcome {
    let all = differences.len();
    differences.truncate(NAMED);
    if all == 0 { Outcome::Passed } else { Outcome::failed(Finding::Differs { differences, all }) }
}

/// The command as these variables' PATH has it; the caller's must not decide.
pub(crate) fn resolved(mut run: Vec<OsString>, variables: &[(OsString, OsString)]) -> Vec<OsString> {
    let path = variables.iter().find(|(name, _)| name == "PATH").map(|(_, path)| path);
    let found = run.first().and_then(|name| name.to_str()).filter(|name| !name.contains('/')).zip(path);
    if let Some(file) = found.and_then(|(name, path)| answers(name, path)) {
        run[0] = file.into();
    }
    run
}

/// Whether the launcher `ours` answers to its name, is what was put there, and starts what its entry says.
fn answered(ours: &Path, entry: &Entry, path: &OsString, table: &[u8]) -> Outcome {
    let name = ours.file_name().unwrap_or_default();
    match answers(&name.to_string_lossy(), path) {
        None => return Outcome::failed(Finding::NobodyAnswers),
        Some(other) if other != ours => return Outcome::failed(Finding::OtherAnswers { file: other }),
        Some(_) => {}
    }
    if launcher_differs(ours, true).is_some() {
        return Outcome::failed(Finding::OtherLauncher);
    }
    match table::find(table, name) {
        Err(_) | Ok(None) => Outcome::failed(Finding::NoEntry),
        Ok(Some(found)) if (&found.entry.program, &found.entry.arguments) != (&entry.program, &entry.arguments) => {
            Outcome::failed(Finding::OtherEntry { program: found.entry.program })
        }
        Ok(Some(_)) => Outcome::Passed,
    }
}

struct Filled<'f> {
    /// The version as the tool says it.
    said: &'f str,
    with: Filling<'f>,
}

/// The words of a command; in a rehearsal nothing is filled in but what stands for itself.
fn words(trial: &Trial, values: Option<&Filled<'_>>) -> Vec<OsString> {
    let word = |text: &kladder_choose::template::Template| match values {
        Some(Filled { with, .. }) => filled(text, with),
        None => text.as_written().into(),
    };
    trial.run.iter().map(word).collect()
}

/// The variables of a command alone; in a rehearsal nothing is filled in but what stands for itself.
fn own_variables(trial: &Trial, with: Option<&Filling<'_>>) -> Vec<(OsString, OsString)> {
    let value = |value: &kladder_choose::template::Template| match with {
        Some(with) => filled(value, with),
        None => value.as_written().into(),
    };
    trial.variables.iter().map(|(name, text)| (name.as_str().into(), value(text))).collect()
}

fn not_started(trial: &Trial, error: &io::Error) -> Finding {
    let command = trial.run.first().map(ToString::to_string).unwrap_or_default();
    match error.kind() {
        io::ErrorKind::NotFound => Finding::NoCommand { command },
        _ => Finding::NotStarted { command, error: error.to_string() },
    }
}
