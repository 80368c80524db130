//! One command and what must come of it.

use serde::Deserialize;

/// A command to run, and what is expected of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trial {
    /// What it shows, in words.
    pub name: String,
    /// The command and its arguments; `{version}` and `{folder}` are filled in.
    pub run: Vec<String>,
    /// What is given to its standard input.
    #[serde(default)]
    pub input: String,
    /// What must come of it.
    #[serde(default)]
    pub expect: Expect,
    /// How long it may take, in seconds.
    #[serde(default = "default_limit")]
    pub limit: u64,
}

fn default_limit() -> u64 {
    60
}

/// What must come of a command.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expect {
    /// The exit status.
    #[serde(default)]
    pub status: i32,
    /// A pattern that its output must hold. A group named `version` must be the pinned version.
    pub stdout: Option<Pattern>,
    /// A pattern that its error output must hold.
    pub stderr: Option<Pattern>,
}

/// A regular expression.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "String")]
pub struct Pattern(regex::Regex);

impl Pattern {
    /// Numbers with dots between them.
    pub(super) fn version() -> Self {
        // The expression is fixed and was seen to compile.
        Self(regex::Regex::new(r"(?<version>\d+(?:\.\d+)+)").expect("the expression is valid"))
    }

    /// The expression.
    pub fn regex(&self) -> &regex::Regex {
        &self.0
    }
}

impl TryFrom<String> for Pattern {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let built = regex::RegexBuilder::new(&text).multi_line(true).build();
        built.map(Self).map_err(|error| format!("`{text}` is not a pattern: {error}"))
    }
}
