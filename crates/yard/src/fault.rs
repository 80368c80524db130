//! Misbehaviour on demand.

use std::time::Duration;

/// What goes wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The connection closes after this many bytes of the body, although the header promised all of them.
    Cut(u64),
    /// The byte at this position is another one.
    Corrupt(u64),
    /// This status is sent instead of the file.
    Status(u16),
    /// Nothing is sent for this long, then the file.
    Stall(Duration),
}

/// A fault and where it applies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Applies to paths that end so.
    pub ending: String,
    /// What happens there.
    pub fault: Fault,
}
