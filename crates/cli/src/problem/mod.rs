//! What went wrong, in terms a person can act on: what, where, why, what next.

pub(crate) mod clash;
mod code;
mod explain;
mod wishes;

pub(crate) use code::Code;
pub(crate) use explain::{landing, state};

use std::error::Error;
use std::path::{Path, PathBuf};

use kladder_core::document::Place;

/// A problem, ready to be shown.
#[derive(Debug)]
pub(crate) struct Problem {
    pub(crate) code: Code,
    pub(crate) what: String,
    pub(crate) place: Where,
    pub(crate) why: Vec<String>,
    pub(crate) next: Vec<String>,
    broken_pipe: bool,
}

#[derive(Debug, Default)]
pub(crate) enum Where {
    #[default]
    Nowhere,
    File(PathBuf),
    Places(Vec<Place>),
}

impl Problem {
    pub(crate) fn new(code: Code, what: impl Into<String>) -> Self {
        let (why, next) = (Vec::new(), Vec::new());
        Self { code, what: what.into(), place: Where::Nowhere, why, next, broken_pipe: false }
    }

    pub(crate) fn at(mut self, path: &Path) -> Self {
        self.place = Where::File(path.to_path_buf());
        self
    }

    pub(crate) fn at_place(mut self, place: &Place) -> Self {
        match &mut self.place {
            Where::Places(places) => places.push(place.clone()),
            other => *other = Where::Places(vec![place.clone()]),
        }
        self
    }

    pub(crate) fn why(mut self, line: impl Into<String>) -> Self {
        self.why.push(line.into());
        self
    }

    pub(crate) fn next(mut self, line: impl Into<String>) -> Self {
        self.next.push(line.into());
        self
    }

    /// Whether the reader of our output went away, which is no error.
    pub(crate) fn is_broken_pipe(&self) -> bool {
        self.broken_pipe
    }

    /// Output that cannot be written.
    pub(crate) fn output(error: &std::io::Error) -> Self {
        let mut problem = Self::new(Code::Failed, "the output cannot be written").why(error.to_string());
        problem.broken_pipe = error.kind() == std::io::ErrorKind::BrokenPipe;
        problem
    }

    /// An error and the causes behind it, each a line of why.
    pub(crate) fn of(code: Code, error: &dyn Error) -> Self {
        let mut problem = Self::new(code, error.to_string());
        let mut cause = error.source();
        while let Some(error) = cause {
            let text = error.to_string();
            // Some libraries' causes say the same again, behind a number.
            if !problem.why.last().is_some_and(|said| text.ends_with(said)) {
                problem.why.push(text);
            }
            cause = error.source();
        }
        problem
    }
}
