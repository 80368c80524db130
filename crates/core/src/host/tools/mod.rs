//! What the host has, as far as definitions say how to find it. Each tool is looked for once.

mod copies;
mod places;

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Arc;

use kladder_choose::catalog::Definition;
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Found, HostCopy, OnHost, Silent, Untold};

use self::copies::Seen;
use crate::base::side::{cores, side_by_side};
use crate::host::survey::{Host, HostTool, answers};

/// The tools of a host, asked when wanted.
pub struct HostTools<'h> {
    host: &'h Host,
    asked: RefCell<BTreeMap<ToolName, Arc<Asked>>>,
}

/// What was found of one tool.
#[derive(Default)]
struct Asked {
    found: Vec<Found>,
    silent: Vec<Silent>,
}

impl<'h> HostTools<'h> {
    /// The tools of `host`.
    pub fn of(host: &'h Host) -> Self {
        Self { host, asked: RefCell::default() }
    }

    fn asked(&self, definition: &Definition) -> Arc<Asked> {
        if let Some(known) = self.asked.borrow().get(&definition.tool) {
            return Arc::clone(known);
        }
        let asked = Arc::new(self.ask(definition));
        self.asked.borrow_mut().insert(definition.tool.clone(), Arc::clone(&asked));
        asked
    }

    fn ask(&self, definition: &Definition) -> Asked {
        let mut asked = Asked::default();
        let mut of_places = Vec::new();
        for Seen { copy, version, is_of_place } in copies::all(self.host, definition) {
            // Pins are text: what they cannot hold would be another copy each time.
            if copy.path().to_str().is_none() {
                continue;
            }
            match version {
                Err(why) => asked.silent.push(Silent { copy, why }),
                Ok(version) => match version.parse() {
                    Err(_) => asked.silent.push(Silent { copy, why: Untold::Unsaid }),
                    Ok(version) if is_of_place => of_places.push(Found { version, copy }),
                    Ok(version) => asked.found.push(Found { version, copy }),
                },
            }
        }
        // What PATH says first is what the person has chosen; of what lies elsewhere the newest.
        of_places.sort_by(|one, other| definition.scheme.compare(&other.version, &one.version));
        asked.found.extend(of_places);
        asked
    }

    /// All that is there of a tool, as a survey has it.
    pub fn told(&self, definition: &Definition) -> Vec<HostTool> {
        let asked = self.asked(definition);
        let tool = |copy: &HostCopy, version, untold| HostTool {
            tool: definition.tool.to_string(),
            command: definition.host.iter().filter_map(|probe| Some(probe.command.as_ref()?.to_string())).collect(),
            path: copy.path().to_path_buf(),
            version,
            untold,
        };
        let found = asked.found.iter().map(|found| tool(&found.copy, Some(found.version.to_string()), None));
        found.chain(asked.silent.iter().map(|silent| tool(&silent.copy, None, Some(silent.why.clone())))).collect()
    }
}

/// All that is there of some tools, several asked at a time.
pub fn every(host: &Host, definitions: &[&Definition]) -> Vec<HostTool> {
    side_by_side(definitions, 2 * cores(), |definition| HostTools::of(host).told(definition))
        .into_iter()
        .flatten()
        .collect()
}

impl OnHost for HostTools<'_> {
    fn find(&self, definition: &Definition) -> Vec<Found> {
        self.asked(definition).found.clone()
    }

    fn silent(&self, definition: &Definition) -> Vec<Silent> {
        self.asked(definition).silent.clone()
    }

    fn has_command(&self, name: &str) -> bool {
        // What a described host has on PATH is not known.
        self.host.is_described() || answers(name, &self.host.path).is_some()
    }
}
