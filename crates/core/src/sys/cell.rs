//! What a process is allowed, whichever system sees to it.

use std::path::PathBuf;

/// What a process may read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reads {
    /// All that the caller may.
    Everything,
    /// The system's own files, and these folders.
    SystemAnd(Vec<PathBuf>),
}

/// Whether a process may use the network.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Network {
    /// It may.
    All,
    /// It may not.
    None,
}

impl Network {
    /// Whether there is none.
    pub fn is_none(self) -> bool {
        self == Self::None
    }
}

/// What a process may do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cell {
    /// What it may read and run.
    pub reads: Reads,
    /// What it may write.
    pub writes: Vec<PathBuf>,
    /// The network.
    pub network: Network,
}
/// Which of the system's spaces a process was given for its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Spaces {
    /// Processes: what it starts ends with the first of them.
    pub(crate) processes: bool,
    /// Mounts, and all but what it may write is read-only there.
    pub(crate) read_only: bool,
}
