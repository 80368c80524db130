//! The catalogs of a ladder together: for each tool the first that has it counts.
//!
//! ```
//! use kladder_choose::catalog::{Catalogs, Memory};
//!
//! let catalog = |name: &str, summary: &str| {
//!     let mut memory = Memory::new(name);
//!     memory.add("tombolet", &format!("tool = \"tombolet\"\nsummary = \"{summary}\"\n"));
//!     memory
//! };
//! let own = catalog("harbour", "Ours");
//! let common = catalog("coast", "Everybody's");
//! let both = Catalogs::new(vec![Box::new(own), Box::new(common)])?;
//! assert_eq!(both.tool("tombolet")?.unwrap().summary, "Ours");
//! assert_eq!(both.home_of("tombolet"), Some("harbour"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock, PoisonError, RwLock};

use super::{About, Card, Catalog, CatalogError, Definition, Head, Licence, Preset, Rehearsal, TextKind};
use crate::address::YardAddress;
use crate::digest::{Canonical, Digest};
use crate::names::{ToolName, is_plain};
use crate::near::near;

/// The tools that provide a capability, by capability; sorted by name.
type Providers = BTreeMap<ToolName, Vec<ToolName>>;

/// One or more catalogs, the most important first. What was read is kept.
pub struct Catalogs {
    all: Vec<Box<dyn Catalog>>,
    /// By tool: the catalog that counts.
    tools: BTreeMap<ToolName, usize>,
    definitions: RwLock<BTreeMap<ToolName, Arc<Definition>>>,
    cards: RwLock<BTreeMap<ToolName, Arc<Card>>>,
    heads: OnceLock<Vec<(ToolName, Head)>>,
    providers: OnceLock<Providers>,
    bundles: OnceLock<Providers>,
}

impl Catalogs {
    /// The same with one more, the least important.
    ///
    /// # Errors
    /// [`CatalogError::SameName`] where one has its name already.
    pub fn and(self, more: Box<dyn Catalog>) -> Result<Self, CatalogError> {
        let mut all = self.all;
        all.push(more);
        Self::new(all)
    }

    /// Several catalogs as one.
    ///
    /// # Errors
    /// [`CatalogError::SameName`] where two have the same name.
    pub fn new(all: Vec<Box<dyn Catalog>>) -> Result<Self, CatalogError> {
        let mut tools = BTreeMap::new();
        for (at, catalog) in all.iter().enumerate() {
            let name = &catalog.about().name;
            if all[..at].iter().any(|other| other.about().name == *name) {
                return Err(CatalogError::SameName { name: name.clone() });
            }
            for tool in catalog.names() {
                tools.entry(tool.clone()).or_insert(at);
            }
        }
        let (definitions, cards) = (RwLock::default(), RwLock::default());
        Ok(Self {
            all,
            tools,
            definitions,
            cards,
            heads: OnceLock::new(),
            providers: OnceLock::new(),
            bundles: OnceLock::new(),
        })
    }

    /// What each says of itself, the most important first.
    pub fn abouts(&self) -> impl Iterator<Item = &About> {
        self.all.iter().map(|catalog| catalog.about())
    }

    /// Whether there is more than one, so that it matters which one a tool is from.
    pub fn are_several(&self) -> bool {
        self.all.len() > 1
    }

    /// Their yards, each once, in the order of the catalogs.
    pub fn yards(&self) -> Vec<YardAddress> {
        let mut yards: Vec<YardAddress> = Vec::new();
        for yard in self.abouts().flat_map(|about| &about.yards) {
            if !yards.contains(yard) {
                yards.push(yard.clone());
            }
        }
        yards
    }

    /// Names of all tools, sorted.
    pub fn names(&self) -> impl Iterator<Item = &ToolName> {
        self.tools.keys()
    }

    /// Whether there is a tool of this name.
    pub fn has(&self, name: &str) -> bool {
        self.tools.contains_key(name)
    }

    /// The name of the catalog that a tool is from.
    pub fn home_of(&self, tool: &str) -> Option<&str> {
        Some(self.catalog_of(tool)?.about().name.as_str())
    }

    /// Tools that `name` may have meant.
    pub fn near(&self, name: &str) -> Vec<String> {
        near(name, self.names().map(ToolName::as_str))
    }

    fn catalog_of(&self, tool: &str) -> Option<&dyn Catalog> {
        self.all.get(*self.tools.get(tool)?).map(AsRef::as_ref)
    }

    /// A tool's definition; `None` when there is no such tool.
    ///
    /// # Errors
    /// [`CatalogError`] where the definition is there and cannot be used, with the place in its file.
    pub fn tool(&self, name: &str) -> Result<Option<Arc<Definition>>, CatalogError> {
        if let Some(read) = self.definitions.read().unwrap_or_else(PoisonError::into_inner).get(name) {
            return Ok(Some(Arc::clone(read)));
        }
        let Some(catalog) = self.catalog_of(name) else { return Ok(None) };
        let Some((definition, digest)) = catalog.definition(name)? else { return Ok(None) };
        let (tool, definition) = (definition.tool.clone(), Arc::new(definition));
        let card = || Arc::new(Card::of(&definition, digest));
        self.cards.write().unwrap_or_else(PoisonError::into_inner).entry(tool.clone()).or_insert_with(card);
        self.definitions.write().unwrap_or_else(PoisonError::into_inner).insert(tool, Arc::clone(&definition));
        Ok(Some(definition))
    }

    /// A tool's card; `None` when there is no such tool.
    ///
    /// # Errors
    /// [`CatalogError`] where the definition is there and cannot be used, with the place in its file.
    pub fn card(&self, name: &str) -> Result<Option<Arc<Card>>, CatalogError> {
        if let Some(card) = self.cards.read().unwrap_or_else(PoisonError::into_inner).get(name) {
            return Ok(Some(Arc::clone(card)));
        }
        let Some(catalog) = self.catalog_of(name) else { return Ok(None) };
        let Some(card) = catalog.card(name)?.map(Arc::new) else { return Ok(None) };
        self.cards.write().unwrap_or_else(PoisonError::into_inner).insert(card.tool.clone(), Arc::clone(&card));
        Ok(Some(card))
    }

    /// All tools with what a listing says of them, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first definition that cannot be read or used: the list would not be whole.
    pub fn heads(&self) -> Result<&[(ToolName, Head)], CatalogError> {
        if let Some(heads) = self.heads.get() {
            return Ok(heads);
        }
        let mut heads = Vec::new();
        for (at, catalog) in self.all.iter().enumerate() {
            heads.extend(catalog.heads()?.into_iter().filter(|(tool, _)| self.tools.get(tool) == Some(&at)));
        }
        heads.sort_by(|(one, _), (other, _)| one.cmp(other));
        Ok(self.heads.get_or_init(|| heads))
    }

    /// The tools that provide a capability, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first definition that cannot be read or used: it might be a provider.
    pub fn providers(&self, capability: &str) -> Result<&[ToolName], CatalogError> {
        let heads = self.heads()?;
        let providers = self.providers.get_or_init(|| {
            let mut providers = Providers::new();
            for (tool, head) in heads {
                for capability in &head.provides {
                    providers.entry(capability.clone()).or_default().push(tool.clone());
                }
            }
            providers
        });
        Ok(providers.get(capability).map(Vec::as_slice).unwrap_or_default())
    }

    /// The tools that bring another tool of the catalog along, sorted by name. A definition that cannot be used brings nothing.
    pub fn bundles(&self, tool: &str) -> &[ToolName] {
        let bundles = self.bundles.get_or_init(|| {
            let mut bundles = Providers::new();
            for (at, catalog) in self.all.iter().enumerate() {
                for (bundle, provides) in catalog.provided() {
                    let brought = provides.into_iter().filter(|name| self.has(name) && *name != bundle);
                    for name in brought.filter(|_| self.tools.get(&bundle) == Some(&at)) {
                        bundles.entry(name).or_default().push(bundle.clone());
                    }
                }
            }
            for all in bundles.values_mut() {
                all.sort();
            }
            bundles
        });
        bundles.get(tool).map(Vec::as_slice).unwrap_or_default()
    }

    /// What an index speaks, as the first catalog says that names it.
    pub fn speaks(&self, index: &str) -> Option<&str> {
        self.abouts().find_map(|about| about.indexes.get(index)).map(String::as_str)
    }

    /// The tools that are tried first for a capability, as the first catalog says that says something.
    pub fn preferred(&self, capability: &str) -> &[ToolName] {
        self.abouts().find_map(|about| about.prefer.get(capability)).map(Vec::as_slice).unwrap_or_default()
    }

    /// The licence that a tool's definition names, with its text: from the catalog that the tool is from.
    ///
    /// # Errors
    /// [`CatalogError`] where there is no text for it.
    pub fn licence_of(&self, tool: &str, id: &str) -> Result<Licence, CatalogError> {
        let missing = || CatalogError::NoLicence {
            id: id.to_owned(),
            catalog: self.home_of(tool).unwrap_or_default().to_owned(),
        };
        read_licence(self.catalog_of(tool).ok_or_else(missing)?, id)?.ok_or_else(missing)
    }

    /// A licence of this name, from the first catalog that has one; `None` where none has.
    ///
    /// # Errors
    /// [`CatalogError`] where its text is there and cannot be read.
    pub fn licence(&self, id: &str) -> Result<Option<Licence>, CatalogError> {
        let mut found = self.all.iter().map(|catalog| read_licence(catalog.as_ref(), id));
        found.find_map(Result::transpose).transpose()
    }

    /// The names of all licences.
    ///
    /// # Errors
    /// [`CatalogError`] where they cannot be listed.
    pub fn licences(&self) -> Result<Vec<String>, CatalogError> {
        Ok(self.named(TextKind::Licence)?.into_keys().collect())
    }

    /// By name: the catalog that counts for a text of a kind.
    fn named(&self, kind: TextKind) -> Result<BTreeMap<String, usize>, CatalogError> {
        let mut named = BTreeMap::new();
        for (at, catalog) in self.all.iter().enumerate() {
            for name in catalog.texts(kind)? {
                named.entry(name).or_insert(at);
            }
        }
        Ok(named)
    }

    fn read_all<T>(
        &self,
        kind: TextKind,
        parse: impl Fn(&crate::document::Source, &str) -> Result<T, CatalogError>,
    ) -> Result<Vec<T>, CatalogError> {
        let mut all = Vec::new();
        for (name, at) in self.named(kind)? {
            if let Some(source) = self.all[at].text(kind, &name)? {
                all.push(parse(&source, &name)?);
            }
        }
        Ok(all)
    }

    /// All presets, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first preset that cannot be used.
    pub fn presets(&self) -> Result<Vec<Preset>, CatalogError> {
        self.read_all(TextKind::Preset, Preset::parse)
    }

    /// All rehearsals, sorted by name.
    ///
    /// # Errors
    /// [`CatalogError`] for the first rehearsal that cannot be used.
    pub fn rehearsals(&self) -> Result<Vec<Rehearsal>, CatalogError> {
        self.read_all(TextKind::Rehearsal, Rehearsal::parse)
    }

    /// A digest over the definitions of those of `tools` that are from the catalog called `name`.
    ///
    /// # Errors
    /// [`CatalogError`] for a definition that cannot be used.
    pub fn digest_of<'a>(&self, name: &str, tools: impl Iterator<Item = &'a ToolName>) -> Result<Digest, CatalogError> {
        let mut digest = Canonical::new("kladder definitions", 1);
        for tool in tools.filter(|tool| self.home_of(tool) == Some(name)) {
            if let Some(card) = self.card(tool)? {
                digest = digest.field("tool", tool).field("definition", card.digest.bytes());
            }
        }
        Ok(digest.finish())
    }
}

fn read_licence(catalog: &dyn Catalog, id: &str) -> Result<Option<Licence>, CatalogError> {
    let source = if is_plain(id) { catalog.text(TextKind::Licence, id)? } else { None };
    let text = source.map(|source| source.text).filter(|text| !text.trim().is_empty());
    Ok(text.map(|text| Licence { id: id.to_owned(), text }))
}

#[cfg(test)]
mod tests {
    use super::super::Memory;
    use super::*;

    fn catalog(name: &str, tools: &[(&str, &str)]) -> Box<dyn Catalog> {
        let mut memory = Memory::new(name);
        for (tool, summary) in tools {
            memory.add(tool, &format!("tool = \"{tool}\"\nsummary = \"{summary}\"\nprovides = [\"cap\"]\n"));
        }
        Box::new(memory)
    }

    #[test]
    fn the_first_catalog_that_has_a_tool_counts() {
        let house = catalog("house", &[("skerroc", "ours")]);
        let common = catalog("common", &[("skerroc", "theirs"), ("oarweld", "theirs")]);
        let both = Catalogs::new(vec![house, common]).unwrap();
        let told = |tool: &str| (both.home_of(tool).unwrap(), both.tool(tool).unwrap().unwrap().summary.clone());
        assert_eq!(told("skerroc"), ("house", "ours".to_owned()));
        assert_eq!(told("oarweld"), ("common", "theirs".to_owned()));
        assert_eq!(both.providers("cap").unwrap(), ["oarweld", "skerroc"]);
        assert_eq!(both.heads().unwrap().len(), 2);
        let tools: Vec<ToolName> = both.names().cloned().collect();
        assert_ne!(both.digest_of("house", tools.iter()).unwrap(), both.digest_of("common", tools.iter()).unwrap());
        let twice = Catalogs::new(vec![catalog("a", &[]), catalog("a", &[])]);
        assert!(matches!(twice, Err(CatalogError::SameName { .. })));
    }
}
