//! What goes to the terminal.

mod difference;
pub(crate) mod junit;
pub(crate) mod ladder;
mod live;
mod problem;
mod progress;
mod prompt;
pub(crate) mod text;

pub(crate) use difference::difference;
pub(crate) use progress::Progress;
pub(crate) use prompt::{CHOOSING, TAKING, asking, look};

use std::io::{self, IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};
use kladder_tell::problem::Problem;
use serde::Serialize;

use crate::args::{Global, When};

/// Where output goes, and whether any should.
#[derive(Clone, Debug)]
pub(crate) struct Out {
    pub(crate) json: bool,
    pub(crate) quiet: bool,
    /// Columns of the terminal; `None` where there is none.
    width: Option<usize>,
    choice: ColorChoice,
}

/// Narrower than this nothing can be told.
const NARROWEST: usize = 30;

impl Out {
    pub(crate) fn new(global: &Global) -> Self {
        let choice = match global.color {
            When::Auto => ColorChoice::Auto,
            When::Always => ColorChoice::Always,
            When::Never => ColorChoice::Never,
        };
        Self { json: global.json, quiet: global.quiet, width: width(), choice }
    }

    /// Prints text for people, unless JSON or silence was asked for.
    pub(crate) fn say(&self, text: impl AsRef<str>) -> Result<(), Problem> {
        if self.json || self.quiet {
            return Ok(());
        }
        let text = match self.width {
            Some(width) => text::wrapped(text.as_ref(), width),
            None => text.as_ref().to_owned(),
        };
        let mut out = AutoStream::new(io::stdout(), self.choice_for(&io::stdout()));
        let written = writeln!(out, "{text}").and_then(|()| out.flush());
        written.map_err(|error| Problem::output(&error))
    }

    /// Prints what must stay as it is, whatever the terminal's width: a file, a script.
    pub(crate) fn verbatim(&self, text: impl AsRef<str>) -> Result<(), Problem> {
        Self { width: None, ..self.clone() }.say(text)
    }

    /// The same for a command that is part of another one, whose value is the only one that is printed.
    pub(crate) fn without_values(&self) -> Self {
        Self { json: false, quiet: self.json || self.quiet, ..self.clone() }
    }

    /// The same for what is printed as a value whatever was asked for.
    pub(crate) fn with_values(&self) -> Self {
        Self { json: true, ..self.clone() }
    }

    /// Columns as a text for [`Out::say`], fitted to the terminal.
    pub(crate) fn columns(&self, head: &[&str], rows: Vec<Vec<String>>, right: &[usize]) -> String {
        text::columns(head, rows, right, self.width)
    }

    /// Prints a value for programs, if that was asked for.
    pub(crate) fn value(&self, value: &impl Serialize) -> Result<(), Problem> {
        if !self.json {
            return Ok(());
        }
        let text = serde_json::to_string_pretty(value).map_err(|error| Problem::output(&error.into()))?;
        writeln!(io::stdout(), "{text}").map_err(|error| Problem::output(&error))
    }

    /// Prints a problem that is part of what is told.
    pub(crate) fn tell_problem(&self, problem: &Problem) -> Result<(), Problem> {
        self.verbatim(problem::text(problem, self.width).trim_end())
    }

    /// Prints a problem where problems go.
    pub(crate) fn problem(&self, problem: &Problem) {
        let text = if self.json { problem::json(problem) } else { problem::text(problem, self.width) };
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

    /// Columns that a drawing may take.
    pub(crate) fn room(&self) -> usize {
        self.width.unwrap_or(100)
    }

    /// Columns of the terminal that progress is drawn on.
    pub(crate) fn drawing_width(&self) -> usize {
        self.width.unwrap_or(80)
    }
}

/// Columns of the terminal: what `COLUMNS` says, else what the terminal does.
fn width() -> Option<usize> {
    let said = std::env::var("COLUMNS").ok().and_then(|text| text.parse::<usize>().ok());
    let seen = || terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0));
    said.or_else(seen).filter(|width| *width > 0).map(|width| width.max(NARROWEST))
}
