//! The catalog of real tools that the program carries in itself, with an index that was made when it was built.

use std::collections::BTreeMap;
use std::path::Path;

use include_dir::{Dir, include_dir};
use kladder_choose::catalog::{About, Card, Catalog, CatalogError, Definition, Head, TextKind};
use kladder_choose::digest::Digest;
use kladder_choose::document::Source;
use kladder_choose::names::ToolName;

/// Heads and cards, as `build.rs` writes them.
static INDEX: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/starter.index"));

static FILES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../catalog");

/// It, opened; nothing of it is on this machine's disk.
pub struct Starter {
    about: About,
    names: Vec<ToolName>,
    tools: BTreeMap<ToolName, &'static str>,
    index: BTreeMap<ToolName, (Head, Vec<u8>)>,
}

impl Starter {
    /// Opens it.
    ///
    /// # Errors
    /// [`CatalogError`] where it was built wrong.
    pub fn open() -> Result<Self, CatalogError> {
        let about = About::parse(
            &source("catalog.toml").unwrap_or_else(|| Source::new("catalog.toml", String::new())),
            Path::new("/"),
        )?;
        let mut tools = BTreeMap::new();
        for (name, text) in listed("tools", "toml") {
            let wrong =
                |error| CatalogError::Wrong { path: Path::new("tools").join(name), message: format!("{error}") };
            tools.insert(name.parse().map_err(wrong)?, text);
        }
        // Without it everything is read from the definitions.
        let index = postcard::from_bytes(INDEX).unwrap_or_default();
        Ok(Self { about, names: tools.keys().cloned().collect(), tools, index })
    }
}

/// The texts in a folder with an ending, by name.
fn listed(folder: &str, ending: &str) -> Vec<(&'static str, &'static str)> {
    let files = FILES.get_dir(folder).into_iter().flat_map(Dir::files);
    let named = files.filter(|file| file.path().extension().is_some_and(|there| there == ending));
    named.filter_map(|file| Some((file.path().file_stem()?.to_str()?, file.contents_utf8()?))).collect()
}

/// A file, by its path in the catalog; it is shown as lying in a folder that is called as the catalog is.
fn source(path: &str) -> Option<Source> {
    let text = FILES.get_file(path)?.contents_utf8()?;
    Some(Source::new(Path::new("starter").join(path), text.to_owned()))
}

fn place(kind: TextKind) -> (&'static str, &'static str) {
    match kind {
        TextKind::Licence => ("licences", "txt"),
        TextKind::Preset => ("presets", "toml"),
        TextKind::Rehearsal => ("rehearsals", "toml"),
    }
}

impl Catalog for Starter {
    fn about(&self) -> &About {
        &self.about
    }

    fn names(&self) -> &[ToolName] {
        &self.names
    }

    fn definition(&self, tool: &str) -> Result<Option<(Definition, Digest)>, CatalogError> {
        let Some(text) = self.tools.get(tool) else { return Ok(None) };
        let Some(source) = source(&format!("tools/{tool}.toml")) else { return Ok(None) };
        Ok(Some((Definition::parse(&source, tool)?, Digest::of(text.as_bytes()))))
    }

    fn texts(&self, kind: TextKind) -> Result<Vec<String>, CatalogError> {
        let (folder, ending) = place(kind);
        let mut names: Vec<String> = listed(folder, ending).into_iter().map(|(name, _)| name.to_owned()).collect();
        names.sort();
        Ok(names)
    }

    fn text(&self, kind: TextKind, name: &str) -> Result<Option<Source>, CatalogError> {
        let (folder, ending) = place(kind);
        Ok(source(&format!("{folder}/{name}.{ending}")))
    }

    fn card(&self, tool: &str) -> Result<Option<Card>, CatalogError> {
        match self.index.get(tool).and_then(|(_, card)| postcard::from_bytes(card).ok()) {
            Some(card) => Ok(Some(card)),
            None => Ok(self.definition(tool)?.map(|(definition, digest)| Card::of(&definition, digest))),
        }
    }

    fn heads(&self) -> Result<Vec<(ToolName, Head)>, CatalogError> {
        Ok(self.index.iter().map(|(name, (head, _))| (name.clone(), head.clone())).collect())
    }

    fn provided(&self) -> Vec<(ToolName, Vec<ToolName>)> {
        let providing = self.index.iter().filter(|(_, (head, _))| !head.provides.is_empty());
        providing.map(|(name, (head, _))| (name.clone(), head.provides.clone())).collect()
    }
}
