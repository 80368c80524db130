//! What a rung needs once for each ladder, made in its corners after it stands.
//!
//! `ladders/NAME/fitted/TOOL.json` remembers what was made and what was begun. Whatever is there already is not made again; what
//! was begun and is not there is taken away first. Files for the first start are laid where there are none of their names:
//! whatever a tool or a person has written since stays.

use std::collections::BTreeSet;
use std::path::PathBuf;

use kladder_choose::catalog::{FitOut, Trial};
use kladder_choose::template::Template;
use serde::{Deserialize, Serialize};

use super::{Hands, Rung, Task, TaskError, Would};
use crate::base::crash;
use crate::base::digest::{Canonical, Digest};
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};
use crate::keep::state::TaskName;

/// A command of a fit-out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FitStep {
    /// Looks whether it is done.
    Done,
    /// Does it.
    Do,
    /// Takes away what was only half done.
    Undo,
}

impl FitStep {
    /// The command of a fit-out; there is not always one to undo it.
    pub fn of(self, fit_out: &FitOut) -> Option<&Trial> {
        match self {
            Self::Done => Some(&fit_out.done),
            Self::Do => Some(&fit_out.run),
            Self::Undo => fit_out.undo.as_ref(),
        }
    }
}

const FORMAT: u32 = 1;

/// What was made of a rung for a ladder.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Fitted {
    format: u32,
    /// Of all that was made; `None` while something is left.
    recipe: Option<Digest>,
    /// What was begun and not seen to be done.
    begun: BTreeSet<String>,
}

impl Fitted {
    fn read(path: &std::path::Path) -> Result<Self, RecordError> {
        if path.exists() { record::read(path, FORMAT) } else { Ok(Self { format: FORMAT, ..Self::default() }) }
    }
}

pub(super) struct FitOuts<'r> {
    pub(super) rung: &'r Rung,
    /// The record.
    pub(super) fitted: PathBuf,
}

impl FitOuts<'_> {
    fn is_begun(&self, record: &mut Fitted, name: &str) -> Result<bool, FileError> {
        let was_begun = !record.begun.insert(name.to_owned());
        self.write(record)?;
        Ok(was_begun)
    }

    fn write(&self, record: &Fitted) -> Result<(), FileError> {
        if let Some(folder) = self.fitted.parent() {
            files::create_folder(folder)?;
        }
        record::write(&self.fitted, record)
    }

    fn make(&self, fit_out: &FitOut, record: &mut Fitted, hands: &mut dyn Hands) -> Result<(), TaskError> {
        let is_done = |hands: &mut dyn Hands| hands.fit_out(fit_out, FitStep::Done);
        if !is_done(hands)?.failed() {
            return Ok(());
        }
        if self.is_begun(record, &fit_out.name)? && fit_out.undo.is_some() {
            // What cannot be taken away may still be made; then it is seen to be there.
            hands.fit_out(fit_out, FitStep::Undo)?;
        }
        crash::point("fit-out-begun");
        let made = hands.fit_out(fit_out, FitStep::Do)?;
        if made.failed() {
            return Err(TaskError::FitOut(Box::new(made)));
        }
        crash::point("fit-out-made");
        let seen = is_done(hands)?;
        if seen.failed() { Err(TaskError::FitOut(Box::new(seen))) } else { Ok(()) }
    }

    /// Lays the files for the first start, each whole or not at all.
    fn lay(&self) -> Result<(), TaskError> {
        let Some(berth) = &self.rung.berth else { return Ok(()) };
        for (path, text) in &self.rung.first_start {
            let Some(file) = berth.in_corner(path).filter(|file| file.symlink_metadata().is_err()) else { continue };
            let folder = file.parent().unwrap_or(&file);
            files::create_folder(folder)?;
            let new = tempfile::NamedTempFile::new_in(folder).on("make a file in", folder)?;
            std::fs::write(new.path(), text).on("write", new.path())?;
            match new.persist_noclobber(&file) {
                // Somebody else was first.
                Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => {}
                laid => drop(laid.map_err(|error| error.error).on("write", &file)?),
            }
        }
        Ok(())
    }
}

impl Task for FitOuts<'_> {
    fn name(&self) -> TaskName {
        TaskName::FitOut
    }

    fn recipe(&self) -> Digest {
        let mut digest = Canonical::new("kladder fit-outs", 1);
        for fit_out in &self.rung.definition.says.fit_outs {
            digest = digest.field("name", &fit_out.name).field("network", [u8::from(fit_out.network)]);
            for trial in fit_out.trials() {
                digest = digest.list("run", trial.run.iter().map(Template::as_written)).field("input", &trial.input);
            }
        }
        for (path, text) in &self.rung.first_start {
            digest = digest.field("file", path.as_str()).field("text", text);
        }
        digest.finish()
    }

    fn is_there(&self) -> bool {
        Fitted::read(&self.fitted).is_ok_and(|fitted| fitted.recipe == Some(self.recipe()))
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Shelve, TaskName::Berth]
    }

    fn would(&self) -> Vec<Would> {
        let fit_outs = self.rung.definition.says.fit_outs.iter();
        let made = |fit_out: &FitOut| Would::FitOut {
            name: fit_out.name.clone(),
            command: fit_out.run.written(),
            network: fit_out.network,
        };
        fit_outs.map(made).collect()
    }

    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError> {
        // A damaged record only means that everything is looked at anew.
        let mut record = Fitted::read(&self.fitted).unwrap_or_else(|_| Fitted { format: FORMAT, ..Fitted::default() });
        record.recipe = None;
        self.lay()?;
        for fit_out in &self.rung.definition.says.fit_outs {
            self.make(fit_out, &mut record, hands)?;
        }
        self.write(&Fitted { recipe: Some(self.recipe()), begun: BTreeSet::new(), ..record })?;
        crash::point("fitted-out");
        Ok(())
    }
}
