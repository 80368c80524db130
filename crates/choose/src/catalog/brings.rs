//! What rungs bring into the launch table, and into each other's folders: each name can only mean one thing.

use serde::{Deserialize, Serialize};

use crate::names::ToolName;

/// A command or variable that a tool brings.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Brings {
    /// A command, as it is typed.
    Command(String),
    /// An environment variable.
    Variable(String),
    /// A file in another tool's folder, where a loan names it.
    File {
        /// Who borrows.
        to: ToolName,
        /// Where it is seen in the borrower's folder, as it is written.
        path: String,
    },
}

impl Brings {
    /// What it is called.
    pub fn name(&self) -> &str {
        let (Self::Command(name) | Self::Variable(name) | Self::File { path: name, .. }) = self;
        name
    }
}

impl std::fmt::Display for Brings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Command(name) => write!(f, "the command `{name}`"),
            Self::Variable(name) => write!(f, "the variable {name}"),
            Self::File { to, path } => write!(f, "the file {path} for {to}"),
        }
    }
}
