//! A catalog that is a folder which people can read, write and review.
//!
//! ```text
//! catalog.toml           name, title, yards
//! tools/NAME.toml        a definition each
//! rehearsals/NAME.toml   a rehearsal each
//! presets/NAME.toml      a starting point for a ladder each
//! licences/ID.txt        a licence each
//! ```
//!
//! Only what is asked for is read. A large one has an index, kept elsewhere: the folder may be read-only or under version
//! control.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use kladder_choose::catalog::{About, Card, Catalog, CatalogError, Definition, Head, TextKind};
use kladder_choose::digest::Digest;
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::names::{ToolName, is_plain};

use super::index::Index;
use crate::base::files::{self, Attach, FileError};

/// A catalog with as many tools is worth an index; a smaller one is read as fast.
const LARGE: usize = 64;

/// A catalog in a folder.
pub struct Folder {
    root: PathBuf,
    about: About,
    names: Vec<ToolName>,
    tools: BTreeMap<ToolName, PathBuf>,
    /// Where the index is kept.
    index_file: Option<PathBuf>,
    index: OnceLock<Index>,
}

impl Folder {
    /// Opens the catalog in `folder`. The index of a large one is kept in the folder `indexes`.
    ///
    /// # Errors
    /// [`CatalogError`] where `catalog.toml` is missing, wrong, or of a newer format, or a file is called as no tool can be.
    pub fn open(folder: &Path, indexes: Option<&Path>) -> Result<Self, CatalogError> {
        let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
        let path = folder.join("catalog.toml");
        if !path.is_file() {
            return Err(CatalogError::Missing(folder));
        }
        let about = About::parse(&read(&path)?, &folder)?;
        let mut tools = BTreeMap::new();
        for (name, path) in listed(&folder.join("tools"), "toml")? {
            let name =
                name.parse().map_err(|error| CatalogError::Wrong { path: path.clone(), message: format!("{error}") });
            tools.insert(name?, path);
        }
        let index_file = indexes.filter(|_| tools.len() >= LARGE).map(|indexes| indexes.join(index_name(&folder)));
        let names = tools.keys().cloned().collect();
        Ok(Self { root: folder, about, names, tools, index_file, index: OnceLock::new() })
    }

    /// The text of its `catalog.toml`.
    pub(super) fn head(&self) -> Result<Source, CatalogError> {
        Ok(read(&self.root.join("catalog.toml"))?)
    }

    /// The text of a tool's definition.
    pub(super) fn source(&self, tool: &ToolName) -> Result<Source, CatalogError> {
        let missing = || CatalogError::Missing(self.root.clone());
        Ok(read(self.tools.get(tool).ok_or_else(missing)?)?)
    }

    /// A definition as it is written; `None` where there is none.
    pub fn on_file(&self, tool: &ToolName) -> Option<Result<Source, CatalogError>> {
        self.tools.contains_key(tool).then(|| self.source(tool))
    }

    fn index(&self) -> Result<&Index, CatalogError> {
        if let Some(index) = self.index.get() {
            return Ok(index);
        }
        let index = Index::open(&self.tools, self.index_file.as_deref())?;
        Ok(self.index.get_or_init(|| index))
    }

    fn texts_in(&self, kind: TextKind) -> (PathBuf, &'static str) {
        let (name, ending) = match kind {
            TextKind::Licence => ("licences", "txt"),
            TextKind::Preset => ("presets", "toml"),
            TextKind::Rehearsal => ("rehearsals", "toml"),
        };
        (self.root.join(name), ending)
    }
}

impl Catalog for Folder {
    fn about(&self) -> &About {
        &self.about
    }

    fn names(&self) -> &[ToolName] {
        &self.names
    }

    fn definition(&self, tool: &str) -> Result<Option<(Definition, Digest)>, CatalogError> {
        let Some(path) = self.tools.get(tool) else { return Ok(None) };
        let source = read(path)?;
        Ok(Some((Definition::parse(&source, tool)?, Digest::of(source.text.as_bytes()))))
    }

    fn texts(&self, kind: TextKind) -> Result<Vec<String>, CatalogError> {
        let (folder, ending) = self.texts_in(kind);
        Ok(listed(&folder, ending)?.into_keys().collect())
    }

    fn text(&self, kind: TextKind, name: &str) -> Result<Option<Source>, CatalogError> {
        let (folder, ending) = self.texts_in(kind);
        let path = folder.join([name, ".", ending].concat());
        if is_plain(name) && path.is_file() { Ok(Some(read(&path)?)) } else { Ok(None) }
    }

    fn card(&self, tool: &str) -> Result<Option<Card>, CatalogError> {
        let indexed = if self.index_file.is_some() { self.index()?.card(tool) } else { None };
        match indexed {
            Some(card) => Ok(Some(card)),
            None => Ok(self.definition(tool)?.map(|(definition, digest)| Card::of(&definition, digest))),
        }
    }

    fn heads(&self) -> Result<Vec<(ToolName, Head)>, CatalogError> {
        let index = self.index()?;
        let mut heads = Vec::new();
        for name in &self.names {
            match index.head(name) {
                Some(head) => heads.push((name.clone(), head.clone())),
                // What the index leaves out is wrong, and says here how.
                None => heads.extend(self.definition(name)?.map(|(found, _)| (name.clone(), Head::of(&found)))),
            }
        }
        Ok(heads)
    }

    fn provided(&self) -> Vec<(ToolName, Vec<ToolName>)> {
        let Ok(index) = self.index() else { return Vec::new() };
        let heads = self.names.iter().filter_map(|name| Some((name, index.head(name)?)));
        heads
            .filter(|(_, head)| !head.provides.is_empty())
            .map(|(name, head)| (name.clone(), head.provides.clone()))
            .collect()
    }
}

fn read(path: &Path) -> Result<Source, DocumentError> {
    Ok(files::source(path)?)
}

/// The name of a catalog's index among those of others.
fn index_name(folder: &Path) -> String {
    let name = folder.file_name().map_or_else(|| "catalog".into(), |name| name.to_string_lossy().into_owned());
    [name.as_str(), "-", &Digest::of(folder.as_os_str().as_encoded_bytes()).short(), ".index"].concat()
}

/// The files of a folder with this ending, by name; none when there is no such folder.
fn listed(folder: &Path, ending: &str) -> Result<BTreeMap<String, PathBuf>, FileError> {
    if !folder.is_dir() {
        return Ok(BTreeMap::new());
    }
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder).on("list", folder)? {
        let path = entry.on("list", folder)?.path();
        let is_hidden = path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
        if !is_hidden && path.extension().is_some_and(|there| there == ending) {
            found.extend(path.file_stem().and_then(|name| name.to_str()).map(|name| (name.to_owned(), path.clone())));
        }
    }
    Ok(found)
}
