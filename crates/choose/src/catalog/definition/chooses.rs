//! Editors and others of their kind: which tools they choose for a person, and what extends them.
//!
//! ```toml
//! [extensions]
//! at = "share/extensions"                        # each lies there, under its name
//! own = "~/.whimbrow/extensions"                 # where one that the host has looks for them
//!
//! [[chooses]]                                    # a place where it chooses a tool
//! what = "language server"
//! of = "skerrow"
//! command = "turnsedge"                          # what the ladder has for that; where it has none, nothing is set or asked
//! read = "at-start"                              # or "always": when it reads these settings
//! settings."~/.config/whimbrow/tools.toml" = { keys = { "servers/skerrow" = "@command@" } }
//! ask = { run = ["whimbrow", "--which", "skerrow"], write = { "x.skw" = "" }, like = '^(?<file>\S+)$' }
//! ```
//!
//! What extends it says so itself: `extends = { whimbrow = ">=6" }`.

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer};
use toml::Spanned;

use super::command::CommandName;
use crate::catalog::table::table;
use crate::catalog::{Pattern, Way};
use crate::names::ToolName;
use crate::path::InnerPath;
use crate::setting::{Setting, SettingForm, may_be_a_tools};
use crate::template::Template;
use crate::version::Requirement;

/// Where a tool looks for what extends it.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Extensions {
    /// The folder of it in which each lies under its name.
    pub at: InnerPath,
    /// The same for one that the host has: a folder in a person's home, which begins with `~/`.
    #[serde(default, deserialize_with = "own")]
    pub own: Option<String>,
}

fn own<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<String>, D::Error> {
    let path = String::deserialize(deserializer)?;
    may_be_a_tools(&path).map_err(serde::de::Error::custom)?;
    Ok(Some(path))
}

/// A place where a tool chooses another one for whoever works with it.
#[derive(Clone, Debug)]
pub struct Chooses {
    /// What is chosen, in words: a language server, an interpreter, a terminal.
    pub what: String,
    /// What it is chosen for, in words.
    pub of: Option<String>,
    /// The command that the ladder has for it.
    pub command: CommandName,
    /// When the settings are read.
    pub read: SettingsRead,
    /// What makes it choose that; `@command@` stands for the path of the command.
    pub settings: Vec<Setting>,
    /// How it tells which file it takes.
    pub ask: Option<Asking>,
}

impl Chooses {
    /// What is chosen and for what, as one name.
    pub fn name(&self) -> String {
        match &self.of {
            Some(of) => [&self.what, " for ", of].concat(),
            None => self.what.clone(),
        }
    }
}

/// When settings are read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SettingsRead {
    /// Whenever they change.
    #[default]
    Always,
    /// When it starts.
    AtStart,
}

/// How a tool is asked which file it takes.
#[derive(Clone, Debug)]
pub struct Asking {
    /// The command that is run, in a folder of its own, with the person's settings.
    pub run: Vec<Template>,
    /// Files that are there.
    pub write: BTreeMap<InnerPath, String>,
    /// What in its output says it, as a group `file`: a path, or the name of a command.
    pub like: Pattern,
    /// Seconds that it may take.
    pub limit: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ChoosesForm {
    what: String,
    of: Option<String>,
    command: CommandName,
    #[serde(default)]
    read: SettingsRead,
    #[serde(default)]
    settings: BTreeMap<String, SettingForm>,
    ask: Option<Asking>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AskingForm {
    run: Vec<Template>,
    #[serde(default)]
    write: BTreeMap<InnerPath, String>,
    like: Pattern,
    #[serde(default = "limit")]
    limit: u64,
}

fn limit() -> u64 {
    30
}

impl<'de> Deserialize<'de> for Chooses {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        table::<D, ChoosesForm, Self>(deserializer)
    }
}

impl TryFrom<ChoosesForm> for Chooses {
    type Error = &'static str;

    fn try_from(form: ChoosesForm) -> Result<Self, &'static str> {
        let ChoosesForm { what, of, command, read, settings, ask } = form;
        if settings.is_empty() && ask.is_none() {
            return Err("a choice has `settings` that make it, or an `ask` that tells it");
        }
        let settings =
            settings.into_iter().map(|(file, form)| Setting::of_tool(file, form)).collect::<Result<_, _>>()?;
        Ok(Self { what, of, command, read, settings, ask })
    }
}

impl<'de> Deserialize<'de> for Asking {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        table::<D, AskingForm, Self>(deserializer)
    }
}

impl TryFrom<AskingForm> for Asking {
    type Error = &'static str;

    fn try_from(form: AskingForm) -> Result<Self, &'static str> {
        let AskingForm { run, write, like, limit } = form;
        if run.is_empty() {
            return Err("there is nothing to run: `run` is an empty list");
        }
        if !like.regex().capture_names().flatten().any(|name| name == "file") {
            return Err("`like` says which file is taken, as a group: `(?<file>\\S+)`");
        }
        Ok(Self { run, write, like, limit })
    }
}

/// The tools that something extends, any one of which must be there; those that are written first are preferred.
pub(super) fn extends<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Way>, D::Error> {
    let mut all: Vec<_> = BTreeMap::<Spanned<ToolName>, Requirement>::deserialize(deserializer)?.into_iter().collect();
    all.sort_by_key(|(name, _)| name.span().start);
    let way = |(name, version): (Spanned<ToolName>, _)| Way { name: name.into_inner(), version, pieces: Vec::new() };
    Ok(all.into_iter().map(way).collect())
}
