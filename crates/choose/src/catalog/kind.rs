//! What something pinned is for.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::Machine;
use crate::platform::{NotAPlatform, Scope};

/// What something pinned is for: a machine of the ladder, or platforms. A machine comes first: it is the narrower.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Kind {
    /// The machine of this name.
    Machine(String),
    /// All machines of these platforms.
    Platforms(Scope),
}

impl Kind {
    /// Whether a machine is meant.
    pub fn holds_on(&self, machine: &Machine) -> bool {
        match self {
            Self::Machine(name) => *name == machine.name,
            Self::Platforms(scope) => scope.holds_on(&machine.platform),
        }
    }

    /// As pins have it.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Machine(name) => name,
            Self::Platforms(scope) => scope.as_str(),
        }
    }
}

impl Machine {
    /// How pins speak of it: by its platform, where it is the only machine of that.
    pub fn kind(&self) -> Kind {
        if self.by_name {
            Kind::Machine(self.name.clone())
        } else {
            Kind::Platforms(Scope::Platform(self.platform.clone()))
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl From<Kind> for String {
    fn from(kind: Kind) -> Self {
        kind.as_str().to_owned()
    }
}

impl TryFrom<String> for Kind {
    type Error = NotAPlatform;

    fn try_from(text: String) -> Result<Self, NotAPlatform> {
        match text.parse() {
            Ok(scope) => Ok(Self::Platforms(scope)),
            // No machine is called so.
            Err(error) if text.contains('/') => Err(error),
            Err(_) => Ok(Self::Machine(text)),
        }
    }
}
