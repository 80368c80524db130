//! Pins: wishes plus catalog, resolved to exact versions with digests.

mod account;
mod answer;
mod asker;
mod called;
mod clash;
mod file;
mod met;
mod offer;
mod on_host;
mod optional;
mod rank;
mod resolve;
mod seat;
mod twice;
mod ways;
mod why;
mod wishes;

pub use account::{Change, ChangedWish, ClashReport, ClashingWish, Step, WayOut, Withheld};
pub use asker::Asker;
pub use file::{FromCatalog, Pin, Pins, PinsFileError};
pub use met::{Beside, Met, Rule};
pub use on_host::{Absent, Found, HostCopy, HostPin, NoHost, OnHost, Pinned, Silent, Untold, host_pins_that_differ};
pub use why::{News, Passed, Reason, Shift, Why, shifts};

use std::time::{Duration, Instant};

use crate::catalog::{Brings, CatalogError, Catalogs, Demand, Gate, Kind, Machine, PinnedArtifact};
use crate::document::Place;
use crate::ladder::Ladder;
use crate::names::ToolName;
use crate::platform::Scope;
use crate::version::Version;

/// The command that repositories are brought with.
pub const VERSION_CONTROL: &str = "git";

/// What pins are chosen from, and how.
#[derive(Clone, Copy)]
pub struct Choosing<'c> {
    /// What is wanted.
    pub ladder: &'c Ladder,
    /// What there is.
    pub catalogs: &'c Catalogs,
    /// The machine at hand: that of a ladder that names none.
    pub here: &'c Machine,
    /// What the host has.
    pub host: &'c dyn OnHost,
    /// What was pinned before, and stays where it can.
    pub old: Option<&'c Pins>,
    /// What does not have to stay.
    pub moves: &'c Moves,
    /// When to give up.
    pub limits: Limits,
}

/// Pins that may move although their wishes still allow them.
#[derive(Clone, Debug, Default)]
pub struct Moves {
    /// All of them.
    pub all: bool,
    /// These tools.
    pub tools: Vec<ToolName>,
    /// These tools, to these versions.
    pub exact: Vec<(ToolName, Version)>,
}

impl Moves {
    fn lets_go(&self, tool: &str) -> bool {
        self.all || self.tools.iter().any(|t| *t == *tool) || self.exact.iter().any(|(t, _)| *t == *tool)
    }
}

/// When the resolver gives up.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Decisions, conflicts and releases looked into.
    pub steps: u64,
    until: Instant,
}

impl Limits {
    /// The usual number of steps, within a time that starts now; more than a day counts as one.
    pub fn within(time: Duration) -> Self {
        Self { steps: 5_000_000, until: Instant::now() + time.min(Duration::from_hours(24)) }
    }

    fn is_over(&self) -> bool {
        Instant::now() > self.until
    }
}

/// Where nobody says otherwise.
impl Default for Limits {
    fn default() -> Self {
        Self::within(Duration::from_secs(30))
    }
}

impl PinsError {
    /// How the host could be given what only it could have.
    pub fn chores(&self) -> Vec<Gate> {
        match self {
            Self::NotOnHost { absent, .. } => absent.chores.clone(),
            Self::Clash(report) => {
                let chores = |step: &Step| match step {
                    Step::NotOnHost { absent, .. } => absent.chores.clone(),
                    _ => Vec::new(),
                };
                report.steps.iter().flat_map(chores).collect()
            }
            _ => Vec::new(),
        }
    }
}

impl Choosing<'_> {
    fn machines(&self) -> Vec<Machine> {
        self.ladder.kinds(self.here)
    }
}

/// Why there are no pins.
#[derive(Debug, thiserror::Error)]
pub enum PinsError {
    /// The catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// The ladder wants code from repositories, and there is nothing to bring it with.
    #[error("the ladder wants code from repositories, and nothing has the command `{VERSION_CONTROL}`")]
    NoVersionControl {
        /// Tools of the catalogs that would.
        by: Vec<ToolName>,
    },
    /// A wish names a tool that the catalog does not have.
    #[error("the catalog has no tool `{name}`")]
    UnknownTool {
        /// What was wished for.
        name: ToolName,
        /// Tools that look like it.
        near: Vec<String>,
        /// The wish.
        place: Box<Place>,
    },
    /// Two rungs of one household bring a command or a variable of the same name.
    #[error("{one} and {other} both bring {what}")]
    Twice {
        /// One tool.
        one: ToolName,
        /// The other.
        other: ToolName,
        /// What both bring.
        what: Brings,
    },
    /// A definition needs something that nothing in the catalog is or provides.
    #[error("nothing in the catalog is or provides `{name}`, although a release needs it")]
    UnknownNeed {
        /// What is needed.
        name: ToolName,
    },
    /// A wish names a series that the tool does not have.
    #[error("{tool} has no series `{series}`")]
    NoSuchSeries {
        /// The tool.
        tool: ToolName,
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
        tool: ToolName,
        /// The piece.
        piece: String,
        /// Pieces that look like it.
        near: Vec<String>,
        /// The pieces there are.
        there: Vec<String>,
        /// Where it is asked for.
        place: Box<Place>,
    },
    /// A wish prefers a tool that does not stand for what it is about.
    #[error("{tool} is no {capability}")]
    NotAProvider {
        /// What is wished for.
        capability: ToolName,
        /// The tool.
        tool: ToolName,
        /// The tools that do stand for it.
        there: Vec<ToolName>,
        /// Those of them whose names look like it.
        near: Vec<String>,
        /// Where it is asked for.
        place: Box<Place>,
    },
    /// No release fits a wish.
    #[error("there is no {tool} {wanted}")]
    NoSuchVersion {
        /// The tool.
        tool: ToolName,
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
        tool: ToolName,
        /// The newest release that would fit.
        version: String,
        /// The machine.
        platform: Kind,
        /// What this release has artifacts for.
        there: Vec<Scope>,
        /// The wish.
        place: Box<Place>,
    },
    /// The releases that fit a wish, and are there, cannot run on a machine of the ladder.
    #[error("{tool} cannot run on {machine}")]
    GateClosed {
        /// The tool.
        tool: ToolName,
        /// The newest release that would fit.
        version: Version,
        /// The machine.
        machine: Kind,
        /// What it demands.
        demand: Box<Demand>,
        /// The wish.
        place: Box<Place>,
    },
    /// Only the host could have it, and does not, or not in this version.
    #[error("this host has no {tool}{wanted}")]
    NotOnHost {
        /// The tool or capability.
        tool: ToolName,
        /// What was wished for, after a blank; nothing where anything would do.
        wanted: String,
        /// What is known of it.
        absent: Box<Absent>,
        /// Tools of the catalog whose releases would do.
        elsewhere: Vec<ToolName>,
        /// The wish.
        place: Box<Place>,
    },
    /// The catalog has other bytes for a release than were pinned.
    #[error("the catalog has other bytes for {tool} {version} than those that are pinned")]
    OtherBytes {
        /// The tool.
        tool: ToolName,
        /// The version.
        version: Version,
        /// What the file is for.
        platform: Kind,
    },
    /// What should move is not on the ladder.
    #[error("there is no rung `{tool}` to move")]
    NothingToMove {
        /// The tool.
        tool: ToolName,
        /// Rungs that look like it.
        near: Vec<String>,
    },
    /// What should move has no such version.
    #[error("there is no {tool} {version} to move to")]
    NoSuchMove {
        /// The tool.
        tool: ToolName,
        /// The version.
        version: Version,
        /// Versions near it, newest first.
        nearest: Vec<Version>,
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
