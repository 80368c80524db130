//! Rungs after which the machine, or the session, must be started anew before what stands on them.
//!
//! `data/restarts.json` remembers the boot and the session in which such a rung was put on the shelf. As long as they are
//! the same, the restart is still due; when they changed it has happened.

use std::collections::BTreeMap;
use std::path::Path;

use kladder_choose::catalog::Anew;
use serde::{Deserialize, Serialize};

use crate::base::files::FileError;
use crate::base::record::{self, RecordError};
use crate::host::survey::Identity;

/// A restart that is due.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Due {
    /// What must be started anew.
    pub anew: Anew,
    /// The boot and the session in which it became due.
    pub since: Identity,
}

/// The restarts that are due, by the rung's place on the shelf.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restarts {
    format: u32,
    due: BTreeMap<String, Due>,
}

const FORMAT: u32 = 1;
const FILE: &str = "restarts.json";

impl Restarts {
    /// Reads the memory in the folder `data`; nothing is remembered where there is none.
    ///
    /// # Errors
    /// [`RecordError`] where it is damaged or newer than this program: a restart that is due would be forgotten.
    pub fn read(data: &Path) -> Result<Self, RecordError> {
        let path = data.join(FILE);
        if path.exists() { record::read(&path, FORMAT) } else { Ok(Self { format: FORMAT, due: BTreeMap::new() }) }
    }

    /// Writes the memory.
    pub fn write(&self, data: &Path) -> Result<(), FileError> {
        record::write(&data.join(FILE), self)
    }

    /// Remembers that a rung was put on the shelf now.
    pub fn remember(&mut self, place: &Path, anew: Anew, now: &Identity) {
        self.due.insert(record::path::to_text(place), Due { anew, since: now.clone() });
    }

    /// Forgets that a restart was due, since a person said that it has happened.
    pub fn forget(&mut self, place: &Path) {
        self.due.remove(&record::path::to_text(place));
    }

    /// Whether the system tells what a restart would change, so that it will be seen.
    pub fn is_seen(anew: Anew, now: &Identity) -> bool {
        match anew {
            Anew::Restart => now.boot.is_some(),
            Anew::Session => now.session.is_some() || now.boot.is_some(),
        }
    }

    /// What is still due for the rung at `place`, by what the identity is now.
    pub fn due(&self, place: &Path, now: &Identity) -> Option<Anew> {
        let due = self.due.get(&record::path::to_text(place))?;
        let (before, now) = match due.anew {
            Anew::Restart => (&due.since.boot, &now.boot),
            // A restart ends every session too.
            Anew::Session if due.since.boot != now.boot => return None,
            Anew::Session => (&due.since.session, &now.session),
        };
        (before == now).then_some(due.anew)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn identity(boot: &str, session: &str) -> Identity {
        Identity { boot: Some(boot.into()), session: Some(session.into()) }
    }

    #[test]
    fn a_restart_is_due_until_the_boot_changes_and_a_session_until_either_does() {
        let (place, before) = (Path::new("/shelf/driver"), identity("a", "1"));
        let mut restarts = Restarts::default();
        assert_eq!(restarts.due(place, &before), None);
        restarts.remember(place, Anew::Restart, &before);
        assert_eq!(restarts.due(place, &identity("a", "2")), Some(Anew::Restart));
        assert_eq!(restarts.due(place, &identity("b", "1")), None);
        restarts.remember(place, Anew::Session, &before);
        assert_eq!(restarts.due(place, &identity("a", "1")), Some(Anew::Session));
        assert_eq!(restarts.due(place, &identity("a", "2")), None);
        assert_eq!(restarts.due(place, &identity("b", "1")), None);
    }
}
