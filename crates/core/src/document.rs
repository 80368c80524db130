//! TOML files that people write: read with the position of every mistake.

use std::fs;
use std::ops::Range;
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;

use crate::files::{Attach, FileError};
use crate::near::near;

/// A place in a text file, for a message that shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The file.
    pub path: PathBuf,
    /// Line, counted from 1.
    pub line: usize,
    /// Column in characters, counted from 1.
    pub column: usize,
    /// How many characters are meant; at least 1.
    pub length: usize,
    /// The line's text.
    pub text: String,
}

/// Why a document could not be used.
#[derive(Debug, thiserror::Error)]
pub enum DocumentError {
    /// The file could not be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is not TOML, or a value is not what its key wants.
    #[error("{message}")]
    Invalid {
        /// Where.
        place: Box<Place>,
        /// What is wrong there.
        message: String,
    },
    /// A key that means nothing here.
    #[error("the key `{key}` means nothing here")]
    UnknownKey {
        /// Where.
        place: Box<Place>,
        /// The key.
        key: String,
        /// Keys that look like it.
        near: Vec<String>,
        /// The keys that would mean something.
        known: Vec<String>,
    },
}

/// The text of a document, to find places in.
#[derive(Clone, Debug)]
pub struct Source {
    /// Where it was read from.
    pub path: PathBuf,
    /// What stood there.
    pub text: String,
}

impl Source {
    /// Reads a file as text.
    ///
    /// # Errors
    /// [`DocumentError`] where the file is missing, cannot be read, or is not UTF-8.
    pub fn read(path: &Path) -> Result<Self, DocumentError> {
        let text = fs::read_to_string(path).on("read", path)?;
        Ok(Self { path: path.to_path_buf(), text })
    }

    /// Reads the text as a `T`.
    ///
    /// # Errors
    /// [`DocumentError`] with line, column and a hint, where the text is not TOML or not a `T`.
    pub fn parse<T: DeserializeOwned>(&self) -> Result<T, DocumentError> {
        toml::from_str(&self.text).map_err(|error| self.explain(&error))
    }

    /// The place of a range of bytes.
    pub fn place(&self, span: Range<usize>) -> Place {
        let start = self.text.floor_char_boundary(span.start);
        let line_start = self.text[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = self.text[start..].find('\n').map_or(self.text.len(), |at| start + at);
        let end = self.text.floor_char_boundary(span.end.clamp(start, line_end));
        Place {
            path: self.path.clone(),
            line: self.text[..start].matches('\n').count() + 1,
            column: self.text[line_start..start].chars().count() + 1,
            length: self.text[start..end].chars().count().max(1),
            text: self.text[line_start..line_end].trim_end().to_owned(),
        }
    }

    /// An error about the value at `span`.
    pub fn invalid(&self, span: Range<usize>, message: impl Into<String>) -> DocumentError {
        DocumentError::Invalid { place: Box::new(self.place(span)), message: message.into() }
    }

    fn explain(&self, error: &toml::de::Error) -> DocumentError {
        let place = Box::new(self.place(error.span().unwrap_or(0..0)));
        match unknown_key(error.message()) {
            Some((key, known)) => {
                let near = near(&key, known.iter().map(String::as_str));
                DocumentError::UnknownKey { place, key, near, known }
            }
            None => DocumentError::Invalid { place, message: error.message().trim().to_owned() },
        }
    }
}

/// The key and the known ones out of serde's fixed sentence: unknown field `a`, expected one of `b`, `c`.
fn unknown_key(message: &str) -> Option<(String, Vec<String>)> {
    let mut quoted = message.strip_prefix("unknown field ")?.split('`').skip(1).step_by(2).map(str::to_owned);
    Some((quoted.next()?, quoted.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code)]
    struct Desk {
        title: String,
        gauges: Option<u32>,
    }

    fn read(text: &str) -> DocumentError {
        Source { path: "desk.toml".into(), text: text.into() }.parse::<Desk>().unwrap_err()
    }

    #[test]
    fn an_unknown_key_is_placed_and_near_ones_are_named() {
        let DocumentError::UnknownKey { place, key, near, known } = read("# ü\ntitle = 'x'\n  gauge = 3\n") else {
            panic!("not recognised as an unknown key")
        };
        assert_eq!((place.line, place.column, place.length), (3, 3, 5));
        assert_eq!((key.as_str(), near, known.len()), ("gauge", vec!["gauges".to_owned()], 2));
    }

    #[test]
    fn columns_count_characters_and_not_bytes() {
        let DocumentError::Invalid { place, .. } = read("title = \"ü\" x\n") else { panic!("valid?") };
        assert_eq!((place.line, place.column, place.text.as_str()), (1, 13, "title = \"ü\" x"));
    }
}
