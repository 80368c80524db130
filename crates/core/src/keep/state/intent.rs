//! What a run is about to do, so that another process can finish or undo it.

use std::path::{Path, PathBuf};

use kladder_choose::names::RungKey;
use serde::{Deserialize, Serialize};

use crate::base::files::{self, FileError};
use crate::base::record;
use crate::bring::shelf::Place;

/// A task of a rung, by its name in the journal, in landings and in the route.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TaskName {
    /// Artifacts become a folder that is ready for the shelf.
    Unpack,
    /// Commands of the definition run over that folder.
    SetUp,
    /// The folder is put on the shelf.
    Shelve,
    /// The rung gets a folder of its own for this ladder.
    Berth,
    /// Its commands and variables stand in the launch table.
    Launch,
    /// What it needs once for this ladder is made, in its corners.
    FitOut,
    /// It is seen to work.
    Check,
}

/// What a task leaves on the disk when it is killed, and so how it is undone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "trace", rename_all = "kebab-case")]
pub enum Trace {
    /// Something that is not finished; it goes.
    Unfinished {
        /// Where.
        #[serde(with = "record::path")]
        path: PathBuf,
    },
    /// A place on the shelf that may have lost bytes with the power; it goes unless it is whole.
    Place {
        /// The place's folder.
        #[serde(with = "record::path")]
        folder: PathBuf,
    },
}

impl Trace {
    /// Undoes what a killed task left. Doing it twice does no harm.
    ///
    /// # Errors
    /// [`FileError`] where something cannot be removed.
    pub fn undo(&self) -> Result<(), FileError> {
        match self {
            Self::Unfinished { path } => files::remove_tree(path),
            Self::Place { folder } => distrust(folder),
        }
    }
}

/// Looks at a place again that a killed run put on the shelf, and removes it unless it is whole.
fn distrust(folder: &Path) -> Result<(), FileError> {
    let place = Place { folder: folder.to_path_buf() };
    let is_whole = || place.manifest().is_ok_and(|it| it.compare(&place.files()).is_ok_and(|d| d.is_empty()));
    if place.folder.exists() && !is_whole() { files::vanish(&place.folder) } else { Ok(()) }
}

/// What a run is about to do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "intent", rename_all = "kebab-case")]
pub enum Intent {
    /// Nothing that would have to be undone by more than removing what is unfinished.
    Prepare,
    /// A task of a rung.
    Task {
        /// Whose task.
        rung: RungKey,
        /// Which one.
        task: TaskName,
        /// What it leaves when it is killed.
        traces: Vec<Trace>,
    },
    /// This landing is about to become current, with its pins.
    Land {
        /// The folder of the ladder's landings.
        #[serde(with = "record::path")]
        landings: PathBuf,
        /// The landing.
        number: u32,
        /// Where its pins go; `None` where they are there already.
        #[serde(default, with = "record::optional_path")]
        pins: Option<PathBuf>,
    },
}
