//! From seats and choices to pins: private tools join the shared ones where those will do, and each rung gets its
//! digests.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::called::Called;
use super::offer::Offer;
use super::seat::{Choice, Part, Seat};
use super::{FromCatalog, Pin, PinnedArtifact, Pins, PinsError};
use crate::catalog::{Card, CardArtifact, CardRelease, Exclusion, Kind, Machine, Need, Way};
use crate::names::{Household, ToolName};
use crate::platform::Scope;
use crate::version::Version;

/// A household's tool on one machine; on all of them where they are served together.
type Spot = (Household, ToolName, Option<usize>);

/// The tools of each household.
type Households<'h> = BTreeMap<&'h Household, BTreeSet<&'h ToolName>>;

/// What the resolver chose.
pub(super) struct Answer<'o, 'c> {
    offer: &'o Offer<'c>,
    chosen: BTreeMap<Spot, Taken>,
}

/// A choice, and the pieces that are asked of it.
struct Taken {
    choice: Choice,
    pieces: BTreeSet<String>,
}

impl<'o, 'c> Answer<'o, 'c> {
    pub(super) fn new(offer: &'o Offer<'c>, chosen: &[(Arc<Seat>, Choice)]) -> Self {
        let mut answer = Self { offer, chosen: BTreeMap::new() };
        for (seat, choice) in chosen {
            let machine = match &seat.part {
                Part::Lead => continue,
                Part::Everywhere => None,
                Part::On(at) => Some(*at),
            };
            let spot = (seat.household.clone(), seat.tool.clone(), machine);
            let taken = answer.chosen.entry(spot);
            let taken = taken.or_insert_with(|| Taken { choice: choice.clone(), pieces: BTreeSet::new() });
            taken.pieces.extend(seat.pieces.iter().cloned());
        }
        answer
    }

    /// The pins, without tools that nothing needs any more once the private ones have joined.
    pub(super) fn pins(mut self) -> Result<Pins, PinsError> {
        self.join()?;
        let reached = self.reached()?;
        self.chosen.retain(|spot, _| reached.contains(spot));
        let choosing = self.offer.choosing;
        let tools: BTreeSet<&ToolName> = self.chosen.keys().map(|(_, tool, _)| tool).collect();
        let mut catalogs = Vec::new();
        for about in choosing.catalogs.abouts() {
            let digest = choosing.catalogs.digest_of(&about.name, tools.iter().copied())?;
            catalogs.push(FromCatalog { name: about.name.clone(), digest });
        }
        let mut households = Households::new();
        for (household, tool, _) in self.chosen.keys() {
            households.entry(household).or_default().insert(tool);
        }
        let rungs = self.household(&households, &Household::shared())?;
        Ok(Pins { ladder: choosing.ladder.digest, catalogs, left_out: Vec::new(), rungs })
    }

    /// All needs of what is chosen for a spot, its pieces' included, as far as they hold on its machine.
    fn needs_of(&self, spot: &Spot) -> Result<Vec<Need>, PinsError> {
        let card = self.offer.card(&spot.1)?;
        let Some(taken) = self.chosen.get(spot) else { return Ok(Vec::new()) };
        let Some(release) = release(&card, taken) else { return Ok(Vec::new()) };
        let details = release.details();
        let machines = self.offer.machines_of(&spot.2.map_or(Part::Everywhere, Part::On));
        let holds = |need: &&Need| machines.iter().any(|machine| need.holds_on(&machine.platform));
        Ok(details.needs_with(|piece| taken.pieces.contains(piece)).filter(holds).cloned().collect())
    }

    /// All that what is chosen for a spot does not stand beside, its pieces' included, as far as that holds on its machine.
    fn excludes_of(&self, spot: &Spot, card: &Card) -> Vec<Exclusion> {
        let Some(taken) = self.chosen.get(spot) else { return Vec::new() };
        let Some(release) = release(card, taken) else { return Vec::new() };
        let details = release.details();
        let machines = self.offer.machines_of(&spot.2.map_or(Part::Everywhere, Part::On));
        let holds = |one: &&Exclusion| machines.iter().any(|machine| one.holds_on(&machine.platform));
        details.excludes_with(|piece| taken.pieces.contains(piece)).filter(holds).cloned().collect()
    }

    /// Gives up private tools where the household outside has one that everybody inside can live with. Outer households
    /// first, so that the widest sharing wins.
    fn join(&mut self) -> Result<(), PinsError> {
        let mut private: Vec<Spot> =
            self.chosen.keys().filter(|(household, ..)| !household.is_shared()).cloned().collect();
        private.sort_by_key(|(household, tool, _)| (household.owners().len(), household.clone(), tool.clone()));
        for spot in private {
            let (household, tool, machine) = &spot;
            let outer = (0..household.owners().len()).map(|depth| (household.outer(depth), tool.clone(), *machine));
            let Some(outside) = outer.into_iter().find(|outer| self.chosen.contains_key(outer)) else { continue };
            if self.will_do(&outside, &spot)? {
                self.chosen.remove(&spot);
            }
        }
        Ok(())
    }

    /// Whether what is chosen outside meets all that is asked of a private tool, and excludes nothing inside.
    fn will_do(&self, outside: &Spot, inside: &Spot) -> Result<bool, PinsError> {
        let (household, tool, machine) = inside;
        let (Some(own), Some(theirs)) = (self.chosen.get(inside), self.chosen.get(outside)) else { return Ok(false) };
        let card = self.offer.card(tool)?;
        if !own.pieces.is_subset(&theirs.pieces) {
            return Ok(false);
        }
        let fits = |way: &Way| self.offer.fits(&Called::from(way), &card, &theirs.choice);
        for spot in self.chosen.keys() {
            let (from, owner, on) = spot;
            let is_inside = from == household || from.of(owner) == *household;
            if !is_inside || on != machine {
                continue;
            }
            for need in self.needs_of(spot)? {
                let asks = |way: &&Way| self.offer.tools_for(&way.name).is_ok_and(|tools| tools.contains(tool));
                let lives_there = Seat { household: from.clone(), ..Seat::shared(owner, Part::Everywhere) };
                let here = lives_there.household_for(&need, tool) == *household;
                let ways: Vec<&Way> = need.ways.iter().filter(asks).collect();
                if here && !ways.is_empty() && !ways.iter().any(|way| fits(way)) {
                    return Ok(false);
                }
            }
            let other = self.offer.card(owner)?;
            let excludes = self.excludes_of(spot, &other);
            let names = |way: &Way| self.offer.tools_for(&way.name).is_ok_and(|tools| tools.contains(tool));
            if owner != tool && excludes.iter().any(|exclusion| names(&exclusion.way) && fits(&exclusion.way)) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What the wishes lead to.
    fn reached(&self) -> Result<BTreeSet<Spot>, PinsError> {
        let machines = self.chosen.keys().map(|(_, _, machine)| *machine).collect::<BTreeSet<_>>();
        let mut open = Vec::new();
        for wish in &self.offer.choosing.ladder.wishes {
            let tools = self.offer.tools_for(&wish.tool)?;
            let called = Called::from(wish);
            for machine in &machines {
                let spots = tools.iter().map(|tool| (Household::shared(), tool.clone(), *machine));
                open.extend(spots.filter(|spot| self.meets(spot, &called)));
            }
        }
        let mut reached = BTreeSet::new();
        while let Some(spot) = open.pop() {
            if !reached.insert(spot.clone()) {
                continue;
            }
            for need in self.needs_of(&spot)? {
                open.extend(self.met_by(&spot, &need)?);
            }
        }
        Ok(reached)
    }

    fn meets(&self, spot: &Spot, called: &Called) -> bool {
        self.chosen.get(spot).is_some_and(|taken| {
            let card = self.offer.card(&spot.1);
            let pieces = called.range.pieces.iter().all(|piece| taken.pieces.contains(piece));
            pieces && card.is_ok_and(|card| self.offer.fits(called, &card, &taken.choice))
        })
    }

    /// The chosen tools that meet a need: from the household it belongs to, or the nearest around it.
    fn met_by(&self, spot: &Spot, need: &Need) -> Result<Vec<Spot>, PinsError> {
        let seat = Seat { household: spot.0.clone(), ..Seat::shared(&spot.1, Part::Everywhere) };
        let mut met = Vec::new();
        for way in &need.ways {
            for tool in self.offer.tools_for(&way.name)?.iter() {
                let household = seat.household_for(need, tool);
                let around = household.around().map(|household| (household, tool.clone(), spot.2));
                let nearest = around.into_iter().find(|outer| self.chosen.contains_key(outer));
                met.extend(nearest.filter(|nearest| self.meets(nearest, &Called::from(way))));
            }
        }
        Ok(met)
    }

    /// The pins of a household, those of the households in it included.
    fn household(&self, all: &Households<'_>, household: &Household) -> Result<BTreeMap<ToolName, Pin>, PinsError> {
        let tools = all.get(household).into_iter().flatten();
        tools.map(|tool| Ok(((*tool).clone(), self.pin(all, household, tool)?))).collect()
    }

    fn pin(&self, all: &Households<'_>, household: &Household, tool: &ToolName) -> Result<Pin, PinsError> {
        let card = self.offer.card(tool)?;
        let at = |machine: Option<usize>| self.chosen.get(&(household.clone(), tool.clone(), machine));
        let machines = &self.offer.machines;
        let on = |(index, machine): (usize, _)| Some((machine, at(Some(index)).or_else(|| at(None))?));
        let there: Vec<(&Machine, &Taken)> = machines.iter().enumerate().filter_map(on).collect();
        let on_host = if there.iter().any(|(_, taken)| matches!(taken.choice, Choice::Host(_))) {
            self.offer.on_host(&card)?
        } else {
            Vec::new()
        };
        let found = |taken: &Taken| if let Choice::Host(at) = taken.choice { on_host.get(at) } else { None };
        let versions = there.iter().filter_map(|(machine, taken)| {
            let own = || found(taken).map(|found| found.version.clone());
            Some((*machine, release(&card, taken).map(|release| release.version.clone()).or_else(own)?))
        });
        let versions: Vec<(&Machine, Version)> = versions.collect();
        let first = versions.first().map(|(_, version)| version.clone());
        let mut pin = Pin::new(first.ok_or_else(|| PinsError::UnknownNeed { name: tool.clone() })?);
        pin.private = self.household(all, &household.of(tool))?;
        let catalogs = self.offer.choosing.catalogs;
        pin.catalog = catalogs.home_of(tool).filter(|_| catalogs.are_several()).map(str::to_owned);
        if there.len() < machines.len() {
            pin.on = there.iter().map(|(machine, _)| machine.kind()).collect();
        }
        let differs = versions.into_iter().filter(|(_, version)| *version != pin.version);
        pin.elsewhere = differs.map(|(machine, version)| (machine.kind(), version)).collect();
        // One file for several machines is pinned as such only where all of them take it.
        let is_alike = pin.elsewhere.is_empty() && pin.on.is_empty();
        let mut same = there.first().map(|(_, taken)| taken.pieces.clone()).unwrap_or_default();
        same.retain(|piece| there.iter().all(|(_, taken)| taken.pieces.contains(piece)));
        for (machine, taken) in there {
            let Some(release) = release(&card, taken) else {
                pin.host = found(taken).map(|found| found.copy.clone());
                continue;
            };
            let details = release.details();
            insert(&mut pin.artifacts, details.artifact(machine), machine, is_alike);
            for (name, piece) in details.pieces.iter().filter(|(name, _)| taken.pieces.contains(*name)) {
                let is_alike = is_alike && same.contains(name);
                insert(pin.pieces.entry(name.clone()).or_default(), piece.artifact(machine), machine, is_alike);
            }
        }
        Ok(pin)
    }
}

fn release<'a>(card: &'a Card, taken: &Taken) -> Option<&'a CardRelease> {
    if let Choice::Release(at) = taken.choice { card.releases.get(at) } else { None }
}

/// The artifact for a machine, under how pins speak of it or, where all machines are alike, under the platforms it is for. One
/// that was taken for what is known of a machine is that machine's.
fn insert(
    into: &mut BTreeMap<Kind, PinnedArtifact>,
    found: Option<(&Scope, &CardArtifact)>,
    machine: &Machine,
    is_alike: bool,
) {
    let Some((scope, artifact)) = found else { return };
    let is_for_all = is_alike && artifact.facts.is_empty();
    let kind = if is_for_all && !machine.by_name { Kind::Platforms(scope.clone()) } else { machine.kind() };
    into.insert(kind, artifact.file.clone());
}
