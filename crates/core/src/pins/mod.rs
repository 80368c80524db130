//! Pins: wishes plus catalog, resolved to exact versions with digests.

mod clash;
mod file;
mod host;
mod offer;
mod resolve;

pub use clash::{ClashReport, ClashingNeed, ClashingWish, WayOut};
pub use file::{Pin, PinnedArtifact, Pins, PinsFileError};
pub use host::{Found, HostTools, Moved};
pub use resolve::resolve;

use crate::catalog::{Catalog, CatalogError};
use crate::document::Place;
use crate::ladder::Ladder;
use crate::platform::Platform;
use crate::survey::Host;
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
    /// A wish names a piece that no release of the tool has.
    #[error("{tool} has no piece `{piece}`")]
    NoSuchPiece {
        /// The tool.
        tool: String,
        /// The piece.
        piece: String,
        /// Pieces that look like it.
        near: Vec<String>,
        /// The pieces there are.
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
    /// Only the host could have it, and does not, or not in this version.
    #[error("this host has no {tool}{wanted}")]
    NotOnHost {
        /// The tool or capability.
        tool: String,
        /// What was wished for, after a blank; nothing where anything would do.
        wanted: String,
        /// The version that the host has.
        found: Option<String>,
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
    /// What they pin on the host has changed.
    HostMoved,
    /// There are none.
    Missing,
}

/// The pins to go by, and how the ones on file fit.
#[derive(Clone, Debug)]
pub struct Settled {
    /// The pins.
    pub pins: Pins,
    /// How the old ones fit.
    pub freshness: Freshness,
    /// What was pinned on the host and does not hold any more.
    pub moved: Vec<Moved>,
}

/// The pins to go by: those on file where they fit the ladder and the host as they are now, else new ones that keep what
/// they can.
pub fn settle(ladder: &Ladder, catalog: &Catalog, host: &Host, old: Option<&Pins>) -> Result<Settled, PinsError> {
    let tools = HostTools::of(host);
    let moved = old.map(|old| tools.moved(old, catalog)).unwrap_or_default();
    let freshness = match old {
        None => Freshness::Missing,
        Some(old) if old.ladder != ladder.digest => Freshness::Stale,
        Some(_) if !moved.is_empty() => Freshness::HostMoved,
        Some(old) => return Ok(Settled { pins: old.clone(), freshness: Freshness::Current, moved }),
    };
    let pins = resolve(ladder, catalog, &host.platform, &tools, old)?;
    Ok(Settled { pins, freshness, moved })
}
