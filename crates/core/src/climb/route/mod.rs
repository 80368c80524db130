//! The route: pins held against the shelf and the landing, as rungs with the tasks that are left.
//!
//! What needs what is a graph over rungs and households; rungs that need each other in a circle (strongly connected components,
//! Tarjan, "Depth-first search and linear graph algorithms", SIAM J. Comput. 1(2), 1972) stand together, sorted by name. Rungs
//! go in by name too, so that a route is the same on every machine.

mod found;
mod on_host;
mod ports;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;
use std::sync::Arc;

use found::{All, Found, Needs, bottom_up, needs_between};
use kladder_choose::catalog::{Artifact, CatalogError, Catalogs, Kind, Machine, Need, PinnedArtifact, WrongChoice};
use kladder_choose::ladder::{Ladder, Wish};
use kladder_choose::names::{Household, RungKey, ToolName};
use kladder_choose::path::InnerPath;
use kladder_choose::pins::Pins;
use kladder_choose::version::Version;

use crate::base::event::RungName;
use crate::bring::fetch::Cache;
use crate::bring::shelf::{PlaceRecipe, Shelf};
use crate::keep::berth::{Berth, Loan, Made};
use crate::keep::landing::{LandedRung, Landing};
use crate::tasks::{Because, Rung, Shelved, Source, executable};

/// Why there is no route.
#[derive(Debug, thiserror::Error)]
pub enum RouteError {
    /// A catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// The catalog does not have a pinned release any more.
    #[error("the catalog does not have {tool} {version}, which is pinned")]
    Gone {
        /// The tool.
        tool: ToolName,
        /// The version.
        version: Version,
    },
    /// The pins have no artifact for the host.
    #[error("{rung} is pinned without an artifact for {platform}")]
    NoArtifact {
        /// What is pinned.
        rung: Box<RungName>,
        /// The piece whose artifact it is; `None` for the tool's own.
        piece: Option<String>,
        /// The machine that the host counts as.
        platform: Kind,
        /// What is pinned.
        there: Vec<Kind>,
    },
    /// Neither the definition nor a yard told how large a file is.
    #[error("the size of {file} is not known")]
    NoSize {
        /// Its path in a yard.
        file: InnerPath,
    },
    /// A choice of the ladder means nothing to its tool.
    #[error("the ladder's choices for {tool} do not fit")]
    Choice {
        /// The tool.
        tool: ToolName,
        /// Why not.
        source: WrongChoice,
    },
    /// The ladder has choices for what is none of its rungs.
    #[error("the ladder has choices for {tool}, which is none of its rungs")]
    ChoiceOfNone {
        /// The tool.
        tool: ToolName,
    },
    /// Two rungs have a service of one name.
    #[error("{one} and {other} both have a service `{service}`")]
    ServiceTwice {
        /// Its name.
        service: String,
        /// One tool.
        one: ToolName,
        /// The other.
        other: ToolName,
    },
    /// The ladder wants something of a service that no rung has.
    #[error("no rung of the ladder has a service `{service}`")]
    NoSuchService {
        /// Its name.
        service: String,
        /// Those that there are.
        there: Vec<String>,
    },
    /// Something that a pinned rung needs is not pinned.
    #[error("{tool} needs {need}, and nothing that is pinned meets that")]
    Unmet {
        /// The rung's tool.
        tool: ToolName,
        /// What it needs.
        need: Need,
    },
}

/// What a climb would do, bottom rung first.
#[derive(Clone, Debug)]
pub struct Route {
    /// Each stands above what it needs.
    pub rungs: Vec<Rung>,
    /// Rungs of the current landing that the new one leaves out.
    pub leaving: Vec<RungName>,
    /// The landing that is current was not damaged since it was made, as far as a glance tells.
    pub landing_is_whole: bool,
}

impl Route {
    /// Bytes to fetch.
    pub fn bytes_to_fetch(&self) -> u64 {
        let to_fetch = self.rungs.iter().filter(|rung| rung.is_to_bring() && rung.to_fetch);
        to_fetch.map(Rung::size).fold(0, u64::saturating_add)
    }

    /// Whether the climb would do nothing.
    pub fn is_done(&self) -> bool {
        self.leaving.is_empty() && self.landing_is_whole && self.rungs.iter().all(|rung| rung.todo.is_empty())
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
    pub catalogs: &'g Catalogs,
    /// The machine of the ladder that the host counts as.
    pub machine: &'g Machine,
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
/// [`RouteError`] where a pinned release has left the catalog, has no artifact for this host, or needs what is not pinned.
pub fn plan(ground: &Ground<'_>) -> Result<Route, RouteError> {
    let pins = ground.pins.on(ground.machine);
    let mut found = All::new();
    found::look_up(ground, &pins.rungs, &Household::shared(), &mut found)?;
    check_choices(ground, &found)?;
    let needs = needs_between(&found, &ground.machine.platform)?;
    let lenders = lenders(&found);
    let order = bottom_up(&needs, &lenders);
    let asked = Asked::of(ground.ladder, &needs);
    let rungs = order.iter().map(|key| rung(ground, &found[*key], &found, &needs, &asked));
    let mut rungs: Vec<Rung> = rungs.collect::<Result<_, _>>()?;
    check_services(ground, &rungs)?;
    ports::assign(&mut rungs, ground.folder, ground.ladder);
    finish(ground, &mut rungs);
    let keys: BTreeSet<&RungKey> = rungs.iter().map(|rung| &rung.key).collect();
    let stays = |landed: &&LandedRung| keys.contains(&landed.key);
    let landed = ground.landing.iter().flat_map(|landing| &landing.rungs);
    let leaving = landed.filter(|landed| !stays(landed)).map(LandedRung::name).collect();
    Ok(Route { rungs, leaving, landing_is_whole: true })
}

fn rung(
    ground: &Ground<'_>,
    found: &Found<'_>,
    all: &All<'_>,
    needs: &Needs,
    asked: &Asked<'_>,
) -> Result<Rung, RouteError> {
    let (key, version) = (found.key.clone(), found.pin.version.clone());
    let source = if let Some(copy) = &found.pin.host {
        Source::Host(copy.clone())
    } else {
        let artifacts = artifacts(ground, found)?;
        let recipe = PlaceRecipe { artifacts: &artifacts, set_up: &found.definition.says.set_up };
        let is_set = key.household.is_shared() && ground.ladder.sets.iter().any(|set| set.name == key.tool);
        let place = if is_set {
            ground.shelf.place_of_set(&version, &recipe)
        } else {
            ground.shelf.place(&key.tool, &version, &recipe)
        };
        Source::Shelf(Shelved { artifacts, place })
    };
    Ok(Rung {
        because: asked.for_rung(found),
        needs: needs[&key].iter().cloned().collect(),
        pieces: found.pin.pieces.keys().map(|piece| (piece.clone(), asking(ground, all, found, piece))).collect(),
        berth: None,
        commands: on_host::commands(found),
        definition: Arc::clone(&found.definition),
        first_start: first_start(ground, found)?,
        fitted: ground.folder.join("fitted").join(key.folder_name()).with_added_extension("json"),
        ports: Vec::new(),
        todo: Vec::new(),
        to_fetch: false,
        key,
        version,
        source,
    })
}

/// The files for a rung's first start, with what the ladder chose.
fn first_start(ground: &Ground<'_>, found: &Found<'_>) -> Result<BTreeMap<InnerPath, String>, RouteError> {
    let none = BTreeMap::new();
    let chosen = ground.ladder.choices.get(&found.key.tool).unwrap_or(&none);
    let files = found.definition.says.first_start_with(chosen);
    files.map_err(|source| RouteError::Choice { tool: found.key.tool.clone(), source })
}

/// Choices for tools that are no rungs are a slip.
fn check_choices(ground: &Ground<'_>, all: &All<'_>) -> Result<(), RouteError> {
    let is_rung = |tool: &ToolName| all.keys().any(|key| key.tool == *tool);
    match ground.ladder.choices.keys().find(|tool| !is_rung(tool)) {
        Some(tool) => Err(RouteError::ChoiceOfNone { tool: tool.clone() }),
        None => Ok(()),
    }
}

/// Two services of one name could not be told apart, and wishes for services that there are not are a slip.
fn check_services(ground: &Ground<'_>, rungs: &[Rung]) -> Result<(), RouteError> {
    let mut known: BTreeMap<&str, &ToolName> = BTreeMap::new();
    for rung in rungs {
        for service in &rung.definition.says.services {
            if let Some(other) = known.insert(&service.name, &rung.key.tool) {
                let (one, other) = (other.clone(), rung.key.tool.clone());
                return Err(RouteError::ServiceTwice { service: service.name.clone(), one, other });
            }
        }
    }
    match ground.ladder.services.keys().find(|name| !known.contains_key(name.as_str())) {
        Some(name) => {
            let there = known.keys().map(|name| (*name).to_owned()).collect();
            Err(RouteError::NoSuchService { service: name.clone(), there })
        }
        None => Ok(()),
    }
}

/// The release's own artifact and its pieces', as they are unpacked.
fn artifacts(ground: &Ground<'_>, found: &Found<'_>) -> Result<Vec<Artifact>, RouteError> {
    let (machine, release) = (ground.machine, found.release.as_ref());
    let missing = |piece: Option<&str>, there: Vec<Kind>| RouteError::NoArtifact {
        rung: Box::new(RungName { tool: found.key.tool.clone(), version: found.pin.version.clone() }),
        piece: piece.map(str::to_owned),
        platform: machine.kind(),
        there,
    };
    let commands = &found.definition.says.commands;
    let prepared = |pinned: &PinnedArtifact, published| {
        let artifacts = pinned.with(published).map_err(|file| RouteError::NoSize { file: file.clone() })?;
        let version = &found.pin.version;
        Ok::<Vec<Artifact>, RouteError>(artifacts.into_iter().map(|one| executable(commands, version, one)).collect())
    };
    let own = found.pin.artifact(machine);
    let own = own.ok_or_else(|| missing(None, found.pin.artifacts.keys().cloned().collect()))?;
    let mut all = prepared(own, release.and_then(|release| release.published(None, own, machine)))?;
    for (piece, pinned) in found.pin.piece_artifacts(machine) {
        let pinned = pinned.ok_or_else(|| missing(Some(piece), found.pin.pieces[piece].keys().cloned().collect()))?;
        all.extend(prepared(pinned, release.and_then(|release| release.published(Some(piece), pinned, machine)))?);
    }
    Ok(all)
}

/// Who asks for a piece.
fn asking(ground: &Ground<'_>, all: &All<'_>, found: &Found<'_>, piece: &str) -> Vec<Because> {
    let names = |pieces: &[String]| pieces.iter().any(|name| name == piece);
    let own = |wish: &&Wish| {
        found.key.household.is_shared() && found.definition.answers_to(&wish.tool) && names(&wish.range.pieces)
    };
    let wishes = ground.ladder.wishes.iter().filter(own);
    let needs = all.values().filter(|other| {
        let asks =
            |need: &&Need| need.ways.iter().any(|way| found.definition.answers_to(&way.name) && names(&way.pieces));
        other
            .needs(&ground.machine.platform)
            .filter(asks)
            .any(|need| found::met_by(all, other, need).contains(&found.key))
    });
    let wishes = wishes.map(|wish| Because::Wished { line: wish.place.line });
    wishes.chain(needs.map(|other| Because::NeededBy { rung: other.key.clone() })).collect()
}

/// By key: who lends it files, in its own household.
fn lenders(all: &All<'_>) -> Needs {
    let lends_to = |lender: &Found<'_>, borrower: &Found<'_>| {
        let says = &lender.definition.says;
        let to = says.lends.iter().map(|lends| &lends.to).chain(says.extends.iter().map(|way| &way.name));
        lender.release.is_some()
            && lender.key.household == borrower.key.household
            && lender.key != borrower.key
            && to.into_iter().any(|to| borrower.definition.answers_to(to))
    };
    let lending: Vec<&Found<'_>> = all.values().filter(|found| found.definition.says.shows_elsewhere()).collect();
    let of = |borrower: &Found<'_>| -> BTreeSet<RungKey> {
        lending.iter().filter(|lender| lends_to(lender, borrower)).map(|lender| lender.key.clone()).collect()
    };
    all.iter().map(|(key, one)| (key.clone(), of(one))).filter(|(_, lenders)| !lenders.is_empty()).collect()
}

/// Gives a berth to every rung that needs one, and says what is left to do once that is known.
fn finish(ground: &Ground<'_>, rungs: &mut [Rung]) {
    let lending: Vec<&Rung> = rungs.iter().filter(|rung| rung.definition.says.shows_elsewhere()).collect();
    let berths: Vec<Option<Berth>> = rungs.iter().map(|rung| berth(ground, rung, &lending)).collect();
    let landed = ground.landing.iter().flat_map(|landing| &landing.rungs);
    let landed: BTreeMap<&RungKey, &LandedRung> = landed.map(|landed| (&landed.key, landed)).collect();
    for (rung, berth) in rungs.iter_mut().zip(berths) {
        rung.berth = berth;
        rung.todo = rung.left(landed.get(&rung.key).copied());
        let lacks = |artifact: &Artifact| !ground.cache.seems_to_hold(artifact);
        rung.to_fetch = rung.is_to_bring() && rung.shelved().is_some_and(|it| it.artifacts.iter().any(lacks));
    }
}

/// The rung's berth, where the others of its household lend it files or it has corners.
fn berth(ground: &Ground<'_>, rung: &Rung, lending: &[&Rung]) -> Option<Berth> {
    let place = &rung.shelved()?.place;
    let mut loans = Vec::new();
    let household = lending.iter().filter(|other| other.key.household == rung.key.household && other.key != rung.key);
    for lender in household {
        let Some(from) = lender.shelved() else { continue };
        let lends = lender.definition.says.lends.iter().filter(|lends| rung.answers_to(&lends.to));
        loans.extend(lends.map(|lends| Loan {
            lender: lender.key.tool.clone(),
            from: lends.files.at(&lender.version).below(&from.place.files()),
            only: lends.only.clone(),
            at: lends.at.at(&rung.version),
        }));
        loans.extend(rung.extended_by(lender).map(|at| Loan {
            lender: lender.key.tool.clone(),
            from: from.place.files(),
            only: Vec::new(),
            at,
        }));
    }
    if loans.is_empty() && rung.definition.says.corners.is_empty() {
        return None;
    }
    let commands: Vec<_> = rung.commands.values().map(|command| rung.file_of(command)).collect();
    Some(Berth::new(Made {
        ladder: ground.folder,
        key: &rung.key,
        shelved: &place.files(),
        loans,
        corners: &rung.definition.says.corners,
        commands: &commands,
    }))
}

/// Who asks for what: a ladder may have tens of thousands of wishes.
struct Asked<'a> {
    wishes: HashMap<&'a str, Vec<usize>>,
    needed_by: BTreeMap<&'a RungKey, Vec<&'a RungKey>>,
}

impl<'a> Asked<'a> {
    fn of(ladder: &'a Ladder, needs: &'a Needs) -> Self {
        let mut asked = Self { wishes: HashMap::new(), needed_by: BTreeMap::new() };
        for wish in &ladder.wishes {
            asked.wishes.entry(wish.tool.as_str()).or_default().push(wish.place.line);
        }
        for (key, needed) in needs.iter().flat_map(|(key, needed)| needed.iter().map(move |needed| (key, needed))) {
            asked.needed_by.entry(needed).or_default().push(key);
        }
        asked
    }

    /// The wishes for a rung by their lines, and the rungs that need it.
    fn for_rung(&self, found: &Found<'_>) -> Vec<Because> {
        let provides = found.definition.provides();
        let names = std::iter::once(&found.definition.tool).chain(&provides);
        let names = names.filter(|_| found.key.household.is_shared());
        let mut lines: Vec<usize> =
            names.filter_map(|name| self.wishes.get(name.as_str())).flatten().copied().collect();
        lines.sort_unstable();
        lines.dedup();
        let wished = lines.into_iter().map(|line| Because::Wished { line });
        let needed = self.needed_by.get(&found.key).into_iter().flatten();
        wished.chain(needed.map(|key| Because::NeededBy { rung: (*key).clone() })).collect()
    }
}
