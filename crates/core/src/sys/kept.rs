//! What a process was kept from.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

/// Something that a process can be kept from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kept {
    /// Writing anywhere but in its own folders.
    Writing,
    /// Reading anything but the system, the shelf and its own folders.
    Reading,
    /// Changing modes, owners, times and attributes of files that are not its own.
    Attributes,
    /// TCP.
    Tcp,
    /// Every other network: UDP, raw packets.
    Network,
    /// Sockets of other processes on this machine.
    LocalSockets,
    /// Sending signals to processes that it did not start.
    Signals,
    /// Seeing what other processes are and have in their environment.
    Processes,
    /// Leaving a process behind.
    Lingering,
}

/// What a process was kept from; nothing where the kernel can keep it from nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct Confined(pub BTreeSet<Kept>);

impl Confined {
    /// Everything that a process can be kept from.
    pub const ALL: [Kept; 9] = [
        Kept::Writing,
        Kept::Reading,
        Kept::Attributes,
        Kept::Tcp,
        Kept::Network,
        Kept::LocalSockets,
        Kept::Signals,
        Kept::Processes,
        Kept::Lingering,
    ];

    /// Whether it is kept from something.
    pub fn from(&self, what: Kept) -> bool {
        self.0.contains(&what)
    }

    /// What it is not kept from.
    pub fn not_from(&self) -> impl Iterator<Item = Kept> {
        Self::ALL.into_iter().filter(|what| !self.0.contains(what))
    }
}
