//! The ladder: what is wanted, as people write it.

mod edit;

pub use edit::{Terms, with_wish, without_wish};

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use serde::{Deserialize, Deserializer};
use toml::Spanned;

use crate::catalog::Way;
use crate::digest::Digest;
use crate::document::{DocumentError, Place, Source};
use crate::platform::{NotAPlatform, Platform};
use crate::version::{Requirement, RequirementError};

/// A ladder's file name.
pub const FILE_NAME: &str = "ladder.toml";

/// A ladder as read from its file.
#[derive(Clone, Debug)]
pub struct Ladder {
    /// The file.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// What it is called among people.
    pub title: String,
    /// The platforms it is pinned for; empty for the host's alone.
    pub platforms: Vec<Platform>,
    /// The catalog it is made from.
    pub catalog: Option<PathBuf>,
    /// What is wanted, in the order of the file.
    pub wishes: Vec<Wish>,
    /// A digest of everything in it that decides about pins.
    pub digest: Digest,
}

/// One line of what is wanted.
#[derive(Clone, Debug)]
pub struct Wish {
    /// The tool or capability.
    pub tool: String,
    /// Which versions will do.
    pub range: Range,
    /// Whether what the host has will do.
    pub host: HostPolicy,
    /// Where its name stands.
    pub place: Place,
    /// Where it says which versions will do.
    pub range_place: Place,
}

/// Whether what the host has will do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HostPolicy {
    /// It is taken before anything else.
    Prefer,
    /// It is taken where nothing else fits.
    #[default]
    Allow,
    /// It is not looked at.
    Never,
    /// Nothing else is taken.
    Only,
}

impl std::fmt::Display for HostPolicy {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Prefer => "prefer",
            Self::Allow => "allow",
            Self::Never => "never",
            Self::Only => "only",
        })
    }
}

/// Which versions will do: a requirement, a series, or both.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Range {
    /// The versions.
    pub requirement: Requirement,
    /// The series that the release must belong to.
    pub series: Option<String>,
    /// The pieces that the release must have.
    pub pieces: Vec<String>,
}

impl Range {
    /// Every release that is no preview.
    pub fn any() -> Self {
        Self { requirement: Requirement::any(), series: None, pieces: Vec::new() }
    }
}

/// A requirement, or the name of a series.
impl FromStr for Range {
    type Err = RequirementError;

    fn from_str(text: &str) -> Result<Self, RequirementError> {
        match text.parse() {
            Ok(requirement) => Ok(Self { requirement, ..Self::any() }),
            Err(_) if is_series(text) => Ok(Self { series: Some(text.to_owned()), ..Self::any() }),
            Err(error) => Err(error),
        }
    }
}

impl From<&Way> for Range {
    fn from(way: &Way) -> Self {
        Self { requirement: way.version.clone(), series: None, pieces: way.pieces.clone() }
    }
}

impl std::fmt::Display for Range {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.series {
            None => self.requirement.fmt(f)?,
            Some(series) if self.requirement == Requirement::any() => write!(f, "the {series} series")?,
            Some(series) => write!(f, "{} in the {series} series", self.requirement)?,
        }
        if self.pieces.is_empty() { Ok(()) } else { write!(f, " with {}", self.pieces.join(", ")) }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    ladder: Head,
    #[serde(default)]
    rungs: BTreeMap<Spanned<String>, Spanned<WishForm>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Head {
    title: Option<String>,
    #[serde(default)]
    platforms: Vec<Spanned<String>>,
    catalog: Option<PathBuf>,
}

struct WishForm {
    version: Option<Spanned<String>>,
    series: Option<String>,
    pieces: Vec<String>,
    host: HostPolicy,
    /// The whole value is one string.
    short: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WishTable {
    version: Option<Spanned<String>>,
    series: Option<String>,
    #[serde(default)]
    pieces: Vec<String>,
    #[serde(default)]
    host: HostPolicy,
}

impl<'de> Deserialize<'de> for WishForm {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = WishForm;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a requirement like \"1.4\", a series, or a table with `version`, `series`, `pieces` and `host`",
                )
            }
            fn visit_str<E>(self, text: &str) -> Result<WishForm, E> {
                let version = Some(Spanned::new(0..0, text.to_owned()));
                Ok(WishForm { version, series: None, pieces: Vec::new(), host: HostPolicy::Allow, short: true })
            }
            fn visit_i64<E: serde::de::Error>(self, number: i64) -> Result<WishForm, E> {
                Err(E::custom(in_quotes(number)))
            }
            fn visit_f64<E: serde::de::Error>(self, number: f64) -> Result<WishForm, E> {
                Err(E::custom(in_quotes(number)))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<WishForm, A::Error> {
                let table = WishTable::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let WishTable { version, series, pieces, host } = table;
                Ok(WishForm { version, series, pieces, host, short: false })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// Numbers lose the zeros at their end: 1.10 would be read as 1.1.
fn in_quotes(number: impl std::fmt::Display) -> String {
    format!("a version stands in quotes: \"{number}\"")
}

impl Ladder {
    /// Reads a ladder.
    ///
    /// # Errors
    /// [`DocumentError`] with line, column and a hint where the file is wrong.
    pub fn read(path: &Path) -> Result<Self, DocumentError> {
        Self::parse(&Source::read(path)?)
    }

    /// Reads a ladder from a text, which need not stand in its file yet.
    ///
    /// # Errors
    /// [`DocumentError`] with line, column and a hint where the text is wrong.
    pub fn parse(source: &Source) -> Result<Self, DocumentError> {
        let path = &source.path;
        let file: File = source.parse()?;
        let platforms =
            file.ladder.platforms.iter().map(|text| platform(source, text)).collect::<Result<Vec<_>, _>>()?;
        let mut rungs: Vec<_> = file.rungs.into_iter().collect();
        rungs.sort_by_key(|(tool, _)| tool.span().start);
        let wishes = rungs.into_iter().map(|(tool, form)| wish(source, &tool, form)).collect::<Result<Vec<_>, _>>()?;
        let folder = path.parent().unwrap_or(Path::new("."));
        let name = || folder.file_name().map_or_else(|| "ladder".into(), |name| name.display().to_string());
        Ok(Self {
            digest: digest(&platforms, &wishes),
            path: path.clone(),
            text: source.text.clone(),
            title: file.ladder.title.unwrap_or_else(name),
            platforms,
            catalog: file.ladder.catalog.map(|catalog| tidy(folder.join(catalog))),
            wishes,
        })
    }

    /// The file of its pins, beside it.
    pub fn pins_path(&self) -> PathBuf {
        self.path.with_file_name("ladder.pinned.toml")
    }
}

/// The path without `..`, as far as it exists.
fn tidy(path: PathBuf) -> PathBuf {
    path.canonicalize().unwrap_or(path)
}

/// The nearest ladder from `folder` upwards.
pub fn find_from(folder: &Path) -> Option<PathBuf> {
    folder.ancestors().map(|folder| folder.join(FILE_NAME)).find(|path| path.is_file())
}

fn platform(source: &Source, text: &Spanned<String>) -> Result<Platform, DocumentError> {
    text.get_ref().parse().map_err(|error: NotAPlatform| source.invalid(text.span(), error.to_string()))
}

fn wish(source: &Source, tool: &Spanned<String>, form: Spanned<WishForm>) -> Result<Wish, DocumentError> {
    let whole = form.span();
    let form = form.into_inner();
    let mut range = Range { series: form.series, pieces: form.pieces, ..Range::any() };
    if let Some(text) = form.version {
        let span = if form.short { whole.clone() } else { text.span() };
        let text = text.into_inner();
        match text.parse() {
            Ok(requirement) => range.requirement = requirement,
            Err(_) if form.short && is_series(&text) => range.series = Some(text),
            Err(error) => {
                let skip = text.char_indices().nth(error.column - 1).map_or(text.len(), |(at, _)| at);
                return Err(source.invalid(span.start + 1 + skip..span.end - 1, error.to_string()));
            }
        }
    }
    let (place, range_place) = (source.place(tool.span()), source.place(whole));
    Ok(Wish { tool: tool.get_ref().clone(), range, host: form.host, place, range_place })
}

/// `long-term`, `stable`, `lts24`: a word that is no version and no slip into another language.
fn is_series(text: &str) -> bool {
    text != "latest" && text.starts_with(char::is_alphabetic) && text.chars().all(|c| c.is_alphanumeric() || c == '-')
}

fn digest(platforms: &[Platform], wishes: &[Wish]) -> Digest {
    let mut lines: Vec<String> = wishes.iter().map(|w| format!("{} {} {}\n", w.tool, w.range, w.host)).collect();
    lines.extend(platforms.iter().map(|platform| format!("platform {platform}\n")));
    Digest::of(lines.concat().as_bytes())
}
