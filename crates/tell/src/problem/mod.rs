//! What went wrong, in terms a person can act on: what, where, why, what next.

mod climbs;
mod code;
mod explain;
mod files;
mod keeping;
mod services;
mod sets;
mod shared;
mod wishes;

pub use code::Code;

use std::error::Error;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::Brings;
use kladder_choose::document::Place;
use kladder_choose::names::ToolName;

/// A problem, ready to be shown.
#[derive(Debug)]
pub struct Problem {
    /// How the program ends.
    pub code: Code,
    /// What happened.
    pub what: String,
    /// Where.
    pub place: Where,
    /// Why, a sentence a line.
    pub why: Vec<String>,
    /// What to do next, a step a line.
    pub next: Vec<String>,
    broken_pipe: bool,
}

/// Where something happened.
#[derive(Debug, Default)]
pub enum Where {
    /// In no file.
    #[default]
    Nowhere,
    /// In this file or folder as a whole.
    File(PathBuf),
    /// At these places of files that people write.
    Places(Vec<Place>),
}

impl Problem {
    /// A problem without place, reasons and advice.
    pub fn new(code: Code, what: impl Into<String>) -> Self {
        let (why, next) = (Vec::new(), Vec::new());
        Self { code, what: what.into(), place: Where::Nowhere, why, next, broken_pipe: false }
    }

    /// At this file or folder.
    #[must_use]
    pub fn at(mut self, path: &Path) -> Self {
        self.place = Where::File(path.to_path_buf());
        self
    }

    /// At this place of a file, besides those named before.
    #[must_use]
    pub fn at_place(mut self, place: &Place) -> Self {
        match &mut self.place {
            Where::Places(places) => places.push(place.clone()),
            other => *other = Where::Places(vec![place.clone()]),
        }
        self
    }

    /// With one more reason.
    #[must_use]
    pub fn why(mut self, line: impl Into<String>) -> Self {
        self.why.push(line.into());
        self
    }

    /// With one more step to take.
    #[must_use]
    pub fn next(mut self, line: impl Into<String>) -> Self {
        self.next.push(line.into());
        self
    }

    /// What can be done where two tools bring the same.
    pub(crate) fn brought_twice(self, one: &ToolName, other: &ToolName, what: &Brings) -> Self {
        if let Brings::File { to, .. } = what {
            return self
                .why(format!("both would be seen at one path in the folder of {to}"))
                .next(format!("lend one of them elsewhere, with `at`, or leave {one} or {other} off the ladder"));
        }
        let name = what.name();
        self.why("a name can only mean one of them")
            .next(format!(
                "say which one answers: `{name} = \"{one}\"` or `{name} = \"{other}\"` under [answers] in the ladder"
            ))
            .next(format!("or leave {one} or {other} off the ladder"))
    }

    /// Whether the reader of our output went away, which is no error.
    pub fn is_broken_pipe(&self) -> bool {
        self.broken_pipe
    }

    /// Output that cannot be written.
    pub fn output(error: &std::io::Error) -> Self {
        let mut problem = Self::new(Code::Failed, "the output cannot be written").why(error.to_string());
        problem.broken_pipe = error.kind() == std::io::ErrorKind::BrokenPipe;
        problem
    }

    /// An error and the causes behind it, each a line of why.
    pub fn of(code: Code, error: &dyn Error) -> Self {
        let mut problem = Self::new(code, error.to_string());
        let mut cause = error.source();
        while let Some(error) = cause {
            let text = error.to_string();
            if text == problem.what {
                cause = error.source();
                continue;
            }
            // Some libraries' causes say the same again, behind a number.
            if !problem.why.last().is_some_and(|said| text.ends_with(said)) {
                problem.why.push(text);
            }
            cause = error.source();
        }
        problem
    }
}
