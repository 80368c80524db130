//! Commands and variables, by the names that they are known by.

use std::collections::BTreeMap;

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
}

#[derive(Deserialize)]
#[serde(
    untagged,
    expecting = "here stands a file like \"bin/tool\", or a table with `file`, `arguments`, `by` and `variables`"
)]
enum CommandForm {
    File(String),
    Table(CommandTable),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandTable {
    file: String,
    #[serde(default)]
    arguments: Vec<String>,
    by: Option<CommandName>,
    #[serde(default)]
    variables: BTreeMap<VariableName, Template>,
}

impl TryFrom<CommandForm> for Command {
    type Error = crate::template::TemplateError;

    fn try_from(form: CommandForm) -> Result<Self, Self::Error> {
        let (file, arguments, by, variables) = match form {
            CommandForm::File(file) => (file, Vec::new(), None, BTreeMap::new()),
            CommandForm::Table(CommandTable { file, arguments, by, variables }) => (file, arguments, by, variables),
        };
        let arguments = arguments.iter().map(|text| Template::new(text)).collect::<Result<_, _>>()?;
        Ok(Self { file: PathTemplate::new(&file)?, arguments, by, variables })
    }
}
