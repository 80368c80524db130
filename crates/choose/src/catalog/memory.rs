//! A catalog in memory, for tests, examples, and whoever has its texts already.

use std::collections::BTreeMap;

use super::{About, Catalog, CatalogError, Definition, TextKind};
use crate::digest::Digest;
use crate::document::Source;
use crate::names::ToolName;

/// A catalog whose texts are values.
#[derive(Clone, Debug)]
pub struct Memory {
    about: About,
    names: Vec<ToolName>,
    definitions: BTreeMap<ToolName, String>,
    texts: BTreeMap<(TextKind, String), String>,
}

impl Memory {
    /// An empty one.
    pub fn new(name: &str) -> Self {
        let about = About {
            name: name.to_owned(),
            title: name.to_owned(),
            yards: Vec::new(),
            prefer: BTreeMap::new(),
            indexes: BTreeMap::new(),
        };
        Self { about, names: Vec::new(), definitions: BTreeMap::new(), texts: BTreeMap::new() }
    }

    /// Adds a definition, or puts it in the place of another one of the same name. What is wrong with its text is told when
    /// it is asked for; a name that is none is left out.
    pub fn add(&mut self, tool: &str, text: &str) {
        if let Ok(name) = tool.parse() {
            self.definitions.insert(name, text.to_owned());
            self.names = self.definitions.keys().cloned().collect();
        }
    }

    /// Adds another text.
    pub fn add_text(&mut self, kind: TextKind, name: &str, text: &str) {
        self.texts.insert((kind, name.to_owned()), text.to_owned());
    }
}

impl Catalog for Memory {
    fn about(&self) -> &About {
        &self.about
    }

    fn names(&self) -> &[ToolName] {
        &self.names
    }

    fn definition(&self, tool: &str) -> Result<Option<(Definition, Digest)>, CatalogError> {
        let Some(text) = self.definitions.get(tool) else { return Ok(None) };
        let source = Source::new(format!("tools/{tool}.toml"), text);
        Ok(Some((Definition::parse(&source, tool)?, Digest::of(text.as_bytes()))))
    }

    fn texts(&self, kind: TextKind) -> Result<Vec<String>, CatalogError> {
        Ok(self.texts.keys().filter(|(of, _)| *of == kind).map(|(_, name)| name.clone()).collect())
    }

    fn text(&self, kind: TextKind, name: &str) -> Result<Option<Source>, CatalogError> {
        Ok(self.texts.get(&(kind, name.to_owned())).map(|text| Source::new(name, text)))
    }
}
