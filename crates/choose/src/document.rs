//! TOML texts that people write: read with the position of every mistake, which is told in our own words.

use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use serde::de::DeserializeOwned;

use crate::near::near;

/// A file that could not be had, changed or removed; the cause is in `source()`.
#[derive(Debug, thiserror::Error)]
#[error("cannot {action} {}", path.display())]
pub struct FileError {
    /// What was attempted, as a verb: "read", "create the folder".
    pub action: &'static str,
    /// On what.
    pub path: PathBuf,
    /// What the system said.
    pub source: io::Error,
}

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
    /// The line's text; a long one without what is far from the place.
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
        /// Keys that look like it, most alike first.
        near: Vec<String>,
        /// The keys that would mean something.
        known: Vec<String>,
    },
    /// A key that must be there is not.
    #[error("the key `{key}` is missing")]
    MissingKey {
        /// The table that lacks it.
        place: Box<Place>,
        /// The key.
        key: String,
    },
    /// A word that stands for nothing here.
    #[error("`{word}` cannot stand here")]
    UnknownWord {
        /// Where.
        place: Box<Place>,
        /// The word.
        word: String,
        /// Words that look like it, most alike first.
        near: Vec<String>,
        /// The words that can stand here.
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
    /// Where its lines begin, once a place was asked for: large ladders ask for one a wish.
    lines: OnceLock<Vec<usize>>,
}

/// Characters of a line that a message shows.
const SHOWN: usize = 160;

impl Source {
    /// A text, and the file that it stands in or will stand in.
    pub fn new(path: impl AsRef<Path>, text: impl Into<String>) -> Self {
        Self { path: path.as_ref().to_path_buf(), text: text.into(), lines: OnceLock::new() }
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
        let lines = self
            .lines
            .get_or_init(|| std::iter::once(0).chain(self.text.match_indices('\n').map(|(at, _)| at + 1)).collect());
        let line = lines.partition_point(|begin| *begin <= start);
        let line_start = lines[line - 1];
        let line_end = self.text[start..].find('\n').map_or(self.text.len(), |at| start + at);
        let end = self.text.floor_char_boundary(span.end.clamp(start, line_end));
        let column = self.text[line_start..start].chars().count() + 1;
        let text = self.text[line_start..line_end].trim_end();
        Place {
            path: self.path.clone(),
            line,
            column,
            length: self.text[start..end].chars().count().max(1),
            text: text.chars().take(column + SHOWN).collect(),
        }
    }

    /// An error about the value at `span`.
    pub fn invalid(&self, span: Range<usize>, message: impl Into<String>) -> DocumentError {
        DocumentError::Invalid { place: Box::new(self.place(span)), message: message.into() }
    }

    /// An error about the file as a whole.
    pub fn wrong(&self, message: impl Into<String>) -> DocumentError {
        self.invalid(0..0, message)
    }

    fn explain(&self, error: &toml::de::Error) -> DocumentError {
        let place = Box::new(self.place(error.span().unwrap_or(0..0)));
        match Wording::of(error.message().trim()) {
            Wording::UnknownKey { key, known } => {
                let near = near(&key, known.iter().map(String::as_str));
                DocumentError::UnknownKey { place, key, near, known }
            }
            Wording::UnknownWord { word, known } => {
                let near = near(&word, known.iter().map(String::as_str));
                DocumentError::UnknownWord { place, word, near, known }
            }
            Wording::MissingKey { key } => DocumentError::MissingKey { place, key },
            Wording::Other(message) => {
                let is_single = place.text.starts_with('[') && !place.text.starts_with("[[");
                let hint = match place.text.trim_matches(['[', ']']) {
                    name if is_single && message == SINGLE => format!("; several are written with [[{name}]]"),
                    _ => String::new(),
                };
                DocumentError::Invalid { place, message: message + &hint }
            }
        }
    }
}

/// What is said where one table stands for a list of them.
const SINGLE: &str = "this is a table; here stands a list";

/// What a sentence of the library that reads TOML says.
enum Wording {
    UnknownKey { key: String, known: Vec<String> },
    UnknownWord { word: String, known: Vec<String> },
    MissingKey { key: String },
    Other(String),
}

impl Wording {
    /// Takes the fixed sentences of serde apart, so that its wording reaches nobody.
    fn of(message: &str) -> Self {
        let mut quoted = message.split('`').skip(1).step_by(2).map(str::to_owned);
        let mut next = || quoted.next().unwrap_or_default();
        if message.starts_with("unknown field ") {
            return Self::UnknownKey { key: next(), known: quoted.collect() };
        }
        if message.starts_with("unknown variant ") {
            return Self::UnknownWord { word: next(), known: quoted.collect() };
        }
        if message.starts_with("missing field ") {
            return Self::MissingKey { key: next() };
        }
        if message.starts_with("duplicate field ") || message.starts_with("duplicate key") {
            return Self::Other("this key stands here twice".to_owned());
        }
        if message.starts_with("invalid float") || message.starts_with("invalid integer") {
            return Self::Other("this is no number; a text stands in quotes".to_owned());
        }
        if message.starts_with("invalid basic string, expected `\"`") {
            return Self::Other("the closing quote of this text is missing".to_owned());
        }
        let mismatch = message.strip_prefix("invalid type: ").or_else(|| message.strip_prefix("invalid value: "));
        match mismatch.and_then(|rest| rest.rsplit_once(", expected ")) {
            Some((found, wanted)) => {
                Self::Other(format!("this is {}; here stands {}", found_words(found), wanted_words(wanted)))
            }
            None => Self::Other(message.to_owned()),
        }
    }
}

/// What was found, in words that a person knows: `string "x"`, an integer with its digits in backquotes, `map`, `sequence`.
fn found_words(found: &str) -> String {
    let (kind, value) = found.split_once(' ').unwrap_or((found, ""));
    let value = value.trim_matches('`');
    let kind = match kind {
        "string" => "a text",
        "integer" => "a whole number",
        "floating" => "a number",
        "boolean" => "yes or no",
        "map" => "a table",
        "sequence" => "a list",
        "unit" => "nothing",
        other => other,
    };
    let value = value.trim_start_matches("point `");
    if value.is_empty() || value.chars().count() > 40 { kind.to_owned() } else { format!("{kind}, {value}") }
}

/// What was wanted: the library's words for Rust's types, else what our own types say of themselves.
fn wanted_words(wanted: &str) -> &str {
    match wanted {
        "a string" | "string" => "a text in quotes",
        "a boolean" | "bool" => "true or false",
        "a sequence" | "sequence" => "a list",
        "a map" | "map" => "a table",
        "u8" | "u16" | "u32" | "u64" | "usize" => "a whole number, not below zero",
        "i8" | "i16" | "i32" | "i64" => "a whole number",
        "f64" | "f32" => "a number",
        struct_name if struct_name.starts_with("struct ") => "a table",
        other => other,
    }
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
        Source::new("desk.toml", text).parse::<Desk>().unwrap_err()
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

    #[test]
    fn no_wording_of_a_library_reaches_a_person() {
        #[derive(Debug, serde::Deserialize)]
        #[serde(rename_all = "kebab-case")]
        enum Tide {
            Spring,
            Neap,
        }
        #[derive(Debug, serde::Deserialize)]
        #[allow(dead_code)]
        struct Table {
            title: String,
            tide: Tide,
            gauges: u32,
            list: Vec<String>,
            flag: bool,
        }
        let all = "title = 'x'\ntide = 'neap'\ngauges = 3\nlist = []\nflag = true\n";
        let cases = [
            ("title = 'x'", "title = 7", "this is a whole number, 7; here stands a text in quotes"),
            ("gauges = 3", "gauges = -1", "this is a whole number, -1; here stands a whole number, not below zero"),
            ("gauges = 3", "gauges = 'three'", "this is a text, \"three\"; here stands a whole number, not below zero"),
            ("list = []", "list = {}", "this is a table; here stands a list"),
            (
                "list = []\nflag = true",
                "flag = true\n[list]",
                "this is a table; here stands a list; several are written with [[list]]",
            ),
            ("gauges = 3", "gauges = 6.0.2", "this is no number; a text stands in quotes"),
            ("flag = true", "flag = []", "this is a list; here stands true or false"),
            ("title = 'x'", "title = 1.5", "this is a number, 1.5; here stands a text in quotes"),
            ("gauges = 3\n", "", "the key `gauges` is missing"),
            ("'neap'", "'nep'", "`nep` cannot stand here"),
        ];
        assert!(Source::new("x", all).parse::<Table>().is_ok());
        for (old, new, told) in cases {
            let error = Source::new("x", all.replace(old, new)).parse::<Table>().unwrap_err();
            assert_eq!(error.to_string(), told, "{new}");
        }
        let error = Source::new("x", all.replace("'neap'", "'nep'")).parse::<Table>().unwrap_err();
        let DocumentError::UnknownWord { near, known, .. } = error else { panic!("{error:?}") };
        assert_eq!((near, known), (vec!["neap".to_owned()], vec!["spring".to_owned(), "neap".to_owned()]));
    }
}
