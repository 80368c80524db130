//! One command and what must come of it.
//!
//! ```toml
//! [[checks]]
//! name = "says its version"
//! run = ["skerroc", "--version"]
//! input = ""                                     # given to its standard input
//! folder = "north"                               # where it runs, below the project's folder
//! variables = { TIDE = "{version}" }             # of this command alone
//! expect = { status = 0, stdout = '^skerroc (?<version>\S+)', never = 'warning' }
//! network = false                                # whether it may use the network
//! limit = 60                                     # seconds
//! memory = "2 GB"                                # with all that it starts; else most of what the machine has
//! processes = 100                                # at one time
//! takes = 12                                     # seconds that its keeper measured: what is told before it ran here
//! harmless = { '^note: no camera' = "a gauge has none" }   # lines that nothing is looked for in, and why
//!
//! [[checks.claims]]                              # what else must come of it, each with a verdict of its own
//! name = "finds its boards"
//! stdout = '^boards: \d+$'                       # also stderr, never
//! [[checks.claims]]
//! name = "writes down what it found"
//! file = "found.json"                            # where it ran, or from {folder} on
//! json = "/boards/0"                             # a JSON pointer (RFC 6901); without `file` into its output
//! equals = "neap-2"                              # or `holds`, a pattern
//! [[checks.claims]]
//! name = "sees the boards that are plugged in"
//! stdout = '^board (?<device>\S+)$'              # one match for each, as many as the system tells of
//! devices = "usb 1209:2c01"                      # by vendor and product, or vendor; or "graphics", with a driver's name or without
//! passed-over = "the board is at the repairer's" # not looked at, and every summary says why
//! ```
//!
//! A pattern may name `{folder}`, `{version}` and another rung's, `{tidlow.folder}`; they stand for themselves.
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

use std::collections::BTreeMap;

use serde::Deserialize;

use super::VariableName;
use super::devices::Devices;
use super::table::table;
use crate::path::InnerPath;
use crate::template::{Hole, Template};

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
    /// Where it runs, below the folder of the check or of the project.
    #[serde(default)]
    pub folder: InnerPath,
    /// Environment variables of this command alone.
    #[serde(default)]
    pub variables: BTreeMap<VariableName, Template>,
    /// What must come of it.
    #[serde(default)]
    pub expect: Expect,
    /// Whether it uses the network; else there is none for it.
    #[serde(default)]
    pub network: bool,
    /// Memory that it may take with all that it starts, in bytes; else most of what the machine has.
    #[serde(default, deserialize_with = "memory")]
    pub memory: Option<u64>,
    /// Processes that it may have at one time; else two thousand.
    #[serde(default)]
    pub processes: Option<usize>,
    /// How long it may take, in seconds.
    #[serde(default = "default_limit")]
    pub limit: u64,
    /// How long it took whoever wrote it, in seconds.
    #[serde(default)]
    pub takes: Option<u64>,
    /// Lines of its output that nothing is looked for in, by their pattern, and why.
    #[serde(default, deserialize_with = "harmless")]
    pub harmless: Vec<(Pattern, String)>,
    /// What else must come of it, each with a verdict of its own.
    #[serde(default)]
    pub claims: Vec<Claim>,
}

impl Trial {
    /// A command and where it runs; all else as where nobody says anything.
    pub(super) fn new(
        name: Option<String>,
        run: Vec<Template>,
        input: String,
        folder: InnerPath,
        limit: Option<u64>,
    ) -> Self {
        Self {
            name,
            run,
            input,
            folder,
            variables: BTreeMap::new(),
            expect: Expect::default(),
            network: false,
            memory: None,
            processes: None,
            limit: limit.unwrap_or_else(default_limit),
            takes: None,
            harmless: Vec::new(),
            claims: Vec::new(),
        }
    }

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
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expect {
    /// The exit statuses that will do.
    #[serde(default = "success", deserialize_with = "statuses")]
    pub status: Vec<i32>,
    /// A pattern that its output must hold. A group named `version` must be the pinned version.
    pub stdout: Option<Pattern>,
    /// A pattern that its error output must hold.
    pub stderr: Option<Pattern>,
    /// A pattern that neither of its outputs may hold, whatever its status.
    pub never: Option<Pattern>,
}

/// Where nobody says anything: that it ends well.
impl Default for Expect {
    fn default() -> Self {
        Self { status: success(), stdout: None, stderr: None, never: None }
    }
}

pub(super) fn memory<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Option<u64>, D::Error> {
    let text = String::deserialize(deserializer)?;
    super::gate::amount(&text).map(Some).map_err(serde::de::Error::custom)
}

pub(super) fn harmless<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<(Pattern, String)>, D::Error> {
    let by_pattern = BTreeMap::<String, String>::deserialize(deserializer)?;
    let read = |(pattern, reason)| Ok((Pattern::try_from(pattern)?, reason));
    by_pattern.into_iter().map(read).collect::<Result<_, String>>().map_err(serde::de::Error::custom)
}

fn success() -> Vec<i32> {
    vec![0]
}

fn statuses<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<i32>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "here stands an exit status, or a list of those that will do")]
    enum Form {
        One(i32),
        Several(Vec<i32>),
    }
    Ok(match Form::deserialize(deserializer)? {
        Form::One(status) => vec![status],
        Form::Several(statuses) => statuses,
    })
}

/// Something that must come of a command, with a verdict of its own.
#[derive(Clone, Debug)]
pub struct Claim {
    /// What it shows, in words.
    pub name: String,
    /// What is looked at.
    pub of: Of,
    /// What is looked for there.
    pub is: Is,
    /// Why it is not looked at.
    pub passed_over: Option<String>,
}

/// What a claim looks at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// What it wrote to its standard output.
    Output,
    /// What it wrote to its standard error.
    Error,
    /// Both.
    Either,
    /// A file: where it ran, or from a folder on.
    File(Template),
}

/// What a claim looks for.
#[derive(Clone, Debug)]
pub enum Is {
    /// Something like this.
    Like(Pattern),
    /// Nothing like this.
    Unlike(Pattern),
    /// As many as the system tells of, and the same ones where a group `device` says which.
    Devices {
        /// Which ones.
        which: Devices,
        /// What tells of one.
        each: Pattern,
    },
    /// At this JSON pointer this value, or a text like that.
    Value {
        /// RFC 6901.
        pointer: String,
        /// The value.
        value: Value,
    },
}

/// A value that a claim looks for.
#[derive(Clone, Debug)]
pub enum Value {
    /// Just this.
    Equals(serde_json::Value),
    /// A text, or the text of another value, that holds something like this.
    Like(Pattern),
    /// Anything.
    Any,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct ClaimForm {
    name: String,
    stdout: Option<Pattern>,
    stderr: Option<Pattern>,
    never: Option<Pattern>,
    file: Option<Template>,
    json: Option<String>,
    holds: Option<Pattern>,
    equals: Option<toml::Value>,
    devices: Option<Devices>,
    passed_over: Option<String>,
}

impl Claim {
    /// All of it that decides about its outcome, as one text.
    pub fn as_text(&self) -> String {
        let of = match &self.of {
            Of::Output => "stdout".to_owned(),
            Of::Error => "stderr".to_owned(),
            Of::Either => "either".to_owned(),
            Of::File(file) => format!("file {}", file.as_written()),
        };
        let is = match &self.is {
            Is::Like(pattern) => format!("like {}", pattern.as_str()),
            Is::Unlike(pattern) => format!("unlike {}", pattern.as_str()),
            Is::Devices { which, each } => format!("devices {which} {}", each.as_str()),
            Is::Value { pointer, value: Value::Equals(value) } => format!("{pointer} equals {value}"),
            Is::Value { pointer, value: Value::Like(pattern) } => format!("{pointer} like {}", pattern.as_str()),
            Is::Value { pointer, value: Value::Any } => format!("{pointer} there"),
        };
        format!("{}\n{of}\n{is}\n{}", self.name, self.passed_over.as_deref().unwrap_or_default())
    }
}

impl<'de> Deserialize<'de> for Claim {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        table::<D, ClaimForm, Self>(deserializer)
    }
}

impl TryFrom<ClaimForm> for Claim {
    type Error = &'static str;

    fn try_from(form: ClaimForm) -> Result<Self, &'static str> {
        let ClaimForm { name, stdout, stderr, never, file, json, holds, equals, devices, passed_over } = form;
        if let Some(which) = devices {
            return match (stdout, stderr, never, file, json, holds, equals) {
                (Some(each), None, None, None, None, None, None) => {
                    Ok(Self { name, of: Of::Output, is: Is::Devices { which, each }, passed_over })
                }
                _ => Err("`devices` goes with `stdout`, a pattern for each of them"),
            };
        }
        let equals = equals.map(serde_json::to_value).transpose().map_err(|_| "`equals` cannot stand in JSON")?;
        let (of, is) = match (stdout, stderr, never, json) {
            (Some(like), None, None, None) if file.is_none() => (Of::Output, Is::Like(like)),
            (None, Some(like), None, None) if file.is_none() => (Of::Error, Is::Like(like)),
            (None, None, Some(unlike), None) => (file.map_or(Of::Either, Of::File), Is::Unlike(unlike)),
            (None, None, None, Some(pointer)) => {
                if !pointer.is_empty() && !pointer.starts_with('/') {
                    return Err("`json` is a pointer like \"/boards/0\", RFC 6901");
                }
                let value = match (equals, holds) {
                    (Some(value), None) => Value::Equals(value),
                    (None, Some(like)) => Value::Like(like),
                    (None, None) => Value::Any,
                    _ => return Err("a claim has `equals` or `holds`, not both"),
                };
                return Ok(Self {
                    name,
                    of: file.map_or(Of::Output, Of::File),
                    is: Is::Value { pointer, value },
                    passed_over,
                });
            }
            (None, None, None, None) => match (file, holds) {
                (Some(file), Some(like)) => (Of::File(file), Is::Like(like)),
                _ => {
                    return Err(
                        "a claim looks for something: `stdout`, `stderr`, `never`, `json`, or `file` with `holds`",
                    );
                }
            },
            _ => return Err("a claim looks for one thing; write a claim for each"),
        };
        if equals.is_some() {
            return Err("`equals` goes with `json`; a text is looked for with `holds`");
        }
        Ok(Self { name, of, is, passed_over })
    }
}

/// A regular expression that is matched in time linear in the text (the syntax of Rust's `regex`), with `^` and `$` at
/// line ends. It may name folders and versions of rungs, which stand for themselves.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "String")]
pub struct Pattern {
    text: String,
    /// With its holes as they are written; `None` where there are some, so that it is made anew when they are known.
    regex: Option<regex::Regex>,
}

/// By what was written.
impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Pattern {}

/// Bytes that a compiled pattern may take; what needs more is a mistake.
const LARGEST: usize = 1 << 20;

impl Pattern {
    /// Numbers with dots between them.
    ///
    /// # Panics
    /// Never: the expression is fixed.
    pub fn version() -> Self {
        Self::try_from(r"(?<version>\d+(?:\.\d+)+)".to_owned()).expect("the expression is valid")
    }

    /// The expression, ready to be matched; what it names is nothing here.
    ///
    /// # Panics
    /// Never: it was seen to be one.
    pub fn regex(&self) -> regex::Regex {
        self.regex_with(&|_| None)
    }

    /// The expression with what it names filled in.
    ///
    /// # Panics
    /// Never: it was seen to be one, and what is filled in is escaped.
    pub fn regex_with(&self, value: &dyn Fn(&Hole) -> Option<String>) -> regex::Regex {
        match &self.regex {
            Some(regex) => regex.clone(),
            None => built(&filled(&self.text, value)).expect("a pattern that was checked stays one"),
        }
    }

    /// The expression as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

/// What stands in braces as a hole of a template would, and is no counted repetition: filled in, escaped.
fn filled(text: &str, value: &dyn Fn(&Hole) -> Option<String>) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        match Hole::at_start(rest) {
            // `\p{Greek}` and the like are the expression's own.
            Some((hole, length)) if !out.ends_with("\\p") && !out.ends_with("\\P") => {
                out.push_str(&regex::escape(&value(&hole).unwrap_or_default()));
                rest = &rest[length..];
            }
            _ => {
                out.push('{');
                rest = &rest[1..];
            }
        }
    }
    out + rest
}

fn built(text: &str) -> Result<regex::Regex, regex::Error> {
    regex::RegexBuilder::new(text).multi_line(true).size_limit(LARGEST).dfa_size_limit(LARGEST).build()
}

impl TryFrom<String> for Pattern {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let plain = filled(&text, &|_| Some("x".to_owned()));
        let built = built(&plain).map_err(|error| match error {
            regex::Error::CompiledTooBig(_) => format!("`{text}` is too large a pattern; repeat less in it"),
            error => format!("`{text}` is not a pattern: {}", last_line(&error.to_string())),
        })?;
        let regex = (plain == text).then_some(built);
        Ok(Self { text, regex })
    }
}

/// The library shows the pattern again on lines of its own; what is wrong stands on the last.
fn last_line(text: &str) -> &str {
    text.lines().next_back().unwrap_or(text).trim_start_matches("error: ")
}
