//! A clash of wishes in terms that a person can act on.
//!
//! The resolver hands over the smallest set of wishes and rules that it found to clash; here each rule becomes a step, and
//! steps are put in the order of the chain that leads from one wish to the other. What a step rules out is told by whoever
//! withholds it: a preview that nobody asked for, a missing artifact, the host's own that may not be taken.

use std::collections::BTreeSet;

use kladder_solve::{Clash, Fact, Rule};

use super::PinsError;
use super::account::{ClashReport, ClashingWish, Step, Withheld};
use super::called::Called;
use super::offer::Offer;
use super::seat::{Choice, Part, Seat};
use super::wishes::Wishes;
use crate::catalog::{Card, CardRelease, Kind, Machine, Need, Way};
use crate::ladder::Range;
use crate::names::{Household, ToolName};
use crate::version::Version;

/// More providers than these are not named one by one.
const FEW: usize = 4;

/// A clash with what it is about.
pub(super) struct Explained<'e, 'c> {
    pub(super) wishes: &'e Wishes<'e, 'c>,
    pub(super) clash: &'e Clash<Offer<'c>>,
}

/// Which rule of a definition a fact goes back to.
#[derive(Clone, PartialEq, Eq)]
enum Source {
    Need(Need),
    /// With the tool that is excluded.
    Exclusion(Way, ToolName),
    /// A tool that it brings along.
    Bundle(ToolName),
}

/// A range of a tool that is wanted somewhere.
#[derive(PartialEq)]
struct Wanted {
    tool: ToolName,
    called: Called,
    /// The machines, by their positions.
    on: BTreeSet<usize>,
}

/// Releases of one tool with one rule.
struct Gathered {
    tool: ToolName,
    household: Household,
    source: Source,
    /// Positions in the card.
    releases: BTreeSet<usize>,
    machines: BTreeSet<usize>,
}

impl Explained<'_, '_> {
    /// The clash as people are told of it, still without ways out.
    pub(super) fn report(&self) -> Result<ClashReport, PinsError> {
        let wishes = self.clashing();
        let gathered = in_order(self.gather()?, &wishes, self.wishes.offer)?;
        let mut steps = gathered.iter().map(|gathered| self.step(gathered)).collect::<Result<Vec<_>, _>>()?;
        for wanted in self.ranges(&wishes, &gathered)? {
            steps.extend(self.lacking(&wanted)?);
        }
        steps.extend(self.ends_of_series(&wishes)?);
        Ok(ClashReport { wishes, steps, ways_out: Vec::new() })
    }

    fn clashing(&self) -> Vec<ClashingWish> {
        let ladder = self.wishes.offer.choosing.ladder;
        let positions: BTreeSet<usize> = self.clash.wishes.iter().map(|&at| self.wishes.of[at]).collect();
        let wish = |at: usize| match ladder.wishes.get(at) {
            Some(wish) => vec![ClashingWish {
                position: Some(at),
                tool: wish.tool.clone(),
                range: wish.range.clone(),
                place: wish.range_place.clone(),
            }],
            None => self.moves(),
        };
        positions.into_iter().flat_map(wish).collect()
    }

    /// The moves that were asked for.
    fn moves(&self) -> Vec<ClashingWish> {
        let choosing = self.wishes.offer.choosing;
        let wish = |(tool, version): &(ToolName, Version)| {
            let requirement = format!("={version}").parse().ok()?;
            let (range, place) = (Range { requirement, ..Range::any() }, super::wishes::nowhere(&choosing.ladder.path));
            Some(ClashingWish { position: None, tool: tool.clone(), range, place })
        };
        choosing.moves.exact.iter().filter_map(wish).collect()
    }

    /// Joins what several releases of one tool, on several machines, have in common.
    fn gather(&self) -> Result<Vec<Gathered>, PinsError> {
        let mut all: Vec<Gathered> = Vec::new();
        for fact in &self.clash.facts {
            let Fact::Rule { package: seat, version: Choice::Release(at), .. } = fact else { continue };
            let Some(source) = self.source(fact)? else { continue };
            let is_it = |g: &&mut Gathered| g.tool == seat.tool && g.household == seat.household && g.source == source;
            let known = if let Some(known) = all.iter_mut().find(is_it) {
                known
            } else {
                let (releases, machines) = (BTreeSet::new(), BTreeSet::new());
                let (tool, household) = (seat.tool.clone(), seat.household.clone());
                all.push(Gathered { tool, household, source, releases, machines });
                let last = all.len() - 1;
                &mut all[last]
            };
            known.releases.insert(*at);
            if let Part::On(at) = &seat.part {
                known.machines.insert(*at);
            }
        }
        Ok(all)
    }

    /// The rule of the definition that a fact goes back to; `None` for what only holds seats together.
    fn source(&self, fact: &Fact<Offer<'_>>) -> Result<Option<Source>, PinsError> {
        let Fact::Rule { package: seat, version: Choice::Release(at), rule } = fact else { return Ok(None) };
        let card = self.wishes.offer.card(&seat.tool)?;
        let details = card.releases[*at].details();
        let pieces = seat.pieces.iter().filter_map(|piece| details.pieces.get(piece)).flat_map(|piece| &piece.needs);
        let own = details.needs.iter().filter(|_| seat.pieces.is_empty());
        for need in own.chain(pieces) {
            if self.wishes.offer.needed(seat, need).is_ok_and(|rules| rules.contains(rule)) {
                return Ok(Some(Source::Need(need.clone())));
            }
        }
        for exclusion in details.excludes_with(|piece| seat.pieces.iter().any(|wanted| wanted == piece)) {
            if let Rule::Excludes(other) = rule
                && self.wishes.offer.excluded(seat, exclusion).is_ok_and(|rules| rules.contains(rule))
            {
                return Ok(Some(Source::Exclusion(exclusion.way.clone(), other.package.tool.clone())));
            }
        }
        if let Rule::Excludes(other) = rule {
            return Ok(Some(Source::Bundle(other.package.tool.clone())));
        }
        Ok(None)
    }

    fn step(&self, gathered: &Gathered) -> Result<Step, PinsError> {
        let card = self.wishes.offer.card(&gathered.tool)?;
        let versions = gathered.releases.iter().map(|&at| card.releases[at].version.clone()).collect();
        let tool = gathered.tool.clone();
        Ok(match &gathered.source {
            Source::Exclusion(other, excluded) => {
                let from = Some(excluded.clone()).filter(|excluded| *excluded != other.name);
                Step::Excludes { tool, versions, other: other.clone(), from }
            }
            Source::Bundle(brought) => Step::Brings { tool, versions, brought: brought.clone() },
            Source::Need(need) => {
                let from = self.providers(need)?;
                Step::Needs { tool, kept_by: gathered.household.owner().cloned(), versions, need: need.clone(), from }
            }
        })
    }

    /// The tools that provide what a need names.
    fn providers(&self, need: &Need) -> Result<Vec<ToolName>, PinsError> {
        let offer = self.wishes.offer;
        let mut providers = Vec::new();
        for name in need.names().filter(|name| !offer.choosing.catalogs.has(name)) {
            providers.extend(offer.tools_for(name)?.iter().cloned());
        }
        Ok(if providers.len() > FEW { Vec::new() } else { providers })
    }

    /// The tools and ranges that are spoken of, with the machines they are wanted on.
    fn ranges(&self, wishes: &[ClashingWish], gathered: &[Gathered]) -> Result<Vec<Wanted>, PinsError> {
        let offer = self.wishes.offer;
        let everywhere = || (0..offer.machines.len()).collect::<BTreeSet<_>>();
        let called = |wish: &ClashingWish| Called { name: wish.tool.clone(), range: wish.range.clone() };
        let mut named: Vec<(Called, BTreeSet<usize>)> =
            wishes.iter().map(|wish| (called(wish), everywhere())).collect();
        for gathered in gathered {
            let Source::Need(need) = &gathered.source else { continue };
            let on = if gathered.machines.is_empty() { everywhere() } else { gathered.machines.clone() };
            named.extend(need.ways.iter().map(|way| (Called::from(way), on.clone())));
        }
        let mut ranges = Vec::new();
        for (called, on) in named {
            for tool in offer.tools_for(&called.name)?.iter() {
                let one = Wanted { tool: tool.clone(), called: called.clone(), on: on.clone() };
                if !ranges.contains(&one) {
                    ranges.push(one);
                }
            }
        }
        Ok(ranges)
    }

    /// Says so where a range holds nothing, or nothing that is on offer.
    fn lacking(&self, Wanted { tool, called, on }: &Wanted) -> Result<Vec<Step>, PinsError> {
        let offer = self.wishes.offer;
        let card = offer.card(tool)?;
        if offer.fitting_on_host(called, &card)? {
            return Ok(Vec::new());
        }
        let inside: Vec<&CardRelease> = card.releases.iter().filter(|release| called.admits(&card, release)).collect();
        if card.releases.is_empty() && card.on_host {
            let absent = Box::new(offer.absent(&card)?);
            return Ok(vec![Step::NotOnHost { tool: tool.clone(), range: called.range.clone(), absent }]);
        }
        if inside.is_empty() {
            let stable = || card.releases.iter().filter(|release| !release.preview);
            let counting = |r: &CardRelease| Some(card.counting(&called.name, &r.version, &r.series)?.1.clone());
            let newest = stable().find_map(counting);
            let provided = Some(&called.name).filter(|name| **name != *tool).cloned();
            return Ok(vec![Step::NotThere { tool: tool.clone(), provided, range: called.range.clone(), newest }]);
        }
        let mut groups: Vec<(Withheld, Vec<Version>)> = Vec::new();
        for release in inside {
            match self.withheld(&card, &called.range, release, on) {
                None => return Ok(Vec::new()),
                Some(why) => match groups.iter_mut().find(|(known, _)| *known == why) {
                    Some((_, versions)) => versions.push(release.version.clone()),
                    None => groups.push((why, vec![release.version.clone()])),
                },
            }
        }
        let step = |(why, versions)| Step::Withheld { tool: tool.clone(), versions, why };
        Ok(groups.into_iter().map(step).collect())
    }

    /// Why a release is not on offer; `None` when it is.
    fn withheld(&self, card: &Card, range: &Range, release: &CardRelease, on: &BTreeSet<usize>) -> Option<Withheld> {
        let offer = self.wishes.offer;
        if release.preview && !offer.offers_previews(&card.tool) {
            return Some(Withheld::Preview);
        }
        if !release.has_pieces(&range.pieces) {
            let lacks = range.pieces.iter().filter(|piece| !release.pieces().any(|name| name == *piece));
            return Some(Withheld::NoPiece(lacks.cloned().collect()));
        }
        if let Some(withheld) = Withheld::on(release, on.iter().map(|at| &offer.machines[*at])) {
            return Some(withheld);
        }
        let seat = std::sync::Arc::new(Seat::shared(&card.tool, Part::Lead));
        let offered = kladder_solve::Provider::versions(offer, &seat).unwrap_or_default();
        let at = card.releases.iter().position(|other| other.version == release.version);
        let is_offered = at.is_some_and(|at| offered.contains(&Choice::Release(at)));
        (!is_offered).then_some(Withheld::HostOnly)
    }

    fn ends_of_series(&self, wishes: &[ClashingWish]) -> Result<Vec<Step>, PinsError> {
        let mut steps = Vec::new();
        for wish in wishes {
            let Some(series) = &wish.range.series else { continue };
            for tool in self.wishes.offer.tools_for(&wish.tool)?.iter() {
                let card = self.wishes.offer.card(tool)?;
                if let Some(newest) = card.releases.iter().find(|release| release.series.contains(series)) {
                    let (tool, newest) = (tool.clone(), newest.version.clone());
                    steps.push(Step::SeriesEnds { tool, series: series.clone(), newest });
                }
            }
        }
        Ok(steps)
    }
}

impl Withheld {
    /// What keeps a release from machines; `None` where all of them can have it.
    pub(super) fn on<'m>(release: &CardRelease, machines: impl Iterator<Item = &'m Machine> + Clone) -> Option<Self> {
        let lacks: Vec<Kind> = machines.clone().filter(|machine| !release.is_for(machine)).map(Machine::kind).collect();
        if !lacks.is_empty() {
            return Some(Self::NoArtifact(lacks));
        }
        let closed = |machine: &Machine| {
            let demand = release.closed_on(machine)?.clone();
            Some(Self::Gate { machine: machine.kind(), demand })
        };
        machines.into_iter().find_map(closed)
    }
}

/// From the wishes on: what a wished tool needs, what that needs in turn, and then the next wish.
fn in_order(mut left: Vec<Gathered>, wishes: &[ClashingWish], offer: &Offer<'_>) -> Result<Vec<Gathered>, PinsError> {
    let mut next: Vec<ToolName> = Vec::new();
    for wish in wishes.iter().rev() {
        next.extend(offer.tools_for(&wish.tool)?.iter().rev().cloned());
    }
    let mut ordered = Vec::new();
    while let Some(tool) = next.pop() {
        let (of_tool, others): (Vec<Gathered>, Vec<Gathered>) = left.into_iter().partition(|g| g.tool == tool);
        left = others;
        for gathered in of_tool {
            if let Source::Need(need) = &gathered.source {
                for name in need.names() {
                    next.extend(offer.tools_for(name)?.iter().rev().cloned());
                }
            }
            ordered.push(gathered);
        }
    }
    ordered.extend(left);
    Ok(ordered)
}
