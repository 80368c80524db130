//! What a rung is made of: tasks, each of which knows whether it is done, what it would do, how it does it, on which others
//! it depends, and what it leaves when it is killed.
//!
//! The route, the climb, the journal, `back` and `clear` know tasks and nothing else of a rung.
//!
//! A task that comes later (a wire into a shell, a service) is one more type here, named in its rung's list: it says what it is
//! made from, so that a change of that is a step of the route, and what it leaves, so that a kill is undone.

mod berth;
mod bring;
mod check;
mod fit_out;
pub mod launch;
mod rung;
pub mod sets;

pub use bring::{Prepared, executable, parts};
pub(crate) use rung::word_of;
pub use rung::{Because, Listening, Rung, Shelved, Source};

pub use fit_out::FitStep;
use kladder_choose::catalog::{FitOut, Trial};
use kladder_choose::names::ToolName;

use crate::base::digest::Digest;
use crate::base::event::{Event, Verdict};
use crate::base::files::FileError;
use crate::bring::intake::IntakeError;
use crate::keep::berth::BerthError;
use crate::keep::state::{JournalError, TaskName, Trace};

/// A task of a rung.
pub trait Task {
    /// What it is called in the journal, in landings and in the route.
    fn name(&self) -> TaskName;

    /// The digest of all that decides what comes of it. Where a landing was made from another one, it is to be done again.
    fn recipe(&self) -> Digest;

    /// Whether what it makes is there, at a glance. Tasks that make nothing outside the landing always say yes.
    fn is_there(&self) -> bool {
        true
    }

    /// The tasks of the same rung that must be done before it; when one of them is done again, so is this one.
    fn after(&self) -> &'static [TaskName];

    /// What it leaves on the disk when it is killed.
    fn traces(&self) -> Vec<Trace> {
        Vec::new()
    }

    /// What a person should know of it beforehand.
    fn would(&self) -> Vec<Would> {
        Vec::new()
    }

    /// Does it.
    ///
    /// # Errors
    /// [`TaskError`]; what it left is undone by its traces.
    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError>;
}

/// What a task would do that is worth telling.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Would {
    /// Run a command of the definition.
    Run {
        /// What it does.
        name: String,
        /// The command, as it is written.
        command: String,
    },
    /// Make something once for this ladder.
    FitOut {
        /// What is there afterwards.
        name: String,
        /// The command, as it is written.
        command: String,
        /// Whether it may use the network.
        network: bool,
    },
    /// Show files of others in the rung's own folder.
    Borrow {
        /// Who lends.
        from: Vec<ToolName>,
    },
    /// Let the rung write here.
    Corner(std::path::PathBuf),
}

/// What tasks work with; the climb hands it over.
pub trait Hands {
    /// The rung's files, brought in and unpacked; waits for them.
    ///
    /// # Errors
    /// [`TaskError`] where they could not be brought.
    fn take(&mut self) -> Result<Prepared, TaskError>;

    /// What an earlier task of the rung has prepared; `None` where none has.
    fn prepared(&mut self) -> &mut Option<Prepared>;

    /// Runs a command of the definition over prepared files, confined to them.
    ///
    /// # Errors
    /// [`TaskError`] where it could not be run. One that fails is a verdict.
    fn set_up(&mut self, trial: &Trial, files: &std::path::Path) -> Result<Verdict, TaskError>;

    /// Remembers what must be started anew before anything stands on the rung, before it is in place.
    ///
    /// # Errors
    /// [`FileError`] where that cannot be written down.
    fn remember_restart(&mut self) -> Result<(), FileError>;

    /// Runs a command that makes something for this ladder, or looks for it, confined to the rung's corners.
    ///
    /// # Errors
    /// [`TaskError`] where it could not be run. One that fails is a verdict.
    fn fit_out(&mut self, fit_out: &FitOut, step: FitStep) -> Result<Verdict, TaskError>;

    /// Runs the checks of the rung: all of them.
    ///
    /// # Errors
    /// [`TaskError`] where one could not be run. Those that fail are verdicts.
    fn check(&mut self) -> Result<Vec<Verdict>, TaskError>;

    /// Tells what happens.
    fn tell(&self, event: &Event);
}

/// Why a task was not done.
#[derive(Debug, thiserror::Error)]
pub enum TaskError {
    /// Artifacts could not be brought in.
    #[error(transparent)]
    Intake(#[from] IntakeError),
    /// A set-up command failed.
    #[error("a set-up command failed")]
    SetUp(Box<Verdict>),
    /// What is made once for a ladder was not made.
    #[error("a fit-out failed")]
    FitOut(Box<Verdict>),
    /// What a set-up command left leads out of the rung's folder, or is in the way.
    #[error("what its set-up left is refused at {}", path.display())]
    Left {
        /// Where, below the rung's folder.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        reason: crate::bring::unpack::Refusal,
    },
    /// A berth could not be made.
    #[error(transparent)]
    Berth(#[from] BerthError),
    /// A command has no file behind it.
    #[error("the command `{command}` has no file {}", file.display())]
    NoFile {
        /// As it is typed.
        command: String,
        /// Where the definition has it, below the rung's folder.
        file: std::path::PathBuf,
        /// What could be meant instead.
        near: Vec<std::path::PathBuf>,
        /// It is there, and may not be run.
        not_executable: bool,
    },
    /// Checks failed.
    #[error("{} failed", if .0.len() == 1 { "a check".to_owned() } else { format!("{} checks", .0.len()) })]
    Checks(Vec<Verdict>),
    /// A task could not be written down before it was done.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] crate::base::event::Cancelled),
}
