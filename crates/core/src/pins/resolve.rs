//! Wishes plus catalog, through the resolver, to pins.

use std::collections::{BTreeMap, BTreeSet};

use kladder_solve::{Clash, Failure, NeedOf, solve};

use super::host::HostTools;
use super::offer::{Asking, Choice, Offer, host_fits, in_range};
use super::{ClashReport, Pin, Pins, PinsError};
use crate::catalog::{Catalog, Release};
use crate::ladder::{HostPolicy, Ladder, Range, Wish};
use crate::near::near;
use crate::platform::Platform;
use crate::version::Version;

/// Decisions and conflicts before the resolver gives up.
const STEPS: u64 = 5_000_000;

/// Chooses a release for every rung that the ladder leads to. What `old` pins stays where the wishes allow it.
pub fn resolve(
    ladder: &Ladder,
    catalog: &Catalog,
    here: &Platform,
    host: &HostTools<'_>,
    old: Option<&Pins>,
) -> Result<Pins, PinsError> {
    let offer = Offer::new(ladder, catalog, here, host, old)?;
    let needs = ladder.wishes.iter().map(|wish| offer.wish(wish)).collect::<Result<Vec<_>, _>>()?;
    let chosen = solve(&offer, &needs, STEPS).map_err(|failure| match failure {
        Failure::Provider(error) => error,
        Failure::GaveUp { steps } => PinsError::GaveUp { steps, late: offer.late.get() },
        Failure::Impossible(clash) => offer.explain(ladder, &needs, &clash),
    })?;
    let pieces = pieces(&offer, ladder, &chosen)?;
    let none = BTreeSet::new();
    let rungs = chosen.into_iter().map(|(tool, choice)| {
        let pin = offer.pin(&tool, &choice, pieces.get(&tool).unwrap_or(&none))?;
        Ok((tool, pin))
    });
    let rungs: BTreeMap<String, Pin> = rungs.collect::<Result<_, PinsError>>()?;
    Ok(Pins { ladder: ladder.digest, catalog: catalog.digest_of(rungs.keys().map(String::as_str)), rungs })
}

/// The pieces of each chosen tool that wishes and needs ask for.
fn pieces(
    offer: &Offer<'_>,
    ladder: &Ladder,
    chosen: &[(String, Choice)],
) -> Result<BTreeMap<String, BTreeSet<String>>, PinsError> {
    let mut asked: Vec<Asking> = Vec::new();
    for wish in &ladder.wishes {
        asked.push((offer.tools_for(&wish.tool)?, wish.range.pieces.clone()));
    }
    for (tool, choice) in chosen {
        asked.extend(offer.wanted(tool, choice)?);
    }
    let mut pieces: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (tools, wanted) in asked {
        for (tool, _) in chosen.iter().filter(|(tool, _)| tools.contains(tool)) {
            pieces.entry(tool.clone()).or_default().extend(wanted.iter().cloned());
        }
    }
    Ok(pieces)
}

impl Offer<'_> {
    /// A wish as a need; a wish that nothing could ever meet gets a message of its own.
    fn wish(&self, wish: &Wish) -> Result<NeedOf<Self>, PinsError> {
        let tools = self.tools_for(&wish.tool)?;
        if tools.is_empty() {
            let near = self.near(&wish.tool);
            return Err(PinsError::UnknownTool { name: wish.tool.clone(), near, place: Box::new(wish.place.clone()) });
        }
        let mut releases = Vec::new();
        for tool in &tools {
            let definition = self.definition(tool)?;
            let own = self.host_choice(&definition);
            if own.is_some_and(|own| host_fits(&wish.range, &own.version)) {
                return self.need(&wish.tool, &wish.range);
            }
            releases.extend(definition.releases.iter().cloned());
        }
        if releases.is_empty() || wish.host == HostPolicy::Only {
            return Err(self.not_on_host(wish, &tools));
        }
        let fitting: Vec<&Release> = releases.iter().filter(|release| in_range(&wish.range, release)).collect();
        let Some(newest) = fitting.iter().max_by(|a, b| a.version.cmp(&b.version)) else {
            return Err(no_such_version(wish, &releases));
        };
        if !fitting.iter().any(|release| self.has_all_platforms(release)) {
            return Err(self.no_artifact(wish, newest));
        }
        self.need(&wish.tool, &wish.range)
    }

    fn no_artifact(&self, wish: &Wish, newest: &Release) -> PinsError {
        let lacking = self.platforms.iter().find(|platform| newest.artifact(platform).is_none());
        PinsError::NoArtifact {
            tool: wish.tool.clone(),
            version: newest.version.to_string(),
            platform: lacking.cloned().unwrap_or_else(Platform::any),
            there: newest.artifacts.keys().cloned().collect(),
            place: Box::new(wish.place.clone()),
        }
    }

    /// Only the host could have it, and does not.
    fn not_on_host(&self, wish: &Wish, tools: &[String]) -> PinsError {
        let found = tools.iter().filter_map(|tool| self.host_choice(&*self.definition(tool).ok()?));
        PinsError::NotOnHost {
            tool: wish.tool.clone(),
            wanted: if wish.range == Range::any() { String::new() } else { format!(" {}", wish.range) },
            found: found.map(|choice| choice.version.to_string()).next(),
            place: Box::new(wish.range_place.clone()),
        }
    }

    fn explain(&self, ladder: &Ladder, needs: &[NeedOf<Self>], clash: &Clash<Self>) -> PinsError {
        let solves = |at: usize| {
            let mut eased = needs.to_vec();
            eased[at].alternatives.iter_mut().for_each(|a| a.range = Range::any());
            let chosen = solve(self, &eased, STEPS).ok()?;
            let tools: Vec<_> = eased[at].alternatives.iter().map(|a| &a.package).collect();
            let taken = chosen.into_iter().find(|(tool, _)| tools.contains(&tool));
            taken.map(|(tool, choice)| (tool, choice.version))
        };
        PinsError::Clash(Box::new(ClashReport::new(ladder, clash, solves)))
    }
}

fn no_such_version(wish: &Wish, releases: &[Release]) -> PinsError {
    let mut there: Vec<Version> = releases.iter().map(|release| release.version.clone()).collect();
    there.sort_by(|a, b| b.cmp(a));
    let mut series: Vec<String> = releases.iter().flat_map(|release| release.series.clone()).collect();
    series.sort();
    series.dedup();
    if let Some(wanted) = wish.range.series.as_ref().filter(|wanted| !series.contains(wanted)) {
        return PinsError::NoSuchSeries {
            tool: wish.tool.clone(),
            series: wanted.clone(),
            near: near(wanted, series.iter().map(String::as_str)),
            there: series,
            place: Box::new(wish.range_place.clone()),
        };
    }
    let lacks = |piece: &&String| !releases.iter().any(|release| release.pieces.contains_key(*piece));
    if let Some(piece) = wish.range.pieces.iter().find(lacks) {
        let mut there: Vec<String> = releases.iter().flat_map(|release| release.pieces.keys().cloned()).collect();
        there.sort();
        there.dedup();
        return PinsError::NoSuchPiece {
            tool: wish.tool.clone(),
            piece: piece.clone(),
            near: near(piece, there.iter().map(String::as_str)),
            there,
            place: Box::new(wish.range_place.clone()),
        };
    }
    let named = wish.range.requirement.named().max().cloned();
    let nearest = nearest(&there, named.as_ref());
    PinsError::NoSuchVersion {
        tool: wish.tool.clone(),
        wanted: wish.range.to_string(),
        nearest,
        series,
        place: Box::new(wish.range_place.clone()),
    }
}

/// Up to four versions around `named`, newest first.
fn nearest(newest_first: &[Version], named: Option<&Version>) -> Vec<Version> {
    let at = named.map_or(0, |named| newest_first.iter().take_while(|version| *version > named).count());
    let from = at.saturating_sub(2).min(newest_first.len().saturating_sub(4));
    newest_first.iter().skip(from).take(4).cloned().collect()
}
