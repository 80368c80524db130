//! Libraries of sets.

use kladder_choose::names::ToolName;
use kladder_core::desk::{LibraryMove, LibraryThere, Misplaced};
use schemars::JsonSchema;
use serde::Serialize;

use super::path;

/// A library that moved.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LibraryMoved {
    /// The set.
    pub set: ToolName,
    /// The library.
    pub library: String,
    /// Its version before; null for a new one.
    pub was: Option<String>,
    /// Its version now; null for one that is not needed any more.
    pub now: Option<String>,
}

/// Those that moved.
pub(super) fn moved(moves: &[LibraryMove]) -> Vec<LibraryMoved> {
    let moved = |one: &LibraryMove| {
        let LibraryMove { set, library, was, now } = one.clone();
        LibraryMoved { set, library, was, now }
    };
    moves.iter().map(moved).collect()
}

/// Why a library is there.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhyLibrary {
    /// `kladder.why-library/1`
    pub format: &'static str,
    /// Each set that has it.
    pub sets: Vec<LibraryInSet>,
    /// Copies that another installer put where no set sees them.
    pub misplaced: Vec<LibraryElsewhere>,
    /// The set whose environment the caller works in.
    pub worked_in: Option<ToolName>,
}

/// A copy of a library outside of all sets.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LibraryElsewhere {
    /// The folder that it lies in.
    pub folder: String,
    /// Its version.
    pub version: String,
    /// Who put it there; null where nothing says so.
    pub by: Option<String>,
}

/// A library in a set.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LibraryInSet {
    /// The set.
    pub set: ToolName,
    /// The library, by its normalised name.
    pub library: String,
    /// Its version; null where its lock file does not say it.
    pub version: Option<String>,
    /// The index that it is taken from; null where its lock file does not say it.
    pub index: Option<String>,
    /// What the ladder says of it; null where it does not wish for it itself.
    pub wish: Option<String>,
    /// Its optional pieces that are there.
    pub pieces: Vec<String>,
    /// Libraries of the set that need it.
    pub needed_by: Vec<String>,
    /// From a library that the ladder wishes for down to it.
    pub way: Vec<String>,
    /// Where it is wanted (PEP 508); null for every machine.
    pub marker: Option<String>,
    /// Its files.
    pub files: Vec<String>,
}

impl WhyLibrary {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.why-library/1";

    /// The shape of where a library is.
    pub fn of(there: &[LibraryThere], misplaced: &[Misplaced], worked_in: Option<ToolName>) -> Self {
        let one = |one: &LibraryThere| LibraryInSet {
            set: one.set.clone(),
            library: one.library.name.clone(),
            version: one.library.version.clone(),
            index: one.library.index.clone(),
            wish: one.wish.clone(),
            pieces: one.library.pieces.clone(),
            needed_by: one.askers.iter().map(|(name, _)| name.clone()).collect(),
            way: one.way.clone(),
            marker: one.library.marker.clone(),
            files: one.library.wheels.iter().map(|wheel| wheel.file.clone()).collect(),
        };
        let elsewhere = |one: &Misplaced| {
            let Misplaced { folder, version, by } = one.clone();
            LibraryElsewhere { folder: path(&folder), version, by }
        };
        let (sets, misplaced) = (there.iter().map(one).collect(), misplaced.iter().map(elsewhere).collect());
        Self { format: Self::FORMAT, sets, misplaced, worked_in }
    }
}
