//! Sets: the libraries of one project, pinned like rungs.
//!
//! A set becomes a tool of a catalog of its own: one release for each minor version of its runtime that its libraries are to be
//! had for, with their files as its artifacts. So everything that holds for rungs (pins, digests, the shelf, landings, `verify`)
//! holds for sets, and the resolver chooses the runtime together with them.
//!
//! ```toml
//! [sets.tides]
//! of = "python"                  # the runtime's tool
//! lock = "pylock.toml"           # which libraries (PEP 751), beside the ladder
//! ```

mod define;
mod lock;
mod markers;
mod tags;

pub use define::{SetError, Without, definition};
pub use lock::{Library, Lock, LockError, Wheel};
pub use tags::{Interpreter, Tag};

use serde::Deserialize;

use crate::names::ToolName;
use crate::path::InnerPath;

/// A set, as a ladder wants it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibrarySet {
    /// Its name, which its rung has too.
    pub name: ToolName,
    /// The tool that is its runtime.
    pub of: ToolName,
    /// The file that says which libraries, below the ladder's folder.
    pub lock: InnerPath,
    /// Where its name stands in the ladder.
    pub place: crate::document::Place,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct SetForm {
    #[serde(default = "python")]
    pub(crate) of: ToolName,
    pub(crate) lock: InnerPath,
}

/// The one runtime whose libraries are known by an open lock file.
fn python() -> ToolName {
    "python".parse().expect("a plain name")
}
