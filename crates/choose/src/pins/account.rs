//! What is told of a clash.

use super::Absent;
use crate::catalog::{Demand, Kind, Need, Way};
use crate::document::Place;
use crate::ladder::{HostPolicy, Range};
use crate::names::ToolName;
use crate::version::Version;

/// Why the wishes cannot be met together.
#[derive(Clone, Debug)]
pub struct ClashReport {
    /// The wishes that clash; with any one of them gone, the others can be met.
    pub wishes: Vec<ClashingWish>,
    /// What stands between them, from the wishes on.
    pub steps: Vec<Step>,
    /// Changes that were tried and do solve it, the one that moves least first.
    pub ways_out: Vec<WayOut>,
}

/// A wish in a clash.
#[derive(Clone, Debug)]
pub struct ClashingWish {
    /// Its position in the ladder; `None` for a move that was asked for.
    pub position: Option<usize>,
    /// The tool or capability.
    pub tool: ToolName,
    /// Which versions the wish allows.
    pub range: Range,
    /// Where it stands.
    pub place: Place,
}

/// One link between clashing wishes.
#[derive(Clone, Debug)]
pub enum Step {
    /// Releases of a tool need something.
    Needs {
        /// The tool.
        tool: ToolName,
        /// The tool that keeps it to itself.
        kept_by: Option<ToolName>,
        /// The releases, newest first.
        versions: Vec<Version>,
        /// What they need.
        need: Need,
        /// The tools that could meet it, where it names a capability.
        from: Vec<ToolName>,
    },
    /// Releases of a tool do not stand beside something.
    Excludes {
        /// The tool.
        tool: ToolName,
        /// The releases, newest first.
        versions: Vec<Version>,
        /// What they exclude.
        other: Way,
        /// The tool that is excluded, where it provides what is named.
        from: Option<ToolName>,
    },
    /// Releases of a bundle bring a tool along, so that it does not stand there itself.
    Brings {
        /// The bundle.
        tool: ToolName,
        /// The releases, newest first.
        versions: Vec<Version>,
        /// The tool.
        brought: ToolName,
    },
    /// Releases that would do are not on offer.
    Withheld {
        /// The tool.
        tool: ToolName,
        /// The releases, newest first.
        versions: Vec<Version>,
        /// Why not.
        why: Withheld,
    },
    /// No release is in a range at all.
    NotThere {
        /// The tool.
        tool: ToolName,
        /// As what it was asked, where that is a capability or another tool that it brings.
        provided: Option<ToolName>,
        /// The range.
        range: Range,
        /// The newest version there is of what was asked.
        newest: Option<Version>,
    },
    /// Only the host could have it, and does not, or not in a range.
    NotOnHost {
        /// The tool.
        tool: ToolName,
        /// The range.
        range: Range,
        /// What is known of it.
        absent: Box<Absent>,
    },
    /// The wished series goes no further.
    SeriesEnds {
        /// The tool.
        tool: ToolName,
        /// The series.
        series: String,
        /// Its newest release.
        newest: Version,
    },
}

/// Why a release is not on offer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Withheld {
    /// It is a preview, and nobody asked for one.
    Preview,
    /// It has no artifact for these machines.
    NoArtifact(Vec<Kind>),
    /// It demands what one of the machines is known not to have.
    Gate {
        /// The machine.
        machine: Kind,
        /// What is demanded.
        demand: Demand,
    },
    /// It lacks these pieces.
    NoPiece(Vec<String>),
    /// Only what the host has may be taken.
    HostOnly,
}

/// A change that solves a clash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WayOut {
    /// The change.
    pub change: Change,
    /// The wish that changes, as it stands.
    pub wish: Option<ChangedWish>,
    /// The tool and version that the wish leads to then; `None` when it is left out.
    pub takes: Option<(ToolName, Version)>,
    /// How many pins move.
    pub moved: usize,
}

/// A wish that would change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangedWish {
    /// The tool or capability.
    pub tool: ToolName,
    /// Its line, from 1.
    pub line: usize,
    /// What it says of the host, which stays.
    pub host: HostPolicy,
}

/// A change to a ladder. The variants are in rising order of what they cost.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Another range for a wish.
    Range {
        /// The wish, by its position.
        wish: usize,
        /// The new range.
        range: Range,
    },
    /// One more wish.
    Add {
        /// The tool.
        tool: ToolName,
        /// Its range.
        range: Range,
    },
    /// A wish may be met by what else there is than it says of the host.
    Host {
        /// The wish, by its position.
        wish: usize,
    },
    /// Without a machine.
    Machine(Kind),
    /// Without a wish.
    Leave {
        /// The wish, by its position.
        wish: usize,
    },
}
