//! Wishes plus catalog, through the resolver, to pins.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use kladder_solve::{Alternative, Clash, Failure, Need, NeedOf, Provider, solve};

use super::{ClashReport, Pin, Pins, PinsError};
use crate::catalog::{Catalog, Definition, Release};
use crate::ladder::{Ladder, Range, Wish};
use crate::near::near;
use crate::platform::Platform;
use crate::version::Version;

/// Decisions and conflicts before the resolver gives up.
const STEPS: u64 = 5_000_000;
/// Time before the resolver gives up.
const TIME: Duration = Duration::from_mins(1);

/// The catalog as the resolver sees it.
pub(super) struct Offer<'c> {
    catalog: &'c Catalog,
    platforms: &'c [Platform],
    /// What was pinned before, and stays where it can.
    kept: BTreeMap<String, Version>,
    started: Instant,
    /// For the wish that asks for one: previews of this tool are on offer.
    previews: Vec<String>,
    late: Cell<bool>,
}

impl Offer<'_> {
    pub(super) fn definition(&self, tool: &str) -> Result<std::rc::Rc<Definition>, PinsError> {
        self.catalog.tool(tool)?.ok_or_else(|| PinsError::UnknownNeed { name: tool.into() })
    }

    /// The tools that can meet a wish or need for `name`: the tool itself, else what provides it.
    pub(super) fn tools_for(&self, name: &str) -> Result<Vec<String>, PinsError> {
        if self.catalog.tool(name)?.is_some() {
            return Ok(vec![name.to_owned()]);
        }
        Ok(self.catalog.providers(name)?)
    }

    fn need(&self, name: &str, range: &Range) -> Result<NeedOf<Self>, PinsError> {
        let tools = self.tools_for(name)?;
        if tools.is_empty() {
            return Err(PinsError::UnknownNeed { name: name.into() });
        }
        let one = |package: String| Alternative { package, range: range.clone() };
        Ok(Need { alternatives: tools.into_iter().map(one).collect() })
    }

    fn has_all_platforms(&self, release: &Release) -> bool {
        self.platforms.iter().all(|platform| release.artifact(platform).is_some())
    }
}

impl Provider for Offer<'_> {
    type Package = String;
    type Version = Version;
    type Range = Range;
    type Error = PinsError;

    fn versions(&self, tool: &String) -> Result<Vec<Version>, PinsError> {
        let definition = self.definition(tool)?;
        let offered = |release: &&Release| {
            self.has_all_platforms(release) && (!release.is_preview() || self.previews.contains(tool))
        };
        let mut versions: Vec<_> = definition.releases.iter().filter(offered).map(|r| r.version.clone()).collect();
        versions.sort_by(|a, b| b.cmp(a));
        if let Some(at) = versions.iter().position(|version| Some(version) == self.kept.get(tool)) {
            versions[..=at].rotate_right(1);
        }
        Ok(versions)
    }

    fn needs(&self, tool: &String, version: &Version) -> Result<Vec<NeedOf<Self>>, PinsError> {
        let definition = self.definition(tool)?;
        let release = definition.releases.iter().find(|release| release.version == *version);
        let needs = release.into_iter().flat_map(|release| &release.needs);
        needs.map(|(name, requirement)| self.need(name, &requirement.clone().into())).collect()
    }

    fn allows(&self, range: &Range, tool: &String, version: &Version) -> bool {
        self.definition(tool).is_ok_and(|definition| {
            let release = definition.releases.iter().find(|release| release.version == *version);
            release.is_some_and(|release| in_range(range, release))
        })
    }

    fn go_on(&self) -> bool {
        self.late.set(self.started.elapsed() > TIME);
        !self.late.get()
    }
}

/// Whether a release lies in a range.
pub(super) fn in_range(range: &Range, release: &Release) -> bool {
    range.requirement.allows(&release.version)
        && range.series.as_ref().is_none_or(|series| release.series.contains(series))
}

fn wants_previews(wish: &Wish) -> bool {
    wish.range.series.as_deref() == Some("preview") || wish.range.requirement.names_preview()
}

/// Chooses a release for every rung that the ladder leads to. What `old` pins stays where the wishes allow it.
pub fn resolve(ladder: &Ladder, catalog: &Catalog, host: &Platform, old: Option<&Pins>) -> Result<Pins, PinsError> {
    let platforms = if ladder.platforms.is_empty() { vec![host.clone()] } else { ladder.platforms.clone() };
    let offer = Offer {
        catalog,
        platforms: &platforms,
        kept: old.iter().flat_map(|o| &o.rungs).map(|(t, p)| (t.clone(), p.version.clone())).collect(),
        started: Instant::now(),
        previews: ladder.wishes.iter().filter(|w| wants_previews(w)).map(|w| w.tool.clone()).collect(),
        late: Cell::new(false),
    };
    let needs = ladder.wishes.iter().map(|wish| offer.wish(wish)).collect::<Result<Vec<_>, _>>()?;
    let chosen = solve(&offer, &needs, STEPS).map_err(|failure| match failure {
        Failure::Provider(error) => error,
        Failure::GaveUp { steps } => PinsError::GaveUp { steps, late: offer.late.get() },
        Failure::Impossible(clash) => offer.explain(ladder, &needs, &clash),
    })?;
    let rungs = chosen.into_iter().map(|(tool, version)| {
        let pin = offer.pin(&tool, &version)?;
        Ok((tool, pin))
    });
    let rungs: BTreeMap<String, Pin> = rungs.collect::<Result<_, PinsError>>()?;
    Ok(Pins { ladder: ladder.digest, catalog: catalog.digest_of(rungs.keys().map(String::as_str)), rungs })
}

impl Offer<'_> {
    /// A wish as a need; a wish that nothing could ever meet gets a message of its own.
    fn wish(&self, wish: &Wish) -> Result<NeedOf<Self>, PinsError> {
        let tools = self.tools_for(&wish.tool)?;
        if tools.is_empty() {
            let near = self.catalog.near(&wish.tool);
            return Err(PinsError::UnknownTool { name: wish.tool.clone(), near, place: Box::new(wish.place.clone()) });
        }
        let mut releases = Vec::new();
        for tool in &tools {
            let definition = self.definition(tool)?;
            releases.extend(definition.releases.iter().cloned());
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

    fn pin(&self, tool: &str, version: &Version) -> Result<Pin, PinsError> {
        let definition = self.definition(tool)?;
        let release = definition.releases.iter().find(|release| release.version == *version);
        let of = |platform: &Platform| {
            let artifact = release?.artifact(platform)?;
            let own = release?.artifacts.contains_key(platform);
            Some((if own { platform.clone() } else { Platform::any() }, artifact.into()))
        };
        Ok(Pin { version: version.clone(), artifacts: self.platforms.iter().filter_map(of).collect() })
    }

    fn explain(&self, ladder: &Ladder, needs: &[NeedOf<Self>], clash: &Clash<Self>) -> PinsError {
        let solves = |at: usize| {
            let mut eased = needs.to_vec();
            eased[at].alternatives.iter_mut().for_each(|a| a.range = Range::any());
            let chosen = solve(self, &eased, STEPS).ok()?;
            let tools: Vec<_> = eased[at].alternatives.iter().map(|a| &a.package).collect();
            chosen.into_iter().find(|(tool, _)| tools.contains(&tool))
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
