//! Commands of definitions that write: set-up, which a release must run once before it is whole, before it goes to the shelf; and
//! fit-outs, which make something for a ladder in a rung's corners.
//!
//! Threat model: as for checks, and they write. So they are kept to the folder that is being prepared, or to the corners, without
//! network unless a fit-out says so, with the rungs they need on PATH, an empty home and a time limit; what a set-up wrote is
//! looked at like an archive's content.

use std::ffi::OsString;
use std::path::Path;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{FitOut, Trial};
use kladder_choose::template::Hole;

use super::judge::Judged;
use super::{Bench, Filled, VerifyError, nook_in, not_started, resolved, words};
use crate::base::event::{Confined, Event, Outcome, Subject, Verdict, Work, check_cancelled};
use crate::base::files;
use crate::host::confine::{Cell, Network, Reads};
use crate::host::process;
use crate::keep::berth::Berth;
use crate::keep::landing::ladder_of;
use crate::sys::Shown;
use crate::tasks::launch::{Filling, filled_hole};
use crate::tasks::{FitStep, Listening, Rung, Shelved};

impl Bench<'_> {
    /// Runs a set-up command of a rung over its prepared files.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be looked at. One that fails, or takes too long, is a verdict.
    pub fn set_up(&self, trial: &Trial, rung: &Rung, shelved: &Shelved, files: &Path) -> Result<Verdict, VerifyError> {
        let subject = Subject::SetUp { rung: rung.key.clone(), name: trial.name() };
        let place = shelved.place.files();
        let with = Filling { rung, folder: files, place: &place, rungs: self.rungs, port: None };
        let run = words(trial, Some(&Filled { said: rung.version.as_str(), with }));
        let shelf = shelved.place.folder.ancestors().nth(2).unwrap_or(&shelved.place.folder);
        let nook = self.nook("set-up", &rung.key.folder_name())?;
        let mut reads = vec![shelf.to_path_buf(), self.ladder().to_path_buf(), self.keeping.commands().to_path_buf()];
        // What it needs may be the host's own.
        reads.extend_from_slice(self.keeping.of_rungs());
        let cell = Cell {
            reads: Reads::SystemAnd(reads),
            writes: vec![files.to_path_buf(), nook.clone()],
            network: Network::None,
            shown: Vec::new(),
        };
        self.work(Some(Work::SetUp), subject, trial, &Worked { rung, run, nook: &nook, folder: files, cell, with })
    }

    /// Runs a command of a fit-out; where it has none for this step, that passes.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be looked at. One that fails, or takes too long, is a verdict.
    pub fn fit_out(&self, fit_out: &FitOut, step: FitStep, rung: &Rung) -> Result<Verdict, VerifyError> {
        self.fit_out_in(fit_out, step, rung, &[], self.scratch.path())
    }

    /// The same where other folders are seen in place of the corners; it works below `within`.
    pub(super) fn fit_out_in(
        &self,
        fit_out: &FitOut,
        step: FitStep,
        rung: &Rung,
        shown: &[Shown],
        within: &Path,
    ) -> Result<Verdict, VerifyError> {
        let subject = Subject::FitOut { rung: rung.key.clone(), name: fit_out.name.clone() };
        let Some(trial) = step.of(fit_out) else {
            return Ok(Verdict { subject, outcome: Outcome::Passed, took: Duration::ZERO });
        };
        let nook = nook_in(within, "fit-outs", &rung.key.folder_name())?;
        let folder = nook.join("work");
        let files = rung.files();
        let with = Filling { rung, folder: &files, place: &files, rungs: self.rungs, port: None };
        let run = words(trial, Some(&Filled { said: rung.version.as_str(), with }));
        let corners = rung.berth.iter().flat_map(Berth::corners);
        let shelf = rung.folder().ancestors().nth(2).unwrap_or(rung.folder());
        let cell = Cell {
            reads: Reads::SystemAnd(vec![
                shelf.to_path_buf(),
                self.ladder().to_path_buf(),
                self.keeping.commands().to_path_buf(),
            ]),
            writes: corners.chain([nook.clone()]).collect(),
            network: if fit_out.network && step == FitStep::Do { Network::All } else { Network::None },
            shown: shown.to_vec(),
        };
        // A look is no work.
        let work = match step {
            FitStep::Done => None,
            FitStep::Do => Some(Work::FitOut),
            FitStep::Undo => Some(Work::Undo),
        };
        self.work(work, subject, trial, &Worked { rung, run, nook: &nook, folder: &folder, cell, with })
    }

    /// Runs a command about a service of a rung: whether it is ready, or what it says of its state.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be looked at. One that fails, or takes too long, is a verdict, and what it wrote is told
    /// beside it.
    pub fn ask(&self, asked: &Asked<'_>) -> Result<(Verdict, String), VerifyError> {
        self.ask_in(asked, Network::All, &[], self.scratch.path())
    }

    /// The same in some network, where other folders are seen in place of the corners.
    pub(super) fn ask_in(
        &self,
        asked: &Asked<'_>,
        network: Network,
        shown: &[Shown],
        within: &Path,
    ) -> Result<(Verdict, String), VerifyError> {
        let Asked { service, rung, trial, port } = asked;
        let subject = Subject::Service { rung: rung.key.clone(), service: (*service).to_owned() };
        let nook = nook_in(within, "services", &rung.key.folder_name())?;
        let folder = nook.join("work");
        let files = rung.files();
        let with = Filling { rung, folder: &files, place: &files, rungs: self.rungs, port: *port };
        let run = words(trial, Some(&Filled { said: rung.version.as_str(), with }));
        let corners = rung.berth.iter().flat_map(Berth::corners);
        let writes = corners.chain([nook.clone()]).collect();
        let mut cell = self.keeping.cell(writes, network, &[]);
        cell.shown = shown.to_vec();
        self.run(subject, trial, &Worked { rung, run, nook: &nook, folder: &folder, cell, with })
            .map(|(verdict, _, said)| (verdict, said))
    }

    /// The folder of the ladder: the landing in the making, and the berths and corners beside it.
    pub(super) fn ladder(&self) -> &Path {
        ladder_of(self.landing)
    }

    fn work(
        &self,
        work: Option<Work>,
        subject: Subject,
        trial: &Trial,
        what: &Worked<'_>,
    ) -> Result<Verdict, VerifyError> {
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let (verdict, confined, output) = self.run(subject, trial, what)?;
        let (name, took) = (trial.name(), verdict.took);
        if let Some(work) = work {
            let rung = what.rung.key.clone();
            self.observer.event(&Event::Worked { work, rung, name, confined, output, took });
        }
        Ok(verdict)
    }

    /// Runs a command; tells what it was kept from and what it wrote, too.
    fn run(
        &self,
        subject: Subject,
        trial: &Trial,
        what: &Worked<'_>,
    ) -> Result<(Verdict, Confined, String), VerifyError> {
        check_cancelled(self.observer)?;
        let (started, Worked { rung, run, nook, folder, cell, .. }) = (Instant::now(), what);
        let mut variables = self.environment(&rung.key.household, nook);
        variables.extend(super::own_variables(trial, Some(&what.with)));
        let folder = &trial.folder.below(folder);
        files::create_folder(folder)?;
        let encloser = self.host.encloser();
        let setting = process::Setting {
            run: &resolved(run.clone(), &variables),
            input: &trial.input,
            folder,
            variables: &variables,
            limit: Duration::from_secs(trial.limit),
            cell: Some(cell),
            encloser: encloser.as_ref(),
            watched: None,
            most: Some(self.keeping.most(trial)),
        };
        let (outcome, confined, output) = match process::run(&setting, self.observer) {
            Ok(ran) => {
                let value = |hole: &Hole| Some(filled_hole(hole, &what.with).to_string_lossy().into_owned());
                let judged = Judged {
                    trial,
                    ran: &ran,
                    said: None,
                    value: &value,
                    folder,
                    most: self.keeping.most(trial),
                    host: self.host,
                };
                (judged.outcome(), ran.confined, [ran.stdout, ran.stderr].concat())
            }
            Err(error) => (Outcome::failed(not_started(trial, &error)), Confined::default(), String::new()),
        };
        check_cancelled(self.observer)?;
        Ok((Verdict { subject, outcome, took: started.elapsed() }, confined, output))
    }
}

/// A question about a service.
#[derive(Clone, Copy)]
pub struct Asked<'a> {
    /// Its name.
    pub service: &'a str,
    /// Whose it is.
    pub rung: &'a Rung,
    /// The command.
    pub trial: &'a Trial,
    /// Where it listens.
    pub port: Option<Listening>,
}

/// A command as it is run.
struct Worked<'w> {
    rung: &'w Rung,
    run: Vec<OsString>,
    nook: &'w Path,
    folder: &'w Path,
    cell: Cell,
    with: Filling<'w>,
}
