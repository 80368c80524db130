//! Exit codes: one for each thing that a script would treat in another way.

use std::process::ExitCode;

/// How the program ends. The numbers are part of the interface; docs/commands.md lists them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Code {
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
    /// A file is to be fetched by a person.
    ByPerson = 22,
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
    /// A service does not come up, or does not stay up.
    ServiceFailed = 36,
    /// Workstations that were compared are not the same.
    Different = 37,
    /// Not permitted.
    NoPermission = 40,
    /// The disk is full.
    DiskFull = 41,
    /// Another process works on the same home.
    Busy = 42,
    /// Something that kladder keeps is damaged.
    Damaged = 43,
    /// The command to run cannot be started.
    CannotStart = 126,
    /// The command to run is not there.
    NoCommand = 127,
    /// Interrupted by the user.
    Interrupted = 130,
}

impl Code {
    /// All codes.
    pub const ALL: [Self; 26] = [
        Self::Failed,
        Self::Usage,
        Self::BadFile,
        Self::NotInCatalog,
        Self::NoSolution,
        Self::NoArtifact,
        Self::GaveUp,
        Self::PinsStale,
        Self::NoYard,
        Self::Integrity,
        Self::ByPerson,
        Self::CheckFailed,
        Self::NotClimbed,
        Self::GateClosed,
        Self::LicenceMissing,
        Self::RestartNeeded,
        Self::Declined,
        Self::ServiceFailed,
        Self::Different,
        Self::NoPermission,
        Self::DiskFull,
        Self::Busy,
        Self::Damaged,
        Self::CannotStart,
        Self::NoCommand,
        Self::Interrupted,
    ];

    /// What it means.
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Failed => "something else failed",
            Self::Usage => "the command line makes no sense",
            Self::BadFile => "a file that people write is wrong: ladder, catalog, settings or pins",
            Self::NotInCatalog => "the catalog has no such tool, or no such version of it",
            Self::NoSolution => "the wishes cannot be met together",
            Self::NoArtifact => "there is no artifact for this platform",
            Self::GaveUp => "the resolver gave up",
            Self::PinsStale => "the pins are not what the ladder asks for",
            Self::NoYard => "no yard could deliver",
            Self::Integrity => "bytes are not the pinned ones, or an archive was refused",
            Self::ByPerson => "a file is to be fetched by a person",
            Self::CheckFailed => "a check or rehearsal failed",
            Self::NotClimbed => "nothing has been climbed yet, or not all that is pinned",
            Self::GateClosed => "a gate is closed",
            Self::LicenceMissing => "a licence was not accepted",
            Self::RestartNeeded => "a restart or a new session is needed before the climb can go on",
            Self::Declined => "the person did not want to go on",
            Self::ServiceFailed => "a service does not come up, or does not stay up",
            Self::Different => "workstations that were compared are not the same",
            Self::NoPermission => "not permitted",
            Self::DiskFull => "the disk is full",
            Self::Busy => "another kladder works on the same home",
            Self::Damaged => "something that kladder keeps is damaged",
            Self::CannotStart => "the command to run cannot be started",
            Self::NoCommand => "the command to run is not there",
            Self::Interrupted => "interrupted by the person",
        }
    }
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> Self {
        Self::from(code as u8)
    }
}
