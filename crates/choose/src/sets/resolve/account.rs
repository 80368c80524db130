//! Why wishes for libraries lead nowhere, as facts that a person can follow.

use std::collections::BTreeMap;
use std::sync::Arc;

use kladder_solve::{Clash, Fact, Rule};
use pep508_rs::pep440_rs::{Version, VersionSpecifiers};

use super::Catalogue;
use super::offer::{Node, Offer, Span};
use crate::platform::Platform;
use crate::sets::wished::{Libraries, LibraryWish};

/// Wishes that cannot be met together although any smaller part of them can.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LibraryClash {
    /// The wishes.
    pub wishes: Vec<Wanting>,
    /// What else is needed, and by whom.
    pub needs: Vec<NeedsThere>,
    /// What there is of the libraries that it is about.
    pub offers: Vec<OnOffer>,
    /// What leads out of it.
    pub ways: Vec<WayOut>,
}

/// One wish.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanting {
    /// The library.
    pub library: String,
    /// Its versions, as the ladder says it.
    pub versions: String,
    /// The piece of it that is meant.
    pub piece: Option<String>,
}

/// What releases of a library need.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NeedsThere {
    /// The library.
    pub library: String,
    /// Its releases that do, the oldest first.
    pub versions: Vec<String>,
    /// What they need, with the versions that would do; `None` for what cannot be had at all.
    pub needs: Option<String>,
}

/// What there is of a library for a runtime, on a platform where it has files of its own for each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OnOffer {
    /// The library.
    pub library: String,
    /// The runtime's minor version, and the platform.
    pub place: Option<(String, Platform)>,
    /// Versions that are for both, the oldest first.
    pub versions: Vec<String>,
    /// How many versions there are at all.
    pub listed: usize,
    /// Some of them can be had as sources.
    pub as_sources: bool,
}

/// A wish that, taken back, lets the others be met.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WayOut {
    /// The library.
    pub library: String,
    /// The piece that must be left out.
    pub piece: Option<String>,
    /// The version that it gets then; `None` where it must be left out.
    pub version: Option<String>,
}

/// The account of a refutation.
pub(super) fn of<'o, C: Catalogue>(
    offer: &Offer<'o, C>,
    wanted: &Libraries,
    clash: &Clash<Offer<'o, C>>,
) -> LibraryClash {
    let spots = offer.spots.len().max(1);
    let whole = wanted.wishes.len() * spots;
    let mut wishes: Vec<Wanting> = Vec::new();
    for (wish, piece) in clash.wishes.iter().filter_map(|at| wish_at(*at, whole, spots, wanted)) {
        let (library, versions) = (wish.name.clone(), wish.written.clone());
        let wanting = Wanting { library, versions, piece: piece.cloned() };
        if !wishes.contains(&wanting) {
            wishes.push(wanting);
        }
    }
    let mut needs: BTreeMap<(String, Option<String>), Vec<Version>> = BTreeMap::new();
    let mut about: BTreeMap<Arc<str>, usize> = BTreeMap::new();
    for at in &clash.wishes {
        if let Some((wish, _)) = wish_at(*at, whole, spots, wanted) {
            about.entry(wish.name.as_str().into()).or_insert(if *at < whole { at % spots } else { 0 });
        }
    }
    for fact in &clash.facts {
        let Fact::Rule { package: Node::At { library, spot, .. }, version, rule: Rule::Needs(need) } = fact else {
            continue;
        };
        let needed = match need.alternatives.first() {
            None => None,
            Some(other) => match (&other.package, &other.range) {
                (Node::At { library, .. }, Span::Of(versions)) => {
                    about.entry(Arc::clone(library)).or_insert(*spot);
                    Some(shown(library, versions))
                }
                _ => continue,
            },
        };
        needs.entry((library.to_string(), needed)).or_default().push(version.clone());
    }
    let needs = needs.into_iter().map(|((library, needs), mut versions)| {
        versions.sort();
        versions.dedup();
        NeedsThere { library, versions: versions.iter().map(ToString::to_string).collect(), needs }
    });
    let needs = needs.collect();
    let offers = about.iter().filter_map(|(library, spot)| on_offer(offer, library, *spot)).collect();
    LibraryClash { wishes, needs, offers, ways: Vec::new() }
}

/// Which wish, or piece of one, stands at a position of the question: whole libraries come first, then pieces.
fn wish_at(position: usize, whole: usize, spots: usize, wanted: &Libraries) -> Option<(&LibraryWish, Option<&String>)> {
    if position < whole {
        return Some((wanted.wishes.get(position / spots)?, None));
    }
    let mut left = position - whole;
    for wish in &wanted.wishes {
        let own = wish.pieces.len() * spots;
        if left < own {
            return Some((wish, wish.pieces.get(left % wish.pieces.len())));
        }
        left -= own;
    }
    None
}

fn shown(library: &str, versions: &VersionSpecifiers) -> String {
    if versions.is_empty() { library.to_owned() } else { format!("{library} {versions}") }
}

fn on_offer<C: Catalogue>(offer: &Offer<'_, C>, library: &Arc<str>, spot: usize) -> Option<OnOffer> {
    let releases = offer.releases(library).ok()?;
    let choice = offer.choice(spot, library).ok()?;
    let mut versions: Vec<&Version> = choice.candidates.iter().map(|one| &one.version).collect();
    versions.sort();
    let interpreter = &offer.spots[spot].interpreter;
    Some(OnOffer {
        library: library.to_string(),
        place: Some((format!("{}.{}", interpreter.minor.0, interpreter.minor.1), interpreter.platform.clone())),
        versions: versions.iter().map(ToString::to_string).collect(),
        listed: releases.len(),
        as_sources: releases.iter().any(|release| release.has_sources),
    })
}
