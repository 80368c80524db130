//! What was chosen, as a lock file has it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use kladder_solve::ChoiceOf;
use pep508_rs::pep440_rs::Version;

use super::Catalogue;
use super::offer::{Node, Offer};
use crate::sets::lock::{Library, Lock, normalised};
use crate::sets::wished::Libraries;

/// What one library came to at all spots that got the same version.
#[derive(Default)]
struct Entry {
    spots: BTreeSet<usize>,
    pieces: BTreeSet<String>,
    library: Option<Library>,
    depends: BTreeSet<String>,
}

/// The libraries chosen, sorted by name.
pub(super) fn lock<'o, C: Catalogue>(
    offer: &Offer<'o, C>,
    wanted: &Libraries,
    choices: &[ChoiceOf<Offer<'o, C>>],
) -> Result<Lock, C::Error> {
    let mut entries: BTreeMap<(Arc<str>, Version), Entry> = BTreeMap::new();
    for (node, version) in choices {
        let Node::At { spot, library, piece } = node else { continue };
        let entry = entries.entry((Arc::clone(library), version.clone())).or_default();
        entry.spots.insert(*spot);
        entry.pieces.extend(piece.as_ref().map(ToString::to_string));
        if let Ok(metadata) = offer.metadata(*spot, library, version)? {
            let needs = offer.needs(&metadata, *spot, piece.as_deref());
            entry.depends.extend(needs.iter().map(|need| normalised(need.name.as_ref())));
        }
        let choice = offer.choice(*spot, library)?;
        let Some(candidate) = choice.candidates.iter().find(|one| one.version == *version) else { continue };
        let told = entry.library.get_or_insert_with(|| Library {
            name: library.to_string(),
            version: Some(version.to_string()),
            requires_python: candidate.wheel.requires_python.clone(),
            index: Some(candidate.wheel.index.clone()),
            ..Library::default()
        });
        if !told.wheels.contains(&candidate.wheel.wheel) {
            told.wheels.push(candidate.wheel.wheel.clone());
        }
    }
    let markers = |spots: &BTreeSet<usize>| -> BTreeSet<&str> {
        spots.iter().map(|spot| offer.spots[*spot].marker.as_str()).collect()
    };
    let all = markers(&(0..offer.spots.len()).collect());
    let finished = |((name, _), entry): ((Arc<str>, Version), Entry)| {
        let own = markers(&entry.spots);
        let marker = (own != all).then(|| own.into_iter().collect::<Vec<_>>().join(" or "));
        let mut library = entry.library?;
        library.wheels.sort_by(|one, other| one.file.cmp(&other.file));
        let depends = entry.depends.into_iter().filter(|one| **one != *name).collect();
        let is_wished = wanted.wishes.iter().any(|wish| *wish.name == *name);
        Some(Library { marker, depends, pieces: entry.pieces.into_iter().collect(), is_wished, ..library })
    };
    let runtime = offer.spots.first().map(|spot| (spot.interpreter.minor, spot.interpreter.patch));
    let versions = |((major, minor), patch): ((u32, u32), Option<u32>)| {
        // Markers may have asked for the patch level; later ones are taken to need no more.
        let least = patch.map(|patch| format!(", >={major}.{minor}.{patch}")).unwrap_or_default();
        format!("=={major}.{minor}.*{least}")
    };
    Ok(Lock {
        requires_python: runtime.map(versions),
        environments: all.iter().map(|marker| (*marker).to_owned()).collect(),
        wishes: None,
        libraries: entries.into_iter().filter_map(finished).collect(),
    })
}
