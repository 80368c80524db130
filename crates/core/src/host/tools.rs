//! What the host has, as far as definitions say how to find it. Each tool is asked once.

use std::cell::RefCell;
use std::collections::BTreeMap;

use kladder_choose::catalog::Definition;
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Found, OnHost};

use crate::host::survey::{Host, Known, answers, ask_one};

/// The tools of a host, asked when wanted.
pub struct HostTools<'h> {
    host: &'h Host,
    asked: RefCell<BTreeMap<ToolName, Option<Found>>>,
}

impl<'h> HostTools<'h> {
    /// The tools of `host`.
    pub fn of(host: &'h Host) -> Self {
        Self { host, asked: RefCell::default() }
    }

    fn ask(&self, definition: &Definition) -> Option<Found> {
        let probe = definition.host.as_ref()?;
        let known = Known {
            tool: definition.tool.to_string(),
            command: probe.command.to_string(),
            arguments: probe.ask.clone(),
            pattern: probe.version.regex().clone(),
        };
        let tool = ask_one(self.host, &known)?;
        Some(Found { version: tool.version?.parse().ok()?, file: tool.path })
    }
}

impl OnHost for HostTools<'_> {
    fn find(&self, definition: &Definition) -> Option<Found> {
        if let Some(known) = self.asked.borrow().get(&definition.tool) {
            return known.clone();
        }
        let found = self.ask(definition);
        self.asked.borrow_mut().insert(definition.tool.clone(), found.clone());
        found
    }

    fn has_command(&self, name: &str) -> bool {
        // What a described host has on PATH is not known.
        self.host.is_described() || answers(name, &self.host.path).is_some()
    }
}
