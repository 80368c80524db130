//! One tool's file in the catalog.

mod also;
mod chooses;
mod command;
mod first_start;
mod fit_out;
mod host;
mod origin;
mod published;
mod says;
mod service;

pub use also::{Also, Here, When};
pub use chooses::{Asking, Chooses, Extensions, SettingsRead};
pub use command::{Command, CommandName, HostPath, How, Variable, VariableName, Whose};
pub use first_start::WrongChoice;
pub use fit_out::FitOut;
pub use host::{HostProbe, Spot};
pub use origin::{Origin, Visit};
pub use published::{AbsoluteLinks, Layout, Published, Unpacking};
pub use says::{Anew, Lends, LinesFor, Says};
pub use service::{FREE, Port, Service};

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use toml::Spanned;

use self::also::{BlockForm, blocks};
use self::published::{PublishedForm, closest};
use self::says::table;
use super::{CatalogError, Machine, PinnedArtifact};
use crate::document::{DocumentError, Source};
use crate::names::{ToolName, is_plain};
use crate::path::InnerPath;
use crate::version::{Requirement, Scheme, Version};

/// A tool: what it is, what it offers, how it is checked, and its releases.
#[derive(Clone, Debug)]
pub struct Definition {
    /// As the file is called.
    pub tool: ToolName,
    /// What sort of tool it is: compiler, linker, runtime, …; "tool" where nobody says.
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// The licence that it is under, as an SPDX expression; nobody needs to accept it.
    pub spdx: Option<String>,
    /// How its versions are ordered.
    pub scheme: Scheme,
    /// How to find it on the host, where that may do.
    pub host: Option<HostProbe>,
    /// What it says of itself as a whole.
    pub says: Says,
    /// What holds for parts of it.
    pub also: Vec<Also>,
    /// What can be had of it, newest first.
    pub releases: Vec<Release>,
}

table! {
    /// A definition as it is written.
    DefinitionForm {
        tool: ToolName,
        #[serde(default = "a_tool")]
        kind: String,
        summary: String,
        #[serde(default, deserialize_with = "spdx")]
        spdx: Option<String>,
        #[serde(default)]
        scheme: Scheme,
        host: Option<HostProbe>,
        #[serde(default)]
        also: Vec<Spanned<BlockForm>>,
        #[serde(default)]
        releases: Vec<Spanned<ReleaseForm>>,
    }
}

/// An expression of the SPDX specification (annex "SPDX license expressions").
fn spdx<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Option<String>, D::Error> {
    let text = <String as serde::Deserialize>::deserialize(deserializer)?;
    match spdx::Expression::parse(&text) {
        Ok(_) => Ok(Some(text)),
        Err(error) => Err(serde::de::Error::custom(format!("`{text}` is no SPDX expression: {}", error.reason))),
    }
}

fn a_tool() -> String {
    "tool".to_owned()
}

/// One version of a tool.
#[derive(Clone, Debug)]
pub struct Release {
    /// As its makers write it.
    pub version: Version,
    /// The words that the tool says of itself, where they are not those of its version.
    pub said: Option<String>,
    /// The day it came out.
    pub date: Option<toml::value::Datetime>,
    /// The runs of releases it belongs to: long-term, stable, preview, …
    pub series: Vec<String>,
    /// Optional portions, by name.
    pub pieces: BTreeMap<String, Piece>,
    /// Its files, each for some platforms.
    pub artifacts: Vec<Published>,
    /// What it says besides; all that it needs and excludes included, whoever says so.
    pub says: Says,
}

table! {
    /// A release as it is written.
    ReleaseForm {
        version: Version,
        said: Option<String>,
        date: Option<toml::value::Datetime>,
        #[serde(default)]
        series: Vec<String>,
        #[serde(default)]
        pieces: BTreeMap<Spanned<String>, PieceForm>,
        #[serde(default)]
        artifacts: Vec<Spanned<PublishedForm>>,
    }
}

/// An optional portion of a release: files of its own, unpacked beside the others.
#[derive(Clone, Debug)]
pub struct Piece {
    /// One line on what it is for.
    pub summary: String,
    /// Its files, each for some platforms.
    pub artifacts: Vec<Published>,
    /// What it says besides.
    pub says: Says,
}

table! {
    /// A piece as it is written.
    PieceForm {
        summary: String,
        #[serde(default)]
        artifacts: Vec<Spanned<PublishedForm>>,
    }
}

impl Definition {
    /// Reads and checks a definition; `name` is what its file is called.
    ///
    /// # Errors
    /// [`CatalogError`] with the place of what is wrong.
    pub fn parse(source: &Source, name: &str) -> Result<Self, CatalogError> {
        let mut form: DefinitionForm = source.parse()?;
        let says = form.says();
        let DefinitionForm { tool, kind, summary, spdx, scheme, host, also, releases, .. } = form;
        let wrong = |message| CatalogError::Wrong { path: source.path.clone(), message };
        if tool != *name {
            return Err(wrong(format!("it defines the tool `{tool}`, so its name must be {tool}.toml")));
        }
        says.check().map_err(wrong)?;
        if says.provides.get(&tool).is_some() {
            let at = source.text.find("provides").unwrap_or_default();
            return Err(source.invalid(at..at + 8, format!("{tool} provides itself anyway: leave that out")).into());
        }
        let mut spans: Vec<(Version, Range<usize>)> = Vec::new();
        let mut read = Vec::new();
        for form in releases {
            let span = form.span();
            let release = Release::of(source, form)?;
            if spans.iter().any(|(version, _)| *version == release.version) {
                return Err(source.invalid(span, format!("the release {} stands there twice", release.version)).into());
            }
            spans.push((release.version.clone(), span));
            read.push(release);
        }
        let releases = read;
        let mut definition = Self { tool, kind, summary, spdx, scheme, host, says, also: Vec::new(), releases };
        definition.releases.sort_by(|a, b| scheme.compare(&b.version, &a.version));
        blocks(source, also, &mut definition)?;
        definition.hand_on();
        for release in &definition.releases {
            let span =
                || spans.iter().find(|(version, _)| *version == release.version).map_or(0..0, |(_, span)| span.clone());
            release.check().map_err(|message| source.invalid(span(), message))?;
        }
        definition.check_menu().and_then(|()| definition.check_corners()).map_err(wrong)?;
        Ok(definition)
    }

    /// What the tool says at a version, of which it may not be a release.
    pub fn said_at<'v>(&'v self, version: &'v Version) -> &'v str {
        let said = self.release(version).and_then(|release| release.said.as_deref());
        said.unwrap_or_else(|| self.scheme.said(version))
    }

    /// The release of a version.
    pub fn release(&self, version: &Version) -> Option<&Release> {
        self.releases.iter().find(|release| release.version == *version)
    }

    /// What it provides besides itself, in any of its releases; sorted.
    pub fn provides(&self) -> Vec<ToolName> {
        let all: BTreeSet<&ToolName> = self.all().into_iter().flat_map(|says| says.provides.names()).collect();
        all.into_iter().cloned().collect()
    }

    /// What a release of it provides besides itself, each with its version.
    pub fn provided_by<'d>(&'d self, release: &'d Release) -> BTreeMap<&'d ToolName, &'d Version> {
        let blocks = self.also.iter().filter(|block| block.when.is_of(self.scheme, &release.version, Some(release)));
        let parts = std::iter::once(&self.says).chain(blocks.map(|block| &block.says)).chain([&release.says]);
        let each = parts.flat_map(|says| says.provides.iter());
        each.map(|(name, version)| (name, version.unwrap_or(&release.version))).collect()
    }

    /// Whether it is called so, or provides it.
    pub fn answers_to(&self, name: &str) -> bool {
        let blocks = self.also.iter().map(|block| &block.says);
        let mut parts =
            std::iter::once(&self.says).chain(blocks).chain(self.releases.iter().map(|release| &release.says));
        self.tool == *name || parts.any(|says| says.provides.get(name).is_some())
    }

    /// Whether it meets who asks for `name` in these versions, where its own is `version`.
    pub fn meets(&self, name: &str, range: &Requirement, version: &Version) -> bool {
        if self.tool == *name {
            return range.allows_by(self.scheme, version);
        }
        let release = self.release(version);
        let holds = |block: &&Also| block.when.is_of(self.scheme, version, release);
        let blocks = self.also.iter().rev().filter(|block| !block.says.provides.is_empty()).filter(holds);
        let parts = release.map(|release| &release.says).into_iter().chain(blocks.map(|block| &block.says));
        match parts.chain([&self.says]).find_map(|says| says.provides.get(name)) {
            None => false,
            Some(None) => range.allows_by(self.scheme, version),
            Some(Some(provided)) => range.allows_by(Scheme::default(), provided),
        }
    }
}

impl Release {
    fn of(source: &Source, form: Spanned<ReleaseForm>) -> Result<Self, DocumentError> {
        let span = form.span();
        let mut form = form.into_inner();
        let says = form.says();
        says.check().map_err(|message| source.invalid(span.clone(), message))?;
        let ReleaseForm { version, said, date, series, pieces, artifacts, .. } = form;
        let piece = |(name, mut form): (Spanned<String>, PieceForm)| {
            let says = form.says();
            let told = |message: String| source.invalid(name.span(), message);
            if !is_plain(name.get_ref()) {
                return Err(told(format!("`{}` cannot be the name of a piece", name.get_ref())));
            }
            says.check().map_err(told)?;
            if !says.provides.is_empty() {
                return Err(told("what is provided can depend on `version` and `series` only".to_owned()));
            }
            let artifacts = published::all(source, form.artifacts)?;
            Ok((name.into_inner(), Piece { summary: form.summary, artifacts, says }))
        };
        let pieces = pieces.into_iter().map(piece).collect::<Result<_, _>>()?;
        Ok(Self { version, said, date, series, pieces, artifacts: published::all(source, artifacts)?, says })
    }

    /// Sees that every artifact has a name, once all that say it were asked.
    fn check(&self) -> Result<(), String> {
        let mut all = self.artifacts.iter().chain(self.pieces.values().flat_map(|piece| &piece.artifacts));
        if all.any(|artifact| artifact.file.is_empty()) {
            let version = &self.version;
            return Err(format!("an artifact of {version} has no `file`, and nothing says what files are called"));
        }
        Ok(())
    }

    /// The artifact that fits a machine most closely.
    pub fn artifact(&self, machine: &Machine) -> Option<&Published> {
        closest(&self.artifacts, machine)
    }

    /// What the definition says of a pinned file, of the release itself or of a piece.
    pub fn published(&self, piece: Option<&str>, pinned: &PinnedArtifact, machine: &Machine) -> Option<&Published> {
        let artifacts = match piece {
            None => &self.artifacts,
            Some(piece) => &self.pieces.get(piece)?.artifacts,
        };
        let is_it = |published: &&Published| published.sha256 == pinned.sha256;
        // One file may stand there for several platforms, and be unpacked otherwise on each.
        closest(artifacts, machine).filter(is_it).or_else(|| artifacts.iter().find(is_it))
    }

    /// Fills in what artifacts do not say themselves: from their piece, the release, the blocks and the tool, in this order.
    fn settle(&mut self, blocks: &[(&When, &Says)], whole: &Says) {
        let version = self.version.clone();
        let own = &self.says;
        let settle = |artifact: &mut Published, piece: Option<(&str, &Says)>| {
            let is_meant = |when: &When| {
                let of_piece = when.piece.as_deref().is_none_or(|name| piece.is_some_and(|(piece, _)| piece == name));
                let on = |scope: &crate::platform::Scope| when.on.iter().any(|on| scope.lies_in(on));
                of_piece && !when.is_late() && (when.on.is_empty() || artifact.scopes.iter().all(on))
            };
            let held: Vec<&Says> = blocks.iter().filter(|(when, _)| is_meant(when)).map(|(_, says)| *says).collect();
            for says in piece.into_iter().map(|(_, says)| says).chain([own]).chain(held).chain([whole]) {
                artifact.settle(says, &version);
            }
            artifact.locate(&version);
        };
        self.artifacts.iter_mut().for_each(|artifact| settle(artifact, None));
        for (name, piece) in &mut self.pieces {
            let says = piece.says.clone();
            piece.artifacts.iter_mut().for_each(|artifact| settle(artifact, Some((name, &says))));
        }
    }
}

impl Piece {
    /// The artifact that fits a machine most closely.
    pub fn artifact(&self, machine: &Machine) -> Option<&Published> {
        closest(&self.artifacts, machine)
    }
}

impl Definition {
    /// All that is said, by the tool as a whole and by its parts.
    pub fn all(&self) -> Vec<&Says> {
        let pieces = self.releases.iter().flat_map(|release| release.pieces.values().map(|piece| &piece.says));
        let parts = self.also.iter().map(|block| &block.says).chain(self.releases.iter().map(|release| &release.says));
        std::iter::once(&self.says).chain(parts).chain(pieces).collect()
    }

    /// Sees that what is written for a ladder has a corner to be written in.
    fn check_corners(&self) -> Result<(), String> {
        let all = self.all();
        let has = |path: &InnerPath| {
            let corners = all.iter().flat_map(|says| &says.corners);
            corners.into_iter().any(|corner| std::path::Path::new(path.as_str()).starts_with(corner.as_str()))
        };
        let any = all.iter().any(|says| !says.corners.is_empty());
        if let Some(fit_out) = all.iter().flat_map(|says| &says.fit_outs).find(|_| !any) {
            return Err(format!("the fit-out `{}` has no corner to write in: name one under `corners`", fit_out.name));
        }
        match all.iter().flat_map(|says| says.first_start.keys()).find(|path| !has(path)) {
            Some(path) => Err(format!("`{path}` for the first start lies in no corner: name one under `corners`")),
            None => Ok(()),
        }
    }

    /// Sees that every entry in a menu starts a command that there is.
    fn check_menu(&self) -> Result<(), String> {
        let all = self.all();
        let is_known = |command: &CommandName| all.iter().any(|says| says.commands.contains_key(command));
        match all.iter().flat_map(|says| &says.desktop).find(|entry| !is_known(&entry.command)) {
            Some(entry) => Err(format!(
                "the entry `{}` in the menu starts `{}`, which is none of its commands",
                entry.name, entry.command
            )),
            None => Ok(()),
        }
    }
}
