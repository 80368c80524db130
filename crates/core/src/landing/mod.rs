//! Landings: finished, verified states of one ladder.
//!
//! ```text
//! ladders/NAME-DIGEST/landings/7/landing.json     what is in it
//! ladders/NAME-DIGEST/landings/7/pins.toml        the pins it was made from
//! ladders/NAME-DIGEST/landings/7/ladder.toml      the ladder as it was
//! ladders/NAME-DIGEST/landings/7/commands/...     a launcher for each command
//! ladders/NAME-DIGEST/landings/7/launch.table     what they start
//! ladders/NAME-DIGEST/landings/7/private/OWNER/   commands and table of what a tool keeps to itself
//! ladders/NAME-DIGEST/current -> landings/7       the one switch
//! ```
//!
//! A landing is made under a name of its own, checked there, and becomes current by renaming one link over another.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};

use kladder_launch::table::{self, TableError};
use kladder_launch::{COMMANDS, TABLE};
use serde::{Deserialize, Serialize};

use crate::berth::Berth;
use crate::crash;
use crate::digest::Digest;
use crate::event::RungName;
use crate::files::{self, Attach, FileError};
use crate::record::{self, RecordError};
use crate::version::Version;

const FORMAT: u32 = 1;

/// A recorded landing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Landing {
    format: u32,
    /// Its number; each ladder counts from 1.
    pub number: u32,
    /// When it was made.
    pub made: jiff::Timestamp,
    /// The ladder's file.
    pub ladder: PathBuf,
    /// Its rungs, bottom first.
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
    /// Its rungs, bottom first.
    pub rungs: Vec<LandedRung>,
    /// Gates that were closed and skipped.
    pub skipped_gates: Vec<String>,
}

/// A rung of a landing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LandedRung {
    /// The tool.
    pub tool: String,
    /// Its version.
    pub version: Version,
    /// Its folder on the shelf.
    pub folder: PathBuf,
    /// Its berth, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub berth: Option<PathBuf>,
    /// The household that keeps it to itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept_by: Option<String>,
}

impl LandedRung {
    /// The tool at its version.
    pub fn name(&self) -> RungName {
        RungName { tool: self.tool.clone(), version: self.version.clone() }
    }
}

impl Landing {
    /// Whether it has `tool` from this folder of the shelf, in this berth and household.
    pub fn has(&self, folder: &Path, berth: Option<&Berth>, tool: &str, kept_by: Option<&str>) -> bool {
        let berth = berth.map(|berth| berth.folder.as_path());
        let is_it = |rung: &LandedRung| {
            rung.folder == folder
                && rung.tool == tool
                && rung.berth.as_deref() == berth
                && rung.kept_by.as_deref() == kept_by
        };
        self.rungs.iter().any(is_it)
    }
}

/// How a landing differs from another one in a tool.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The tool.
    pub tool: String,
    /// The version before; `None` for a tool that came.
    pub was: Option<Version>,
    /// The version after; `None` for a tool that left.
    pub now: Option<Version>,
}

impl Landing {
    /// What changed since another landing, by tool. What is kept private does not count: it follows from the rest.
    pub fn changes_since(&self, before: Option<&Self>) -> Vec<Change> {
        let versions = |landing: &Self| -> BTreeMap<String, (PathBuf, Version)> {
            let shared = landing.rungs.iter().filter(|rung| rung.kept_by.is_none());
            shared.map(|rung| (rung.tool.clone(), (rung.folder.clone(), rung.version.clone()))).collect()
        };
        let (old, new) = (before.map(versions).unwrap_or_default(), versions(self));
        let tools: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
        let differs = |tool: &&String| old.get(*tool) != new.get(*tool);
        let version =
            |of: &BTreeMap<String, (PathBuf, Version)>, tool| of.get(tool).map(|(_, version)| version.clone());
        tools
            .into_iter()
            .filter(differs)
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
    /// Its launch table cannot be used.
    #[error("{} cannot be used", path.display())]
    Table {
        /// The table.
        path: PathBuf,
        /// What is wrong with it.
        source: TableError,
    },
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

impl Landings {
    /// The landings of the ladder at `ladder`, below the folder of all ladders.
    pub fn of(ladders: &Path, ladder: &Path) -> Self {
        let path = ladder.canonicalize().unwrap_or_else(|_| ladder.to_path_buf());
        let above = path.parent().and_then(Path::file_name).map_or_else(|| "root".into(), |n| n.display().to_string());
        let digest = Digest::of(path.as_os_str().as_encoded_bytes()).short();
        Self { folder: ladders.join(format!("{above}-{digest}")) }
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
        Ok(names.iter().map(|name| Self { folder: ladders.join(name) }).collect())
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

    /// All finished landings, oldest first.
    ///
    /// # Errors
    /// [`LandingError`] for the first record that is damaged or newer than this program.
    pub fn all(&self) -> Result<Vec<Landing>, LandingError> {
        self.numbers()?.into_iter().map(|number| self.record(number)).collect()
    }

    /// The pins that a landing was made from.
    pub fn pins(&self, number: u32) -> Result<String, FileError> {
        let path = self.landing(number).join("pins.toml");
        fs::read_to_string(&path).on("read", &path)
    }

    /// The ladder that a landing was made from, as it was then.
    pub fn ladder(&self, number: u32) -> Result<String, FileError> {
        let path = self.landing(number).join("ladder.toml");
        fs::read_to_string(&path).on("read", &path)
    }

    /// Makes a landing current, and puts its pins at `pins`. Doing it twice does no harm.
    ///
    /// # Errors
    /// [`FileError`]; before the switch the old landing is current, after it the new one, and never none.
    pub fn make_current(&self, number: u32, pins: Option<&Path>) -> Result<(), FileError> {
        if let Some(path) = pins {
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
        files::names(&folder)?
            .iter()
            .filter(|name| half(name))
            .try_for_each(|name| files::remove_tree(&folder.join(name)))
    }

    /// Removes a landing that is not current.
    pub fn remove(&self, number: u32) -> Result<(), FileError> {
        files::vanish(&self.landing(number))
    }

    /// The link to the landing that is current. Paths through it stay valid from one landing to the next.
    pub fn current_link(&self) -> PathBuf {
        self.folder.join("current")
    }

    /// The landing that is current; `None` before the first.
    ///
    /// # Errors
    /// [`LandingError`] where one is current and its record cannot be used.
    pub fn current(&self) -> Result<Option<Landing>, LandingError> {
        let link = self.current_link();
        if fs::symlink_metadata(&link).is_err() {
            return Ok(None);
        }
        Ok(Some(record::read(&link.join("landing.json"), FORMAT)?))
    }

    /// The environment in which the current landing's commands and variables are found, over the caller's `path`.
    ///
    /// # Errors
    /// [`LandingError`] where there is no current landing, or its table cannot be read.
    pub fn environment(&self, path: &OsString) -> Result<Vec<(OsString, OsString)>, LandingError> {
        let table = self.current_link().join(TABLE);
        let bytes = fs::read(&table).on("read", &table)?;
        let mut variables = table::variables(&bytes).map_err(|source| LandingError::Table { path: table, source })?;
        variables.push(("PATH".into(), path_with(&self.current_link().join(COMMANDS), path)));
        Ok(variables)
    }

    /// Begins a landing.
    ///
    /// # Errors
    /// [`FileError`] where its folder cannot be made, or one that was left cannot be removed.
    pub fn draft(&self) -> Result<Draft, FileError> {
        let all = self.folder.join("landings");
        files::create_folder(&all)?;
        let last = self.numbers()?.pop().unwrap_or(0);
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
        let Made { ladder, text, pins, rungs, skipped_gates } = made;
        let (number, ladder, now) = (self.number, ladder.to_path_buf(), jiff::Timestamp::now());
        let landing = Landing { format: FORMAT, number, made: now, ladder, rungs, skipped_gates };
        record::write(&self.folder.join("landing.json"), &landing)?;
        files::replace(&self.folder.join("pins.toml"), pins.as_bytes())?;
        files::replace(&self.folder.join("ladder.toml"), text.as_bytes())?;
        crash::point("landing-recorded");
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
        if fs::symlink_metadata(&new).is_ok() {
            fs::remove_file(&new).on("remove", &new)?;
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
