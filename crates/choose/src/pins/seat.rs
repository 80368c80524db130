//! Seats: the places in an answer that take one version each.

use std::sync::Arc;

use super::called::Called;
use crate::catalog::Need;
use crate::names::{Household, ToolName};

/// One version can be chosen for it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Seat {
    pub(super) tool: ToolName,
    pub(super) household: Household,
    /// With these pieces, sorted; such a seat stands on the one without.
    pub(super) pieces: Vec<String>,
    pub(super) part: Part,
}

/// Which machines a seat is for.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Part {
    /// All of them, when they can be served together.
    Everywhere,
    /// One of those offered, by its position, when each is served apart.
    On(usize),
    /// The version that all machines have in common, or [`Choice::Apart`].
    Lead,
}

/// What can be chosen for a seat.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Choice {
    /// The release at this position of the card.
    Release(usize),
    /// The copy at this position of those that the host has.
    Host(usize),
    /// For a lead: the machines differ.
    Apart,
}

/// Which choices will do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Reach {
    /// Those in a range.
    Within(Arc<Called>),
    /// Those in a range, for a lead; also that the machines differ.
    WithinOrApart(Arc<Called>),
    /// This one.
    Exactly(Choice),
}

impl Seat {
    /// The shared seat of a tool.
    pub(super) fn shared(tool: &ToolName, part: Part) -> Self {
        Self { tool: tool.clone(), household: Household::shared(), pieces: Vec::new(), part }
    }

    /// A seat with pieces, in any order.
    pub(super) fn with(tool: &ToolName, household: Household, pieces: &[String], part: Part) -> Self {
        let mut pieces = pieces.to_vec();
        pieces.sort();
        pieces.dedup();
        Self { tool: tool.clone(), household, pieces, part }
    }

    /// The same without pieces.
    pub(super) fn bare(&self) -> Self {
        Self { pieces: Vec::new(), ..self.clone() }
    }

    /// The bare seat of another part.
    pub(super) fn other(&self, part: Part) -> Self {
        Self { part, ..self.bare() }
    }

    /// Where what this seat needs of `tool` lives. All below a private need is private with it, but an owner is not
    /// below itself.
    pub(super) fn household_for(&self, need: &Need, tool: &ToolName) -> Household {
        let is_owner = self.household.owners().contains(&self.tool);
        let household = if need.private && !is_owner { self.household.of(&self.tool) } else { self.household.clone() };
        match household.owners().iter().position(|owner| owner == tool) {
            Some(at) => household.outer(at),
            None => household,
        }
    }
}
