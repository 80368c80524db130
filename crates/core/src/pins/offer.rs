//! The catalog and the host as the resolver sees them.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::time::{Duration, Instant};

use kladder_solve::{Alternative, Need, NeedOf, Provider};

use super::host::HostTools;
use super::{Pin, PinnedArtifact, Pins, PinsError};
use crate::catalog::{Artifact, Catalog, Definition, Release};
use crate::ladder::{HostPolicy, Ladder, Range, Wish};
use crate::platform::Platform;
use crate::version::Version;

/// Time before the resolver gives up.
const TIME: Duration = Duration::from_mins(1);

/// One way to have a tool: a release, or the host's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Choice {
    pub(super) version: Version,
    pub(super) host: bool,
}

/// Tools of which one meets a need, and the pieces that are asked of it.
pub(super) type Asking = (Vec<String>, Vec<String>);

/// What can be chosen.
pub(super) struct Offer<'c> {
    catalog: &'c Catalog,
    pub(super) platforms: Vec<Platform>,
    host: &'c HostTools<'c>,
    /// What was pinned before, and stays where it can.
    kept: BTreeMap<String, Choice>,
    /// What wishes say about the host's own, by tool.
    policies: BTreeMap<String, HostPolicy>,
    /// Tools whose previews are on offer.
    previews: Vec<String>,
    started: Instant,
    pub(super) late: Cell<bool>,
}

impl<'c> Offer<'c> {
    pub(super) fn new(
        ladder: &Ladder,
        catalog: &'c Catalog,
        here: &Platform,
        host: &'c HostTools<'c>,
        old: Option<&Pins>,
    ) -> Result<Self, PinsError> {
        let kept = |(tool, pin): (&String, &Pin)| {
            (tool.clone(), Choice { version: pin.version.clone(), host: pin.host.is_some() })
        };
        let mut offer = Self {
            catalog,
            platforms: if ladder.platforms.is_empty() { vec![here.clone()] } else { ladder.platforms.clone() },
            host,
            kept: old.iter().flat_map(|old| &old.rungs).map(kept).collect(),
            policies: BTreeMap::new(),
            previews: ladder.wishes.iter().filter(|w| wants_previews(w)).map(|w| w.tool.clone()).collect(),
            started: Instant::now(),
            late: Cell::new(false),
        };
        for wish in &ladder.wishes {
            for tool in offer.tools_for(&wish.tool)? {
                offer.policies.insert(tool, wish.host);
            }
        }
        Ok(offer)
    }

    pub(super) fn definition(&self, tool: &str) -> Result<Rc<Definition>, PinsError> {
        self.catalog.tool(tool)?.ok_or_else(|| PinsError::UnknownNeed { name: tool.into() })
    }

    /// The tools that can meet a wish or need for `name`: the tool itself, else what provides it.
    pub(super) fn tools_for(&self, name: &str) -> Result<Vec<String>, PinsError> {
        if self.catalog.tool(name)?.is_some() {
            return Ok(vec![name.to_owned()]);
        }
        Ok(self.catalog.providers(name)?)
    }

    pub(super) fn near(&self, name: &str) -> Vec<String> {
        self.catalog.near(name)
    }

    fn policy(&self, tool: &str) -> HostPolicy {
        self.policies.get(tool).copied().unwrap_or_default()
    }

    /// The host's own, where it may be taken.
    pub(super) fn host_choice(&self, definition: &Definition) -> Option<Choice> {
        if self.policy(&definition.tool) == HostPolicy::Never {
            return None;
        }
        self.host.find(definition).map(|found| Choice { version: found.version, host: true })
    }

    pub(super) fn need(&self, name: &str, range: &Range) -> Result<NeedOf<Self>, PinsError> {
        let mut tools = self.tools_for(name)?;
        if tools.is_empty() {
            return Err(PinsError::UnknownNeed { name: name.into() });
        }
        // Among several providers: those whose host's own is preferred first, those that only the host can have last.
        let mut rank = BTreeMap::new();
        for tool in &tools {
            let definition = self.definition(tool)?;
            let there = self.host_choice(&definition).is_some();
            rank.insert(
                tool.clone(),
                match self.policy(tool) {
                    HostPolicy::Prefer | HostPolicy::Only if there => 0,
                    _ if definition.releases.is_empty() => 2,
                    _ => 1,
                },
            );
        }
        tools.sort_by_key(|tool| rank[tool]);
        let one = |package: String| Alternative { package, range: range.clone() };
        Ok(Need { alternatives: tools.into_iter().map(one).collect() })
    }

    pub(super) fn has_all_platforms(&self, release: &Release) -> bool {
        self.platforms.iter().all(|platform| release.artifact(platform).is_some())
    }

    /// What must be there besides a chosen release.
    pub(super) fn wanted(&self, tool: &str, choice: &Choice) -> Result<Vec<Asking>, PinsError> {
        let definition = self.definition(tool)?;
        let release = definition.releases.iter().find(|r| r.version == choice.version).filter(|_| !choice.host);
        let needs = release.into_iter().flat_map(|release| &release.needs);
        needs.map(|(name, wanted)| Ok((self.tools_for(name)?, wanted.pieces.clone()))).collect()
    }

    pub(super) fn pin(&self, tool: &str, choice: &Choice, pieces: &BTreeSet<String>) -> Result<Pin, PinsError> {
        let definition = self.definition(tool)?;
        let version = choice.version.clone();
        if choice.host {
            let host = self.host.find(&definition).map(|found| found.file);
            return Ok(Pin { version, host, artifacts: BTreeMap::new(), pieces: BTreeMap::new() });
        }
        let Some(release) = definition.releases.iter().find(|release| release.version == version) else {
            return Err(PinsError::UnknownNeed { name: format!("{tool} {version}") });
        };
        let of_piece = |name: &String| Some((name.clone(), self.pinned(&release.pieces.get(name)?.artifacts)));
        let pieces = pieces.iter().filter_map(of_piece).collect();
        Ok(Pin { version, host: None, artifacts: self.pinned(&release.artifacts), pieces })
    }

    /// The artifacts for the platforms of the ladder.
    fn pinned(&self, artifacts: &BTreeMap<Platform, Artifact>) -> BTreeMap<Platform, PinnedArtifact> {
        let any = Platform::any();
        let of = |platform: &Platform| {
            let key = if artifacts.contains_key(platform) { platform } else { &any };
            Some((key.clone(), artifacts.get(key)?.into()))
        };
        self.platforms.iter().filter_map(of).collect()
    }
}

impl Provider for Offer<'_> {
    type Package = String;
    type Version = Choice;
    type Range = Range;
    type Error = PinsError;

    fn versions(&self, tool: &String) -> Result<Vec<Choice>, PinsError> {
        let definition = self.definition(tool)?;
        let policy = self.policy(tool);
        let offered = |release: &&Release| {
            policy != HostPolicy::Only
                && self.has_all_platforms(release)
                && (!release.is_preview() || self.previews.contains(tool))
        };
        let mut releases: Vec<_> = definition.releases.iter().filter(offered).map(|r| r.version.clone()).collect();
        releases.sort_by(|a, b| b.cmp(a));
        let mut choices: Vec<_> = releases.into_iter().map(|version| Choice { version, host: false }).collect();
        if let Some(own) = self.host_choice(&definition) {
            let at = if policy == HostPolicy::Prefer { 0 } else { choices.len() };
            choices.insert(at, own);
        }
        if let Some(at) = choices.iter().position(|choice| Some(choice) == self.kept.get(tool)) {
            choices[..=at].rotate_right(1);
        }
        Ok(choices)
    }

    fn needs(&self, tool: &String, choice: &Choice) -> Result<Vec<NeedOf<Self>>, PinsError> {
        if choice.host {
            return Ok(Vec::new());
        }
        let definition = self.definition(tool)?;
        let release = definition.releases.iter().find(|release| release.version == choice.version);
        let needs = release.into_iter().flat_map(|release| &release.needs);
        needs.map(|(name, wanted)| self.need(name, &wanted.into())).collect()
    }

    fn allows(&self, range: &Range, tool: &String, choice: &Choice) -> bool {
        if choice.host {
            return host_fits(range, &choice.version);
        }
        self.definition(tool).is_ok_and(|definition| {
            let release = definition.releases.iter().find(|release| release.version == choice.version);
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
        && range.pieces.iter().all(|piece| release.pieces.contains_key(piece))
}

/// Whether what the host has lies in a range; nothing is known of its series and pieces.
pub(super) fn host_fits(range: &Range, version: &Version) -> bool {
    range.series.is_none() && range.pieces.is_empty() && range.requirement.allows(version)
}

fn wants_previews(wish: &Wish) -> bool {
    wish.range.series.as_deref() == Some("preview") || wish.range.requirement.names_preview()
}
