//! Rungs after which the machine, or the session, must be started anew before what stands on them.
//!
//! `data/restarts.json` remembers the boot and the session in which such a rung was put on the shelf. As long as they are
//! the same, the restart is still due; when they changed it has happened.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::files::FileError;
use crate::record;
use crate::survey::Identity;

/// What must be started anew.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Anew {
    /// The machine.
    Restart,
    /// The user's session.
    Session,
}

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
    due: BTreeMap<PathBuf, Due>,
}

impl Restarts {
    /// Reads the memory in the folder `data`; a missing or unreadable one is empty, which errs towards asking again only
    /// for rungs that are put on the shelf anew.
    pub fn read(data: &Path) -> Self {
        let bytes = fs::read(data.join("restarts.json")).unwrap_or_default();
        serde_json::from_slice(&bytes).unwrap_or_default()
    }

    /// Writes the memory.
    pub fn write(&self, data: &Path) -> Result<(), FileError> {
        record::write(&data.join("restarts.json"), self)
    }

    /// Remembers that a rung was put on the shelf now.
    pub fn remember(&mut self, place: &Path, anew: Anew, now: &Identity) {
        self.due.insert(place.to_path_buf(), Due { anew, since: now.clone() });
    }

    /// What is still due for the rung at `place`, by what the identity is now.
    pub fn due(&self, place: &Path, now: &Identity) -> Option<Anew> {
        let due = self.due.get(place)?;
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
