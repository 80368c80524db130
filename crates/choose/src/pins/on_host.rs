//! What the host has, as far as definitions say how to find it.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::{Pin, Pins};
use crate::catalog::{Catalogs, Definition, Gate, HostProbe};
use crate::names::ToolName;
use crate::version::Version;

/// A copy of a tool that the host has.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged, expecting = "here stands a path, or a table with `file`, `folder` or `package`")]
pub enum HostCopy {
    /// The first file on PATH that answers to its command, or a file that is no program: nothing is needed to reach it.
    Itself(PathBuf),
    /// A program that is not found first.
    Aside {
        /// The file.
        file: PathBuf,
    },
    /// A folder laid out as a release of it is.
    Laid {
        /// The folder.
        folder: PathBuf,
    },
    /// A package of the system.
    Package {
        /// As the system calls it.
        package: String,
    },
}

impl HostCopy {
    /// The file or folder; of a package its name.
    pub fn path(&self) -> &Path {
        match self {
            Self::Itself(file) | Self::Aside { file } => file,
            Self::Laid { folder } => folder,
            Self::Package { package } => Path::new(package),
        }
    }

    /// Whether it answers under its command's name only with help.
    pub fn is_launched(&self) -> bool {
        matches!(self, Self::Aside { .. } | Self::Laid { .. })
    }
}

/// A tool of the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The version it says.
    pub version: Version,
    /// Where it is.
    pub copy: HostCopy,
}

/// A copy that cannot be taken, since its version is not known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Silent {
    /// Where it is.
    pub copy: HostCopy,
    /// Why it is not known.
    pub why: Untold,
}

/// Why a tool that is there has not told its version.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(tag = "because", rename_all = "kebab-case")]
pub enum Untold {
    /// Nothing of a described host is run.
    Described,
    /// It could not be run.
    NotRun {
        /// What the system said.
        error: String,
    },
    /// It did not answer in time.
    TooSlow {
        /// Seconds that it was given.
        limit: u64,
    },
    /// It lies where a definition looks, and belongs neither to the system nor to the person: it is not run.
    Foreign,
    /// The person asked for an end.
    Interrupted,
    /// It ended with another status than 0.
    Status {
        /// That status.
        status: i32,
    },
    /// There is nothing like a version in what it says.
    Unsaid,
}

/// That the host has not what only it could have: what there is instead, and how it could be brought.
#[derive(Clone, Debug, Default)]
pub struct Absent {
    /// Other versions.
    pub found: Vec<Found>,
    /// What is there and says no version.
    pub silent: Vec<Silent>,
    /// Where it was looked for.
    pub probes: Vec<HostProbe>,
    /// How the host could be given it, as definitions say.
    pub chores: Vec<Gate>,
}

impl Absent {
    /// What is known of one tool, with what was found of it already.
    pub(super) fn of(definition: &Definition, host: &dyn OnHost, found: Vec<Found>) -> Self {
        Self {
            found,
            silent: host.silent(definition),
            probes: definition.host.iter().cloned().collect(),
            chores: definition.says.gates.iter().filter(|gate| gate.who().is_some()).cloned().collect(),
        }
    }

    /// Adds what is known of another tool that would do.
    pub(super) fn and(mut self, other: Self) -> Self {
        self.found.extend(other.found);
        self.silent.extend(other.silent);
        self.probes.extend(other.probes);
        self.chores.extend(other.chores);
        self
    }
}

/// Who knows what the host has.
pub trait OnHost {
    /// What the host has of a tool, the first to be taken first; nothing where the definition does not say how to find it.
    fn find(&self, definition: &Definition) -> Vec<Found>;

    /// What is there and says no version.
    fn silent(&self, _: &Definition) -> Vec<Silent> {
        Vec::new()
    }

    /// Whether a command of this name answers there; a host that cannot be asked is taken to have it.
    fn has_command(&self, _name: &str) -> bool {
        true
    }
}

/// A host that has nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoHost;

impl OnHost for NoHost {
    fn find(&self, _: &Definition) -> Vec<Found> {
        Vec::new()
    }
}

/// A host that has what pins say; no host is asked, so that the answer is the same on every machine.
#[derive(Clone, Copy, Debug)]
pub struct Pinned<'p>(pub &'p Pins);

impl OnHost for Pinned<'_> {
    fn find(&self, definition: &Definition) -> Vec<Found> {
        let pins = self.0.all().into_iter().filter(|(tool, _)| **tool == definition.tool);
        pins.filter_map(|(_, pin)| Some(Found { version: pin.version.clone(), copy: pin.host.clone()? })).collect()
    }
}

/// A pin on what the host has that does not hold any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostPin {
    /// Whose pin it is.
    pub tool: ToolName,
    /// The pinned version.
    pub was: Version,
    /// What was pinned.
    pub copy: HostCopy,
    /// What is there now: that copy at another version, else the first.
    pub now: Option<Found>,
    /// Why that copy says no version any more, where it is still there.
    pub silent: Option<Untold>,
}

/// The pins on the host's own tools that do not hold any more.
pub fn host_pins_that_differ(host: &dyn OnHost, pins: &Pins, catalogs: &Catalogs) -> Vec<HostPin> {
    let check = |(tool, pin): (&ToolName, &Pin)| {
        let copy = pin.host.clone()?;
        let definition = catalogs.tool(tool).ok().flatten();
        let found = definition.as_ref().map(|definition| host.find(definition)).unwrap_or_default();
        if found.iter().any(|now| now.version == pin.version && now.copy == copy) {
            return None;
        }
        let silent = definition.iter().flat_map(|definition| host.silent(definition));
        let silent = silent.into_iter().find(|silent| silent.copy.path() == copy.path()).map(|silent| silent.why);
        let same = found.iter().position(|now| now.copy.path() == copy.path());
        let now = found.into_iter().nth(same.unwrap_or(0));
        Some(HostPin { tool: tool.clone(), was: pin.version.clone(), copy, now, silent })
    };
    pins.rungs.iter().filter_map(check).collect()
}
