//! Wishes as the resolver has them; those that nothing could ever meet get a message of their own.

use std::path::Path;
use std::sync::Arc;

use kladder_solve::NeedOf;

use super::account::Withheld;
use super::called::{Called, admits};
use super::offer::Offer;
use super::{Absent, PinsError};
use crate::catalog::{Card, CardRelease, Machine};
use crate::document::Place;
use crate::ladder::{HostPolicy, Range, Wish};
use crate::names::ToolName;
use crate::near::near;
use crate::version::Version;

/// Wishes as the resolver has them.
pub(super) struct Wishes<'o, 'c> {
    pub(super) needs: Vec<NeedOf<Offer<'c>>>,
    /// For each of them the ladder's wish, by position; past the last for what is asked besides.
    pub(super) of: Vec<usize>,
    pub(super) offer: &'o Offer<'c>,
}

impl<'c> Wishes<'_, 'c> {
    pub(super) fn add(&mut self, wish: usize, needs: Vec<NeedOf<Offer<'c>>>) {
        self.of.extend(needs.iter().map(|_| wish));
        self.needs.extend(needs);
    }
}

impl Offer<'_> {
    /// Fails for a wish that nothing could ever meet.
    pub(super) fn check(&self, wish: &Wish) -> Result<(), PinsError> {
        let tools = self.tools_for(&wish.tool)?;
        if tools.is_empty() {
            let near = self.choosing.catalogs.near(&wish.tool);
            return Err(PinsError::UnknownTool { name: wish.tool.clone(), near, place: Box::new(wish.place.clone()) });
        }
        if let Some(tool) = wish.prefer.iter().find(|tool| !tools.contains(tool)) {
            let near = near(tool, tools.iter().map(ToolName::as_str));
            let (capability, tool, there) = (wish.tool.clone(), tool.clone(), tools.to_vec());
            return Err(PinsError::NotAProvider {
                capability,
                tool,
                there,
                near,
                place: Box::new(wish.range_place.clone()),
            });
        }
        let cards = tools.iter().map(|tool| self.card(tool)).collect::<Result<Vec<_>, _>>()?;
        let called = Called::from(wish);
        for card in &cards {
            if wish.range.pieces.is_empty() && self.fitting_on_host(&called, card)? {
                return Ok(());
            }
        }
        if cards.iter().all(|card| card.releases.is_empty()) || wish.host == HostPolicy::Only {
            return self.not_on_host(wish, &cards);
        }
        let fitting: Vec<&Arc<Card>> = cards.iter().filter(|card| has_fitting(wish, card)).collect();
        if fitting.is_empty() {
            return Err(no_such_version(wish, &cards));
        }
        let releases =
            || fitting.iter().flat_map(|card| card.releases.iter().filter(|release| fits(wish, card, release)));
        let lacks =
            |machine: &&Machine| releases().all(|release| Withheld::on(release, std::iter::once(*machine)).is_some());
        let Some(machine) = self.machines.iter().find(lacks) else { return Ok(()) };
        // A release that is there but for a gate says more than one that is not there at all.
        let all = || releases().filter_map(|release| Some((release, Withheld::on(release, std::iter::once(machine))?)));
        let by_gate = all().find(|(_, why)| matches!(why, Withheld::Gate { .. }));
        by_gate.or_else(|| all().next()).map_or(Ok(()), |(newest, why)| Err(kept_from(wish, newest, machine, why)))
    }

    /// What is known of a tool that the host has not as it is wanted.
    pub(super) fn absent(&self, card: &Card) -> Result<Absent, PinsError> {
        let found = self.on_host(card)?;
        let definition = self.choosing.catalogs.tool(&card.tool)?;
        let absent = definition.map(|definition| Absent::of(&definition, self.choosing.host, found));
        Ok(absent.unwrap_or_default())
    }

    /// Only the host could have it, and does not.
    fn not_on_host(&self, wish: &Wish, cards: &[Arc<Card>]) -> Result<(), PinsError> {
        let absent = cards.iter().try_fold(Absent::default(), |all, card| self.absent(card).map(|one| all.and(one)))?;
        Err(PinsError::NotOnHost {
            tool: wish.tool.clone(),
            wanted: if wish.range == Range::any() { String::new() } else { format!(" {}", wish.range) },
            absent: Box::new(absent),
            elsewhere: cards.iter().filter(|card| has_fitting(wish, card)).map(|card| card.tool.clone()).collect(),
            place: Box::new(wish.range_place.clone()),
        })
    }
}

fn has_fitting(wish: &Wish, card: &Card) -> bool {
    card.releases.iter().any(|release| fits(wish, card, release))
}

/// Previews that were not asked for are told of in a clash, not here.
fn fits(wish: &Wish, card: &Card, release: &CardRelease) -> bool {
    admits(&wish.tool, &wish.range, card, release) && release.has_pieces(&wish.range.pieces)
}

fn kept_from(wish: &Wish, newest: &CardRelease, machine: &Machine, why: Withheld) -> PinsError {
    let (tool, place) = (wish.tool.clone(), Box::new(wish.place.clone()));
    match why {
        Withheld::Gate { machine, demand } => {
            let (version, demand) = (newest.version.clone(), Box::new(demand));
            PinsError::GateClosed { tool, version, machine, demand, place }
        }
        _ => PinsError::NoArtifact {
            tool,
            version: newest.version.to_string(),
            platform: machine.kind(),
            there: newest.scopes(),
            place,
        },
    }
}

fn no_such_version(wish: &Wish, cards: &[Arc<Card>]) -> PinsError {
    let releases: Vec<&CardRelease> = cards.iter().flat_map(|card| &card.releases).collect();
    let sorted = |names: Vec<&str>| {
        let mut names: Vec<String> = names.into_iter().map(str::to_owned).collect();
        names.sort();
        names.dedup();
        names
    };
    let series = sorted(releases.iter().flat_map(|release| &release.series).map(String::as_str).collect());
    let place = Box::new(wish.range_place.clone());
    if let Some(wanted) = wish.range.series.as_ref().filter(|wanted| !series.contains(wanted)) {
        let near = near(wanted, series.iter().map(String::as_str));
        return PinsError::NoSuchSeries { tool: wish.tool.clone(), series: wanted.clone(), near, there: series, place };
    }
    let there = sorted(releases.iter().flat_map(|release| release.pieces()).collect());
    if let Some(piece) = wish.range.pieces.iter().find(|piece| !there.contains(piece)) {
        let near = near(piece, there.iter().map(String::as_str));
        return PinsError::NoSuchPiece { tool: wish.tool.clone(), piece: piece.clone(), near, there, place };
    }
    let counting = |card: &Arc<Card>| {
        let of = |release: &CardRelease| Some(card.counting(&wish.tool, &release.version, &release.series)?.1.clone());
        card.releases.iter().filter_map(of).collect::<Vec<_>>()
    };
    let mut versions: Vec<Version> = cards.iter().flat_map(counting).collect();
    if cards.len() > 1 {
        versions.sort_by(|one, other| other.cmp(one));
    }
    versions.dedup();
    let named = wish.range.requirement.named().max().cloned();
    let nearest = nearest(&versions, named.as_ref());
    PinsError::NoSuchVersion { tool: wish.tool.clone(), wanted: wish.range.to_string(), nearest, series, place }
}

/// Up to four versions around `named`, newest first.
pub(super) fn nearest(newest_first: &[Version], named: Option<&Version>) -> Vec<Version> {
    let at = named.map_or(0, |named| newest_first.iter().take_while(|version| *version > named).count());
    let from = at.saturating_sub(2).min(newest_first.len().saturating_sub(4));
    newest_first.iter().skip(from).take(4).cloned().collect()
}

/// The place of what stands in no line of the ladder.
pub(super) fn nowhere(ladder: &Path) -> Place {
    Place { path: ladder.to_path_buf(), line: 1, column: 1, length: 1, text: String::new() }
}
