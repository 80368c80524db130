//! How commands and variables come within reach.

use std::collections::BTreeMap;

use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

/// The variables of a ladder's commands.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Vars {
    /// `kladder.vars/1`
    pub format: &'static str,
    /// The ladder's file.
    pub ladder: String,
    /// The landing they are of.
    pub landing: u32,
    /// By name; PATH with the commands in front. What is not UTF-8 is replaced.
    pub variables: BTreeMap<String, String>,
    /// Values that the caller has for some of them, and that are no part of the new ones.
    pub replaces: BTreeMap<String, String>,
}

impl Vars {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.vars/1";
}

/// Who answers to a command.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Answers {
    /// `kladder.answers/1`
    pub format: &'static str,
    /// The command.
    pub command: String,
    /// The tool whose command it is in the ladder that counts here; null where it has none.
    pub tool: Option<ToolName>,
    /// At this version.
    pub version: Option<Version>,
    /// The file that the ladder's command starts.
    pub program: Option<String>,
    /// What answers in each place.
    pub answers: Vec<AnsweredAt>,
}

impl Answers {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.answers/1";
}

/// What answers in one place.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AnsweredAt {
    /// `here`, `terminal` (a new one), `login`, or `bare` for a job that no shell starts.
    pub place: &'static str,
    /// The shell there; null where there is none.
    pub shell: Option<&'static str>,
    /// The file that answers; null where none does.
    pub file: Option<String>,
    /// What answers and is no file, as the shell tells it: an alias, a function.
    pub other: Option<String>,
    /// Whether it is a ladder's.
    pub ladder: bool,
}

/// What became of the files that shells read when they start.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Wire {
    /// `kladder.wire/1`
    pub format: &'static str,
    /// Whether the lines are taken out; otherwise they are put in.
    pub taken_out: bool,
    /// The folder of commands that goes to the front of PATH.
    pub commands: String,
    /// Each file.
    pub files: Vec<WiredFile>,
}

impl Wire {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.wire/1";
}

/// A file that a shell reads when it starts.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WiredFile {
    /// Where it is.
    pub path: String,
    /// `bash`, `zsh`, `fish`, `sh`, or `session` for what no shell starts.
    pub shell: &'static str,
    /// `stands` (as it should be), `written`, `differs` (would be written), or `left` as it is.
    pub state: &'static str,
    /// Why it was left.
    pub why: Option<String>,
}
