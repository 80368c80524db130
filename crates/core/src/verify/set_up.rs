//! Set-up commands: what a release must run once before it is whole, before it goes to the shelf.
//!
//! Threat model: as for checks, and they write. So they are kept to the folder that is being prepared (`confine`), with the
//! rungs they need on PATH, an empty home and a time limit; what they wrote is looked at like an archive's content.

use std::ffi::OsString;
use std::path::Path;
use std::time::Instant;

use super::{Bench, Filled, VerifyError, judge, not_started, resolved};
use crate::catalog::Trial;
use crate::confine::{Cell, Confined};
use crate::event::{Event, go_on};
use crate::process;
use crate::route::{Rung, Shelved};
use crate::verdict::{Outcome, Subject, Verdict};

impl Bench<'_> {
    /// Runs the set-up commands of a rung over its prepared files; the first that fails is returned.
    ///
    /// # Errors
    /// [`VerifyError`] where a command could not be started. One that fails, or takes too long, is a verdict.
    pub fn set_up(&self, rung: &Rung, shelved: &Shelved, files: &Path) -> Result<Option<Verdict>, VerifyError> {
        for trial in &rung.definition.set_up {
            let verdict = self.set_up_by(trial, rung, shelved, files)?;
            if verdict.failed() {
                return Ok(Some(verdict));
            }
        }
        Ok(None)
    }

    fn set_up_by(&self, trial: &Trial, rung: &Rung, shelved: &Shelved, files: &Path) -> Result<Verdict, VerifyError> {
        go_on(self.observer)?;
        let started = Instant::now();
        let subject = Subject::SetUp { tool: rung.key(), name: trial.name.clone() };
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let household = rung.kept_by.as_deref();
        let filled = Filled { version: &rung.name.version, folder: &files.to_path_buf(), household };
        let place = shelved.place.files().display().to_string();
        let run: Vec<OsString> =
            trial.run.iter().map(|text| Filled::fill(Some(&filled), &text.replace("{place}", &place))).collect();
        let variables = self.environment(household);
        let cell = Cell {
            reads: std::env::split_paths(&self.host.path)
                .chain([shelf_of(shelved), self.landing.to_path_buf()])
                .collect(),
            writes: vec![files.to_path_buf(), self.scratch.path().to_path_buf()],
        };
        let setting = process::Setting {
            run: &resolved(run, &variables),
            input: &trial.input,
            folder: files,
            variables: &variables,
            limit: std::time::Duration::from_secs(trial.limit),
            cell: Some(&cell),
        };
        let (outcome, confined, output) = match process::run(&setting, self.observer) {
            Ok(ran) => (judge::judge(trial, &ran, None), ran.confined, format!("{}{}", ran.stdout, ran.stderr)),
            Err(error) => {
                let outcome = Outcome::Failed { why: not_started(trial, &error), output: String::new() };
                (outcome, Confined::Nothing, String::new())
            }
        };
        go_on(self.observer)?;
        let (tool, name, took) = (rung.key(), trial.name.clone(), started.elapsed());
        self.observer.event(&Event::SetUp { tool, name, confined, output, took });
        Ok(Verdict { subject, outcome, took })
    }
}

/// The shelf that a place belongs to.
fn shelf_of(shelved: &Shelved) -> std::path::PathBuf {
    let folder = &shelved.place.folder;
    folder.ancestors().nth(2).unwrap_or(folder).to_path_buf()
}
