//! Catalogs: definitions of tools with their releases, licences, presets and rehearsals.
//!
//! Where they come from is behind [`Catalog`]; what is asked of several of them together is [`Catalogs`].

mod brings;
mod card;
mod check;
mod definition;
mod desktop;
mod devices;
mod facts;
mod gate;
mod kind;
mod licence;
mod memory;
mod need;
mod preset;
mod provides;
mod rehearsal;
mod several;
mod table;
mod trial;

pub use brings::Brings;
pub use card::{Artifact, Card, CardArtifact, CardGate, CardPiece, CardRelease, Details, PinnedArtifact};
pub use check::{Fault, Remark, Texts};
pub use definition::{
    AbsoluteLinks, Also, Anew, Asking, Chooses, Command, CommandName, Definition, Extensions, FREE, FitOut, Here,
    HostPath, HostProbe, How, Layout, Lends, LinesFor, Origin, Piece, Port, Published, Release, Says, Service,
    SettingsRead, Spot, Unpacking, Variable, VariableName, Visit, When, Whose, WrongChoice,
};
pub use desktop::{DesktopEntry, Word};
pub use devices::Devices;
pub use facts::{Conditions, Facts, Machine, Unknown};
pub use gate::{Demand, Gate, LIMITS, OfSystem, Ranged, Who};
pub use kind::Kind;
pub use licence::Licence;
pub use memory::Memory;
pub use need::{Exclusion, Need, Way};
pub use preset::{Preset, PresetRung};
pub use provides::{Provided, Provides};
pub use rehearsal::{
    Ask, Completes, Content, DebugAdapter, Deed, Filled, Key, Laid, LanguageServer, NotFilled, OfRung, Part, Rehearsal,
    Step, Talk, Terminal, fill_words,
};
pub use several::Catalogs;
pub use trial::{Claim, Expect, Is, Of, Pattern, Trial, Value};

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::Deserialize;
use toml::Spanned;

use crate::address::YardAddress;
use crate::digest::Digest;
use crate::document::{DocumentError, FileError, Source};
use crate::names::ToolName;

/// The catalog format that this program reads.
pub const FORMAT: u32 = 2;

/// Why a catalog could not be used.
#[derive(Debug, thiserror::Error)]
pub enum CatalogError {
    /// There is no catalog in this folder.
    #[error("there is no catalog in {}", .0.display())]
    Missing(PathBuf),
    /// A file of it could not be read or understood.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A folder of it could not be listed.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is written in a newer format.
    #[error("{} is written in format {format}, and this kladder reads up to {FORMAT}", path.display())]
    Newer {
        /// The file that says so.
        path: PathBuf,
        /// The format.
        format: u32,
    },
    /// A definition names a licence whose text is not there.
    #[error("the catalog {catalog} has no text for the licence `{id}`")]
    NoLicence {
        /// The licence.
        id: String,
        /// The catalog's name.
        catalog: String,
    },
    /// Two catalogs of one ladder have the same name, so that pins could not tell them apart.
    #[error("two catalogs are called `{name}`")]
    SameName {
        /// The name.
        name: String,
    },
    /// A definition, preset or rehearsal is wrong in itself.
    #[error("{message}")]
    Wrong {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        message: String,
    },
}

/// What a catalog says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct About {
    /// Its name, which pins carry.
    pub name: String,
    /// What it is called among people.
    pub title: String,
    /// Where its artifacts come from, best first.
    pub yards: Vec<YardAddress>,
    /// By capability: the tools that are tried before others, in this order.
    pub prefer: BTreeMap<ToolName, Vec<ToolName>>,
    /// The indexes that its definitions name, and what each of them speaks.
    pub indexes: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AboutFile {
    catalog: AboutForm,
    #[serde(default)]
    prefer: BTreeMap<ToolName, Vec<ToolName>>,
    #[serde(default)]
    indexes: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AboutForm {
    #[serde(rename = "format")]
    _format: u32,
    name: String,
    title: Option<String>,
    #[serde(default)]
    yards: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
struct Peek {
    catalog: PeekForm,
}

#[derive(Deserialize)]
struct PeekForm {
    format: u32,
}

impl About {
    /// Reads a `catalog.toml`; yards that are folders start at `base`.
    ///
    /// # Errors
    /// [`CatalogError`] where it is wrong, or of a newer format.
    pub fn parse(source: &Source, base: &Path) -> Result<Self, CatalogError> {
        // The format is looked at first: a newer file may well have keys that mean nothing here.
        let Peek { catalog: PeekForm { format } } = source.parse()?;
        if format > FORMAT {
            return Err(CatalogError::Newer { path: source.path.clone(), format });
        }
        let AboutFile { catalog: AboutForm { name, title, yards, _format: _ }, prefer, indexes } = source.parse()?;
        let yard = |text: &Spanned<String>| {
            YardAddress::new(text.get_ref(), base).map_err(|error| source.invalid(text.span(), error.to_string()))
        };
        let yards = yards.iter().map(yard).collect::<Result<_, _>>()?;
        Ok(Self { title: title.unwrap_or_else(|| name.clone()), name, yards, prefer, indexes })
    }
}

/// What a text of a catalog is, besides a definition.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum TextKind {
    /// What must be accepted.
    Licence,
    /// A starting point for a ladder.
    Preset,
    /// A small project that several rungs build and run.
    Rehearsal,
}

/// What a listing says of a tool.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, Deserialize)]
pub struct Head {
    /// What sort of tool it is.
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// The capabilities it provides.
    pub provides: Vec<ToolName>,
    /// What can be typed.
    pub commands: Vec<String>,
}

impl Head {
    /// The head of a definition.
    pub fn of(definition: &Definition) -> Self {
        Self {
            kind: definition.kind.clone(),
            summary: definition.summary.clone(),
            provides: definition.provides(),
            commands: definition.says.commands.keys().map(ToString::to_string).collect(),
        }
    }
}

/// Where definitions and texts come from: a folder, a file, a value in memory.
pub trait Catalog: Send + Sync {
    /// What it says of itself.
    fn about(&self) -> &About;

    /// The names of all its tools, sorted.
    fn names(&self) -> &[ToolName];

    /// A tool's definition with the digest of its text; `None` where it has no such tool.
    ///
    /// # Errors
    /// [`CatalogError`] where the definition is there and cannot be used, with its place.
    fn definition(&self, tool: &str) -> Result<Option<(Definition, Digest)>, CatalogError>;

    /// The names of all texts of a kind, sorted.
    ///
    /// # Errors
    /// [`CatalogError`] where they cannot be listed.
    fn texts(&self, kind: TextKind) -> Result<Vec<String>, CatalogError>;

    /// A text; `None` where there is none of this name.
    ///
    /// # Errors
    /// [`CatalogError`] where it is there and cannot be read.
    fn text(&self, kind: TextKind, name: &str) -> Result<Option<Source>, CatalogError>;

    /// A tool's card. A catalog with an index has it without reading the definition.
    ///
    /// # Errors
    /// As of [`Catalog::definition`].
    fn card(&self, tool: &str) -> Result<Option<Card>, CatalogError> {
        Ok(self.definition(tool)?.map(|(definition, digest)| Card::of(&definition, digest)))
    }

    /// What a listing says of each tool, in the order of their names.
    ///
    /// # Errors
    /// [`CatalogError`] for the first definition that cannot be used: the list would not be whole.
    fn heads(&self) -> Result<Vec<(ToolName, Head)>, CatalogError> {
        let head = |name: &ToolName| Ok(self.definition(name)?.map(|(found, _)| (name.clone(), Head::of(&found))));
        self.names().iter().filter_map(|name| head(name).transpose()).collect()
    }

    /// What each tool provides besides itself, as far as definitions can be used; those that provide nothing may be left out.
    fn provided(&self) -> Vec<(ToolName, Vec<ToolName>)> {
        let provided = |name: &ToolName| Some((name.clone(), self.definition(name).ok()??.0.provides()));
        self.names().iter().filter_map(provided).collect()
    }
}

/// A definition, read once and shared.
pub type Shared = Arc<Definition>;
