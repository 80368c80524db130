//! What the host has, as far as definitions say how to find it. Each tool is asked once.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::PathBuf;

use super::{Pin, Pins};
use crate::catalog::{Catalog, Definition};
use crate::survey::{Host, Known, ask_one};
use crate::version::Version;

/// A tool of the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The version it says.
    pub version: Version,
    /// The file that answers.
    pub file: PathBuf,
}

/// The tools of a host, asked when wanted.
pub struct HostTools<'h> {
    /// `None` where nothing is asked and what was pinned is taken as it stands.
    host: Option<&'h Host>,
    asked: RefCell<BTreeMap<String, Option<Found>>>,
}

/// A pin on what the host has that does not hold any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Moved {
    /// The tool.
    pub tool: String,
    /// The pinned version.
    pub was: Version,
    /// The file that was pinned.
    pub file: PathBuf,
    /// What answers now.
    pub now: Option<Found>,
}

impl<'h> HostTools<'h> {
    /// The tools of `host`.
    pub fn of(host: &'h Host) -> Self {
        Self { host: Some(host), asked: RefCell::default() }
    }

    /// The tools that pins say a host has; no host is asked.
    pub fn pinned(pins: Option<&Pins>) -> Self {
        let found = |(tool, pin): (&str, &Pin)| {
            let file = pin.host.clone()?;
            Some((tool.to_owned(), Some(Found { version: pin.version.clone(), file })))
        };
        let all = pins.map(Pins::all).unwrap_or_default();
        Self { host: None, asked: RefCell::new(all.into_iter().filter_map(found).collect()) }
    }

    /// What the host has of a tool; `None` where the definition does not say how to find it, or nothing answers with a
    /// version.
    pub fn find(&self, definition: &Definition) -> Option<Found> {
        if let Some(known) = self.asked.borrow().get(&definition.tool) {
            return known.clone();
        }
        let found = self.ask(definition);
        self.asked.borrow_mut().insert(definition.tool.clone(), found.clone());
        found
    }

    fn ask(&self, definition: &Definition) -> Option<Found> {
        let probe = definition.host.as_ref()?;
        let known = Known {
            tool: definition.tool.clone(),
            command: probe.command.clone(),
            arguments: probe.ask.clone(),
            pattern: probe.version.regex().clone(),
        };
        let tool = ask_one(self.host?, &known)?;
        Some(Found { version: tool.version?.parse().ok()?, file: tool.path })
    }

    /// The pins on the host's own tools that do not hold any more.
    pub fn moved(&self, pins: &Pins, catalog: &Catalog) -> Vec<Moved> {
        let check = |(tool, pin): (&String, &Pin)| {
            let file = pin.host.clone()?;
            let now = catalog.tool(tool).ok().flatten().and_then(|definition| self.find(&definition));
            let holds = now.as_ref().is_some_and(|now| now.version == pin.version && now.file == file);
            (!holds).then(|| Moved { tool: tool.clone(), was: pin.version.clone(), file, now })
        };
        pins.rungs.iter().filter_map(check).collect()
    }
}
