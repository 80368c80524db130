//! Wishes plus catalog, through the resolver, to pins.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use kladder_solve::{ChoiceOf, Failure, NeedOf, Question, solve};

use super::account::ClashReport;
use super::answer::Answer;
use super::clash::Explained;
use super::offer::{Offer, Stop};
use super::seat::{Choice, Part, Seat};
use super::wishes::Wishes;
use super::{Choosing, Moves, Pin, Pins, PinsError, VERSION_CONTROL};
use crate::catalog::{Brings, Card, Kind};
use crate::ladder::{Code, Range, Wish};
use crate::names::{Household, ToolName};
use crate::near::near;
use crate::version::{Requirement, Version};

/// What one attempt came to.
enum Outcome {
    Pins(Pins),
    /// Not with one version for all machines.
    NotTogether,
    /// Not at all; why, where that was asked for.
    Clash(Option<ClashReport>),
}

impl Choosing<'_> {
    /// Chooses a release for every rung that the ladder leads to. What is pinned stays where the wishes allow it and
    /// nobody lets it go; otherwise the newest is taken, for the wishes in their order and then for what they need.
    /// Every machine of the ladder gets the same version where there is one for all. Optional wishes that cannot be met are
    /// left out.
    ///
    /// # Errors
    /// [`PinsError`] where a wish is for nothing that the catalog has, a definition cannot be used, or there is no solution: then
    /// with the smallest set of wishes that clash, and changes that were tried.
    pub fn pins(&self) -> Result<Pins, PinsError> {
        let some_are_optional = self.ladder.wishes.iter().any(|wish| wish.optional);
        // With optional wishes a clash is no last word: what leads out of it is not looked for yet.
        match self.pins_for_all(!some_are_optional) {
            Err(error) if some_are_optional && error.is_about_what_there_is() => self.pins_for_some(),
            whole => whole,
        }
    }

    /// Pins that meet every wish, the optional ones too. Ways out of a clash cost many more answers, and are only looked for
    /// where somebody reads them.
    pub(super) fn pins_for_all(&self, with_ways_out: bool) -> Result<Pins, PinsError> {
        self.check_moves()?;
        match self.outcome(true)? {
            Outcome::Pins(pins) => {
                self.compare_bytes(&pins)?;
                self.check_brought(&pins)?;
                self.check_version_control(&pins)?;
                Ok(pins)
            }
            Outcome::Clash(Some(mut report)) => {
                if with_ways_out {
                    report.ways_out = self.ways_out(&report);
                }
                Err(PinsError::Clash(Box::new(report)))
            }
            Outcome::Clash(None) | Outcome::NotTogether => Err(PinsError::GaveUp { steps: 0, late: false }),
        }
    }

    /// Code from repositories is brought by a rung, else by the host.
    fn check_version_control(&self, pins: &Pins) -> Result<(), PinsError> {
        let is_wanted = self.ladder.code.as_ref().is_some_and(Code::wants_version_control);
        if !is_wanted || self.host.has_command(VERSION_CONTROL) {
            return Ok(());
        }
        let brings = Brings::Command(VERSION_CONTROL.to_owned());
        let has = |card: &Card| card.brings.contains(&brings);
        for tool in pins.rungs.keys() {
            if self.catalogs.card(tool)?.as_deref().is_some_and(has) {
                return Ok(());
            }
        }
        let mut by = Vec::new();
        for tool in self.catalogs.names() {
            if self.catalogs.card(tool)?.as_deref().is_some_and(has) {
                by.push(tool.clone());
            }
        }
        Err(PinsError::NoVersionControl { by })
    }

    /// The pins, without an account of why there are none.
    pub(super) fn trial(&self) -> Option<Pins> {
        match self.outcome(false) {
            Ok(Outcome::Pins(pins)) => Some(pins),
            _ => None,
        }
    }

    /// Why there are no pins; `None` where there are some.
    pub(super) fn clash(&self) -> Option<ClashReport> {
        match self.outcome(true) {
            Ok(Outcome::Clash(report)) => report,
            _ => None,
        }
    }

    /// What the wishes come to, settled: chosen once more from there, nothing would move.
    fn outcome(&self, explain: bool) -> Result<Outcome, PinsError> {
        match self.unsettled(explain)? {
            Outcome::Pins(pins) => Ok(Outcome::Pins(self.settled(pins))),
            other => Ok(other),
        }
    }

    /// A private tool may have been taken before the rung was that will do in its place; with all rungs chosen it is seen.
    fn settled(&self, mut pins: Pins) -> Pins {
        /// Each time round some private tool goes; more than a few were never seen.
        const MOST: usize = 8;
        let moves = Moves::default();
        for _ in 0..MOST {
            let keeps_some = pins.rungs.values().any(|pin| !pin.private.is_empty());
            let again = Choosing { old: Some(&pins), moves: &moves, ..*self };
            match keeps_some.then(|| again.unsettled(false)) {
                Some(Ok(Outcome::Pins(next))) if next.rungs != pins.rungs => pins = next,
                _ => break,
            }
        }
        pins
    }

    /// One version for all machines, else each machine by itself. Pins that stand apart stay so: served together, some
    /// of them would have to move.
    fn unsettled(&self, explain: bool) -> Result<Outcome, PinsError> {
        if self.old.is_some_and(|old| stands_apart(&old.rungs)) {
            return self.attempt(true, explain);
        }
        match self.attempt(false, explain)? {
            Outcome::NotTogether => self.attempt(true, explain),
            outcome => Ok(outcome),
        }
    }

    fn attempt(&self, apart: bool, explain: bool) -> Result<Outcome, PinsError> {
        let offer = Offer::new(self, apart)?;
        let wishes = match offer.wishes() {
            Ok(wishes) => wishes,
            Err(Stop::NotTogether) => return Ok(Outcome::NotTogether),
            Err(Stop::Error(error)) => return Err(error),
        };
        let held = offer.held()?;
        let question = Question { wishes: &wishes.needs, held: &held, budget: self.limits.steps };
        match solve(&offer, &question) {
            Ok(chosen) => Ok(Outcome::Pins(Answer::new(&offer, &chosen).pins()?)),
            Err(Failure::Provider(Stop::NotTogether)) => Ok(Outcome::NotTogether),
            Err(Failure::Provider(Stop::Error(error))) => Err(error),
            Err(Failure::GaveUp { steps }) => Err(PinsError::GaveUp { steps, late: offer.late.get() }),
            Err(Failure::Impossible(_)) if !apart && offer.uneven.get() => Ok(Outcome::NotTogether),
            Err(Failure::Impossible(clash)) => {
                let explained =
                    if explain { Some(Explained { wishes: &wishes, clash: &clash }.report()?) } else { None };
                Ok(Outcome::Clash(explained))
            }
        }
    }

    /// What should move must be there.
    fn check_moves(&self) -> Result<(), PinsError> {
        let known: Vec<&str> = self.old.iter().flat_map(|old| old.rungs.keys()).map(ToolName::as_str).collect();
        let moving = self.moves.tools.iter().chain(self.moves.exact.iter().map(|(tool, _)| tool));
        if let Some(tool) = moving.into_iter().find(|tool| !known.contains(&tool.as_str())) {
            return Err(PinsError::NothingToMove { tool: tool.clone(), near: near(tool, known) });
        }
        for (tool, version) in &self.moves.exact {
            let card = self.catalogs.card(tool)?;
            let there: Vec<Version> = card.iter().flat_map(|card| &card.releases).map(|r| r.version.clone()).collect();
            if !there.contains(version) {
                let nearest = super::wishes::nearest(&there, Some(version));
                return Err(PinsError::NoSuchMove { tool: tool.clone(), version: version.clone(), nearest });
            }
        }
        Ok(())
    }

    /// A release that stays must still be the same bytes.
    fn compare_bytes(&self, pins: &Pins) -> Result<(), PinsError> {
        self.old.map_or(Ok(()), |old| self.compare_rungs(&old.rungs, &pins.rungs))
    }

    fn compare_rungs(&self, old: &BTreeMap<ToolName, Pin>, new: &BTreeMap<ToolName, Pin>) -> Result<(), PinsError> {
        for (tool, now) in new {
            let Some(was) = old.get(tool) else { continue };
            self.compare_rungs(&was.private, &now.private)?;
            let stays = was.version == now.version && was.elsewhere == now.elsewhere && !self.moves.lets_go(tool);
            if let Some(platform) = other_bytes(was, now).filter(|_| stays) {
                let version = now.version.clone();
                return Err(PinsError::OtherBytes { tool: tool.clone(), version, platform });
            }
        }
        Ok(())
    }
}

/// Whether any pin is not the same everywhere.
fn stands_apart(rungs: &BTreeMap<ToolName, Pin>) -> bool {
    rungs.values().any(|pin| !pin.elsewhere.is_empty() || !pin.on.is_empty() || stands_apart(&pin.private))
}

/// A platform for which a file of the release or of a piece is not what it was.
fn other_bytes(was: &Pin, now: &Pin) -> Option<Kind> {
    let pieces = was.pieces.iter().filter_map(|(piece, files)| Some((files, now.pieces.get(piece)?)));
    let files = std::iter::once((&was.artifacts, &now.artifacts)).chain(pieces);
    let mut pairs = files.flat_map(|(was, now)| was.iter().filter_map(|(p, file)| Some((p, file, now.get(p)?))));
    pairs.find(|(_, was, now)| was.differs(now)).map(|(platform, ..)| platform.clone())
}

impl<'c> Offer<'c> {
    fn wishes(&self) -> Result<Wishes<'_, 'c>, Stop> {
        let mut wishes = Wishes { needs: Vec::new(), of: Vec::new(), offer: self };
        let ladder = self.choosing.ladder;
        for (at, wish) in ladder.wishes.iter().enumerate() {
            self.check(wish)?;
            wishes.add(at, self.wished(wish)?);
        }
        for (tool, version) in &self.choosing.moves.exact {
            let asked = self.exactly(tool, version)?;
            wishes.add(ladder.wishes.len(), asked);
        }
        Ok(wishes)
    }

    /// One version of a tool, wherever the tool is.
    fn exactly(&self, tool: &ToolName, version: &Version) -> Result<Vec<NeedOf<Self>>, Stop> {
        // A version's own text with a sign in front is always a requirement.
        let requirement: Requirement = format!("={version}").parse().unwrap_or_else(|_| Requirement::any());
        let place = super::wishes::nowhere(&self.choosing.ladder.path);
        let wish = Wish {
            tool: tool.clone(),
            range: Range { requirement, ..Range::any() },
            host: crate::ladder::HostPolicy::Allow,
            optional: false,
            prefer: Vec::new(),
            place: place.clone(),
            range_place: place,
        };
        self.wished(&wish)
    }

    /// The choices that old pins hold to: those of wished tools first, in the order of the wishes.
    fn held(&self) -> Result<Vec<ChoiceOf<Self>>, PinsError> {
        let Some(old) = self.choosing.old else { return Ok(Vec::new()) };
        let mut order: Vec<&ToolName> = Vec::new();
        for wish in &self.choosing.ladder.wishes {
            let tools = self.tools_for(&wish.tool)?;
            let mut pinned: Vec<&ToolName> =
                tools.iter().filter_map(|tool| Some(old.rungs.get_key_value(tool)?.0)).collect();
            pinned.sort();
            order.extend(pinned);
        }
        order.extend(old.rungs.keys());
        let mut held = Vec::new();
        let mut done = BTreeSet::new();
        for tool in order {
            if done.insert(tool) {
                self.hold(&mut held, &Household::shared(), tool, &old.rungs[tool])?;
            }
        }
        Ok(held)
    }

    fn hold(
        &self,
        held: &mut Vec<ChoiceOf<Self>>,
        household: &Household,
        tool: &ToolName,
        pin: &Pin,
    ) -> Result<(), PinsError> {
        self.hold_bare(held, household, tool, pin)?;
        let inside = household.of(tool);
        pin.private.iter().try_for_each(|(tool, pin)| self.hold(held, &inside, tool, pin))
    }

    fn hold_bare(
        &self,
        held: &mut Vec<ChoiceOf<Self>>,
        household: &Household,
        tool: &ToolName,
        pin: &Pin,
    ) -> Result<(), PinsError> {
        let Some(card) = self.choosing.catalogs.card(tool)?.filter(|_| !self.choosing.moves.lets_go(tool)) else {
            return Ok(());
        };
        let at = |version: &Version| card.releases.iter().position(|release| release.version == *version);
        let on_host = match &pin.host {
            Some(copy) => self.on_host(&card)?.iter().position(|f| f.copy == *copy && f.version == pin.version),
            None => None,
        };
        let choice = |version: &Version| match &pin.host {
            Some(_) => on_host.map(Choice::Host),
            None => at(version).map(Choice::Release),
        };
        let mut add = |part: Part, choice: Choice| -> Result<(), PinsError> {
            let seat = Arc::new(Seat { household: household.clone(), ..Seat::shared(tool, part) });
            let there = kladder_solve::Provider::versions(self, &seat);
            if there.is_ok_and(|there| there.contains(&choice)) {
                held.push((seat, choice));
            }
            Ok(())
        };
        if !self.apart() {
            return choice(&pin.version).map_or(Ok(()), |choice| add(Part::Everywhere, choice));
        }
        // Where it is not needed it may well stand for something that has joined the ladder's own.
        let lead = if pin.elsewhere.is_empty() { choice(&pin.version) } else { Some(Choice::Apart) };
        if let Some(lead) = lead.filter(|_| pin.on.is_empty()) {
            add(Part::Lead, lead)?;
        }
        for (at, machine) in self.machines.iter().enumerate() {
            if let Some(choice) = pin.version_on(machine).and_then(choice) {
                add(Part::On(at), choice)?;
            }
        }
        Ok(())
    }
}
