//! What a process is allowed, whichever system sees to it.

use std::path::{Path, PathBuf};

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
    /// Only that of a room, in which the process with this number is: the loopback of those that are in it.
    Room(u32),
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
    /// Folders that it sees in place of others; where that cannot be had, it is not started.
    pub shown: Vec<Shown>,
}

/// A folder that is seen in place of another one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shown {
    /// The folder.
    pub own: PathBuf,
    /// Where it is seen.
    pub at: PathBuf,
}

impl Shown {
    /// Where a file that is seen really is; `None` for one elsewhere.
    pub fn own_of(&self, file: &Path) -> Option<PathBuf> {
        file.strip_prefix(&self.at).ok().map(|below| self.own.join(below))
    }
}
/// Which of the system's spaces a process was given for its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Spaces {
    /// Processes: what it starts ends with the first of them.
    pub(crate) processes: bool,
    /// Mounts, and all but what it may write is read-only there.
    pub(crate) read_only: bool,
    /// Folders are shown in place of others.
    pub(crate) shows: bool,
}

/// What processes take together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Usage {
    /// How many there are.
    pub(crate) processes: usize,
    /// Bytes of memory that they have in use; what they share counts for each.
    pub(crate) memory: u64,
}
