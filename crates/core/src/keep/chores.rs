//! What a person said is done, where nothing of it can be seen: a sign-in, a paid licence.
//!
//! And since when chores are open whose doing counts only after a restart: as long as the boot (or session) is the same, a gate
//! that looks open is not.
//!
//! `data/chores.json`, format 1. A word holds for what was asked, by the digest of its text: when that changes it is asked anew.

use std::collections::BTreeMap;
use std::path::Path;

use kladder_choose::catalog::{Anew, Gate};
use kladder_choose::digest::Canonical;
use kladder_choose::names::ToolName;
use serde::{Deserialize, Serialize};

use crate::base::digest::Digest;
use crate::base::files::FileError;
use crate::base::record::{self, RecordError};
use crate::host::survey::Identity;

const FORMAT: u32 = 1;
const FILE: &str = "chores.json";

/// What was said.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chores {
    format: u32,
    /// By the tool and the gate's name: what was asked.
    done: BTreeMap<String, Digest>,
    /// By the same: the boot and session in which a gate was closed last.
    closed: BTreeMap<String, Identity>,
}

impl Chores {
    /// Reads the record in the folder `data`; a missing one is empty.
    ///
    /// # Errors
    /// [`RecordError`] where the record is damaged or newer than this program: nothing counts as done then.
    pub fn read(data: &Path) -> Result<Self, RecordError> {
        let path = data.join(FILE);
        if path.exists() { record::read(&path, FORMAT) } else { Ok(Self { format: FORMAT, ..Self::default() }) }
    }

    /// Writes the record.
    ///
    /// # Errors
    /// [`FileError`] where the file cannot be written.
    pub fn write(&self, data: &Path) -> Result<(), FileError> {
        record::write(&data.join(FILE), self)
    }

    /// Whether a person said that what a gate asks for is done.
    pub fn has(&self, tool: &ToolName, gate: &Gate) -> bool {
        self.done.get(&key(tool, &gate.name)) == Some(&asked(&gate.name, gate.person.as_deref().unwrap_or_default()))
    }

    /// What must be started anew since a gate was closed; `None` where nothing must be, or nothing can be told of it.
    pub fn due(&self, tool: &ToolName, gate: &Gate, now: &Identity) -> Option<Anew> {
        let (before, anew) = (self.closed.get(&key(tool, &gate.name))?, gate.after?);
        let (before, now) = match anew {
            Anew::Restart => (&before.boot, &now.boot),
            Anew::Session if before.boot != now.boot => return None,
            Anew::Session => (&before.session, &now.session),
        };
        (before.is_some() && before == now).then_some(anew)
    }

    /// Remembers that a gate is closed now, where its opening counts only after a restart.
    pub fn see_closed(&mut self, tool: &ToolName, gate: &str, now: &Identity) {
        self.closed.insert(key(tool, gate), now.clone());
    }

    /// Remembers that a person said so.
    pub fn add(&mut self, tool: &ToolName, gate: &str, person: &str) {
        self.done.insert(key(tool, gate), asked(gate, person));
    }
}

fn key(tool: &ToolName, gate: &str) -> String {
    [tool.as_str(), "/", gate].concat()
}

fn asked(gate: &str, person: &str) -> Digest {
    Canonical::new("kladder chore", 1).field("name", gate).field("person", person).finish()
}
