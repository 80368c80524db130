//! The machine, a command that was run, a yard that serves, a ladder that was started.

use std::path::PathBuf;

use kladder_core::base::event::chain;
use kladder_core::desk::take::{TakeError, Taken};
use kladder_core::host::survey::Survey;
use schemars::JsonSchema;
use serde::Serialize;

use super::path;

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

/// Files that a person has fetched, each taken into the cache or not.
#[derive(Debug, Serialize, JsonSchema)]
pub struct YardTaken {
    /// `kladder.yard-take/1`
    pub format: &'static str,
    /// In the order in which they were named.
    pub files: Vec<TakenFile>,
}

/// One of them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenFile {
    /// The file.
    pub file: String,
    /// Whose it is; null where it was not taken.
    pub tool: Option<String>,
    /// Of which version.
    pub version: Option<String>,
    /// Bytes.
    pub size: Option<u64>,
    /// Why it was not taken; null where it was.
    pub refused: Option<String>,
}

impl YardTaken {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.yard-take/1";

    /// The shape of what came of it.
    pub fn of(all: &[(PathBuf, Result<Taken, TakeError>)]) -> Self {
        let one = |(file, taken): &(PathBuf, Result<Taken, TakeError>)| {
            let taken_as = taken.as_ref().ok();
            TakenFile {
                file: path(file),
                tool: taken_as.map(|taken| taken.tool.to_string()),
                version: taken_as.map(|taken| taken.version.to_string()),
                size: taken_as.map(|taken| taken.size),
                refused: taken.as_ref().err().map(|error| chain(error)),
            }
        };
        Self { format: Self::FORMAT, files: all.iter().map(one).collect() }
    }
}
