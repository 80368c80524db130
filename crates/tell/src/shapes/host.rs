//! The machine, a command that was run, a yard that serves, a ladder that was started.

use kladder_core::host::survey::Survey;
use schemars::JsonSchema;
use serde::Serialize;

/// What this machine is and has.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Surveyed<'s> {
    /// `kladder.survey/2`
    pub format: &'static str,
    /// What was found.
    #[serde(flatten)]
    pub survey: &'s Survey,
}

impl<'s> Surveyed<'s> {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.survey/2";

    /// The shape of a survey.
    pub fn of(survey: &'s Survey) -> Self {
        Self { format: Self::FORMAT, survey }
    }
}

/// A command that was run with the ladder.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Ran {
    /// `kladder.run/1`
    pub format: &'static str,
    /// The command and its arguments.
    pub command: Vec<String>,
    /// The file that answered.
    pub program: String,
    /// Whether it is one of the ladder's.
    pub climbed: bool,
    /// Its exit status; 128 and a signal's number where that ended it.
    pub status: i32,
    /// What it wrote.
    pub stdout: String,
    /// What it wrote on standard error.
    pub stderr: String,
}

impl Ran {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.run/1";
}

/// A yard that serves.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Served {
    /// `kladder.yard/1`
    pub format: &'static str,
    /// Its address on this machine.
    pub address: String,
    /// The folder.
    pub folder: String,
}

impl Served {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.yard/1";
}

/// A ladder that was written.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Started {
    /// `kladder.start/1`
    pub format: &'static str,
    /// Its file.
    pub ladder: String,
    /// How many wishes it has.
    pub wishes: usize,
}

impl Started {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.start/1";
}
