//! The catalog: a folder of definitions and rehearsals that people can read, write and review.
//!
//! ```text
//! catalog.toml           name, title, yards
//! tools/NAME.toml        a definition each
//! rehearsals/NAME.toml   a rehearsal each
//! ```
//!
//! Only what is asked for is read. Foreign text in it is data: names are checked before they become part of a path.

mod card;
mod definition;
mod gate;
mod index;
mod licence;
mod need;
mod preset;
mod rehearsal;
mod trial;

pub use card::{Card, CardPiece, CardRelease, Details, PinnedArtifact};
pub use definition::{AbsoluteLinks, Artifact, Command, Definition, HostProbe, Lends, Piece, Release, Unpacking};
pub use gate::{Demand, Gate, Ranged};
pub use index::Head;
pub use licence::Licence;
pub use need::{Need, Way};
pub use preset::{Preset, PresetRung};
pub use rehearsal::Rehearsal;
pub use trial::{Expect, Pattern, Trial};

use std::cell::{OnceCell, RefCell};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Component, Path, PathBuf};
use std::rc::Rc;

use serde::Deserialize;

use crate::digest::{Digest, Hasher};
use crate::document::{DocumentError, Source};
use crate::files::{Attach, FileError};
use crate::home::anchored;
use crate::near::near;
use index::Index;

/// A catalog with as many tools is worth an index.
const LARGE: usize = 64;

/// The catalog format that this program reads.
const FORMAT: u32 = 1;

/// Why the catalog could not be used.
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
    #[error("the catalog has no text for the licence `{id}`")]
    NoLicence {
        /// The licence.
        id: String,
        /// Where its text should be.
        path: PathBuf,
    },
    /// A definition or rehearsal is wrong in itself.
    #[error("{}: {message}", path.display())]
    Wrong {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        message: String,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CatalogFile {
    catalog: About,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct About {
    format: u32,
    name: String,
    title: String,
    #[serde(default)]
    yards: Vec<String>,
}

/// An open catalog.
pub struct Catalog {
    folder: PathBuf,
    /// Its name.
    pub name: String,
    /// What it is called among people.
    pub title: String,
    /// Where its artifacts come from, best first.
    pub yards: Vec<String>,
    tools: BTreeMap<String, PathBuf>,
    /// Where the index is kept.
    index_file: Option<PathBuf>,
    index: OnceCell<Index>,
    read: RefCell<BTreeMap<String, Rc<Definition>>>,
    cards: RefCell<BTreeMap<String, Rc<Card>>>,
    /// By capability: the tools that provide it, sorted by name.
    providers: OnceCell<BTreeMap<String, Vec<String>>>,
}

impl Catalog {
    /// Opens the catalog in `folder`; definitions are read when they are asked for. The index of a large catalog is kept
    /// in the folder `indexes`.
    ///
    /// # Errors
    /// [`CatalogError`] where `catalog.toml` is missing, wrong, or of a newer format.
    pub fn open(folder: &Path, indexes: Option<&Path>) -> Result<Self, CatalogError> {
        let path = folder.join("catalog.toml");
        if !path.is_file() {
            return Err(CatalogError::Missing(folder.to_path_buf()));
        }
        let CatalogFile { catalog: about } = Source::read(&path)?.parse()?;
        if about.format > FORMAT {
            return Err(CatalogError::Newer { path, format: about.format });
        }
        let tools = toml_files(&folder.join("tools"))?;
        // A small catalog is read as fast as its index.
        let indexes = indexes.filter(|_| tools.len() >= LARGE);
        Ok(Self {
            index_file: indexes.map(|indexes| indexes.join(index_name(folder))),
            index: OnceCell::new(),
            tools,
            folder: folder.to_path_buf(),
            name: about.name,
            title: about.title,
            yards: about.yards.iter().map(|yard| anchored(yard, folder)).collect(),
            read: RefCell::default(),
            cards: RefCell::default(),
            providers: OnceCell::new(),
        })
    }

    /// Names of all tools, sorted.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.tools.keys().map(String::as_str)
    }

    /// Whether there is a tool of this name.
    pub fn has(&self, name: &str) -> bool {
        self.tools.contains_key(name)
    }

    /// Tools that `name` may have meant.
    pub fn near(&self, name: &str) -> Vec<String> {
        near(name, self.names())
    }

    /// A tool's definition; `None` when the catalog has no such tool.
    ///
    /// # Errors
    /// [`CatalogError`] where the definition is there and cannot be used, with the place in its file.
    pub fn tool(&self, name: &str) -> Result<Option<Rc<Definition>>, CatalogError> {
        if let Some(read) = self.read.borrow().get(name) {
            return Ok(Some(Rc::clone(read)));
        }
        let Some(path) = self.tools.get(name) else { return Ok(None) };
        let definition = Rc::new(read_definition(name, path)?.0);
        self.read.borrow_mut().insert(name.to_owned(), Rc::clone(&definition));
        Ok(Some(definition))
    }

    /// A tool's card; `None` when the catalog has no such tool.
    ///
    /// # Errors
    /// [`CatalogError`] where the definition is there and cannot be used, with the place in its file.
    pub fn card(&self, name: &str) -> Result<Option<Rc<Card>>, CatalogError> {
        if let Some(card) = self.cards.borrow().get(name) {
            return Ok(Some(Rc::clone(card)));
        }
        let Some(path) = self.tools.get(name) else { return Ok(None) };
        let indexed = if self.index_file.is_some() { self.index()?.card(name) } else { None };
        let card = if let Some(card) = indexed {
            Rc::new(card)
        } else {
            let (definition, digest) = read_definition(name, path)?;
            let card = Card::of(&definition, digest);
            self.read.borrow_mut().insert(name.to_owned(), Rc::new(definition));
            Rc::new(card)
        };
        self.cards.borrow_mut().insert(name.to_owned(), Rc::clone(&card));
        Ok(Some(card))
    }

    /// All tools with what a listing says of them, sorted by name. A definition that cannot be used is an error here,
    /// since the list would not be whole.
    ///
    /// # Errors
    /// [`CatalogError`] for the first definition that cannot be read or used.
    pub fn heads(&self) -> Result<impl Iterator<Item = (&str, &Head)>, CatalogError> {
        let index = self.index()?;
        if let Some(broken) = self.tools.keys().find(|name| index.head(name).is_none()) {
            self.tool(broken)?;
        }
        Ok(index.heads())
    }

    fn index(&self) -> Result<&Index, CatalogError> {
        if let Some(index) = self.index.get() {
            return Ok(index);
        }
        let index = Index::open(&self.tools, self.index_file.as_deref())?;
        Ok(self.index.get_or_init(|| index))
    }

    /// The tools that provide a capability, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first definition that cannot be read or used: it might be a provider.
    pub fn providers(&self, capability: &str) -> Result<Vec<String>, CatalogError> {
        let heads = self.heads()?;
        let providers = self.providers.get_or_init(|| {
            let mut providers: BTreeMap<String, Vec<String>> = BTreeMap::new();
            for (tool, capability) in heads.flat_map(|(tool, head)| head.provides.iter().map(move |one| (tool, one))) {
                providers.entry(capability.clone()).or_default().push(tool.to_owned());
            }
            providers
        });
        Ok(providers.get(capability).cloned().unwrap_or_default())
    }

    /// A licence with its text.
    ///
    /// # Errors
    /// [`CatalogError`] where the catalog has no licence of this name, or its text cannot be read.
    pub fn licence(&self, id: &str) -> Result<Licence, CatalogError> {
        Licence::read(&self.folder, id)
    }

    /// All presets, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first preset that cannot be used.
    pub fn presets(&self) -> Result<Vec<Preset>, CatalogError> {
        let files = toml_files(&self.folder.join("presets"))?;
        files.iter().map(|(name, path)| Preset::read(name, path)).collect()
    }

    /// All rehearsals, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first rehearsal that cannot be used.
    pub fn rehearsals(&self) -> Result<Vec<Rehearsal>, CatalogError> {
        let files = toml_files(&self.folder.join("rehearsals"))?;
        files.iter().map(|(name, path)| Rehearsal::read(name, path)).collect()
    }

    /// A digest over the definitions of `tools`.
    ///
    /// # Errors
    /// [`CatalogError`] for a definition that cannot be used; tools that the catalog has not are passed over.
    pub fn digest_of<'a>(&self, tools: impl Iterator<Item = &'a str>) -> Result<Digest, CatalogError> {
        let mut hasher = Hasher::default();
        for tool in tools {
            if let Some(card) = self.card(tool)? {
                hasher.update(format!("{tool} {}\n", card.digest).as_bytes());
            }
        }
        Ok(hasher.finish())
    }
}

/// The name of a catalog's index among those of others.
fn index_name(folder: &Path) -> String {
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
    let name = folder.file_name().map_or_else(|| "catalog".into(), |name| name.display().to_string());
    format!("{name}-{}.index", Digest::of(folder.as_os_str().as_encoded_bytes()).short())
}

/// Reads and checks a definition; returns it with the digest of its file.
fn read_definition(name: &str, path: &Path) -> Result<(Definition, Digest), CatalogError> {
    let source = Source::read(path)?;
    let mut definition: Definition = source.parse()?;
    definition.settle();
    check(&definition, name).map_err(|message| CatalogError::Wrong { path: path.to_path_buf(), message })?;
    Ok((definition, Digest::of(source.text.as_bytes())))
}

/// The `NAME.toml` files of a folder, by name; none when there is no such folder.
fn toml_files(folder: &Path) -> Result<BTreeMap<String, PathBuf>, FileError> {
    if !folder.is_dir() {
        return Ok(BTreeMap::new());
    }
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder).on("list", folder)? {
        let path = entry.on("list", folder)?.path();
        if path.extension().is_some_and(|ending| ending == "toml") {
            found.extend(path.file_stem().and_then(|name| name.to_str()).map(|name| (name.to_owned(), path.clone())));
        }
    }
    Ok(found)
}

/// Whether a relative path stays where it starts.
pub(crate) fn stays_inside(path: &str) -> bool {
    let mut parts = Path::new(path).components();
    !path.is_empty() && parts.all(|part| matches!(part, Component::Normal(_) | Component::CurDir))
}

/// Whether a name can be a file's name as it is: letters, digits and `. _ + -`, not starting with a dot.
pub(crate) fn is_plain_name(name: &str) -> bool {
    let fits = |c: char| c.is_alphanumeric() || "._+-".contains(c);
    !name.is_empty() && !name.starts_with(['.', '-']) && name.chars().all(fits)
}

fn check(definition: &Definition, name: &str) -> Result<(), String> {
    if definition.tool != name || !is_plain_name(name) {
        return Err(format!("it defines the tool `{}`, so its name must be {}.toml", definition.tool, definition.tool));
    }
    let pieces = definition.releases.iter().flat_map(|release| release.pieces.values());
    for (command, Command { file, .. }) in definition.commands.iter().chain(pieces.flat_map(|piece| &piece.commands)) {
        if !is_plain_name(command) {
            return Err(format!("`{command}` cannot be the name of a command"));
        }
        if !stays_inside(file) {
            return Err(format!("the command `{command}` must be a file inside the tool's folder, not `{file}`"));
        }
    }
    if let Some(piece) = definition.releases.iter().flat_map(|r| r.pieces.keys()).find(|piece| !is_plain_name(piece)) {
        return Err(format!("`{piece}` cannot be the name of a piece"));
    }
    for release in &definition.releases {
        let pieces = release.pieces.values().flat_map(|piece| &piece.artifacts);
        for (platform, Artifact { file, .. }) in release.artifacts.iter().chain(pieces) {
            if !stays_inside(file) {
                return Err(format!("{} for {platform}: `{file}` does not stay inside the yard", release.version));
            }
        }
    }
    if definition.releases.iter().flat_map(|release| &release.needs).any(|need| need.ways.is_empty()) {
        return Err("an empty list in `one-of` can never be met".to_owned());
    }
    // Newest first, so that the same version twice stands side by side.
    match definition.releases.windows(2).find(|pair| pair[0].version == pair[1].version) {
        Some(twice) => Err(format!("the release {} stands there twice", twice[0].version)),
        None => Ok(()),
    }
}
