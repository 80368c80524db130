//! Records that this program writes for itself: JSON with a `format`, written in one step.
//!
//! ```
//! use kladder_core::base::record;
//! use serde::{Deserialize, Serialize};
//!
//! #[derive(Debug, PartialEq, Serialize, Deserialize)]
//! struct Levels { format: u32, levels: Vec<i32> }
//!
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("levels.json");
//! record::write(&path, &Levels { format: 1, levels: vec![3, -1] })?;
//! assert_eq!(record::read::<Levels>(&path, 1)?.levels, [3, -1]);
//! // One that a newer program wrote is refused, and not half understood.
//! record::write(&path, &Levels { format: 2, levels: vec![] })?;
//! assert!(matches!(record::read::<Levels>(&path, 1), Err(record::RecordError::Newer { format: 2, .. })));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::io;
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::base::files::{self, Attach, FileError};

/// Why a record could not be read.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// The file could not be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no such record.
    #[error("{} is damaged", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        source: serde_json::Error,
    },
    /// It is written in a newer format.
    #[error("{} is written in format {format}, and this kladder reads up to {newest}", path.display())]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        format: u32,
        /// The newest format that is read.
        newest: u32,
    },
}

#[derive(Deserialize)]
struct Peek {
    format: u32,
}

/// Reads a record whose format is at most `newest`. The format is looked at first: a newer record may well have another
/// shape.
///
/// # Errors
/// [`RecordError`] where the file is missing, is no record, or has a format above `newest`.
pub fn read<T: DeserializeOwned>(path: &Path, newest: u32) -> Result<T, RecordError> {
    let bytes = files::read(path)?;
    let damaged = |source| RecordError::Damaged { path: path.to_path_buf(), source };
    let format = match in_front(&bytes) {
        Some(format) => format,
        None => serde_json::from_slice::<Peek>(&bytes).map_err(damaged)?.format,
    };
    if format > newest {
        return Err(RecordError::Newer { path: path.to_path_buf(), format, newest });
    }
    serde_json::from_slice(&bytes).map_err(damaged)
}

/// The format where it stands first, as it does in all that is written here: some records are megabytes.
fn in_front(bytes: &[u8]) -> Option<u32> {
    let text = std::str::from_utf8(bytes.get(..bytes.len().min(64))?).ok()?;
    let name = text.trim_start().strip_prefix('{')?.trim_start().strip_prefix("\"format\"")?;
    let number = name.trim_start().strip_prefix(':')?.trim_start();
    let digits = number.find([',', '}', ' ', '\n']).map(|end| &number[..end])?;
    digits.parse().ok()
}

/// Writes a record.
///
/// # Errors
/// [`FileError`]; the old record is still there then.
pub fn write(path: &Path, record: &impl Serialize) -> Result<(), FileError> {
    let bytes = serde_json::to_vec_pretty(record).map_err(io::Error::from).on("write", path)?;
    files::create_folder(path.parent().unwrap_or(Path::new(".")))?;
    files::replace(path, &bytes)
}

/// How a path stands in a record: percent-encoded (RFC 3986, section 2.1) outside printable ASCII, so that any byte
/// string survives.
pub mod path {
    use std::ffi::OsString;
    use std::os::unix::ffi::{OsStrExt, OsStringExt};
    use std::path::{Path, PathBuf};

    use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, percent_encode};
    use serde::{Deserialize, Deserializer, Serializer};

    const ENCODED: &AsciiSet = &CONTROLS.add(b'%');

    /// The path as text.
    pub fn to_text(path: &Path) -> String {
        percent_encode(path.as_os_str().as_bytes(), ENCODED).to_string()
    }

    /// The path that a text stands for.
    pub fn of_text(text: &str) -> PathBuf {
        PathBuf::from(OsString::from_vec(percent_decode_str(text).collect()))
    }

    /// For `serde(with)`.
    ///
    /// # Errors
    /// The serializer's.
    pub fn serialize<S: Serializer>(path: &Path, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&to_text(path))
    }

    /// For `serde(with)`.
    ///
    /// # Errors
    /// The deserializer's.
    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<PathBuf, D::Error> {
        let text = String::deserialize(deserializer)?;
        Ok(if text.contains('%') { of_text(&text) } else { PathBuf::from(text) })
    }
}

/// The same for a path that may be missing.
pub mod optional_path {
    use std::path::PathBuf;

    use serde::{Deserialize, Deserializer, Serializer};

    /// For `serde(with)`.
    ///
    /// # Errors
    /// The serializer's.
    #[allow(clippy::ref_option, reason = "serde hands it over like this")]
    pub fn serialize<S: Serializer>(path: &Option<PathBuf>, serializer: S) -> Result<S::Ok, S::Error> {
        match path {
            Some(path) => serializer.serialize_some(&super::path::to_text(path)),
            None => serializer.serialize_none(),
        }
    }

    /// For `serde(with)`.
    ///
    /// # Errors
    /// The deserializer's.
    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<PathBuf>, D::Error> {
        Ok(Option::<String>::deserialize(deserializer)?.map(|text| super::path::of_text(&text)))
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[derive(Debug, Deserialize, Serialize, PartialEq)]
    struct Gauge {
        format: u32,
        level: u32,
    }

    #[test]
    fn a_newer_record_is_told_from_a_damaged_one_whatever_its_shape() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sub/gauge.json");
        write(&path, &Gauge { format: 1, level: 412 }).unwrap();
        assert_eq!(read::<Gauge>(&path, 1).unwrap(), Gauge { format: 1, level: 412 });
        fs::write(&path, r#"{"format": 2, "levels": []}"#).unwrap();
        assert!(matches!(read::<Gauge>(&path, 1), Err(RecordError::Newer { format: 2, newest: 1, .. })));
        for damaged in ["", "{", "[]", r#"{"level": 1}"#, r#"{"format": 1}"#, r#"{"format": "1", "level": 1}"#] {
            fs::write(&path, damaged).unwrap();
            assert!(matches!(read::<Gauge>(&path, 1), Err(RecordError::Damaged { .. })), "{damaged}");
        }
        fs::remove_file(&path).unwrap();
        assert!(matches!(read::<Gauge>(&path, 1), Err(RecordError::File(_))));
    }
}
