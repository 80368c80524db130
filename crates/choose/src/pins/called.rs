//! What is asked for, under which name: for a capability its own versions count and not those of the tool.

use crate::catalog::{Card, CardRelease, Way};
use crate::ladder::{Range, Wish};
use crate::names::ToolName;
use crate::version::Version;

/// A range, and the name that it is asked for under.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Called {
    /// The tool or capability.
    pub(super) name: ToolName,
    /// Which versions of it.
    pub(super) range: Range,
}

impl From<&Way> for Called {
    fn from(way: &Way) -> Self {
        Self { name: way.name.clone(), range: Range::from(way) }
    }
}

impl From<&Wish> for Called {
    fn from(wish: &Wish) -> Self {
        Self { name: wish.tool.clone(), range: wish.range.clone() }
    }
}

impl Called {
    /// Whether a release will do, its pieces aside.
    pub(super) fn admits(&self, card: &Card, release: &CardRelease) -> bool {
        admits(&self.name, &self.range, card, release)
    }

    /// Whether what the host has will do, which belongs to no series.
    pub(super) fn admits_host(&self, card: &Card, version: &Version) -> bool {
        let counting = card.counting(&self.name, version, &[]);
        self.range.series.is_none()
            && counting.is_some_and(|(scheme, version)| self.range.requirement.allows_by(scheme, version))
    }
}

/// Whether a release is in a range of what is called `name`, its pieces aside.
pub(super) fn admits(name: &str, range: &Range, card: &Card, release: &CardRelease) -> bool {
    let counting = card.counting(name, &release.version, &release.series);
    counting.is_some_and(|(scheme, version)| range.requirement.allows_by(scheme, version))
        && range.series.as_ref().is_none_or(|series| release.series.contains(series))
}
