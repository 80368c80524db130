//! What rungs bring into the launch table: each name can only mean one thing.

use serde::{Deserialize, Serialize};

/// A command or variable that a tool brings.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Brings {
    /// A command, as it is typed.
    Command(String),
    /// An environment variable.
    Variable(String),
}

impl Brings {
    /// What it is called.
    pub fn name(&self) -> &str {
        let (Self::Command(name) | Self::Variable(name)) = self;
        name
    }
}

impl std::fmt::Display for Brings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Command(name) => write!(f, "the command `{name}`"),
            Self::Variable(name) => write!(f, "the variable {name}"),
        }
    }
}
