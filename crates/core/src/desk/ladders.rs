//! Ladders and their pins as files.

use std::path::{Path, PathBuf};

use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::Ladder;
use kladder_choose::pins::{Pins, PinsFileError};

use super::sets::with_locks;
use crate::base::files::{self, FileError};

/// A ladder's file name.
pub const FILE_NAME: &str = "ladder.toml";

/// The nearest ladder from `folder` upwards.
pub fn find_from(folder: &Path) -> Option<PathBuf> {
    folder.ancestors().map(|folder| folder.join(FILE_NAME)).find(|path| path.is_file())
}

/// Reads a ladder.
///
/// # Errors
/// [`DocumentError`] with line, column and a hint where the file is wrong.
pub fn read_ladder(path: &Path) -> Result<Ladder, DocumentError> {
    Ok(with_locks(Ladder::parse(&files::source(path)?)?))
}

/// Reads a file of pins; `None` when there is none.
///
/// # Errors
/// [`PinsFileError`] where the file is there and damaged, edited into nonsense, or of a newer format.
pub fn read_pins(path: &Path) -> Result<Option<Pins>, PinsFileError> {
    if !path.exists() {
        return Ok(None);
    }
    let source: Source = files::source(path).map_err(DocumentError::from)?;
    Pins::parse(&source).map(Some)
}

/// Writes pins; returns whether the file changed.
///
/// # Errors
/// [`FileError`]; the old pins are still there then.
pub(super) fn write_pins(pins: &Pins, path: &Path) -> Result<bool, FileError> {
    let text = pins.to_toml();
    if files::read(path).is_ok_and(|old| old == text.as_bytes()) {
        return Ok(false);
    }
    // A link to the pins stays a link.
    let path = path.canonicalize().unwrap_or_else(|_| path.to_path_buf());
    files::replace(&path, text.as_bytes())?;
    Ok(true)
}
