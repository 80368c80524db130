//! The route: pins held against the shelf, as ordered steps.

mod found;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use found::{All, Found, Needs, bottom_up, needs_between};

use crate::berth::{Berth, Loan};
use crate::catalog::{Artifact, Catalog, CatalogError, Command, Definition, Need};
use crate::event::RungName;
use crate::fetch::Cache;
use crate::ladder::{Ladder, Wish};
use crate::landing::{LandedRung, Landing};
use crate::pins::Pins;
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
    /// What tells it from the other rungs: its tool, behind those that keep it to themselves.
    pub fn key(&self) -> String {
        self.kept_by.iter().map(|household| format!("{household}/")).chain([self.name.tool.clone()]).collect()
    }

    /// Its artifacts and place; `None` for what the host has.
    pub fn shelved(&self) -> Option<&Shelved> {
        if let Source::Shelf(shelved) = &self.source { Some(shelved) } else { None }
    }

    /// Whether its files are not on the shelf yet.
    pub fn is_to_bring(&self) -> bool {
        self.work >= Work::Unpack
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

    /// The folder of its files: its berth, its place on the shelf, or where the host's file lies.
    pub fn files(&self) -> PathBuf {
        match &self.source {
            Source::Shelf(_) if self.berth.is_some() => self.berth.iter().map(|berth| berth.folder.clone()).collect(),
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
    /// The keys of the rungs that it needs itself.
    pub needs: Vec<String>,
    /// The tools that keep it to themselves, outermost first, as `a/b`; `None` for a rung of the ladder.
    pub kept_by: Option<String>,
    /// Its own folder for this ladder, where others lend it files or it has writable corners.
    pub berth: Option<Berth>,
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
    /// The folder of the ladder's landings, berths and corners.
    pub folder: &'g Path,
    /// The landing that is current.
    pub landing: Option<&'g Landing>,
}

/// Plans a climb.
///
/// # Errors
/// [`RouteError`] where a pinned release has left the catalog, or has no artifact for this host.
pub fn plan(ground: &Ground<'_>) -> Result<Route, RouteError> {
    let pins = ground.pins.on(ground.platform);
    let mut found = All::new();
    found::look_up(ground.catalog, &pins.rungs, &[], &mut found)?;
    let needs = needs_between(&found);
    let order = bottom_up(&needs);
    let rungs = order.iter().map(|key| rung(ground, &found[*key], &found, &needs));
    let mut rungs: Vec<Rung> = rungs.collect::<Result<_, _>>()?;
    give_berths(ground, &mut rungs);
    let stays =
        |landed: &&LandedRung| rungs.iter().any(|rung| rung.name.tool == landed.tool && rung.kept_by == landed.kept_by);
    let landed = ground.landing.iter().flat_map(|landing| &landing.rungs);
    let leaving = landed.filter(|landed| !stays(landed)).map(LandedRung::name).collect();
    Ok(Route { rungs, leaving })
}

fn rung(ground: &Ground<'_>, found: &Found<'_>, all: &All<'_>, needs: &Needs) -> Result<Rung, RouteError> {
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
        let place = ground.shelf.place(tool, version, &artifacts, &found.definition.set_up);
        Source::Shelf(Shelved { artifacts, place })
    };
    let rung = Rung {
        name: RungName { tool: tool.to_owned(), version: version.clone() },
        because: because(ground.ladder, found, all, needs),
        needs: needs[&found.key()].iter().cloned().collect(),
        kept_by: Some(found.household.join("/")).filter(|household| !household.is_empty()),
        pieces: found.pin.pieces.keys().map(|piece| (piece.clone(), asking(ground, all, found, piece))).collect(),
        berth: None,
        commands: found.commands(),
        definition: Rc::clone(&found.definition),
        source,
        work: Work::Nothing,
    };
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
fn asking(ground: &Ground<'_>, all: &All<'_>, found: &Found<'_>, piece: &str) -> Vec<Because> {
    let names = |pieces: &[String]| pieces.iter().any(|name| name == piece);
    let own = |wish: &&Wish| found.household.is_empty() && found.is_called(&wish.tool) && names(&wish.range.pieces);
    let wishes = ground.ladder.wishes.iter().filter(own);
    let needs = all.values().filter(|other| {
        let asks = |need: &&Need| need.ways.iter().any(|way| found.is_called(&way.name) && names(&way.pieces));
        other.needs().filter(asks).any(|need| found::met_by(all, other, need).contains(&found.key()))
    });
    let wishes = wishes.map(|wish| Because::Wished { line: wish.place.line });
    wishes.chain(needs.map(|other| Because::NeededBy { tool: other.tool.to_owned() })).collect()
}

/// Gives a berth to every rung that needs one, and says what is left to do once that is known.
fn give_berths(ground: &Ground<'_>, rungs: &mut [Rung]) {
    let berths: Vec<Option<Berth>> = rungs.iter().map(|rung| berth(ground, rung, rungs)).collect();
    for (rung, berth) in rungs.iter_mut().zip(berths) {
        rung.berth = berth;
        rung.work = work(ground, rung);
    }
}

/// The rung's berth, where the others of its household lend it files or it has corners.
fn berth(ground: &Ground<'_>, rung: &Rung, rungs: &[Rung]) -> Option<Berth> {
    let place = &rung.shelved()?.place;
    let is_called = |name: &str| rung.name.tool == name || rung.definition.provides.iter().any(|other| other == name);
    let mut loans = Vec::new();
    for lender in rungs.iter().filter(|other| other.kept_by == rung.kept_by && other.key() != rung.key()) {
        let Some(from) = lender.shelved() else { continue };
        let (version, own) = (&lender.name.version, &rung.name.version);
        loans.extend(lender.definition.lends.iter().filter(|lends| is_called(&lends.to)).map(|lends| Loan {
            lender: lender.name.tool.clone(),
            from: from.place.files().join(shelf::filled(&lends.files, version)),
            at: shelf::filled(&lends.at, own).into(),
        }));
    }
    if loans.is_empty() && rung.definition.corners.is_empty() {
        return None;
    }
    let corners: Vec<PathBuf> = rung.definition.corners.iter().map(PathBuf::from).collect();
    let file = |command: &Command| shelf::filled(&command.file, &rung.name.version).into();
    let commands: Vec<PathBuf> = rung.commands.values().map(file).collect();
    let name = rung.key().replace('/', "~");
    Some(Berth::new(ground.folder, &name, &place.files(), loans, &corners, &commands))
}

fn work(ground: &Ground<'_>, rung: &Rung) -> Work {
    let landed = ground.landing.is_some_and(|landing| {
        landing.has(rung.folder(), rung.berth.as_ref(), &rung.name.tool, rung.kept_by.as_deref())
    });
    match rung.shelved() {
        Some(Shelved { artifacts, place }) if !place.is_taken() => {
            let cached = artifacts.iter().all(|artifact| ground.cache.seems_to_hold(artifact));
            if cached { Work::Unpack } else { Work::Fetch }
        }
        _ if landed => Work::Nothing,
        _ => Work::Wire,
    }
}

fn because(ladder: &Ladder, found: &Found<'_>, all: &All<'_>, needs: &Needs) -> Vec<Because> {
    let wished = ladder.wishes.iter().filter(|wish| found.household.is_empty() && found.is_called(&wish.tool));
    let key = found.key();
    let needed = needs.iter().filter(|(_, needs)| needs.contains(&key));
    wished
        .map(|wish| Because::Wished { line: wish.place.line })
        .chain(needed.map(|(key, _)| Because::NeededBy { tool: all[key].tool.to_owned() }))
        .collect()
}
