//! `ladder.pinned.toml`: the exact versions and digests chosen for a ladder.
//!
//! Rungs are tables sorted by tool, one line a platform, so that a moved rung is a small diff and two branches that move
//! different rungs merge.
//!
//! ```toml
//! [pinned]
//! format = 2
//! ladder = "5f0c…"                         # digest of the wishes: other remarks or another order of lines change nothing
//! catalogs = [{ name = "tide-gauges", digest = "91ab…" }]
//! left-out = ["whimbrow"]                  # optional wishes that could not be met
//!
//! [rungs.skerroc]
//! version = "1.4.3"
//! artifacts."linux/x86_64" = { file = "skerroc-1.4.3.tar.gz", size = 2513, sha256 = "0c84…" }
//! artifacts."macos/aarch64" = { file = "skerroc-1.4.3-mac.tar.gz", size = 2498, sha256 = "77e1…" }
//! ```

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use toml_edit::{DocumentMut, InlineTable, Item, Table, value};

use super::HostCopy;
use crate::catalog::{Kind, Machine, PinnedArtifact};
use crate::digest::Digest;
use crate::document::{DocumentError, Source};
use crate::names::ToolName;
use crate::version::Version;

const FORMAT: i64 = 2;
const NOTE: &str = "# Written by `kladder pin`; to be committed beside the ladder.\n";

/// The pins of a ladder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pins {
    /// Digest of the ladder they were made for.
    pub ladder: Digest,
    /// The catalogs they were made from, the most important first.
    pub catalogs: Vec<FromCatalog>,
    /// Optional wishes that could not be met.
    pub left_out: Vec<ToolName>,
    /// The chosen releases, by tool.
    pub rungs: BTreeMap<ToolName, Pin>,
}

/// A catalog that pins were made from.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FromCatalog {
    /// What it calls itself.
    pub name: String,
    /// Of the definitions of the pinned tools that are from it.
    pub digest: Digest,
}

/// The release chosen for a rung.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// As its makers write it.
    pub version: Version,
    /// The catalog it is from, where the ladder has several.
    #[serde(default)]
    pub catalog: Option<String>,
    /// The version on machines where it is another one.
    #[serde(default)]
    pub elsewhere: BTreeMap<Kind, Version>,
    /// The machines that it is needed on; all of the ladder's when empty.
    #[serde(default, rename = "for")]
    pub on: Vec<Kind>,
    /// For what the host has: where.
    #[serde(default)]
    pub host: Option<HostCopy>,
    /// Its files, for every platform of the ladder.
    #[serde(default)]
    pub artifacts: BTreeMap<Kind, PinnedArtifact>,
    /// The files of the pieces that are taken, by piece and platform.
    #[serde(default)]
    pub pieces: BTreeMap<String, BTreeMap<Kind, PinnedArtifact>>,
    /// Tools that it keeps to itself.
    #[serde(default)]
    pub private: BTreeMap<ToolName, Pin>,
}

impl Pin {
    /// A pin on a version, without files.
    pub fn new(version: Version) -> Self {
        let (artifacts, pieces, private) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
        Self {
            version,
            catalog: None,
            elsewhere: BTreeMap::new(),
            on: Vec::new(),
            host: None,
            artifacts,
            pieces,
            private,
        }
    }

    /// Its version on a machine; `None` where it is not needed.
    pub fn version_on(&self, machine: &Machine) -> Option<&Version> {
        let needed = self.on.is_empty() || self.on.iter().any(|kind| kind.holds_on(machine));
        let other = || self.elsewhere.iter().find(|(kind, _)| kind.holds_on(machine)).map(|(_, version)| version);
        needed.then(|| other().unwrap_or(&self.version))
    }

    /// The artifact that fits a machine most closely.
    pub fn artifact(&self, machine: &Machine) -> Option<&PinnedArtifact> {
        of_machine(&self.artifacts, machine)
    }

    /// The artifacts of its pieces for a machine, by piece.
    pub fn piece_artifacts(&self, machine: &Machine) -> impl Iterator<Item = (&str, Option<&PinnedArtifact>)> {
        self.pieces.iter().map(|(piece, artifacts)| (piece.as_str(), of_machine(artifacts, machine)))
    }
}

fn of_machine<'a>(artifacts: &'a BTreeMap<Kind, PinnedArtifact>, machine: &Machine) -> Option<&'a PinnedArtifact> {
    // The narrowest comes first.
    artifacts.iter().find(|(kind, _)| kind.holds_on(machine)).map(|(_, artifact)| artifact)
}

/// Why a file of pins could not be used.
#[derive(Debug, thiserror::Error)]
pub enum PinsFileError {
    /// It could not be read or understood.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// It holds the marks of an unfinished merge.
    #[error("{} holds the marks of an unfinished merge, at line {line}", path.display())]
    Unmerged {
        /// The file.
        path: PathBuf,
        /// The first such line, from 1.
        line: usize,
    },
    /// It is written in a newer format.
    #[error("{} is written in format {format}, and this kladder reads up to {FORMAT}", path.display())]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        format: i64,
    },
}

#[derive(Deserialize)]
struct Peek {
    pinned: PeekHead,
}

#[derive(Deserialize)]
struct PeekHead {
    format: i64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    pinned: Head,
    #[serde(default)]
    rungs: BTreeMap<ToolName, Pin>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Head {
    #[serde(rename = "format")]
    _format: i64,
    ladder: Digest,
    catalogs: Vec<FromCatalog>,
    #[serde(default, rename = "left-out")]
    left_out: Vec<ToolName>,
}

/// The pins that hold on a machine, private ones included.
fn here(rungs: &BTreeMap<ToolName, Pin>, machine: &Machine) -> BTreeMap<ToolName, Pin> {
    let pin = |(tool, pin): (&ToolName, &Pin)| {
        let version = pin.version_on(machine)?.clone();
        let mut pin = Pin { version, private: here(&pin.private, machine), ..pin.clone() };
        pin.pieces.retain(|_, artifacts| of_machine(artifacts, machine).is_some());
        Some((tool.clone(), pin))
    };
    rungs.iter().filter_map(pin).collect()
}

impl Pin {
    /// Its files, with those of its pieces, on all platforms.
    pub fn files(&self) -> impl Iterator<Item = &PinnedArtifact> {
        let all = self.artifacts.values().chain(self.pieces.values().flat_map(BTreeMap::values));
        all.flat_map(PinnedArtifact::all)
    }
}

impl Pins {
    /// What of them holds on one machine.
    #[must_use]
    pub fn on(&self, machine: &Machine) -> Self {
        Self { rungs: here(&self.rungs, machine), ..self.clone() }
    }

    /// All pins with their tools, private ones behind their owners.
    pub fn all(&self) -> Vec<(&ToolName, &Pin)> {
        all(&self.rungs)
    }

    /// Every file that is pinned.
    pub fn files(&self) -> impl Iterator<Item = &PinnedArtifact> {
        self.all().into_iter().flat_map(|(_, pin)| pin.files())
    }

    /// The same pins with the sizes of files that `told` knows.
    #[must_use]
    pub fn sized(mut self, told: &dyn Fn(&PinnedArtifact) -> Option<u64>) -> Self {
        size_all(&mut self.rungs, told);
        self
    }

    /// Reads the text of a file of pins.
    ///
    /// # Errors
    /// [`PinsFileError`] where it is damaged, edited into nonsense, or of a newer format.
    pub fn parse(source: &Source) -> Result<Self, PinsFileError> {
        let path = &source.path;
        let marked = |line: &str| line.starts_with("<<<<<<<") || line.starts_with(">>>>>>>");
        if let Some(at) = source.text.lines().position(marked) {
            return Err(PinsFileError::Unmerged { path: path.clone(), line: at + 1 });
        }
        // The format is looked at first: a newer file may well have keys that mean nothing here.
        let Peek { pinned: PeekHead { format } } = source.parse()?;
        if format > FORMAT {
            return Err(PinsFileError::Newer { path: path.clone(), format });
        }
        let file: File = source.parse()?;
        let Head { ladder, catalogs, left_out, .. } = file.pinned;
        Ok(Self { ladder, catalogs, left_out, rungs: file.rungs })
    }

    /// The file's text.
    pub fn to_toml(&self) -> String {
        let mut head = Table::new();
        head.decor_mut().set_prefix(NOTE);
        head.insert("format", value(FORMAT));
        head.insert("ladder", value(self.ladder.hex()));
        let catalog = |FromCatalog { name, digest }: &FromCatalog| {
            let mut catalog = InlineTable::new();
            catalog.insert("name", name.as_str().into());
            catalog.insert("digest", digest.hex().into());
            catalog
        };
        head.insert("catalogs", value(self.catalogs.iter().map(catalog).collect::<toml_edit::Array>()));
        if !self.left_out.is_empty() {
            head.insert("left-out", value(self.left_out.iter().map(ToolName::as_str).collect::<toml_edit::Array>()));
        }
        let mut document = DocumentMut::new();
        document.insert("pinned", Item::Table(head));
        document.insert("rungs", Item::Table(tables(&self.rungs)));
        document.to_string()
    }
}

fn all(rungs: &BTreeMap<ToolName, Pin>) -> Vec<(&ToolName, &Pin)> {
    rungs.iter().flat_map(|(tool, pin)| std::iter::once((tool, pin)).chain(all(&pin.private))).collect()
}

fn size_all(rungs: &mut BTreeMap<ToolName, Pin>, told: &dyn Fn(&PinnedArtifact) -> Option<u64>) {
    for pin in rungs.values_mut() {
        let pieces = pin.pieces.values_mut().flat_map(BTreeMap::values_mut);
        for file in pin.artifacts.values_mut().chain(pieces) {
            size_file(file, told);
        }
        size_all(&mut pin.private, told);
    }
}

fn size_file(file: &mut PinnedArtifact, told: &dyn Fn(&PinnedArtifact) -> Option<u64>) {
    if file.size.is_none() {
        file.size = told(file);
    }
    file.also.iter_mut().for_each(|further| size_file(further, told));
}

/// A table for each pin.
fn tables(rungs: &BTreeMap<ToolName, Pin>) -> Table {
    let mut table = Table::new();
    table.set_implicit(true);
    for (tool, pin) in rungs {
        table.insert(tool, Item::Table(pin.to_table()));
    }
    table
}

impl Pin {
    fn to_table(&self) -> Table {
        let mut table = Table::new();
        table.insert("version", value(self.version.as_str()));
        if let Some(catalog) = &self.catalog {
            table.insert("catalog", value(catalog));
        }
        if !self.on.is_empty() {
            table.insert("for", value(self.on.iter().map(Kind::as_str).collect::<toml_edit::Array>()));
        }
        let mut elsewhere = Table::new();
        elsewhere.set_dotted(true);
        for (kind, version) in &self.elsewhere {
            elsewhere.insert(kind.as_str(), value(version.as_str()));
        }
        if !elsewhere.is_empty() {
            table.insert("elsewhere", Item::Table(elsewhere));
        }
        if let Some(copy) = &self.host {
            let text = |path: &Path| path.to_string_lossy().into_owned();
            let named = |key: &str, path: &Path| {
                let mut table = InlineTable::new();
                table.insert(key, text(path).into());
                value(table)
            };
            let place = match copy {
                HostCopy::Itself(file) => value(text(file)),
                HostCopy::Aside { file } => named("file", file),
                HostCopy::Laid { folder } => named("folder", folder),
                HostCopy::Package { package } => named("package", Path::new(package)),
            };
            table.insert("host", place);
        }
        if !self.artifacts.is_empty() {
            table.insert("artifacts", Item::Table(lines(&self.artifacts)));
        }
        let mut pieces = Table::new();
        pieces.set_dotted(true);
        for (piece, artifacts) in &self.pieces {
            pieces.insert(piece, Item::Table(lines(artifacts)));
        }
        if !pieces.is_empty() {
            table.insert("pieces", Item::Table(pieces));
        }
        if !self.private.is_empty() {
            table.insert("private", Item::Table(tables(&self.private)));
        }
        table
    }
}

fn line(artifact: &PinnedArtifact) -> InlineTable {
    let mut line = InlineTable::new();
    line.insert("file", artifact.file.as_str().into());
    if let Some(size) = artifact.size {
        line.insert("size", i64::try_from(size).unwrap_or(i64::MAX).into());
    }
    line.insert("sha256", artifact.sha256.hex().into());
    if !artifact.also.is_empty() {
        let also = artifact.also.iter().map(|further| toml_edit::Value::InlineTable(self::line(further)));
        line.insert("also", also.collect::<toml_edit::Array>().into());
    }
    line
}

/// A line for each platform, or machine.
fn lines(artifacts: &BTreeMap<Kind, PinnedArtifact>) -> Table {
    let mut table = Table::new();
    table.set_dotted(true);
    for (kind, artifact) in artifacts {
        table.insert(kind.as_str(), value(line(artifact)));
    }
    table
}
