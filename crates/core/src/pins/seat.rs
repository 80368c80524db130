//! Seats: the places in an answer that take one version each.

use std::rc::Rc;

use crate::catalog::{Card, CardRelease, Need};
use crate::ladder::Range;
use crate::platform::Platform;

/// One version can be chosen for it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Seat {
    pub(super) tool: String,
    pub(super) household: Household,
    /// With these pieces, sorted; such a seat stands on the one without.
    pub(super) pieces: Vec<String>,
    pub(super) part: Part,
}

/// Who keeps a tool to itself: the owner, below the owner of the household it lives in itself. Empty for the ladder.
pub(super) type Household = Vec<String>;

/// Which platforms a seat is for.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Part {
    /// All of them, when they can be served together.
    Everywhere,
    /// One, when each is served apart.
    On(Platform),
    /// The version that all platforms have in common, or [`Choice::Apart`].
    Lead,
}

/// What can be chosen for a seat.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Choice {
    /// The release at this position of the card.
    Release(usize),
    /// What the host has.
    Host,
    /// For a lead: the platforms differ.
    Apart,
}

/// Which choices will do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Reach {
    /// Those in a range.
    Within(Rc<Range>),
    /// Those in a range, for a lead; also that the platforms differ.
    WithinOrApart(Rc<Range>),
    /// This one.
    Exactly(Choice),
}

impl Seat {
    /// The shared seat of a tool.
    pub(super) fn shared(tool: &str, part: Part) -> Self {
        Self { tool: tool.to_owned(), household: Vec::new(), pieces: Vec::new(), part }
    }

    /// A seat with pieces, in any order.
    pub(super) fn with(tool: &str, household: Household, pieces: &[String], part: Part) -> Self {
        let mut pieces = pieces.to_vec();
        pieces.sort();
        pieces.dedup();
        Self { tool: tool.to_owned(), household, pieces, part }
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
    pub(super) fn household_for(&self, need: &Need, tool: &str) -> Household {
        let mut household = self.household.clone();
        if need.private && !household.contains(&self.tool) {
            household.push(self.tool.clone());
        }
        match household.iter().position(|owner| owner == tool) {
            Some(at) => household[..at].to_vec(),
            None => household,
        }
    }
}

/// Whether a release lies in a range, its pieces aside.
pub(super) fn in_range(range: &Range, card: &Card, release: &CardRelease) -> bool {
    range.requirement.allows_by(card.scheme, &release.version)
        && range.series.as_ref().is_none_or(|series| release.series.contains(series))
}
