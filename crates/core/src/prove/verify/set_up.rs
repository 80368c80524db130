//! Set-up commands: what a release must run once before it is whole, before it goes to the shelf.
//!
//! Threat model: as for checks, and they write. So they are kept to the folder that is being prepared, without network,
//! with the rungs they need on PATH, an empty home and a time limit; what they wrote is looked at like an archive's content.

use std::path::Path;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Trial;

use super::{Bench, Filled, VerifyError, judge, not_started, resolved, words};
use crate::base::event::{Confined, Event, Outcome, Subject, Verdict, check_cancelled};
use crate::host::confine::{Cell, Network, Reads};
use crate::host::process;
use crate::tasks::{Rung, Shelved};

impl Bench<'_> {
    /// Runs a set-up command of a rung over its prepared files.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be looked at. One that fails, or takes too long, is a verdict.
    pub fn set_up(&self, trial: &Trial, rung: &Rung, shelved: &Shelved, files: &Path) -> Result<Verdict, VerifyError> {
        check_cancelled(self.observer)?;
        let started = Instant::now();
        let subject = Subject::SetUp { rung: rung.key.clone(), name: trial.name() };
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let place = shelved.place.files();
        let run = words(trial, Some(&Filled { version: &rung.version, folder: files, place: &place }));
        let variables = self.environment(&rung.key.household);
        let shelf = shelved.place.folder.ancestors().nth(2).unwrap_or(&shelved.place.folder);
        // The landing in the making, and the berths beside it.
        let ladder = self.landing.ancestors().nth(2).unwrap_or(self.landing);
        let cell = Cell {
            reads: Reads::SystemAnd(vec![shelf.to_path_buf(), ladder.to_path_buf()]),
            writes: vec![files.to_path_buf(), self.scratch.path().to_path_buf()],
            network: Network::None,
        };
        let encloser = self.host.encloser();
        let setting = process::Setting {
            run: &resolved(run, &variables),
            input: &trial.input,
            folder: files,
            variables: &variables,
            limit: Duration::from_secs(trial.limit),
            cell: Some(&cell),
            encloser: encloser.as_ref(),
        };
        let (outcome, confined, output) = match process::run(&setting, self.observer) {
            Ok(ran) => (judge::judge(trial, &ran, None), ran.confined, [ran.stdout, ran.stderr].concat()),
            Err(error) => (Outcome::failed(not_started(trial, &error)), Confined::default(), String::new()),
        };
        check_cancelled(self.observer)?;
        let (name, took) = (trial.name(), started.elapsed());
        self.observer.event(&Event::SetUp { rung: rung.key.clone(), name, confined, output, took });
        Ok(Verdict { subject, outcome, took })
    }
}
