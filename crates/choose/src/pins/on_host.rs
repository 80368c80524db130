//! What the host has, as far as definitions say how to find it.

use std::path::PathBuf;

use super::{Pin, Pins};
use crate::catalog::{Catalogs, Definition};
use crate::names::ToolName;
use crate::version::Version;

/// A tool of the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The version it says.
    pub version: Version,
    /// The file that answers.
    pub file: PathBuf,
}

/// Who knows what the host has.
pub trait OnHost {
    /// What the host has of a tool; `None` where the definition does not say how to find it, or nothing answers with a
    /// version.
    fn find(&self, definition: &Definition) -> Option<Found>;

    /// Whether a command of this name answers there; a host that cannot be asked is taken to have it.
    fn has_command(&self, _name: &str) -> bool {
        true
    }
}

/// A host that has nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoHost;

impl OnHost for NoHost {
    fn find(&self, _: &Definition) -> Option<Found> {
        None
    }
}

/// A host that has what pins say; no host is asked, so that the answer is the same on every machine.
#[derive(Clone, Copy, Debug)]
pub struct Pinned<'p>(pub &'p Pins);

impl OnHost for Pinned<'_> {
    fn find(&self, definition: &Definition) -> Option<Found> {
        let mut pins = self.0.all().into_iter().filter(|(tool, _)| **tool == definition.tool);
        pins.find_map(|(_, pin)| Some(Found { version: pin.version.clone(), file: pin.host.clone()? }))
    }
}

/// A pin on what the host has that does not hold any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostPin {
    /// Whose pin it is.
    pub tool: ToolName,
    /// The pinned version.
    pub was: Version,
    /// The file that was pinned.
    pub file: PathBuf,
    /// What answers now.
    pub now: Option<Found>,
}

/// The pins on the host's own tools that do not hold any more.
pub fn host_pins_that_differ(host: &dyn OnHost, pins: &Pins, catalogs: &Catalogs) -> Vec<HostPin> {
    let check = |(tool, pin): (&ToolName, &Pin)| {
        let file = pin.host.clone()?;
        let now = catalogs.tool(tool).ok().flatten().and_then(|definition| host.find(&definition));
        let holds = now.as_ref().is_some_and(|now| now.version == pin.version && now.file == file);
        (!holds).then(|| HostPin { tool: tool.clone(), was: pin.version.clone(), file, now })
    };
    pins.rungs.iter().filter_map(check).collect()
}
