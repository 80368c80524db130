//! Landings: finished, verified states of one ladder.
//!
//! ```text
//! ladders/NAME-DIGEST/landings/7/landing.json     what is in it
//! ladders/NAME-DIGEST/landings/7/pins.toml        the pins it was made from
//! ladders/NAME-DIGEST/landings/7/locks/           the lock files of its sets that were made here
//! ladders/NAME-DIGEST/landings/7/ladder.toml      the ladder as it was
//! ladders/NAME-DIGEST/landings/7/commands/...     a launcher for each command
//! ladders/NAME-DIGEST/landings/7/launch.table     what they start
//! ladders/NAME-DIGEST/landings/7/private/OWNER/   commands and table of what a tool keeps to itself
//! ladders/NAME-DIGEST/current -> landings/7       the one switch
//! ladders/NAME-DIGEST/whose.json                  the ladder's path, and what tells its folder when that is moved
//! ```
//!
//! A landing is made under a name of its own, checked there, and becomes current by renaming one link over another.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::ladder::Ladder;
use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::sets::LibrarySet;
use kladder_choose::version::Version;
use kladder_launch::table::{self, TableError};
use kladder_launch::variables::applied;
use kladder_launch::{COMMANDS, SETS, TABLE};
use serde::{Deserialize, Serialize};

use super::state::TaskName;
use super::whose::{self, Whose};
use crate::base::crash;
use crate::base::digest::Digest;
use crate::base::event::RungName;
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};

const FORMAT: u32 = 2;

/// The folder of lock files in a landing.
const LOCKS: &str = "locks";

/// A recorded landing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Landing {
    format: u32,
    /// Each ladder counts from 1.
    pub number: u32,
    /// The landing that was current when it was made; `None` for the first.
    #[serde(default)]
    pub after: Option<u32>,
    /// When it was made.
    pub made: jiff::Timestamp,
    /// The ladder's file.
    #[serde(with = "record::path")]
    pub ladder: PathBuf,
    /// Bottom first.
    pub rungs: Vec<LandedRung>,
    /// Gates that were closed and skipped on the way.
    #[serde(default)]
    pub skipped_gates: Vec<String>,
}

/// What a landing is made of.
#[derive(Clone, Debug)]
pub struct Made<'m> {
    /// The ladder's file.
    pub ladder: &'m Path,
    /// The ladder's text.
    pub text: &'m str,
    /// The text of its pins.
    pub pins: &'m str,
    /// Lock files of its sets that were made here: names and texts.
    pub locks: Vec<(&'m str, &'m str)>,
    /// Bottom first.
    pub rungs: Vec<LandedRung>,
    /// Gates that were closed and skipped.
    pub skipped_gates: Vec<String>,
    /// The landing that is current.
    pub after: Option<u32>,
}

/// The digests of what a rung's tasks made it from.
pub type Recipes = BTreeMap<TaskName, Digest>;

/// A rung of a landing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LandedRung {
    /// Which one.
    pub key: RungKey,
    /// At which version.
    pub version: Version,
    /// Its folder on the shelf, or the host's file or folder; of a package of the host its name.
    #[serde(with = "record::path")]
    pub folder: PathBuf,
    /// Its berth, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "record::optional_path")]
    pub berth: Option<PathBuf>,
    /// What its tasks made it from.
    pub recipes: Recipes,
}

impl LandedRung {
    /// The tool at its version.
    pub fn name(&self) -> RungName {
        RungName { tool: self.key.tool.clone(), version: self.version.clone() }
    }

    /// Whether it stands on the shelf; otherwise the host has it.
    pub fn is_shelved(&self) -> bool {
        self.recipes.contains_key(&TaskName::Shelve)
    }
}

/// The variable by which a runtime of libraries, and others, are told of the environment that somebody works in.
pub const WORKED_IN: &str = "VIRTUAL_ENV";

/// A set of libraries, as it stands in a landing.
#[derive(Clone, Debug)]
pub struct LandedSet {
    /// Its name.
    pub name: ToolName,
    /// Its environment (PEP 405).
    pub folder: PathBuf,
}

impl LandedSet {
    /// Variables with the commands of its environment first on PATH: the runtime's, which sees its libraries, and theirs.
    pub fn variables(&self, mut variables: Vec<(OsString, OsString)>) -> Vec<(OsString, OsString)> {
        let path = variables.iter().rfind(|(name, _)| name == "PATH").map(|(_, path)| path.clone());
        variables.push(("PATH".into(), path_with(&self.folder.join("bin"), &path.unwrap_or_default())));
        variables.push((WORKED_IN.into(), self.folder.clone().into()));
        variables
    }
}

impl Landing {
    /// A rung by its key.
    pub fn rung(&self, key: &RungKey) -> Option<&LandedRung> {
        self.rungs.iter().find(|rung| rung.key == *key)
    }
}

/// A landing by its number, or why its record cannot be used.
pub type Numbered = (u32, Result<Landing, LandingError>);

/// How a landing differs from another one in a tool.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// Which tool.
    pub tool: ToolName,
    /// The version before; `None` for a tool that came.
    pub was: Option<Version>,
    /// The version after; `None` for a tool that left.
    pub now: Option<Version>,
}

impl Landing {
    /// What changed since another landing, by tool. What is kept private does not count: it follows from the rest.
    pub fn changes_since(&self, before: Option<&Self>) -> Vec<Change> {
        let rungs = |landing: &Self| -> BTreeMap<ToolName, LandedRung> {
            let shared = landing.rungs.iter().filter(|rung| rung.key.household.is_shared());
            shared.map(|rung| (rung.key.tool.clone(), rung.clone())).collect()
        };
        let (old, new) = (before.map(rungs).unwrap_or_default(), rungs(self));
        let tools: BTreeSet<&ToolName> = old.keys().chain(new.keys()).collect();
        let version = |of: &BTreeMap<ToolName, LandedRung>, tool| of.get(tool).map(|rung| rung.version.clone());
        tools
            .into_iter()
            .filter(|tool| old.get(*tool) != new.get(*tool))
            .map(|tool| Change { tool: tool.clone(), was: version(&old, tool), now: version(&new, tool) })
            .collect()
    }
}

/// Why a landing could not be read.
#[derive(Debug, thiserror::Error)]
pub enum LandingError {
    /// Its record could not be read.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// None is current, although there have been some: the link that says which is damaged.
    #[error("{} does not say which landing is current", .0.display())]
    NoneCurrent(PathBuf),
    /// Its launch table cannot be used.
    #[error("{} cannot be used", path.display())]
    Table {
        /// The table.
        path: PathBuf,
        /// What is wrong with it.
        source: TableError,
    },
}

fn text(path: &Path) -> Result<String, FileError> {
    let wrong = |error| std::io::Error::new(std::io::ErrorKind::InvalidData, error);
    String::from_utf8(files::read(path)?).map_err(wrong).on("read", path)
}

/// `path` with the folder of commands in front.
pub fn path_with(commands: &Path, path: &OsString) -> OsString {
    let all = std::iter::once(commands.to_path_buf()).chain(std::env::split_paths(path));
    // Only a colon in the folder's own name can make this fail.
    std::env::join_paths(all).unwrap_or_else(|_| path.clone())
}

/// The landings of one ladder.
#[derive(Clone, Debug)]
pub struct Landings {
    folder: PathBuf,
}

/// A landing in the making; thrown away when dropped before it is committed.
#[derive(Debug)]
pub struct Draft {
    folder: PathBuf,
    number: u32,
    committed: bool,
}

/// The ladder's folder of a landing: of one by its number, in the making or not, or of the link to the current one.
pub(crate) fn ladder_of(landing: &Path) -> &Path {
    let above = landing.parent().unwrap_or(landing);
    if above.ends_with("landings") { above.parent().unwrap_or(above) } else { above }
}

impl Landings {
    /// The landings of the ladder at `ladder`, below the folder of all ladders; those from before it was moved are its own.
    pub fn of(ladders: &Path, ladder: &Path) -> Self {
        Self { folder: whose::folder(ladders, ladder) }
    }

    /// The landings in a folder.
    pub fn at(folder: &Path) -> Self {
        Self { folder: folder.to_path_buf() }
    }

    /// The landings of every ladder.
    ///
    /// # Errors
    /// [`FileError`] where a folder cannot be read; that there is none is no error.
    pub fn everywhere(ladders: &Path) -> Result<Vec<Self>, FileError> {
        let names = files::names(ladders)?;
        // What is no folder is nobody's landings.
        let folders = names.iter().map(|name| ladders.join(name)).filter(|folder| folder.is_dir());
        Ok(folders.map(|folder| Self { folder }).collect())
    }

    /// Their folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn landing(&self, number: u32) -> PathBuf {
        self.folder.join("landings").join(number.to_string())
    }

    /// The record of a landing.
    ///
    /// # Errors
    /// [`LandingError`] where the landing is not there, or its record is damaged or newer than this program.
    pub fn record(&self, number: u32) -> Result<Landing, LandingError> {
        Ok(record::read(&self.landing(number).join("landing.json"), FORMAT)?)
    }

    /// The numbers of all finished landings, oldest first.
    pub fn numbers(&self) -> Result<Vec<u32>, FileError> {
        let names = files::names(&self.folder.join("landings"))?;
        let mut numbers: Vec<u32> = names.iter().filter_map(|name| name.to_str()?.parse().ok()).collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// All finished landings with their numbers, oldest first; one whose record cannot be used comes with why.
    ///
    /// # Errors
    /// [`FileError`] where they cannot be listed.
    pub fn all(&self) -> Result<Vec<Numbered>, FileError> {
        Ok(self.numbers()?.into_iter().map(|number| (number, self.record(number))).collect())
    }

    fn mark(&self, number: u32) -> PathBuf {
        self.landing(number).join("damaged")
    }

    /// Whether somebody saw that a landing's tables or launchers are damaged.
    pub fn is_marked(&self, number: u32) -> bool {
        fs::symlink_metadata(self.mark(number)).is_ok()
    }

    /// Writes down that a landing's tables or launchers are damaged, so that the next climb makes another one.
    ///
    /// # Errors
    /// [`FileError`] where the mark cannot be made.
    pub fn mark_damaged(&self, number: u32) -> Result<(), FileError> {
        fs::write(self.mark(number), b"").on("write", &self.mark(number))
    }

    /// Whether a landing has a command of the ladder's own.
    pub fn has_command(&self, number: u32, command: &str) -> bool {
        self.landing(number).join(kladder_launch::COMMANDS).join(command).exists()
    }

    /// The pins that a landing was made from.
    pub fn pins(&self, number: u32) -> Result<String, FileError> {
        let path = self.landing(number).join("pins.toml");
        text(&path)
    }

    /// The ladder that a landing was made from, as it was then.
    pub fn ladder(&self, number: u32) -> Result<String, FileError> {
        let path = self.landing(number).join("ladder.toml");
        text(&path)
    }

    /// Makes a landing current, and puts its pins at `pins`. Doing it twice does no harm.
    ///
    /// # Errors
    /// [`FileError`]; before the switch the old landing is current, after it the new one, and never none.
    pub fn make_current(&self, number: u32, pins: Option<&Path>) -> Result<(), FileError> {
        if let Some(path) = pins {
            let locks = self.landing(number).join(LOCKS);
            for name in files::names(&locks)? {
                files::replace(&path.with_file_name(&name), &files::read(&locks.join(&name))?)?;
            }
            files::replace(path, self.pins(number)?.as_bytes())?;
            crash::point("pins-put-back");
        }
        self.switch_to(number)
    }

    /// Removes landings that were never finished, or not removed to the end.
    ///
    /// # Errors
    /// [`FileError`] for the first that cannot be removed.
    pub fn sweep(&self) -> Result<(), FileError> {
        let folder = self.folder.join("landings");
        let half = |name: &OsString| Path::new(name).extension().is_some_and(|end| end == "making" || end == "leaving");
        for folder in [folder, self.folder.join("berths"), self.folder.clone()] {
            for name in files::names(&folder)?.iter().filter(|name| half(name)) {
                files::remove_tree(&folder.join(name))?;
            }
        }
        Ok(())
    }

    /// Removes a landing that is not current.
    pub fn remove(&self, number: u32) -> Result<(), FileError> {
        files::vanish(&self.landing(number))
    }

    /// The link to the landing that is current. Paths through it stay valid from one landing to the next.
    pub fn current_link(&self) -> PathBuf {
        self.folder.join("current")
    }

    /// The number of the landing that is current; `None` where there is none, or the link is damaged.
    pub fn current_number(&self) -> Option<u32> {
        let target = fs::read_link(self.current_link()).ok()?;
        target.file_name()?.to_str()?.parse().ok()
    }

    /// The landing that is current; `None` before the first.
    ///
    /// # Errors
    /// [`LandingError`] where one should be current, and it or its record cannot be used.
    pub fn current(&self) -> Result<Option<Landing>, LandingError> {
        match self.current_number() {
            Some(number) => Ok(Some(self.record(number)?)),
            None if fs::symlink_metadata(self.current_link()).is_err() && self.numbers()?.is_empty() => Ok(None),
            None => Err(LandingError::NoneCurrent(self.current_link())),
        }
    }

    /// The landing that is current, where it can be used: for those who make another one anyway.
    pub fn usable(&self) -> Option<Landing> {
        self.current().ok().flatten()
    }

    /// The environment in which the current landing's commands and variables are found, over the caller's `path` and what else
    /// the caller has set.
    ///
    /// # Errors
    /// [`LandingError`] where there is no current landing, or its table cannot be read.
    pub fn environment(
        &self,
        path: &OsString,
        current: &dyn Fn(&OsStr) -> Option<OsString>,
    ) -> Result<Vec<(OsString, OsString)>, LandingError> {
        Ok(applied(&self.signed(path)?, current))
    }

    /// The same for shells, which look themselves at what is set: names as [`kladder_launch::variables`] has them.
    ///
    /// # Errors
    /// As of [`Landings::environment`].
    pub fn signed(&self, path: &OsString) -> Result<Vec<(OsString, OsString)>, LandingError> {
        let table = self.current_link().join(TABLE);
        let bytes = files::read(&table)?;
        let mut variables = table::variables(&bytes).map_err(|source| LandingError::Table { path: table, source })?;
        variables.push(("PATH".into(), path_with(&self.current_link().join(COMMANDS), path)));
        Ok(variables)
    }

    /// The sets of libraries of the landing that is current.
    ///
    /// # Errors
    /// [`LandingError`] where it, or the ladder that is kept with it, cannot be read.
    pub fn sets(&self) -> Result<Vec<LandedSet>, LandingError> {
        let Some(landing) = self.current()? else { return Ok(Vec::new()) };
        let source = files::source(&self.current_link().join("ladder.toml"))?;
        // It was read when the landing was made.
        let sets = Ladder::parse(&source).map(|ladder| ladder.sets).unwrap_or_default();
        let landed = |set: LibrarySet| {
            landing.rung(&RungKey::shared(&set.name))?;
            Some(LandedSet { folder: self.current_link().join(SETS).join(set.name.as_str()), name: set.name })
        };
        Ok(sets.into_iter().filter_map(landed).collect())
    }

    /// Begins a landing.
    ///
    /// # Errors
    /// [`FileError`] where its folder cannot be made, or one that was left cannot be removed.
    pub fn draft(&self) -> Result<Draft, FileError> {
        let all = self.folder.join("landings");
        files::create_folder(&all)?;
        let last = self.numbers()?.pop().max(self.current_number()).unwrap_or(0);
        let folder = all.join(format!("{}.making", last + 1));
        // What an interrupted climb left: only one process writes at a time.
        files::remove_tree(&folder)?;
        files::create_folder(&folder)?;
        Ok(Draft { folder, number: last + 1, committed: false })
    }
}

impl Draft {
    /// Where it is made.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Its number, once it is committed.
    pub fn number(&self) -> u32 {
        self.number
    }

    /// Records the landing; it is whole then, and not yet current.
    ///
    /// # Errors
    /// [`FileError`]; the draft is removed then.
    pub fn finish(mut self, made: Made<'_>) -> Result<Landing, FileError> {
        let Made { ladder, text, pins, locks, rungs, skipped_gates, after } = made;
        let (number, ladder, now) = (self.number, ladder.to_path_buf(), jiff::Timestamp::now());
        let landing = Landing { format: FORMAT, number, after, made: now, ladder, rungs, skipped_gates };
        record::write(&self.folder.join("landing.json"), &landing)?;
        files::replace(&self.folder.join("pins.toml"), pins.as_bytes())?;
        files::replace(&self.folder.join("ladder.toml"), text.as_bytes())?;
        for (name, text) in locks {
            files::create_folder(&self.folder.join(LOCKS))?;
            files::replace(&self.folder.join(LOCKS).join(name), text.as_bytes())?;
        }
        crash::point("landing-recorded");
        // Two up: the folder of all the ladder's landings.
        let all = self.folder.ancestors().nth(2).unwrap_or(&self.folder);
        Whose::of(&landing.ladder).write(all)?;
        let finished = self.folder.with_file_name(self.number.to_string());
        fs::rename(&self.folder, &finished).on("finish", &finished)?;
        self.committed = true;
        crash::point("landing-finished");
        Ok(landing)
    }
}

impl Landings {
    fn switch_to(&self, number: u32) -> Result<(), FileError> {
        let (new, link) = (self.folder.join(".current-new"), self.current_link());
        files::remove_tree(&new)?;
        if fs::symlink_metadata(&link).is_ok_and(|meta| !meta.is_symlink()) {
            // Somebody put something else in its place.
            files::vanish(&link)?;
        }
        let target = Path::new("landings").join(number.to_string());
        std::os::unix::fs::symlink(target, &new).on("write", &new)?;
        crash::point("switch-prepared");
        fs::rename(&new, &link).on("switch", &link)?;
        crash::point("switched");
        Ok(())
    }
}

impl Drop for Draft {
    fn drop(&mut self) {
        if !self.committed {
            // Best effort: the next draft removes what is left.
            let _ = files::remove_tree(&self.folder);
        }
    }
}
