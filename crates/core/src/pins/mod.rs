//! Pins: wishes plus catalog, resolved to exact versions with digests.

mod clash;
mod file;
mod resolve;

pub use clash::{ClashReport, ClashingNeed, ClashingWish, WayOut};
pub use file::{Pin, PinnedArtifact, Pins, PinsFileError};
pub use resolve::resolve;

use crate::catalog::{Catalog, CatalogError};
use crate::document::Place;
use crate::ladder::Ladder;
use crate::platform::Platform;
use crate::version::Version;

/// Why there are no pins.
#[derive(Debug, thiserror::Error)]
pub enum PinsError {
    /// The catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// A wish names a tool that the catalog does not have.
    #[error("the catalog has no tool `{name}`")]
    UnknownTool {
        /// The name.
        name: String,
        /// Tools that look like it.
        near: Vec<String>,
        /// The wish.
        place: Box<Place>,
    },
    /// A definition needs something that nothing in the catalog is or provides.
    #[error("nothing in the catalog is or provides `{name}`, although a release needs it")]
    UnknownNeed {
        /// What is needed.
        name: String,
    },
    /// A wish names a series that the tool does not have.
    #[error("{tool} has no series `{series}`")]
    NoSuchSeries {
        /// The tool.
        tool: String,
        /// The series.
        series: String,
        /// Series that look like it.
        near: Vec<String>,
        /// The series there are.
        there: Vec<String>,
        /// Where it is asked for.
        place: Box<Place>,
    },
    /// No release fits a wish.
    #[error("there is no {tool} {wanted}")]
    NoSuchVersion {
        /// The tool.
        tool: String,
        /// What was wished for.
        wanted: String,
        /// Versions near it, newest first.
        nearest: Vec<Version>,
        /// The series there are.
        series: Vec<String>,
        /// The wish.
        place: Box<Place>,
    },
    /// The releases that fit a wish have no artifact for a platform of the ladder.
    #[error("{tool} has no artifact for {platform}")]
    NoArtifact {
        /// The tool.
        tool: String,
        /// The newest release that would fit.
        version: String,
        /// The platform.
        platform: Platform,
        /// The platforms that this release has artifacts for.
        there: Vec<Platform>,
        /// The wish.
        place: Box<Place>,
    },
    /// The wishes cannot be met together.
    #[error("the wishes cannot be met together")]
    Clash(Box<ClashReport>),
    /// The resolver's budget ran out.
    #[error("no answer within {steps} steps{}", if *late { " and the time set" } else { "" })]
    GaveUp {
        /// Steps done.
        steps: u64,
        /// The time ran out first.
        late: bool,
    },
}

/// How far old pins can be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Freshness {
    /// They were made for this very ladder.
    Current,
    /// The ladder has changed since.
    Stale,
    /// There are none.
    Missing,
}

/// Tells whether pins fit their ladder as it is now.
pub fn freshness(ladder: &Ladder, pins: Option<&Pins>) -> Freshness {
    match pins {
        None => Freshness::Missing,
        Some(pins) if pins.ladder == ladder.digest => Freshness::Current,
        Some(_) => Freshness::Stale,
    }
}

/// The pins to go by: those on file where they fit the ladder as it is now, else new ones that keep what they can.
pub fn settle(
    ladder: &Ladder,
    catalog: &Catalog,
    host: &Platform,
    old: Option<&Pins>,
) -> Result<(Pins, Freshness), PinsError> {
    match (freshness(ladder, old), old) {
        (Freshness::Current, Some(pins)) => Ok((pins.clone(), Freshness::Current)),
        (fresh, _) => Ok((resolve(ladder, catalog, host, old)?, fresh)),
    }
}
