//! A catalog's folder, checked: what cannot be read, and what can be known of the rest without running a tool.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use kladder_choose::catalog::{
    Catalog, CatalogError, Content, Definition, Fault, Laid, Preset, Rehearsal, Remark, TextKind, Texts,
};
use kladder_choose::document::Source;

use super::Folder;
use super::archives::{Archives, AtHand};

/// What came of checking a catalog.
#[derive(Debug)]
pub struct CheckedCatalog {
    /// Its name.
    pub name: String,
    /// How many definitions could be read.
    pub tools: usize,
    /// What cannot be read, with places.
    pub broken: Vec<CatalogError>,
    /// What is to be told of the rest.
    pub remarks: Vec<Remark>,
}

impl CheckedCatalog {
    /// Whether something fails for whoever meets it.
    pub fn is_wrong(&self) -> bool {
        !self.broken.is_empty() || self.remarks.iter().any(|remark| remark.fault.is_wrong())
    }
}

/// Checks the catalog in a folder, and those of its archives that are at hand where that is wanted.
///
/// # Errors
/// [`CatalogError`] where there is no catalog, or it cannot be listed.
pub fn check(folder: &Path, at_hand: Option<&AtHand<'_>>) -> Result<CheckedCatalog, CatalogError> {
    let catalog = Folder::open(folder, None)?;
    let mut broken = Vec::new();
    let (mut definitions, mut unreadable) = (BTreeMap::new(), BTreeSet::new());
    for name in catalog.names() {
        match catalog.source(name).and_then(|source| Ok((Definition::parse(&source, name)?, source))) {
            Ok(read) => drop(definitions.insert(name.clone(), read)),
            Err(error) => {
                broken.push(error);
                unreadable.insert(name.clone());
            }
        }
    }
    let presets = read_all(&catalog, TextKind::Preset, Preset::parse, &mut broken)?;
    let rehearsals = read_all(&catalog, TextKind::Rehearsal, Rehearsal::parse, &mut broken)?;
    let mut licences = BTreeSet::new();
    for name in catalog.texts(TextKind::Licence)? {
        let text = catalog.text(TextKind::Licence, &name)?;
        if text.is_some_and(|source| !source.text.trim().is_empty()) {
            licences.insert(name);
        }
    }
    let checked = Texts {
        prefer: (&catalog.about().prefer, &catalog.head()?),
        definitions: &definitions,
        unreadable: &unreadable,
        licences: &licences,
        presets: &presets,
        rehearsals: &rehearsals,
    };
    let mut remarks = checked.remarks();
    remarks.extend(rehearsals.iter().flat_map(|(rehearsal, source)| project_files(rehearsal, source)));
    for (definition, source) in definitions.values().filter(|_| at_hand.is_some()) {
        let definition = &Arc::new(definition.clone());
        let archives = |at_hand| Archives { at_hand, yards: &catalog.about().yards, definition, source };
        remarks.extend(at_hand.into_iter().flat_map(|at_hand| archives(at_hand).remarks()));
    }
    Ok(CheckedCatalog { name: catalog.about().name.clone(), tools: definitions.len(), broken, remarks })
}

/// Files that a rehearsal names and does not have.
fn project_files(rehearsal: &Rehearsal, source: &Source) -> Vec<Remark> {
    let parts = rehearsal.parts.values();
    let steps = rehearsal.steps.iter().chain(parts.clone().flat_map(|part| &part.steps));
    let all = [&rehearsal.files].into_iter().chain(parts.map(|part| &part.files)).chain(steps.map(|step| &step.write));
    let missing = |laid: &Laid| {
        let Content::From(path) = &laid.content else { return None };
        let file = path.to_string_lossy().into_owned();
        let at = source.text.find(&file).map_or(0..0, |at| at..at + file.len());
        let fault = Fault::NoProjectFile { file };
        (!rehearsal.base.join(path).is_file()).then(|| Remark { place: source.place(at), fault })
    };
    all.flat_map(BTreeMap::values).filter_map(missing).collect()
}

fn read_all<T>(
    catalog: &Folder,
    kind: TextKind,
    parse: impl Fn(&Source, &str) -> Result<T, CatalogError>,
    broken: &mut Vec<CatalogError>,
) -> Result<Vec<(T, Source)>, CatalogError> {
    let mut all = Vec::new();
    for name in catalog.texts(kind)? {
        let Some(source) = catalog.text(kind, &name)? else { continue };
        match parse(&source, &name) {
            Ok(read) => all.push((read, source)),
            Err(error) => broken.push(error),
        }
    }
    Ok(all)
}
