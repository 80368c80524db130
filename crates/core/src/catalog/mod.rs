//! The catalog: a folder of definitions and rehearsals that people can read, write and review.
//!
//! ```text
//! catalog.toml           name, title, yards
//! tools/NAME.toml        a definition each
//! rehearsals/NAME.toml   a rehearsal each
//! ```
//!
//! Only what is asked for is read. Foreign text in it is data: names are checked before they become part of a path.

mod definition;
mod gate;
mod licence;
mod preset;
mod rehearsal;
mod trial;

pub use definition::{Artifact, Command, Definition, HostProbe, Piece, Release, Unpacking, Wanted};
pub use gate::{Demand, Gate, Ranged};
pub use licence::Licence;
pub use preset::{Preset, PresetRung};
pub use rehearsal::Rehearsal;
pub use trial::{Expect, Pattern, Trial};

use std::cell::RefCell;
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
struct Head {
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
    read: RefCell<BTreeMap<String, Rc<Definition>>>,
    digests: RefCell<BTreeMap<String, Digest>>,
}

impl Catalog {
    /// Opens the catalog in `folder`; definitions are read when they are asked for.
    pub fn open(folder: &Path) -> Result<Self, CatalogError> {
        let path = folder.join("catalog.toml");
        if !path.is_file() {
            return Err(CatalogError::Missing(folder.to_path_buf()));
        }
        let Head { catalog: about } = Source::read(&path)?.parse()?;
        if about.format > FORMAT {
            return Err(CatalogError::Newer { path, format: about.format });
        }
        Ok(Self {
            tools: toml_files(&folder.join("tools"))?,
            folder: folder.to_path_buf(),
            name: about.name,
            title: about.title,
            yards: about.yards.iter().map(|yard| anchored(yard, folder)).collect(),
            read: RefCell::default(),
            digests: RefCell::default(),
        })
    }

    /// Names of all tools, sorted.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.tools.keys().map(String::as_str)
    }

    /// Tools that `name` may have meant.
    pub fn near(&self, name: &str) -> Vec<String> {
        near(name, self.names())
    }

    /// A tool's definition; `None` when the catalog has no such tool.
    pub fn tool(&self, name: &str) -> Result<Option<Rc<Definition>>, CatalogError> {
        if let Some(read) = self.read.borrow().get(name) {
            return Ok(Some(Rc::clone(read)));
        }
        let Some(path) = self.tools.get(name) else { return Ok(None) };
        let source = Source::read(path)?;
        let definition: Definition = source.parse()?;
        check(&definition, name).map_err(|message| CatalogError::Wrong { path: path.clone(), message })?;
        let definition = Rc::new(definition);
        self.digests.borrow_mut().insert(name.to_owned(), Digest::of(source.text.as_bytes()));
        self.read.borrow_mut().insert(name.to_owned(), Rc::clone(&definition));
        Ok(Some(definition))
    }

    /// The tools that provide a capability, sorted by name.
    pub fn providers(&self, capability: &str) -> Result<Vec<String>, CatalogError> {
        let mut found = Vec::new();
        for name in self.tools.keys() {
            let provides = self.tool(name)?.is_some_and(|d| d.provides.iter().any(|p| p == capability));
            found.extend(provides.then(|| name.clone()));
        }
        Ok(found)
    }

    /// A licence with its text.
    pub fn licence(&self, id: &str) -> Result<Licence, CatalogError> {
        Licence::read(&self.folder, id)
    }

    /// All presets, sorted by name.
    pub fn presets(&self) -> Result<Vec<Preset>, CatalogError> {
        let files = toml_files(&self.folder.join("presets"))?;
        files.iter().map(|(name, path)| Preset::read(name, path)).collect()
    }

    /// All rehearsals, sorted by name.
    pub fn rehearsals(&self) -> Result<Vec<Rehearsal>, CatalogError> {
        let files = toml_files(&self.folder.join("rehearsals"))?;
        files.iter().map(|(name, path)| Rehearsal::read(name, path)).collect()
    }

    /// A digest over the definitions of `tools`, as far as they were read.
    pub fn digest_of<'a>(&self, tools: impl Iterator<Item = &'a str>) -> Digest {
        let digests = self.digests.borrow();
        let mut hasher = Hasher::default();
        for tool in tools {
            if let Some(digest) = digests.get(tool) {
                hasher.update(format!("{tool} {digest}\n").as_bytes());
            }
        }
        hasher.finish()
    }
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
    let mut versions: Vec<_> = definition.releases.iter().map(|release| &release.version).collect();
    versions.sort();
    match versions.windows(2).find(|pair| pair[0] == pair[1]) {
        Some(twice) => Err(format!("the release {} stands there twice", twice[0])),
        None => Ok(()),
    }
}
