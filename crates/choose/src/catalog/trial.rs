//! One command and what must come of it.
//!
//! ```toml
//! [[checks]]
//! name = "says its version"
//! run = ["skerroc", "--version"]
//! input = ""                                     # given to its standard input
//! expect = { status = 0, stdout = '^skerroc (?<version>\S+)' }
//! limit = 60                                     # seconds
//! ```
//!
//! Patterns match in time linear in the text; one that would take more than a megabyte when compiled is refused where it is
//! read.
//!
//! ```
//! use kladder_choose::catalog::Pattern;
//!
//! let pattern = Pattern::try_from(String::from(r"^skerroc (?<version>\S+)"))?;
//! assert_eq!(&pattern.regex().captures("hello\nskerroc 1.4.2").unwrap()["version"], "1.4.2");
//! assert!(Pattern::try_from(String::from("(((a{1000}){1000}){1000})")).is_err());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use serde::Deserialize;

use crate::template::Template;

/// A command to run, and what is expected of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trial {
    /// What it shows, in words.
    name: Option<String>,
    /// The command and its arguments.
    pub run: Vec<Template>,
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

impl Trial {
    /// What it shows, in words; the command itself where nobody found any.
    pub fn name(&self) -> String {
        self.name.clone().unwrap_or_else(|| format!("runs `{}`", self.written()))
    }

    /// The same with another command and input; what it shows stays.
    #[must_use]
    pub fn with(&self, run: Vec<Template>, input: String) -> Self {
        Self { name: Some(self.name()), run, input, ..self.clone() }
    }

    /// The command as it was written, with blanks between its words.
    pub fn written(&self) -> String {
        self.run.iter().map(Template::as_written).collect::<Vec<_>>().join(" ")
    }
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

/// A regular expression that is matched in time linear in the text (the syntax of Rust's `regex`), with `^` and `$` at
/// line ends.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "String")]
pub struct Pattern(regex::Regex);

/// Bytes that a compiled pattern may take; what needs more is a mistake.
const LARGEST: usize = 1 << 20;

impl Pattern {
    /// Numbers with dots between them.
    ///
    /// # Panics
    /// Never: the expression is fixed.
    pub fn version() -> Self {
        Self(regex::Regex::new(r"(?<version>\d+(?:\.\d+)+)").expect("the expression is valid"))
    }

    /// The expression, ready to be matched.
    pub fn regex(&self) -> &regex::Regex {
        &self.0
    }

    /// The expression as it was written.
    pub fn as_str(&self) -> &str {
        self.0.as_str()
    }
}

impl TryFrom<String> for Pattern {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let built =
            regex::RegexBuilder::new(&text).multi_line(true).size_limit(LARGEST).dfa_size_limit(LARGEST).build();
        built.map(Self).map_err(|error| match error {
            regex::Error::CompiledTooBig(_) => format!("`{text}` is too large a pattern; repeat less in it"),
            error => format!("`{text}` is not a pattern: {}", last_line(&error.to_string())),
        })
    }
}

/// The library shows the pattern again on lines of its own; what is wrong stands on the last.
fn last_line(text: &str) -> &str {
    text.lines().next_back().unwrap_or(text).trim_start_matches("error: ")
}
