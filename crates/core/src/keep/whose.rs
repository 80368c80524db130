//! Whose landings a folder has. A ladder is known by its path, and by its project's folder where that was moved or renamed.

use std::path::{Path, PathBuf};

use kladder_launch::ladders::Identity;
use serde::{Deserialize, Serialize};

use crate::base::digest::Digest;
use crate::base::files::{self, FileError};
use crate::base::record;

const FORMAT: u32 = 1;
const FILE: &str = "whose.json";

/// The ladder that the landings in a folder are of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Whose {
    format: u32,
    /// Its file, as it was called at the last climb.
    #[serde(with = "record::path")]
    pub ladder: PathBuf,
    /// What tells its folder from all others; `None` where the file system does not say when a folder was made, without
    /// which its number may be another one's by now.
    project: Option<Project>,
}

/// A folder, whatever it is called.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Project {
    /// The file system's number.
    device: u64,
    /// Its number there.
    inode: u64,
    /// When it was made, in nanoseconds since 1970.
    born: u64,
}

impl Project {
    fn of(ladder: &Path) -> Option<Self> {
        let Identity { device, inode, born } = Identity::of(ladder.parent()?)?;
        Some(Self { device, inode, born: u64::try_from(born).ok()? })
    }
}

impl Whose {
    /// The ladder at a path, by what it is now.
    pub fn of(ladder: &Path) -> Self {
        let ladder = ladder.canonicalize().unwrap_or_else(|_| ladder.to_path_buf());
        Self { format: FORMAT, project: Project::of(&ladder), ladder }
    }

    /// Whose landings a folder has; `None` where nobody can tell.
    pub fn read(landings: &Path) -> Option<Self> {
        record::read(&landings.join(FILE), FORMAT).ok()
    }

    /// Writes it down, where something else or nothing stands there.
    ///
    /// # Errors
    /// [`FileError`] where it cannot be written.
    pub fn write(&self, landings: &Path) -> Result<(), FileError> {
        if Self::read(landings).as_ref() == Some(self) { Ok(()) } else { record::write(&landings.join(FILE), self) }
    }

    /// What tells its folder from all others.
    pub fn identity(&self) -> Option<Identity> {
        let Project { device, inode, born } = self.project?;
        Some(Identity { device, inode, born: born.into() })
    }

    /// Whether the ladder is still where it was at its last climb.
    pub fn is_there(&self) -> bool {
        self.ladder.exists() && Project::of(&self.ladder) == self.project
    }

    /// Whether it was moved or renamed and is this one now.
    fn became(&self, now: &Self) -> bool {
        self.project.is_some() && self.project == now.project && self.ladder.file_name() == now.ladder.file_name()
    }
}

/// The folder of a ladder's landings below `ladders`: the one that its path stands for, unless that is another's by now, or
/// the ladder has landings from before it was moved.
pub fn folder(ladders: &Path, ladder: &Path) -> PathBuf {
    let now = Whose::of(ladder);
    let usual = ladders.join(name(&now.ladder, b""));
    let known = Whose::read(&usual);
    if known.as_ref().is_some_and(|known| known.ladder == now.ladder) || (known.is_none() && usual.exists()) {
        return usual;
    }
    let names = files::names(ladders).unwrap_or_default();
    let others = names.iter().map(|name| ladders.join(name)).filter_map(|folder| Some((Whose::read(&folder)?, folder)));
    let is_mine = |whose: &Whose| whose.ladder == now.ladder || (whose.became(&now) && !whose.is_there());
    let mut mine: Vec<(Whose, PathBuf)> = others.filter(|(whose, _)| is_mine(whose)).collect();
    // What was climbed under this very path counts most.
    mine.sort_by_key(|(whose, _)| whose.ladder != now.ladder);
    match (mine.into_iter().next(), known) {
        (Some((whose, folder)), _) => {
            if whose != now {
                // Best effort: where it cannot be written, it is recognised again.
                let _ = now.write(&folder);
            }
            folder
        }
        // Somebody moved away from here, with the folder of this name.
        (None, Some(other)) => ladders.join(name(&now.ladder, other.ladder.as_os_str().as_encoded_bytes())),
        (None, None) => usual,
    }
}

fn name(ladder: &Path, apart: &[u8]) -> String {
    let above = ladder.parent().and_then(Path::file_name);
    let above = above.map_or_else(|| "root".into(), |name| name.to_string_lossy().into_owned());
    let digest = Digest::of(&[ladder.as_os_str().as_encoded_bytes(), apart].concat()).short();
    [above.as_str(), "-", &digest].concat()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn a_project_that_was_renamed_keeps_its_landings_and_whoever_comes_after_it_gets_none() {
        let root = tempfile::tempdir().unwrap();
        let (ladders, at) = (root.path().join("ladders"), |name: &str| root.path().join(name).join("ladder.toml"));
        let project = |name: &str| {
            fs::create_dir(root.path().join(name)).unwrap();
            fs::write(at(name), "").unwrap();
        };
        let climb = |name: &str| {
            let folder = folder(&ladders, &at(name));
            fs::create_dir_all(&folder).unwrap();
            Whose::of(&at(name)).write(&folder).unwrap();
            folder
        };
        project("one");
        let first = climb("one");
        fs::rename(root.path().join("one"), root.path().join("two")).unwrap();
        if Whose::of(&at("two")).project.is_none() {
            // Where nothing says when a folder was made, its number may be another one's: nothing is guessed.
            assert_ne!(folder(&ladders, &at("two")), first);
            return;
        }
        assert_eq!(folder(&ladders, &at("two")), first);
        // A new project in the old place, before and after the moved one climbed.
        project("one");
        assert_eq!(climb("two"), first);
        let other = climb("one");
        assert_ne!(other, first);
        assert_eq!((folder(&ladders, &at("one")), folder(&ladders, &at("two"))), (other, first));
        // A copy is another project.
        project("copy");
        assert!(!folder(&ladders, &at("copy")).exists());
        // What moved away from here and is gone by now left its landings to nobody.
        let elsewhere = folder(&ladders, &at("two"));
        fs::remove_dir_all(root.path().join("two")).unwrap();
        assert_ne!(folder(&ladders, &at("one")), elsewhere);
    }
}
