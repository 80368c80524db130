//! The catalog and the host as the resolver sees them.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use kladder_solve::{Alternative, Need as Asked, NeedOf, Provider, Rule, RuleOf};

use super::called::Called;
use super::seat::{Choice, Part, Reach, Seat};
use super::{Choosing, Found, PinsError};
use crate::catalog::{Card, CardRelease, Exclusion, Machine, Need, Way};
use crate::ladder::{HostPolicy, Wish};
use crate::names::{Household, ToolName};
use crate::version::Requirement;

/// Why the catalog gave no answer.
#[derive(Debug)]
pub(super) enum Stop {
    /// It cannot be used as it is.
    Error(PinsError),
    /// Something is needed on some machines only, so that they have to be served apart.
    NotTogether,
}

impl<E: Into<PinsError>> From<E> for Stop {
    fn from(error: E) -> Self {
        Self::Error(error.into())
    }
}

/// What can be chosen.
pub(super) struct Offer<'c> {
    pub(super) choosing: &'c Choosing<'c>,
    pub(super) machines: Vec<Machine>,
    /// Each machine has seats of its own.
    apart: bool,
    /// What wishes say about the host's own, by tool.
    policies: BTreeMap<ToolName, HostPolicy>,
    /// Tools that the ladder wishes for by their own names.
    pub(super) wished: HashSet<ToolName>,
    /// What wishes prefer, by what they are for.
    pub(super) preferred: BTreeMap<ToolName, Vec<ToolName>>,
    /// Tools whose previews are on offer.
    previews: Vec<ToolName>,
    /// The tools behind a name; remembered once all policies are known, since those decide about their order.
    tools: RefCell<BTreeMap<ToolName, Arc<[ToolName]>>>,
    has_all_policies: bool,
    /// A release was left aside since it is not there for all machines.
    pub(super) uneven: Cell<bool>,
    pub(super) late: Cell<bool>,
}

impl<'c> Offer<'c> {
    pub(super) fn new(choosing: &'c Choosing<'c>, apart: bool) -> Result<Self, PinsError> {
        let ladder = choosing.ladder;
        let mut offer = Self {
            choosing,
            machines: choosing.machines(),
            apart,
            policies: BTreeMap::new(),
            wished: HashSet::new(),
            preferred: BTreeMap::new(),
            previews: Vec::new(),
            tools: RefCell::default(),
            has_all_policies: false,
            uneven: Cell::new(false),
            late: Cell::new(false),
        };
        for wish in &ladder.wishes {
            if choosing.catalogs.has(&wish.tool) {
                offer.wished.insert(wish.tool.clone());
            }
            if !wish.prefer.is_empty() {
                offer.preferred.insert(wish.tool.clone(), wish.prefer.clone());
            }
        }
        for wish in &ladder.wishes {
            for tool in offer.tools_for(&wish.tool)?.iter() {
                offer.policies.insert(tool.clone(), wish.host);
                if wants_previews(wish) {
                    offer.previews.push(tool.clone());
                }
            }
        }
        offer.has_all_policies = true;
        let moved = choosing.moves.exact.iter().filter(|(_, version)| version.is_preview());
        offer.previews.extend(moved.map(|(tool, _)| tool.clone()));
        Ok(offer)
    }

    pub(super) fn card(&self, tool: &ToolName) -> Result<Arc<Card>, PinsError> {
        self.choosing.catalogs.card(tool)?.ok_or_else(|| PinsError::UnknownNeed { name: tool.clone() })
    }

    /// The tools behind a name, as far as they were asked for.
    pub(super) fn known_tools(&self, name: &ToolName) -> Option<Arc<[ToolName]>> {
        self.tools.borrow().get(name).map(Arc::clone)
    }

    pub(super) fn remember_tools(&self, name: &ToolName, tools: Vec<ToolName>) -> Arc<[ToolName]> {
        let tools: Arc<[ToolName]> = tools.into();
        if self.has_all_policies {
            self.tools.borrow_mut().insert(name.clone(), Arc::clone(&tools));
        }
        tools
    }

    pub(super) fn policy(&self, tool: &str) -> HostPolicy {
        self.policies.get(tool).copied().unwrap_or_default()
    }

    /// The host's own copies, where they may be taken; the first to be tried first.
    pub(super) fn on_host(&self, card: &Card) -> Result<Vec<Found>, PinsError> {
        if !card.on_host || self.policy(&card.tool) == HostPolicy::Never {
            return Ok(Vec::new());
        }
        let definition = self.choosing.catalogs.tool(&card.tool)?;
        Ok(definition.map(|definition| self.choosing.host.find(&definition)).unwrap_or_default())
    }

    /// The host's own copies that are in a range.
    pub(super) fn fitting_on_host(&self, called: &Called, card: &Card) -> Result<bool, PinsError> {
        Ok(self.on_host(card)?.iter().any(|found| called.admits_host(card, &found.version)))
    }

    /// The machines that a part stands for.
    pub(super) fn machines_of(&self, part: &Part) -> &[Machine] {
        match part {
            Part::On(at) => std::slice::from_ref(&self.machines[*at]),
            Part::Everywhere | Part::Lead => &self.machines,
        }
    }

    /// Whether each machine has seats of its own.
    pub(super) fn apart(&self) -> bool {
        self.apart
    }

    /// Whether previews of a tool are on offer.
    pub(super) fn offers_previews(&self, tool: &str) -> bool {
        self.previews.iter().any(|known| *known == *tool)
    }

    /// Whether a release can be had on all the machines of a part, with artifacts for its pieces too; for a lead one is enough.
    fn is_there(&self, release: &CardRelease, seat: &Seat) -> bool {
        let has = |machine: &Machine| {
            release.is_for(machine)
                && seat.pieces.iter().all(|piece| release.has_piece_for(piece, machine))
                && release.closed_on(machine).is_none()
        };
        let mut machines = self.machines_of(&seat.part).iter();
        match seat.part {
            Part::Lead => machines.any(has),
            Part::On(_) => machines.all(has),
            Part::Everywhere => {
                let there = machines.filter(|machine| has(machine)).count();
                if there > 0 && there < self.machines.len() {
                    self.uneven.set(true);
                }
                there == self.machines.len()
            }
        }
    }

    /// A wish in terms of seats. Several, where each machine is served apart.
    pub(super) fn wished(&self, wish: &Wish) -> Result<Vec<NeedOf<Self>>, Stop> {
        let way =
            Way { name: wish.tool.clone(), version: wish.range.requirement.clone(), pieces: wish.range.pieces.clone() };
        let range = Arc::new(Called::from(wish));
        let parts = if self.apart { (0..self.machines.len()).map(Part::On).collect() } else { vec![Part::Everywhere] };
        let mut all: Vec<NeedOf<Self>> = Vec::new();
        for part in parts {
            let mut alternatives = Vec::new();
            for tool in self.tools_for(&way.name)?.iter() {
                alternatives
                    .push((Seat::with(tool, Household::shared(), &way.pieces, part.clone()), Arc::clone(&range)));
            }
            for asked in self.asked(&alternatives) {
                if !all.contains(&asked) {
                    all.push(asked);
                }
            }
        }
        Ok(all)
    }

    /// One of these seats; where machines are served apart, what leads them is decided first.
    fn asked(&self, alternatives: &[(Seat, Arc<Called>)]) -> Vec<NeedOf<Self>> {
        let lead = |(seat, range): &(Seat, Arc<Called>)| {
            let range = Reach::WithinOrApart(Arc::clone(range));
            Alternative { package: Arc::new(seat.other(Part::Lead)), range }
        };
        let own = |(seat, range): &(Seat, Arc<Called>)| Alternative {
            package: Arc::new(seat.clone()),
            range: Reach::Within(Arc::clone(range)),
        };
        let mut all = Vec::new();
        if self.apart {
            all.push(Asked { alternatives: alternatives.iter().map(lead).collect() });
        }
        all.push(Asked { alternatives: alternatives.iter().map(own).collect() });
        all
    }

    /// What a seat needs, in terms of seats.
    pub(super) fn needed(&self, seat: &Seat, need: &Need) -> Result<Vec<RuleOf<Self>>, Stop> {
        let machines = self.machines_of(&seat.part);
        let holds = machines.iter().filter(|machine| need.holds_on(&machine.platform)).count();
        if holds == 0 {
            return Ok(Vec::new());
        }
        if holds < machines.len() {
            return Err(Stop::NotTogether);
        }
        let mut alternatives = Vec::new();
        for way in &need.ways {
            let tools = self.tools_for(&way.name)?;
            if tools.is_empty() {
                return Err(PinsError::UnknownNeed { name: way.name.clone() }.into());
            }
            let range = Arc::new(Called::from(way));
            for tool in tools.iter() {
                let household = seat.household_for(need, tool);
                alternatives.push((Seat::with(tool, household, &way.pieces, seat.part.clone()), Arc::clone(&range)));
            }
        }
        Ok(self.asked(&alternatives).into_iter().map(Rule::Needs).collect())
    }

    /// What a seat does not stand beside: never itself, so that a tool may exclude what else provides what it does.
    pub(super) fn excluded(&self, seat: &Seat, exclusion: &Exclusion) -> Result<Vec<RuleOf<Self>>, Stop> {
        let machines = self.machines_of(&seat.part);
        match machines.iter().filter(|machine| exclusion.holds_on(&machine.platform)).count() {
            0 => return Ok(Vec::new()),
            some if some < machines.len() => return Err(Stop::NotTogether),
            _ => {}
        }
        let way = &exclusion.way;
        let range = Arc::new(Called::from(way));
        let others = self.tools_for(&way.name)?;
        let others = others.iter().filter(|tool| **tool != seat.tool);
        let excluded = |tool: &ToolName| {
            let other = Seat::with(tool, seat.household.clone(), &[], seat.part.clone());
            Rule::Excludes(Alternative { package: Arc::new(other), range: Reach::Within(Arc::clone(&range)) })
        };
        Ok(others.map(excluded).collect())
    }

    fn rules_of_release(&self, seat: &Seat, at: usize) -> Result<Vec<RuleOf<Self>>, Stop> {
        let card = self.card(&seat.tool)?;
        let details = card.releases[at].details();
        let mut rules = Vec::new();
        if !seat.pieces.is_empty() {
            let bare = Alternative { package: Arc::new(seat.bare()), range: Reach::Exactly(Choice::Release(at)) };
            rules.push(Rule::Needs(Asked { alternatives: vec![bare] }));
            let needs = seat.pieces.iter().filter_map(|piece| details.pieces.get(piece)).flat_map(|piece| &piece.needs);
            for need in needs {
                rules.extend(self.needed(seat, need)?);
            }
            let pieces = seat.pieces.iter().filter_map(|piece| details.pieces.get(piece));
            for exclusion in pieces.flat_map(|piece| &piece.excludes) {
                rules.extend(self.excluded(seat, exclusion)?);
            }
            return Ok(rules);
        }
        if self.apart {
            let lead = Arc::new(seat.other(Part::Lead));
            let to = |choice| Alternative { package: Arc::clone(&lead), range: Reach::Exactly(choice) };
            rules.push(Rule::Needs(Asked { alternatives: vec![to(Choice::Release(at)), to(Choice::Apart)] }));
        }
        for need in &details.needs {
            rules.extend(self.needed(seat, need)?);
        }
        for exclusion in &details.excludes {
            rules.extend(self.excluded(seat, exclusion)?);
        }
        rules.extend(self.brought_along(seat, &card, at)?);
        Ok(rules)
    }

    /// A bundle stands in the place of the tools that it brings, so none of them stands beside it.
    fn brought_along(&self, seat: &Seat, card: &Card, at: usize) -> Result<Vec<RuleOf<Self>>, Stop> {
        let release = &card.releases[at];
        let brings = |name: &ToolName| {
            *name != card.tool
                && self.choosing.catalogs.has(name)
                && card.counting(name, &release.version, &release.series).is_some()
        };
        let names: BTreeSet<&ToolName> = card.provides.iter().map(|provided| &provided.name).collect();
        let mut rules = Vec::new();
        for name in names.into_iter().filter(|name| brings(name)) {
            let way = Way { name: name.clone(), version: Requirement::any(), pieces: Vec::new() };
            rules.extend(self.excluded(seat, &Exclusion { way, on: Vec::new() })?);
        }
        Ok(rules)
    }

    /// Whether a choice lies in a range. Nothing is known of the series of what the host has.
    pub(super) fn fits(&self, called: &Called, card: &Card, choice: &Choice) -> bool {
        match choice {
            Choice::Release(at) => called.admits(card, &card.releases[*at]),
            Choice::Apart => false,
            Choice::Host(at) => {
                let found = self.on_host(card).unwrap_or_default();
                found.get(*at).is_some_and(|found| called.admits_host(card, &found.version))
            }
        }
    }
}

impl Provider for Offer<'_> {
    type Package = Arc<Seat>;
    type Version = Choice;
    type Range = Reach;
    type Error = Stop;

    fn versions(&self, seat: &Arc<Seat>) -> Result<Vec<Choice>, Stop> {
        let card = self.card(&seat.tool)?;
        let policy = self.policy(&seat.tool);
        let previews = self.offers_previews(&seat.tool);
        let offered = |release: &CardRelease| {
            policy != HostPolicy::Only
                && (previews || !release.preview)
                && release.has_pieces(&seat.pieces)
                && self.is_there(release, seat)
        };
        let releases = card.releases.iter().enumerate().filter(|(_, release)| offered(release));
        let mut choices: Vec<Choice> = releases.map(|(at, _)| Choice::Release(at)).collect();
        if seat.pieces.is_empty() {
            let at = if policy == HostPolicy::Prefer { 0 } else { choices.len() };
            choices.splice(at..at, (0..self.on_host(&card)?.len()).map(Choice::Host));
        }
        if seat.part == Part::Lead {
            choices.push(Choice::Apart);
        }
        Ok(choices)
    }

    fn rules(&self, seat: &Arc<Seat>, choice: &Choice) -> Result<Vec<RuleOf<Self>>, Stop> {
        match (&seat.part, choice) {
            (Part::Lead, _) | (_, Choice::Apart) | (Part::Everywhere, Choice::Host(_)) => Ok(Vec::new()),
            (Part::On(_), Choice::Host(at)) => {
                let lead = Arc::new(seat.other(Part::Lead));
                let to = |choice| Alternative { package: Arc::clone(&lead), range: Reach::Exactly(choice) };
                Ok(vec![Rule::Needs(Asked { alternatives: vec![to(Choice::Host(*at)), to(Choice::Apart)] })])
            }
            (_, Choice::Release(at)) => self.rules_of_release(seat, *at),
        }
    }

    fn allows(&self, reach: &Reach, seat: &Arc<Seat>, choice: &Choice) -> bool {
        match reach {
            Reach::Exactly(wanted) => wanted == choice,
            Reach::WithinOrApart(_) if *choice == Choice::Apart => true,
            Reach::Within(range) | Reach::WithinOrApart(range) => {
                self.card(&seat.tool).is_ok_and(|card| self.fits(range, &card, choice))
            }
        }
    }

    fn go_on(&self) -> bool {
        self.late.set(self.choosing.limits.is_over());
        !self.late.get()
    }
}

/// Whether a wish asks for previews.
pub(super) fn wants_previews(wish: &Wish) -> bool {
    wish.range.series.as_deref() == Some("preview") || wish.range.requirement.names_preview()
}
