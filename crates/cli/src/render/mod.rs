//! What goes to the terminal.

mod problem;
mod progress;
mod prompt;
pub(crate) mod reason;
pub(crate) mod text;

pub(crate) use progress::Progress;
pub(crate) use prompt::look;

use std::io::{self, IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};
use serde::Serialize;

use crate::args::{Global, When};
use crate::problem::Problem;

/// Where output goes, and whether any should.
#[derive(Clone, Debug)]
pub(crate) struct Out {
    pub(crate) json: bool,
    pub(crate) quiet: bool,
    choice: ColorChoice,
}

impl Out {
    pub(crate) fn new(global: &Global) -> Self {
        let choice = match global.color {
            When::Auto => ColorChoice::Auto,
            When::Always => ColorChoice::Always,
            When::Never => ColorChoice::Never,
        };
        Self { json: global.json, quiet: global.quiet, choice }
    }

    /// Prints text for people, unless JSON or silence was asked for.
    pub(crate) fn say(&self, text: impl AsRef<str>) -> Result<(), Problem> {
        if self.json || self.quiet {
            return Ok(());
        }
        let mut out = AutoStream::new(io::stdout(), self.choice_for(&io::stdout()));
        let written = writeln!(out, "{}", text.as_ref()).and_then(|()| out.flush());
        written.map_err(|error| Problem::output(&error))
    }

    /// Prints a value for programs, if that was asked for.
    pub(crate) fn value(&self, value: &impl Serialize) -> Result<(), Problem> {
        if !self.json {
            return Ok(());
        }
        let text = serde_json::to_string_pretty(value).map_err(|error| Problem::output(&error.into()))?;
        writeln!(io::stdout(), "{text}").map_err(|error| Problem::output(&error))
    }

    /// Prints a problem where problems go.
    pub(crate) fn problem(&self, problem: &Problem, json: bool) {
        let text = if json { problem::json(problem) } else { problem::text(problem) };
        let mut out = AutoStream::new(io::stderr(), self.choice_for(&io::stderr()));
        // The exit code still tells if even this cannot be written.
        let _ = out.write_all(text.as_bytes());
    }

    fn choice_for(&self, stream: &impl anstream::stream::RawStream) -> ColorChoice {
        if self.choice == ColorChoice::Auto { AutoStream::choice(stream) } else { self.choice }
    }

    /// Whether progress can be drawn.
    pub(crate) fn draws(&self) -> bool {
        !self.json && !self.quiet && io::stderr().is_terminal()
    }
}
