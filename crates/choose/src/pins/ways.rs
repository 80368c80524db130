//! Ways out of a clash: small changes to the ladder, each of them tried.
//!
//! Candidates are made from the clashing wishes, in this order: another range in the form that the wish has, around the
//! nearest releases; the same without its pieces; a preview that is asked for; the host's own allowed again; a platform
//! left out; the wish left out. Each is put to the resolver with the rest of the ladder as it is, and only those after
//! which there is an answer are told, with what that answer would change.

use super::account::{Change, ChangedWish, ClashReport, Step, WayOut, Withheld};
use super::called::Called;
use super::{Choosing, Pins};
use crate::catalog::Card;
use crate::ladder::{HostPolicy, Ladder, Range, Wish};
use crate::names::ToolName;
use crate::version::{Requirement, Version};

/// Releases near a wish that are tried one by one before the one that the resolver likes best.
const TRIED: usize = 6;

/// More than these are not worth reading.
const SHOWN: usize = 3;

impl Change {
    fn rank(&self) -> u8 {
        match self {
            Self::Range { .. } => 0,
            Self::Add { .. } | Self::Host { .. } => 1,
            Self::Machine(_) => 2,
            Self::Leave { .. } => 3,
        }
    }

    fn wish(&self) -> Option<usize> {
        match self {
            Self::Range { wish, .. } | Self::Host { wish } | Self::Leave { wish } => Some(*wish),
            Self::Add { .. } | Self::Machine(_) => None,
        }
    }

    /// The ladder with this change.
    pub fn applied(&self, ladder: &Ladder) -> Ladder {
        let mut changed = ladder.clone();
        match self {
            Self::Range { wish, range } => changed.wishes[*wish].range = range.clone(),
            Self::Add { tool, range } => {
                let place = super::wishes::nowhere(&ladder.path);
                let (tool, range, host) = (tool.clone(), range.clone(), HostPolicy::Allow);
                changed.wishes.push(Wish {
                    tool,
                    range,
                    host,
                    optional: false,
                    prefer: Vec::new(),
                    place: place.clone(),
                    range_place: place,
                });
            }
            Self::Host { wish } => changed.wishes[*wish].host = HostPolicy::Allow,
            Self::Machine(kind) => changed.leave(kind),
            Self::Leave { wish } => drop(changed.wishes.remove(*wish)),
        }
        changed
    }
}

impl Choosing<'_> {
    /// The pins with a change to the ladder; `None` where there are none.
    pub(super) fn with(&self, change: &Change) -> Option<Pins> {
        let ladder = change.applied(self.ladder);
        Choosing { ladder: &ladder, ..*self }.trial()
    }

    /// Changes that solve a clash, the one that moves least first.
    pub(super) fn ways_out(&self, report: &ClashReport) -> Vec<WayOut> {
        let mut found: Vec<(usize, WayOut)> = Vec::new();
        let positions: Vec<usize> = report.wishes.iter().filter_map(|wish| wish.position).collect();
        for &at in &positions {
            found.extend(self.easings(at));
            let wish = &self.ladder.wishes[at];
            if matches!(wish.host, HostPolicy::Never | HostPolicy::Only) {
                found.extend(self.tried(Change::Host { wish: at }, 0));
            }
        }
        found.extend(report.steps.iter().filter_map(|step| self.asking_for_preview(step)));
        let machines = self.machines();
        if machines.len() > 1 {
            for machine in machines {
                found.extend(self.tried(Change::Machine(machine.kind()), 0));
            }
        }
        if found.is_empty() {
            found.extend(positions.iter().filter_map(|&wish| self.tried(Change::Leave { wish }, 0)));
        }
        found.sort_by_key(|(distance, way)| (way.change.rank(), way.moved, *distance));
        found.into_iter().map(|(_, way)| way).take(SHOWN).collect()
    }

    fn tried(&self, change: Change, distance: usize) -> Option<(usize, WayOut)> {
        let pins = self.with(&change)?;
        let takes = match &change {
            Change::Range { wish, .. } | Change::Host { wish } => self.taken(&pins, &self.ladder.wishes[*wish].tool),
            Change::Add { tool, .. } => self.taken(&pins, tool),
            Change::Machine(_) | Change::Leave { .. } => None,
        };
        let stays =
            |tool: &ToolName, version: &Version| pins.rungs.get(tool).is_some_and(|pin| pin.version == *version);
        let old = self.old.iter().flat_map(|old| &old.rungs);
        let moved = old.filter(|(tool, pin)| !stays(tool, &pin.version)).count();
        let wish = change.wish().map(|at| &self.ladder.wishes[at]);
        let wish = wish.map(|wish| ChangedWish { tool: wish.tool.clone(), line: wish.place.line, host: wish.host });
        Some((distance, WayOut { change, wish, takes, moved }))
    }

    /// What meets a wish for `name`.
    fn taken(&self, pins: &Pins, name: &ToolName) -> Option<(ToolName, Version)> {
        let meets = |tool: &ToolName| {
            tool == name || self.catalogs.card(tool).ok().flatten().is_some_and(|card| card.answers_to(name))
        };
        let found = pins.rungs.iter().find(|(tool, _)| meets(tool));
        found.map(|(tool, pin)| (tool.clone(), pin.version.clone()))
    }

    /// Another range for a wish, in the form it has now and as near to it as possible; also without its pieces.
    fn easings(&self, at: usize) -> Vec<(usize, WayOut)> {
        let wish = &self.ladder.wishes[at];
        let called = Called::from(wish);
        let pieces = wish.range.pieces.clone();
        let free = Range { pieces: pieces.clone(), ..Range::any() };
        let ease = |range: Range| Change::Range { wish: at, range };
        let mut found = Vec::new();
        if let Some((tool, version)) = self.with(&ease(free.clone())).and_then(|pins| self.taken(&pins, &wish.tool)) {
            let card = self.catalogs.card(&tool).ok().flatten();
            let near = card.iter().flat_map(|card| nearest(card, &called, &version));
            let narrow = near.flat_map(|(card, version, away)| {
                narrower(card, &wish.range, version).into_iter().map(move |range| (range, away))
            });
            found.extend(narrow.chain([(free, usize::MAX)]).find_map(|(range, away)| self.tried(ease(range), away)));
        }
        if found.is_empty() {
            found.extend(
                self.newest_preview(&wish.tool, pieces.clone()).and_then(|range| self.tried(ease(range), usize::MAX)),
            );
        }
        if !pieces.is_empty() {
            found.extend(self.tried(ease(Range { pieces: Vec::new(), ..wish.range.clone() }), 0));
        }
        found
    }

    /// A preview that would do is taken when it is asked for.
    fn asking_for_preview(&self, step: &Step) -> Option<(usize, WayOut)> {
        let Step::Withheld { tool, why: Withheld::Preview, .. } = step else { return None };
        let range = self.newest_preview(tool, Vec::new())?;
        let change = match self.ladder.wishes.iter().position(|wish| wish.tool == *tool) {
            Some(wish) => Change::Range { wish, range },
            None => Change::Add { tool: tool.clone(), range },
        };
        self.tried(change, usize::MAX)
    }

    fn newest_preview(&self, tool: &str, pieces: Vec<String>) -> Option<Range> {
        let card = self.catalogs.card(tool).ok().flatten()?;
        let preview = card.releases.iter().find(|release| release.preview)?;
        let series = preview.series.iter().find(|series| *series == "preview").cloned();
        let requirement = match series {
            Some(_) => Requirement::any(),
            None => format!("={}", preview.version).parse().ok()?,
        };
        Some(Range { requirement, series, pieces })
    }
}

/// Releases near a range, the nearest first, with how many lie between; `known`, which is known to do, among them.
fn nearest<'c>(card: &'c Card, called: &Called, known: &Version) -> Vec<(&'c Card, &'c Version, usize)> {
    let all = card.releases.iter().filter(|release| !release.preview && !called.admits(card, release));
    let mut near: Vec<_> =
        all.map(|release| (card, &release.version, distance(card, called, &release.version))).collect();
    near.sort_by_key(|&(_, _, away)| away);
    let mut tried: Vec<_> = near.iter().copied().take(TRIED).collect();
    tried.extend(near.iter().copied().skip(TRIED).filter(|(_, version, _)| *version == known));
    tried
}

/// Ranges around a version, in the form of another range, the closest first.
fn narrower(card: &Card, like: &Range, version: &Version) -> Vec<Range> {
    let pieces = like.pieces.clone();
    let mut ranges = Vec::new();
    if like.series.is_some() {
        let series = card.release(version).into_iter().flat_map(|release| &release.series);
        ranges.extend(series.map(|series| Range {
            series: Some(series.clone()),
            pieces: pieces.clone(),
            ..Range::any()
        }));
    }
    let length = like.requirement.named().next().map_or(2, Version::length);
    let texts = [version.prefix(length.min(version.length())).to_string(), format!("={version}")];
    let requirements = texts.iter().filter_map(|text| text.parse().ok());
    ranges.extend(requirements.map(|requirement| Range { requirement, series: None, pieces: pieces.clone() }));
    ranges
}

/// How many releases lie between a version and the nearest one in a range.
fn distance(card: &Card, called: &Called, version: &Version) -> usize {
    let at = card.releases.iter().position(|release| release.version == *version).unwrap_or(0);
    let inside = card.releases.iter().enumerate().filter(|(_, release)| called.admits(card, release));
    inside.map(|(other, _)| other.abs_diff(at)).min().unwrap_or(card.releases.len())
}
