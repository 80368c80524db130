//! Blocks of a definition that hold for a part of it.
//!
//! ```toml
//! [[also]]
//! version = ">=2"                          # these releases; `series = "long-term"` likewise
//! for = ["macos"]                          # these platforms
//! where = { c-library = "gnu >=2.31" }     # machines of which this is known
//! piece = "debugger"                       # where this piece is taken
//! with = { wrackle = ">=3" }               # where this rung stands in the same household
//! private = true                           # where another rung keeps it to itself; `false`: where none does
//! commands.skerroc = "Contents/bin/skerroc"
//! ```
//!
//! All that is said of when it holds must hold. A block counts for more than the tool's own keys, a release for more than a
//! block, and a piece for more than its release. Two blocks that can hold at once and say different things under one key are a
//! mistake.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::says::{Says, table};
use super::{Definition, Release};
use crate::catalog::{Conditions, Exclusion, Machine, Need};
use crate::document::{DocumentError, Source};
use crate::names::ToolName;
use crate::near::near;
use crate::platform::Scope;
use crate::version::{Requirement, Scheme, Version};

table! {
    /// A block as it is written.
    BlockForm {
        version: Option<Requirement>,
        series: Option<String>,
        #[serde(default, rename = "for")]
        on: Vec<Scope>,
        #[serde(default, rename = "where")]
        facts: Conditions,
        piece: Option<String>,
        #[serde(default)]
        with: BTreeMap<ToolName, Requirement>,
        private: Option<bool>,
    }
}

/// A block that holds for a part of a tool.
#[derive(Clone, Debug)]
pub struct Also {
    /// When it holds.
    pub when: When,
    /// What it says then.
    pub says: Says,
}

/// When a block holds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct When {
    /// For these versions; for all where it is `None`.
    pub version: Option<Requirement>,
    /// For releases of this series.
    pub series: Option<String>,
    /// On these platforms; on all when empty.
    pub on: Vec<Scope>,
    /// On machines of which this is known.
    pub facts: Conditions,
    /// Where this piece is taken.
    pub piece: Option<String>,
    /// Where these rungs stand in the same household.
    pub with: BTreeMap<ToolName, Requirement>,
    /// Where another rung keeps it to itself, or where none does.
    pub private: Option<bool>,
}

/// Where a tool stands, as far as its definition cares.
pub struct Here<'h> {
    /// Its version.
    pub version: &'h Version,
    /// The machine.
    pub machine: &'h Machine,
    /// Whether a piece is taken.
    pub pieces: &'h dyn Fn(&str) -> bool,
    /// Whether another rung keeps it to itself.
    pub is_private: bool,
    /// Whether a tool in these versions stands in the same household.
    pub beside: &'h dyn Fn(&ToolName, &Requirement) -> bool,
}

impl When {
    /// Whether it speaks of a release.
    pub fn is_of(&self, scheme: Scheme, version: &Version, release: Option<&Release>) -> bool {
        let in_series = |series: &String| release.is_some_and(|release| release.series.contains(series));
        self.version.as_ref().is_none_or(|range| range.allows_by(scheme, version))
            && self.series.as_ref().is_none_or(in_series)
    }

    /// Whether it is about some releases only.
    pub fn tells_releases_apart(&self) -> bool {
        self.version.is_some() || self.series.is_some()
    }

    /// Whether only what is known after choosing decides about it.
    pub(super) fn is_late(&self) -> bool {
        !self.with.is_empty() || self.private.is_some() || !self.facts.is_empty()
    }

    fn holds(&self, here: &Here<'_>, scheme: Scheme, release: Option<&Release>) -> bool {
        self.is_of(scheme, here.version, release)
            && here.machine.suits(&self.on, self.facts.demands())
            && self.piece.as_ref().is_none_or(|piece| (here.pieces)(piece))
            && self.private.is_none_or(|private| private == here.is_private)
            && self.with.iter().all(|(tool, range)| (here.beside)(tool, range))
    }

    /// The releases that it speaks of, a bit each.
    fn releases(&self, of: &Definition) -> Vec<u64> {
        let is_of = |release: &Release| self.is_of(of.scheme, &release.version, Some(release));
        let word = |releases: &[Release]| {
            releases.iter().enumerate().fold(0, |word, (at, release)| word | (u64::from(is_of(release)) << at))
        };
        of.releases.chunks(64).map(word).collect()
    }

    /// Whether two can hold at once, as far as can be seen, of which it is known whether they speak of one release.
    fn meets(&self, other: &Self, share_a_release: bool, of: &Definition) -> bool {
        let apart = self.tells_releases_apart() && other.tells_releases_apart() && self.version != other.version;
        let on_one = |one: &Scope| other.on.iter().any(|other| one.lies_in(other) || other.lies_in(one));
        (share_a_release || (of.releases.is_empty() && !apart))
            && (self.on.is_empty() || other.on.is_empty() || self.on.iter().any(on_one))
            && !self.facts.rule_out(&other.facts)
            && self.private.zip(other.private).is_none_or(|(one, other)| one == other)
    }
}

impl Definition {
    /// The tool as it is where it stands: with all that blocks, its release and its pieces say there. Of its releases there is
    /// that one left.
    #[must_use]
    pub fn at(self: &Arc<Self>, here: &Here<'_>) -> Arc<Self> {
        let release = self.release(here.version);
        let blocks = self.also.iter().filter(|block| block.when.holds(here, self.scheme, release));
        let pieces = release.iter().flat_map(|release| &release.pieces).filter(|(name, _)| (here.pieces)(name));
        let parts = blocks.map(|block| &block.says).chain(release.map(|release| &release.says));
        let parts: Vec<&Says> =
            parts.chain(pieces.map(|(_, piece)| &piece.says)).filter(|says| !says.is_quiet()).collect();
        if parts.is_empty() {
            return Arc::clone(self);
        }
        let mut says = self.says.clone();
        for part in parts {
            says.add(part);
        }
        Arc::new(Self {
            tool: self.tool.clone(),
            kind: self.kind.clone(),
            summary: self.summary.clone(),
            spdx: self.spdx.clone(),
            scheme: self.scheme,
            host: self.host.clone(),
            also: Vec::new(),
            releases: release.into_iter().cloned().collect(),
            says,
        })
    }

    /// Hands what blocks need and exclude, and how they unpack, on to the releases that they speak of.
    pub(super) fn hand_on(&mut self) {
        let scheme = self.scheme;
        for release in &mut self.releases {
            release.says.needs.extend(self.says.needs.iter().cloned());
            release.says.excludes.extend(self.says.excludes.iter().cloned());
            let blocks: Vec<&Also> =
                self.also.iter().filter(|block| block.when.is_of(scheme, &release.version, Some(release))).collect();
            for Also { when, says } in &blocks {
                let needs = says.needs.iter().filter_map(|need| need.only_on(&when.on));
                let excludes = says.excludes.iter().filter_map(|exclusion| exclusion.only_on(&when.on));
                match &when.piece {
                    None => {
                        release.says.needs.extend(needs);
                        release.says.excludes.extend(excludes);
                    }
                    Some(piece) => {
                        if let Some(piece) = release.pieces.get_mut(piece) {
                            piece.says.needs.extend(needs);
                            piece.says.excludes.extend(excludes);
                        }
                    }
                }
            }
            let whole: Vec<(&When, &Says)> = blocks.iter().rev().map(|block| (&block.when, &block.says)).collect();
            release.settle(&whole, &self.says);
        }
    }
}

/// Reads the blocks of a definition, and sees that they speak of what there is.
pub(super) fn blocks(
    source: &Source,
    forms: Vec<toml::Spanned<BlockForm>>,
    of: &mut Definition,
) -> Result<(), DocumentError> {
    let (mut spans, mut held): (Vec<std::ops::Range<usize>>, Vec<Vec<u64>>) = (Vec::new(), Vec::new());
    for form in forms {
        let span = form.span();
        let mut form = form.into_inner();
        let says = form.says();
        let BlockForm { version, series, on, facts, piece, with, private, .. } = form;
        let block = Also { when: When { version, series, on, facts, piece, with, private }, says };
        block.says.check().map_err(|message| source.invalid(span.clone(), message))?;
        block.check(of).map_err(|message| source.invalid(span.clone(), message))?;
        let releases = block.when.releases(of);
        let share = |at: usize| held[at].iter().zip(&releases).any(|(one, other)| one & other != 0);
        let meets =
            |(at, other): (usize, &Also)| other.when.meets(&block.when, share(at), of) && differs(other, &block);
        if let Some(at) = of.also.iter().enumerate().position(meets) {
            let key = of.also[at].says.contradicts(&block.says).unwrap_or_default();
            let line = source.place(spans[at].clone()).line;
            let message = format!("`{key}` is said differently by the block in line {line}, and both can hold at once");
            return Err(source.invalid(span, message));
        }
        of.also.push(block);
        spans.push(span);
        held.push(releases);
    }
    Ok(())
}

fn differs(one: &Also, other: &Also) -> bool {
    one.says.contradicts(&other.says).is_some()
}

impl Also {
    fn check(&self, of: &Definition) -> Result<(), String> {
        let When { series, piece, .. } = &self.when;
        if self.when == When::default() {
            return Err("a block says for what it holds: `version`, `series`, `for`, `where`, `piece`, `with` or \
                        `private`; what holds always stands at the top"
                .to_owned());
        }
        let unknown = |kind: &str, name: &str, there: Vec<&str>| {
            let near = near(name, there.iter().copied()).into_iter().next();
            let hint = near.map(|near| format!("; `{near}` is one")).unwrap_or_default();
            Err(format!("no release has the {kind} `{name}`{hint}"))
        };
        let all_series = || of.releases.iter().flat_map(|release| &release.series).map(String::as_str);
        if let Some(series) = series.as_ref().filter(|series| !all_series().any(|known| known == **series)) {
            return unknown("series", series, all_series().collect());
        }
        let pieces = || of.releases.iter().flat_map(|release| release.pieces.keys()).map(String::as_str);
        if let Some(piece) = piece.as_ref().filter(|piece| !pieces().any(|known| known == **piece)) {
            return unknown("piece", piece, pieces().collect());
        }
        if self.when.is_late() && !(self.says.needs.is_empty() && self.says.excludes.is_empty()) {
            return Err("what is needed or excluded is settled before anything stands: it can depend on `version`, \
                        `series`, `for` and `piece` only"
                .to_owned());
        }
        let When { version: _, series: _, on, facts, piece, with, private } = &self.when;
        let elsewhere = !on.is_empty() || piece.is_some() || !facts.is_empty() || !with.is_empty() || private.is_some();
        if !self.says.provides.is_empty() && elsewhere {
            return Err("what is provided can depend on `version` and `series` only".to_owned());
        }
        Ok(())
    }
}

impl Need {
    /// The same where only some platforms are meant; `None` where it holds on none of them.
    fn only_on(&self, scopes: &[Scope]) -> Option<Self> {
        narrowed(&self.on, scopes).map(|on| Self { on, ..self.clone() })
    }
}

impl Exclusion {
    fn only_on(&self, scopes: &[Scope]) -> Option<Self> {
        narrowed(&self.on, scopes).map(|on| Self { on, ..self.clone() })
    }
}

/// What lies in both of two lists of platforms, of which an empty one means all; `None` where that is nothing.
fn narrowed(own: &[Scope], scopes: &[Scope]) -> Option<Vec<Scope>> {
    let narrower = |one: &Scope| {
        let inside = scopes.iter().find(|scope| one.lies_in(scope)).map(|_| one.clone());
        inside
            .into_iter()
            .chain(scopes.iter().filter(|scope| scope.lies_in(one) && **scope != *one).cloned())
            .collect::<Vec<_>>()
    };
    let on: Vec<Scope> = match (own.is_empty(), scopes.is_empty()) {
        (_, true) => own.to_vec(),
        (true, false) => scopes.to_vec(),
        (false, false) => own.iter().flat_map(narrower).collect(),
    };
    (!on.is_empty() || scopes.is_empty()).then_some(on)
}
