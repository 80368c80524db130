//! Why a rung has the version it has, and what has come out since.
//!
//! Every reason was seen: a release is said to clash only after the resolver was asked for it.

use std::sync::Arc;

use super::account::{ClashReport, Withheld};
use super::asker::Asker;
use super::called::{Called, admits};
use super::met::{Beside, Met};
use super::{Choosing, Moves, Pin, Pins, PinsError};
use crate::catalog::{Card, CardRelease, Need};
use crate::ladder::Wish;
use crate::names::ToolName;
use crate::version::Version;

/// Releases that were passed over are looked into up to here; the newest first.
const LOOKED_INTO: usize = 6;

/// Why a release was not taken.
#[derive(Clone, Debug)]
pub enum Reason {
    /// It is not on offer.
    Withheld(Withheld),
    /// A wish or a need leaves it out.
    LeftOut(Asker),
    /// Nothing speaks against it but that the rung was pinned before; these pins would move with it.
    Pinned(Vec<Shift>),
    /// Something that comes first in the ladder would get another version.
    ComesLater(Vec<Shift>),
    /// It cannot be had together with the rest.
    Clash(Box<ClashReport>),
    /// What the host has was taken.
    HostTaken,
    /// The resolver gave up over it.
    GaveUp,
}

/// A rung that would get another version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shift {
    /// The tool.
    pub tool: ToolName,
    /// Its version as it is pinned; `None` for a new rung.
    pub from: Option<Version>,
    /// The version it would get; `None` where it would not be needed any more.
    pub to: Option<Version>,
}

/// A release that was not taken.
#[derive(Clone, Debug)]
pub struct Passed {
    /// Its version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// Why not.
    pub reason: Reason,
}

/// Why a rung is there, at its version.
#[derive(Clone, Debug)]
pub struct Why {
    /// The tool.
    pub tool: ToolName,
    /// The pinned version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// The series it belongs to.
    pub series: Vec<String>,
    /// Who asks for it.
    pub askers: Vec<Asker>,
    /// Newer releases, newest first.
    pub passed: Vec<Passed>,
    /// How many more there are.
    pub more: usize,
    /// Older releases, newest first: the newest that fits was taken.
    pub older: Vec<Version>,
    /// The capabilities that it stands for.
    pub met: Vec<Met>,
    /// What the host has, where that was not taken.
    pub beside: Option<Beside>,
}

/// What is newer than a pin.
#[derive(Clone, Debug)]
pub struct News {
    /// The tool.
    pub tool: ToolName,
    /// The pinned version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// What the rung would move to if it were let go, with what moves along.
    pub within: Option<(Version, Option<String>, Vec<Shift>)>,
    /// The newest of the series that the pinned release belongs to.
    pub in_series: Option<(String, Passed)>,
    /// The newest that is no preview.
    pub at_all: Option<Passed>,
}

impl Choosing<'_> {
    /// Why `tool` is pinned as it is; `None` when it is not pinned.
    ///
    /// # Errors
    /// [`PinsError`] where the catalog cannot be read, or no longer fits the pins.
    pub fn why(&self, tool: &ToolName) -> Result<Option<Why>, PinsError> {
        if let Some((ladder, pins)) = self.reduced() {
            return Choosing { ladder: &ladder, old: Some(&pins), ..*self }.why(tool);
        }
        let Some((pins, pin)) = self.pinned(tool) else { return Ok(None) };
        let card = self.card_of(tool)?;
        let (release, askers) = (card.release(&pin.version), self.askers(pins, &card)?);
        let newer = newer(&card, pin);
        let more = newer.len().saturating_sub(LOOKED_INTO);
        let mut passed = Vec::new();
        for release in newer.into_iter().take(LOOKED_INTO) {
            passed.push(self.passed(pins, &card, pin, release)?);
        }
        Ok(Some(Why {
            tool: tool.clone(),
            version: pin.version.clone(),
            date: release.and_then(|release| release.date.clone()),
            series: release.map(|release| release.series.clone()).unwrap_or_default(),
            met: self.met(pins, &card, &askers)?,
            beside: self.beside(&card, pin, &askers)?,
            older: older(&card, pin),
            askers,
            passed,
            more,
        }))
    }

    /// What is newer than the pin of `tool`; `None` when it is not pinned.
    ///
    /// # Errors
    /// [`PinsError`] where the catalog cannot be read.
    pub fn news(&self, tool: &ToolName) -> Result<Option<News>, PinsError> {
        if let Some((ladder, pins)) = self.reduced() {
            return Choosing { ladder: &ladder, old: Some(&pins), ..*self }.news(tool);
        }
        let Some((pins, pin)) = self.pinned(tool) else { return Ok(None) };
        let card = self.card_of(tool)?;
        let own = card.release(&pin.version);
        let newer = newer(&card, pin);
        let within = if newer.is_empty() { None } else { self.within(pins, tool, pin) };
        let reached = within.as_ref().map_or(&pin.version, |(version, ..)| version);
        let beyond = |release: &&&CardRelease| card.scheme.compare(&release.version, reached).is_gt();
        let series = own.and_then(|own| own.series.first());
        let in_series = series.and_then(|series| {
            let newest = newer.iter().filter(beyond).find(|release| release.series.contains(series))?;
            Some((series.clone(), *newest))
        });
        let at_all = newer.iter().filter(beyond).find(|release| !release.preview).copied();
        let at_all =
            at_all.filter(|newest| in_series.as_ref().is_none_or(|(_, other)| other.version != newest.version));
        let look = |release: &CardRelease| self.passed(pins, &card, pin, release);
        Ok(Some(News {
            tool: tool.clone(),
            version: pin.version.clone(),
            date: own.and_then(|release| release.date.clone()),
            in_series: in_series.map(|(series, release)| Ok::<_, PinsError>((series, look(release)?))).transpose()?,
            at_all: at_all.map(look).transpose()?,
            within: within.map(|(version, shifts)| {
                let date = card.release(&version).and_then(|release| release.date.clone());
                (version, date, shifts)
            }),
        }))
    }

    /// What has to be let go so that each of `tools` gets the newest release that only pins hold back: such a release
    /// itself, so that whatever must move along does, and nothing else. A tool without one is let go alone.
    ///
    /// # Errors
    /// [`PinsError`] where the catalog cannot be read, or no longer fits the pins.
    pub fn taking(&self, tools: &[ToolName]) -> Result<Moves, PinsError> {
        if let Some((ladder, pins)) = self.reduced() {
            return Choosing { ladder: &ladder, old: Some(&pins), ..*self }.taking(tools);
        }
        let mut moves = Moves::default();
        for tool in tools {
            match self.held_back(tool)? {
                Some(version) => moves.exact.push((tool.clone(), version)),
                None => moves.tools.push(tool.clone()),
            }
        }
        // Releases that each could be had may still not go together.
        let together = Choosing { moves: &moves, ..*self }.trial().is_some();
        Ok(if together { moves } else { Moves { tools: tools.to_vec(), ..Moves::default() } })
    }

    /// The newest release that only pins hold back.
    fn held_back(&self, tool: &ToolName) -> Result<Option<Version>, PinsError> {
        let Some((pins, pin)) = self.pinned(tool) else { return Ok(None) };
        let card = self.card_of(tool)?;
        for release in newer(&card, pin).into_iter().take(LOOKED_INTO) {
            if matches!(self.reason(pins, &card, pin, release)?, Reason::Pinned(_)) {
                return Ok(Some(release.version.clone()));
            }
        }
        Ok(None)
    }

    fn pinned(&self, tool: &ToolName) -> Option<(&Pins, &Pin)> {
        let pins = self.old?;
        Some((pins, pins.rungs.get(tool)?))
    }

    pub(super) fn card_of(&self, tool: &ToolName) -> Result<Arc<Card>, PinsError> {
        self.catalogs.card(tool)?.ok_or_else(|| PinsError::UnknownNeed { name: tool.clone() })
    }

    /// What the rung would move to if it alone were let go.
    fn within(&self, pins: &Pins, tool: &ToolName, pin: &Pin) -> Option<(Version, Vec<Shift>)> {
        let moves = Moves { tools: vec![tool.clone()], ..Moves::default() };
        let moved = Choosing { moves: &moves, ..*self }.trial()?;
        let version = moved.rungs.get(tool).map(|pin| pin.version.clone()).filter(|version| *version != pin.version)?;
        Some((version, shifts(pins, &moved, tool)))
    }

    fn passed(&self, pins: &Pins, card: &Card, pin: &Pin, release: &CardRelease) -> Result<Passed, PinsError> {
        let reason = self.reason(pins, card, pin, release)?;
        Ok(Passed { version: release.version.clone(), date: release.date.clone(), reason })
    }

    fn reason(&self, pins: &Pins, card: &Card, pin: &Pin, release: &CardRelease) -> Result<Reason, PinsError> {
        let askers = self.askers(pins, card)?;
        if release.preview && !askers.iter().any(asks_for_preview) {
            return Ok(Reason::Withheld(Withheld::Preview));
        }
        if let Some(withheld) = Withheld::on(release, self.machines().iter()) {
            return Ok(Reason::Withheld(withheld));
        }
        let pieces: Vec<String> = pin.pieces.keys().cloned().collect();
        if !release.has_pieces(&pieces) {
            let lacks = pieces.into_iter().filter(|piece| !release.pieces().any(|name| name == piece));
            return Ok(Reason::Withheld(Withheld::NoPiece(lacks.collect())));
        }
        // The wishes speak first: what they leave out, no change of pins can bring.
        let leaves_out = |asker: &&Asker| match asker {
            Asker::Wish { name, range, .. } => !admits(name, range, card, release),
            Asker::Rung { .. } => false,
        };
        if let Some(asker) = askers.iter().find(leaves_out) {
            return Ok(Reason::LeftOut(asker.clone()));
        }
        if pin.host.is_some() {
            return Ok(Reason::HostTaken);
        }
        Ok(self.asked_for(pins, card, release, &askers))
    }

    /// Asks the resolver for a release that the wishes allow.
    fn asked_for(&self, pins: &Pins, card: &Card, release: &CardRelease, askers: &[Asker]) -> Reason {
        let moves = Moves { exact: vec![(card.tool.clone(), release.version.clone())], ..Moves::default() };
        let there = Choosing { moves: &moves, ..*self };
        let Some(moved) = there.trial() else {
            let need = askers.iter().find(|asker| needs_another(asker, card, release));
            return match (need, there.clash()) {
                (Some(need), Some(clash)) if clash.steps.is_empty() => Reason::LeftOut(need.clone()),
                (_, Some(clash)) => Reason::Clash(Box::new(clash)),
                (_, None) => Reason::GaveUp,
            };
        };
        let shifts = shifts(pins, &moved, &card.tool);
        let free = Choosing { moves: &Moves { all: true, ..Moves::default() }, ..*self }.trial();
        let freely = free.as_ref().and_then(|free| free.rungs.get(&card.tool)).map(|pin| &pin.version);
        let held = freely.is_some_and(|version| card.scheme.compare(version, &release.version).is_ge());
        if held { Reason::Pinned(shifts) } else { Reason::ComesLater(shifts) }
    }

    /// Who asks for a tool, as things are pinned.
    fn askers(&self, pins: &Pins, card: &Card) -> Result<Vec<Asker>, PinsError> {
        let is_meant = |name: &ToolName| card.answers_to(name);
        let wish = |wish: &Wish| Asker::Wish {
            name: wish.tool.clone(),
            range: wish.range.clone(),
            place: wish.range_place.clone(),
        };
        let mut askers: Vec<Asker> = self.ladder.wishes.iter().filter(|w| is_meant(&w.tool)).map(wish).collect();
        for (tool, pin) in pins.rungs.iter().filter(|(tool, pin)| **tool != card.tool && pin.host.is_none()) {
            let other = self.card_of(tool)?;
            let Some(release) = other.release(&pin.version) else { continue };
            let details = release.details();
            let needs = details.needs_with(|piece| pin.pieces.contains_key(piece));
            let needs = needs.filter(|need| need.names().any(is_meant));
            let asker =
                |need: &Need| Asker::Rung { tool: tool.clone(), version: pin.version.clone(), need: need.clone() };
            // A need of its own that is met privately does not ask for the shared one.
            askers.extend(needs.filter(|need| !(need.private && pin.private.contains_key(&card.tool))).map(asker));
        }
        Ok(askers)
    }
}

fn asks_for_preview(asker: &Asker) -> bool {
    match asker {
        Asker::Wish { range, .. } => range.series.as_deref() == Some("preview") || range.requirement.names_preview(),
        Asker::Rung { .. } => false,
    }
}

fn needs_another(asker: &Asker, card: &Card, release: &CardRelease) -> bool {
    match asker {
        Asker::Wish { .. } => false,
        Asker::Rung { need, .. } => !need.ways.iter().any(|way| Called::from(way).admits(card, release)),
    }
}

/// The releases that are newer than a pin, newest first.
fn newer<'c>(card: &'c Card, pin: &Pin) -> Vec<&'c CardRelease> {
    let is_newer = |release: &&CardRelease| card.scheme.compare(&release.version, &pin.version).is_gt();
    card.releases.iter().filter(is_newer).collect()
}

/// The releases that are older than a pin and no previews, newest first.
fn older(card: &Card, pin: &Pin) -> Vec<Version> {
    let is_older = |release: &&CardRelease| card.scheme.compare(&release.version, &pin.version).is_lt();
    let older = card.releases.iter().filter(is_older).filter(|release| !release.preview);
    older.map(|release| release.version.clone()).collect()
}

/// What differs between pins, one tool aside.
pub fn shifts(old: &Pins, new: &Pins, apart_from: &str) -> Vec<Shift> {
    let mut tools: Vec<&ToolName> =
        old.rungs.keys().chain(new.rungs.keys()).filter(|tool| **tool != *apart_from).collect();
    tools.sort();
    tools.dedup();
    let of = |pins: &Pins, tool: &ToolName| pins.rungs.get(tool).map(|pin| pin.version.clone());
    let shift = |tool: &ToolName| Shift { tool: tool.clone(), from: of(old, tool), to: of(new, tool) };
    tools.into_iter().map(shift).filter(|shift| shift.from != shift.to).collect()
}
