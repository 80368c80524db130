//! Exit codes: one for each thing that a script would treat in another way.

use std::process::ExitCode;

/// How the program ends. The numbers are part of the interface; docs/commands.md lists them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Code {
    /// Something else failed.
    Failed = 1,
    /// The command line makes no sense.
    Usage = 2,
    /// A file that people write is wrong: ladder, catalog, settings or pins.
    BadFile = 10,
    /// The catalog has no such tool, or no such version of it.
    NotInCatalog = 11,
    /// The wishes cannot be met together.
    NoSolution = 12,
    /// There is no artifact for this platform.
    NoArtifact = 13,
    /// The resolver gave up.
    GaveUp = 14,
    /// The pins are not what the ladder asks for.
    PinsStale = 15,
    /// No yard could deliver.
    NoYard = 20,
    /// Bytes are not the pinned ones, or an archive was refused.
    Integrity = 21,
    /// A check or rehearsal failed.
    CheckFailed = 30,
    /// Nothing has been climbed yet.
    NotClimbed = 31,
    /// A gate is closed.
    GateClosed = 32,
    /// A licence was not accepted.
    LicenceMissing = 33,
    /// A restart or a new session is needed before the climb can go on.
    RestartNeeded = 34,
    /// The user did not want to go on.
    Declined = 35,
    /// Not permitted.
    NoPermission = 40,
    /// The disk is full.
    DiskFull = 41,
    /// Another process works on the same home.
    Busy = 42,
    /// The command to run is not there.
    NoCommand = 127,
    /// Interrupted by the user.
    Interrupted = 130,
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> Self {
        Self::from(code as u8)
    }
}
