//! The facts of a survey: plain data. `None` and empty lists mean "not known", unless said otherwise.

use kladder_choose::pins::Untold;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// All that was found out.
#[derive(Clone, Debug, PartialEq, Serialize, schemars::JsonSchema)]
pub struct Survey {
    /// The operating system.
    pub system: System,
    /// The processor.
    pub processor: Processor,
    /// The C library.
    pub libc: Option<Libc>,
    /// Memory.
    pub memory: Option<Memory>,
    /// Free disk, where it matters.
    pub disks: Vec<Disk>,
    /// Shells.
    pub shells: Shells,
    /// What the caller may do.
    pub rights: Rights,
    /// Hardware virtualisation.
    pub virtualisation: Virtualisation,
    /// Graphics devices.
    pub graphics: Vec<Graphics>,
    /// What the system runs on.
    pub guest: Guest,
    /// Proxies named in the environment; what may be a password is left out.
    pub proxies: Vec<Proxy>,
    /// What tells a restart and a new session.
    pub identity: Identity,
    /// Tools that are there already.
    pub tools: Vec<HostTool>,
    /// Commands that occur more than once on PATH.
    pub twice: Vec<Twice>,
    /// What was odd: files that could not be read or contradict each other.
    pub odd: Vec<Odd>,
}

/// Something about a host that makes no sense, or could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(tag = "odd", rename_all = "kebab-case")]
pub enum Odd {
    /// Both GNU's and musl's C library are there; GNU's is taken for the system's own.
    TwoCLibraries,
    /// The kernel does not tell how much memory there is.
    MemoryUntold,
    /// The processor has features of another kind than it is said to be.
    OtherFeatures {
        /// The kind.
        kind: String,
    },
    /// More memory is available than there is, in bytes.
    MoreMemory {
        /// What is said to be available.
        available: u64,
        /// All there is.
        total: u64,
    },
    /// A description of the host cannot be used.
    Description {
        /// The file.
        file: PathBuf,
        /// What its reader said.
        error: String,
    },
}

/// The operating system.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct System {
    /// `linux` or `macos`.
    pub os: String,
    /// The distribution's short name, as in `ID` of os-release.
    pub id: Option<String>,
    /// The short names of distributions that it is like, as in `ID_LIKE`.
    pub like: Vec<String>,
    /// What it calls itself.
    pub name: Option<String>,
    /// Its release.
    pub release: Option<String>,
    /// The kernel's release.
    pub kernel: Option<String>,
}

/// The processor.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Processor {
    /// Its kind, as in a platform's name.
    pub kind: Option<String>,
    /// What it calls itself.
    pub model: Option<String>,
    /// Logical processors.
    pub count: usize,
    /// Its features, as the kernel names them, sorted.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub features: Vec<String>,
}

/// The C library.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Libc {
    /// `gnu` or `musl`.
    pub kind: String,
    /// Its version.
    pub version: Option<String>,
}

/// Memory, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Memory {
    /// All there is.
    pub total: u64,
    /// What programs could still have.
    pub available: u64,
}

/// Free disk at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Disk {
    /// What the place is for: `shelf`, `cache`, `temporary`.
    pub what: String,
    /// The place.
    pub path: PathBuf,
    /// Bytes that the caller could still write.
    pub free: Option<u64>,
    /// Which file system it is; places on one share their free bytes.
    #[serde(skip)]
    pub device: u64,
}

/// Shells.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Shells {
    /// Those that are there, sorted.
    pub installed: Vec<PathBuf>,
    /// The caller's login shell.
    pub login: Option<PathBuf>,
}

/// What the caller may do.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Rights {
    /// The caller's name.
    pub user: Option<String>,
    /// Whether the caller is root.
    pub root: bool,
    /// Groups the caller is in, sorted.
    pub groups: Vec<String>,
}

impl Rights {
    /// The group through which the caller may become root, if there is one.
    pub fn admin_group(&self) -> Option<&str> {
        const ADMIN: [&str; 3] = ["sudo", "wheel", "admin"];
        self.groups.iter().map(String::as_str).find(|group| ADMIN.contains(group))
    }
}

/// Hardware virtualisation.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Virtualisation {
    /// The processor has it, and the firmware lets it be seen.
    pub flag: bool,
    /// The kernel offers its device node.
    pub device: bool,
    /// The caller may open the node.
    pub reachable: bool,
}

/// A graphics device.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Graphics {
    /// Vendor and device, as hexadecimal numbers of the bus.
    pub device: Option<String>,
    /// Its driver.
    pub driver: Option<String>,
    /// The driver's version.
    pub version: Option<String>,
}

/// What the system runs on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(tag = "kind", content = "what", rename_all = "lowercase")]
pub enum Guest {
    /// There is nothing to tell it by.
    Unknown,
    /// Nothing speaks against bare metal.
    Metal,
    /// A virtual machine; its vendor as it calls itself.
    Machine(String),
    /// A container.
    Container,
    /// Linux inside another operating system.
    Inside(String),
}

/// A proxy named in the environment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Proxy {
    /// The variable.
    pub variable: String,
    /// Its value, without user and password.
    pub address: String,
}

/// What tells a restart and a new session.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Identity {
    /// Changes when the machine restarts.
    pub boot: Option<String>,
    /// Changes when the user logs in anew.
    pub session: Option<String>,
}

/// A tool that is there already.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct HostTool {
    /// The tool or capability.
    pub tool: String,
    /// The command that was looked for.
    pub command: String,
    /// The file that answers.
    pub path: PathBuf,
    /// The version it says; `None` when it said none.
    pub version: Option<String>,
    /// Why there is no version.
    pub untold: Option<Untold>,
}

/// A command that occurs more than once on PATH, as different files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Twice {
    /// The command.
    pub command: String,
    /// The file that answers.
    pub wins: PathBuf,
    /// The files that never get their turn.
    pub others: Vec<PathBuf>,
}
