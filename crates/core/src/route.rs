//! The route: pins held against the shelf, as ordered steps.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use petgraph::algo::tarjan_scc;
use petgraph::graphmap::DiGraphMap;

use crate::catalog::{Artifact, Catalog, CatalogError, Command, Definition, Release};
use crate::event::RungName;
use crate::fetch::Cache;
use crate::ladder::Ladder;
use crate::landing::Landing;
use crate::pins::{Pin, Pins};
use crate::platform::Platform;
use crate::shelf::{self, Place, Shelf};
use crate::version::Version;

/// Why there is no route.
#[derive(Debug, thiserror::Error)]
pub enum RouteError {
    /// The catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// The catalog does not have a pinned release any more.
    #[error("the catalog does not have {tool} {version}, which is pinned")]
    Gone {
        /// The tool.
        tool: String,
        /// The version.
        version: Version,
    },
    /// The pins have no artifact for the host.
    #[error("{tool} {version} is pinned without an artifact for {platform}")]
    NoArtifact {
        /// The tool.
        tool: String,
        /// The version.
        version: Version,
        /// The host's platform.
        platform: Platform,
        /// The platforms that are pinned.
        there: Vec<Platform>,
    },
}

/// Why a rung is on the route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Because {
    /// The ladder wishes for it, at this line.
    Wished {
        /// Line of the ladder, from 1.
        line: usize,
    },
    /// Another rung needs it.
    NeededBy {
        /// The other rung's tool.
        tool: String,
    },
}

/// What is left to do for a rung.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Work {
    /// Nothing: it is in the landing that is current.
    Nothing,
    /// It is on the shelf and has to be wired and checked.
    Wire,
    /// Its artifact is in the cache.
    Unpack,
    /// Everything.
    Fetch,
}

/// Where a rung comes from.
#[derive(Clone, Debug)]
pub enum Source {
    /// An artifact, unpacked onto the shelf.
    Shelf(Shelved),
    /// What the host has: the file that answers.
    Host(PathBuf),
}

/// Artifacts and their place on the shelf.
#[derive(Clone, Debug)]
pub struct Shelved {
    /// The artifacts for the host, with digests from the pins: the release's own, then its pieces'.
    pub artifacts: Vec<Artifact>,
    /// Where they stand together.
    pub place: Place,
}

impl Rung {
    /// Its artifacts and place; `None` for what the host has.
    pub fn shelved(&self) -> Option<&Shelved> {
        if let Source::Shelf(shelved) = &self.source { Some(shelved) } else { None }
    }

    /// Bytes of its artifacts; 0 for what the host has.
    pub fn size(&self) -> u64 {
        self.shelved().map_or(0, |shelved| shelved.artifacts.iter().map(|artifact| artifact.size).sum())
    }

    /// What tells it from others in a landing: its folder on the shelf, or the host's file.
    pub fn folder(&self) -> &Path {
        match &self.source {
            Source::Shelf(shelved) => &shelved.place.folder,
            Source::Host(file) => file,
        }
    }

    /// The folder of its files: on the shelf, or where the host's file lies.
    pub fn files(&self) -> PathBuf {
        match &self.source {
            Source::Shelf(shelved) => shelved.place.files(),
            Source::Host(file) => file.parent().unwrap_or(file).to_path_buf(),
        }
    }
}

/// One rung of the route.
#[derive(Clone, Debug)]
pub struct Rung {
    /// The tool and its version.
    pub name: RungName,
    /// Its definition.
    pub definition: Rc<Definition>,
    /// Where it comes from.
    pub source: Source,
    /// Why it is there.
    pub because: Vec<Because>,
    /// What is left to do.
    pub work: Work,
    /// The rungs that it needs itself.
    pub needs: Vec<String>,
    /// Its commands, those of its pieces included.
    pub commands: BTreeMap<String, Command>,
    /// Its pieces, and who asks for each.
    pub pieces: Vec<(String, Vec<Because>)>,
}

/// What a climb would do, bottom rung first.
#[derive(Clone, Debug)]
pub struct Route {
    /// The rungs; each stands above what it needs.
    pub rungs: Vec<Rung>,
    /// Rungs of the current landing that the new one leaves out.
    pub leaving: Vec<RungName>,
}

impl Route {
    /// Bytes to fetch.
    pub fn bytes_to_fetch(&self) -> u64 {
        self.rungs.iter().filter(|rung| rung.work == Work::Fetch).map(Rung::size).sum()
    }

    /// Whether the climb would do nothing.
    pub fn is_done(&self) -> bool {
        self.leaving.is_empty() && self.rungs.iter().all(|rung| rung.work == Work::Nothing)
    }
}

/// What a route is made from.
#[derive(Clone, Copy)]
pub struct Ground<'g> {
    /// What is wanted.
    pub ladder: &'g Ladder,
    /// The chosen releases.
    pub pins: &'g Pins,
    /// Their definitions.
    pub catalog: &'g Catalog,
    /// The host's platform.
    pub platform: &'g Platform,
    /// What stands there already.
    pub shelf: &'g Shelf,
    /// What was fetched already.
    pub cache: &'g Cache,
    /// The landing that is current.
    pub landing: Option<&'g Landing>,
}

/// Plans a climb.
pub fn plan(ground: &Ground<'_>) -> Result<Route, RouteError> {
    let mut found = BTreeMap::new();
    for (tool, pin) in &ground.pins.rungs {
        found.insert(tool.as_str(), Found::look_up(ground.catalog, tool, pin)?);
    }
    let needs = needs_between(&found);
    let order = bottom_up(&needs);
    let rungs = order.iter().map(|tool| rung(ground, &found[tool], &found, &needs));
    let rungs: Vec<Rung> = rungs.collect::<Result<_, _>>()?;
    let stays = |name: &RungName| rungs.iter().any(|rung| rung.name.tool == name.tool);
    let landed = ground.landing.iter().flat_map(|landing| &landing.rungs).map(super::landing::LandedRung::name);
    let leaving = landed.filter(|name| !stays(name)).collect();
    Ok(Route { rungs, leaving })
}

struct Found<'p> {
    tool: &'p str,
    pin: &'p Pin,
    definition: Rc<Definition>,
    /// The release; `None` for what the host has.
    release: Option<Release>,
}

impl<'p> Found<'p> {
    fn look_up(catalog: &Catalog, tool: &'p str, pin: &'p Pin) -> Result<Self, RouteError> {
        let gone = || RouteError::Gone { tool: tool.to_owned(), version: pin.version.clone() };
        let definition = catalog.tool(tool)?.ok_or_else(gone)?;
        let release = definition.releases.iter().find(|r| r.version == pin.version).cloned();
        if release.is_none() && pin.host.is_none() {
            return Err(gone());
        }
        let release = release.filter(|_| pin.host.is_none());
        Ok(Self { tool, pin, definition, release })
    }

    /// The commands of the tool and of the pieces that are pinned.
    fn commands(&self) -> BTreeMap<String, Command> {
        let pieces = self.release.iter().flat_map(|release| &release.pieces);
        let taken = pieces.filter(|(name, _)| self.pin.pieces.contains_key(*name));
        let of_pieces = taken.flat_map(|(_, piece)| piece.commands.clone());
        self.definition.commands.clone().into_iter().chain(of_pieces).collect()
    }

    fn meets(&self, need: &str) -> bool {
        self.tool == need || self.definition.provides.iter().any(|capability| capability == need)
    }
}

type Needs<'p> = BTreeMap<&'p str, BTreeSet<&'p str>>;

/// Which pinned tool needs which.
fn needs_between<'p>(found: &BTreeMap<&'p str, Found<'p>>) -> Needs<'p> {
    let of = |one: &Found<'p>| {
        let met = |need: &String| {
            let by = found.values().filter(move |other| other.meets(need));
            by.map(|other| other.tool).collect::<Vec<_>>()
        };
        one.release
            .iter()
            .flat_map(|release| release.needs.keys())
            .flat_map(met)
            .filter(|tool| *tool != one.tool)
            .collect()
    };
    found.values().map(|one| (one.tool, of(one))).collect()
}

/// Each tool above what it needs; tools that need each other in a circle stand together, by name. (Strongly connected
/// components come out bottom up: Tarjan, "Depth-first search and linear graph algorithms", 1972.)
fn bottom_up<'p>(needs: &Needs<'p>) -> Vec<&'p str> {
    let mut graph = DiGraphMap::<&str, ()>::new();
    for (tool, needed) in needs {
        graph.add_node(tool);
        for need in needed {
            graph.add_edge(tool, need, ());
        }
    }
    let mut groups = tarjan_scc(&graph);
    for group in &mut groups {
        group.sort_unstable();
    }
    groups.concat()
}

fn rung(
    ground: &Ground<'_>,
    found: &Found<'_>,
    all: &BTreeMap<&str, Found<'_>>,
    needs: &Needs<'_>,
) -> Result<Rung, RouteError> {
    let (tool, version) = (found.tool, &found.pin.version);
    let no_artifact = || RouteError::NoArtifact {
        tool: tool.to_owned(),
        version: version.clone(),
        platform: ground.platform.clone(),
        there: found.pin.artifacts.keys().cloned().collect(),
    };
    let source = if let Some(file) = &found.pin.host {
        Source::Host(file.clone())
    } else {
        let artifacts = artifacts(ground, found).ok_or_else(no_artifact)?;
        let place = ground.shelf.place(tool, version, &artifacts);
        Source::Shelf(Shelved { artifacts, place })
    };
    let mut rung = Rung {
        name: RungName { tool: tool.to_owned(), version: version.clone() },
        because: because(ground.ladder, found, needs),
        needs: needs[tool].iter().map(|&need| need.to_owned()).collect(),
        pieces: found.pin.pieces.keys().map(|piece| (piece.clone(), asking(ground, all, found, piece))).collect(),
        commands: found.commands(),
        definition: Rc::clone(&found.definition),
        source,
        work: Work::Nothing,
    };
    rung.work = work(ground, &rung);
    Ok(rung)
}

/// The release's own artifact and its pieces', as they are unpacked; `None` when one is not there for the platform.
fn artifacts(ground: &Ground<'_>, found: &Found<'_>) -> Option<Vec<Artifact>> {
    let (platform, release) = (ground.platform, found.release.as_ref());
    let commands = found.commands();
    let prepared = |artifact| shelf::prepared(&commands, &found.pin.version, artifact);
    let own = found.pin.artifact(platform)?.with(release.and_then(|release| release.artifact(platform)));
    let mut all = vec![prepared(own)];
    for (piece, pinned) in found.pin.piece_artifacts(platform) {
        let piece = release.and_then(|release| release.pieces.get(piece));
        all.push(prepared(pinned?.with(piece.and_then(|piece| piece.artifact(platform)))));
    }
    Some(all)
}

/// Who asks for a piece.
fn asking(ground: &Ground<'_>, all: &BTreeMap<&str, Found<'_>>, found: &Found<'_>, piece: &str) -> Vec<Because> {
    let names = |pieces: &[String]| pieces.iter().any(|name| name == piece);
    let wishes = ground.ladder.wishes.iter().filter(|wish| found.meets(&wish.tool) && names(&wish.range.pieces));
    let needs = all.values().filter(|other| {
        let mut needs = other.release.iter().flat_map(|release| &release.needs);
        needs.any(|(need, wanted)| found.meets(need) && names(&wanted.pieces))
    });
    let wishes = wishes.map(|wish| Because::Wished { line: wish.place.line });
    wishes.chain(needs.map(|other| Because::NeededBy { tool: other.tool.to_owned() })).collect()
}

fn work(ground: &Ground<'_>, rung: &Rung) -> Work {
    let landed = ground.landing.is_some_and(|landing| landing.has(&rung.name.tool, rung.folder()));
    match rung.shelved() {
        Some(Shelved { artifacts, place }) if !place.is_taken() => {
            let cached = artifacts.iter().all(|artifact| ground.cache.seems_to_hold(artifact));
            if cached { Work::Unpack } else { Work::Fetch }
        }
        _ if landed => Work::Nothing,
        _ => Work::Wire,
    }
}

fn because(ladder: &Ladder, found: &Found<'_>, needs: &Needs<'_>) -> Vec<Because> {
    let wished = ladder.wishes.iter().filter(|wish| found.meets(&wish.tool));
    let needed = needs.iter().filter(|(_, needs)| needs.contains(found.tool));
    wished
        .map(|wish| Because::Wished { line: wish.place.line })
        .chain(needed.map(|(tool, _)| Because::NeededBy { tool: (*tool).to_owned() }))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_tool_stands_above_what_it_needs_and_circles_stand_together() {
        let needs: Needs<'_> = [
            ("brinwright", vec!["skerroc", "oarweld"]),
            ("skerroc", vec!["tombolet"]),
            ("oarweld", vec!["tombolet"]),
            ("tombolet", vec![]),
            ("above", vec!["left"]),
            ("left", vec!["right", "tombolet"]),
            ("right", vec!["left"]),
        ]
        .into_iter()
        .map(|(tool, needs)| (tool, needs.into_iter().collect()))
        .collect();
        let order = bottom_up(&needs);
        let at = |tool: &str| order.iter().position(|other| *other == tool).unwrap();
        for (tool, below) in &needs {
            let circle = |need: &&&str| needs[**need].contains(tool);
            assert!(below.iter().filter(|need| !circle(need)).all(|need| at(need) < at(tool)), "{tool} in {order:?}");
        }
        assert_eq!((order.len(), at("right")), (needs.len(), at("left") + 1));
    }
}
