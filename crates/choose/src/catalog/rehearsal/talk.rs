//! What a program is asked over an open protocol, in a step of a rehearsal.
//!
//! ```toml
//! [[steps]]
//! run = ["turnsedge"]
//! [steps.language-server]                      # the Language Server Protocol 3.17, over standard input and output
//! file = "gauge.skw"                           # opened as it is in the project
//! language = "skerrow"                         # the protocol's name of its language
//! finds = 'begins no statement'                # a diagnostic for it is like that
//! completes = { after = "giv", like = '^give$' }   # what is offered behind the first such place in it
//! options = { strict = true }                  # what the server is told at its start
//!
//! [[steps]]
//! run = ["gaugebug"]
//! [steps.debug-adapter]                        # the Debug Adapter Protocol, likewise
//! file = "main.skw"
//! stops-at = "show level"                      # at the first line that holds this
//! launch = { program = "@folder@/main.img" }   # what it is to start; `@folder@` is the project's
//! ```

use serde::Deserialize;

use crate::catalog::Pattern;
use crate::path::InnerPath;

/// A conversation with a program.
#[derive(Clone, Debug)]
pub enum Talk {
    /// With a language server.
    LanguageServer(LanguageServer),
    /// With a debug adapter.
    DebugAdapter(DebugAdapter),
}

impl Talk {
    /// The same with words filled in where it says something to the program.
    #[must_use]
    pub(super) fn filled(&self, fill: &dyn Fn(&str) -> String) -> Self {
        let mut talk = self.clone();
        match &mut talk {
            Self::LanguageServer(ask) => ask.options.iter_mut().for_each(|table| filled_table(table, fill)),
            Self::DebugAdapter(ask) => filled_table(&mut ask.launch, fill),
        }
        talk
    }
}

fn filled_table(table: &mut toml::Table, fill: &dyn Fn(&str) -> String) {
    table.iter_mut().for_each(|(_, value)| filled_value(value, fill));
}

fn filled_value(value: &mut toml::Value, fill: &dyn Fn(&str) -> String) {
    match value {
        toml::Value::String(text) => *text = fill(text),
        toml::Value::Array(all) => all.iter_mut().for_each(|value| filled_value(value, fill)),
        toml::Value::Table(table) => filled_table(table, fill),
        _ => {}
    }
}

/// What a language server is asked.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LanguageServer {
    /// The file that is opened.
    pub file: InnerPath,
    /// The protocol's name of its language.
    pub language: String,
    /// The message of a diagnostic for it is like this.
    pub finds: Option<Pattern>,
    /// What it offers at a place.
    pub completes: Option<Completes>,
    /// What it is told at its start, besides what the protocol wants.
    pub options: Option<toml::Table>,
}

/// A place, and what is offered there.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Completes {
    /// The place is behind the first of these in the file.
    pub after: String,
    /// The label of one of the offers is like this.
    pub like: Pattern,
}

/// What a debug adapter is asked.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DebugAdapter {
    /// The source in which the program is to stop.
    pub file: InnerPath,
    /// At the first line that holds this.
    pub stops_at: String,
    /// What it is to start, as this adapter wants it said.
    pub launch: toml::Table,
}
