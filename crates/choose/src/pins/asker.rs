//! Who asks for a rung.

use crate::catalog::{Card, Need};
use crate::document::Place;
use crate::ladder::Range;
use crate::names::ToolName;
use crate::version::Version;

/// Who asks for a rung.
#[derive(Clone, Debug)]
pub enum Asker {
    /// The ladder.
    Wish {
        /// As what: the tool or a capability.
        name: ToolName,
        /// Which versions it allows.
        range: Range,
        /// Where it stands.
        place: Place,
    },
    /// Another rung.
    Rung {
        /// Its tool.
        tool: ToolName,
        /// Its version.
        version: Version,
        /// What it needs.
        need: Need,
    },
}

impl Asker {
    /// The tools and capabilities that it asks for, any of which will do.
    pub(super) fn names(&self) -> Vec<&ToolName> {
        match self {
            Self::Wish { name, .. } => vec![name],
            Self::Rung { need, .. } => need.names().collect(),
        }
    }

    /// Whether a version would do, whatever series it belongs to.
    pub(super) fn allows(&self, card: &Card, version: &Version) -> bool {
        match self {
            Self::Wish { name, range, .. } => range.series.is_none() && card.meets(name, &range.requirement, version),
            Self::Rung { need, .. } => need.ways.iter().any(|way| card.meets(&way.name, &way.version, version)),
        }
    }
}
