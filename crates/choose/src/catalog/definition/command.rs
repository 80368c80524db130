//! Commands and variables, by the names that they are known by.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use crate::names::is_plain;
use crate::template::{PathTemplate, Template};

/// A command as it is typed: can be a file's name, of at most 100 bytes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(try_from = "String")]
pub struct CommandName(String);

impl CommandName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::borrow::Borrow<str> for CommandName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for CommandName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

impl TryFrom<String> for CommandName {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        if is_plain(&text) { Ok(Self(text)) } else { Err(format!("`{text}` cannot be the name of a command")) }
    }
}

/// The name of an environment variable (POSIX.1-2024, XBD 8.1, and lower case).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(try_from = "String")]
pub struct VariableName(String);

impl VariableName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for VariableName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

impl TryFrom<String> for VariableName {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let is_name = !text.is_empty() && text.chars().all(fits) && !text.starts_with(|c: char| c.is_ascii_digit());
        if !is_name {
            return Err(format!("`{text}` cannot be the name of a variable: letters, digits and _ can"));
        }
        if text == "PATH" {
            return Err("PATH is put together from the commands of all rungs; name those under `commands`".to_owned());
        }
        Ok(Self(text))
    }
}

/// A file or folder of the host: it begins with `/`, or with `~/` for the person's home.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct HostPath(String);

impl HostPath {
    /// Where it is; `None` where nobody's home is known.
    pub fn of(&self, home: Option<&Path>) -> Option<PathBuf> {
        match self.0.strip_prefix("~/") {
            None => Some(PathBuf::from(&self.0)),
            Some(below) => Some(home?.join(below)),
        }
    }
}

impl TryFrom<String> for HostPath {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let below = text.strip_prefix("~/").or_else(|| text.strip_prefix('/'));
        let is_path = below.is_some_and(|below| !below.is_empty() && below.split('/').all(|part| part != ".."));
        if is_path { Ok(Self(text)) } else { Err(format!("`{text}` is no path that begins with `/` or `~/`")) }
    }
}

/// An environment variable that a tool brings.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "VariableForm")]
pub struct Variable {
    /// Its value, or what is added to it.
    pub value: Template,
    /// How it gets there.
    pub how: How,
    /// Who gets it.
    pub of: Whose,
}

/// How a variable gets its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// It is set.
    Set,
    /// In front of a list with colons between its parts.
    Front,
    /// Behind such a list.
    Behind,
    /// Where nothing is set.
    UnlessSet,
}

/// Who gets a variable.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Whose {
    /// Every command, and the shells.
    #[default]
    All,
    /// The commands of the tool, and of those that need it.
    Users,
    /// The commands of the tool alone.
    Tool,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands a text, or a table with `set`, `front`, `behind` or `unless-set`, and `of`")]
enum VariableForm {
    Set(String),
    Table(VariableTable),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct VariableTable {
    set: Option<String>,
    front: Option<String>,
    behind: Option<String>,
    unless_set: Option<String>,
    #[serde(default)]
    of: Whose,
}

impl TryFrom<VariableForm> for Variable {
    type Error = String;

    fn try_from(form: VariableForm) -> Result<Self, String> {
        let table = match form {
            VariableForm::Set(value) => {
                let value = Template::new(&value).map_err(|error| error.to_string())?;
                return Ok(Self { value, how: How::Set, of: Whose::All });
            }
            VariableForm::Table(table) => table,
        };
        let VariableTable { set, front, behind, unless_set, of } = table;
        let ways = [(set, How::Set), (front, How::Front), (behind, How::Behind), (unless_set, How::UnlessSet)];
        let mut ways = ways.into_iter().filter_map(|(value, how)| Some((value?, how)));
        match (ways.next(), ways.next()) {
            (Some((value, how)), None) => {
                let value = Template::new(&value).map_err(|error| error.to_string())?;
                Ok(Self { value, how, of })
            }
            _ => Err("a variable has one of `set`, `front`, `behind` and `unless-set`".to_owned()),
        }
    }
}

impl Variable {
    /// All of it that counts, as one text.
    pub fn as_text(&self) -> String {
        [self.how.as_str(), " ", self.of.as_str(), " ", &self.value.as_written()].concat()
    }

    /// Whether no other tool may bring one of this name.
    pub fn is_alone(&self) -> bool {
        self.how == How::Set && self.of == Whose::All
    }
}

impl How {
    /// As a definition has it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Set => "set",
            Self::Front => "front",
            Self::Behind => "behind",
            Self::UnlessSet => "unless-set",
        }
    }
}

impl Whose {
    /// As a definition has it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::All => "all",
            Self::Users => "users",
            Self::Tool => "tool",
        }
    }
}

/// What stands behind a command: a file of the tool, and arguments that come before the caller's.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "CommandForm")]
pub struct Command {
    /// Relative to the tool's folder.
    pub file: PathTemplate,
    /// Before the caller's own.
    pub arguments: Vec<Template>,
    /// The command of another rung that runs the file.
    pub by: Option<CommandName>,
    /// Environment variables of this command alone.
    pub variables: BTreeMap<VariableName, Template>,
    /// It attaches itself to other processes, as debuggers do: what it starts cannot be watched.
    pub attaches: bool,
}

#[derive(Deserialize)]
#[serde(
    untagged,
    expecting = "here stands a file like \"bin/tool\", or a table with `file`, `arguments`, `by`, `variables` and `attaches`"
)]
enum CommandForm {
    File(String),
    Table(CommandTable),
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandTable {
    file: String,
    #[serde(default)]
    arguments: Vec<String>,
    by: Option<CommandName>,
    #[serde(default)]
    variables: BTreeMap<VariableName, Template>,
    #[serde(default)]
    attaches: bool,
}

impl Command {
    /// A command that is just this file; `None` where such a path cannot be written in a definition.
    pub fn of_file(path: &str) -> Option<Self> {
        Self::try_from(CommandForm::File(path.to_owned())).ok()
    }
}

impl TryFrom<CommandForm> for Command {
    type Error = crate::template::TemplateError;

    fn try_from(form: CommandForm) -> Result<Self, Self::Error> {
        let table = match form {
            CommandForm::File(file) => CommandTable { file, ..CommandTable::default() },
            CommandForm::Table(table) => table,
        };
        let CommandTable { file, arguments, by, variables, attaches } = table;
        let arguments = arguments.iter().map(|text| Template::new(text)).collect::<Result<_, _>>()?;
        Ok(Self { file: PathTemplate::new(&file)?, arguments, by, variables, attaches })
    }
}
