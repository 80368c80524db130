//! What the catalog has.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use kladder_choose::catalog::{Definition, Exclusion, Machine, Need, Piece, Release, Remark};
use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_core::desk::catalogs::CheckedCatalog;
use kladder_core::desk::keeper::{Entered, EnteredFile, News, Support};
use schemars::JsonSchema;
use serde::Serialize;

use super::path;
use crate::problem::{Problem, Where};
use crate::text::plain;
use crate::words;

/// One tool of the catalog.
#[derive(Debug, Serialize, JsonSchema)]
pub struct About {
    /// `kladder.about/4`
    pub format: &'static str,
    /// Which one.
    pub tool: ToolName,
    /// The catalog it is from.
    pub catalog: Option<String>,
    /// What sort of tool it is.
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// Capabilities.
    pub provides: Vec<ToolName>,
    /// What can be typed.
    pub commands: Vec<String>,
    /// The licence that it is under, as an SPDX expression; null where nobody says.
    pub spdx: Option<String>,
    /// The licences that must be accepted.
    pub licences: Vec<String>,
    /// What it demands of the host, in words.
    pub gates: Vec<String>,
    /// Newest first.
    pub releases: Vec<AboutRelease>,
}

/// One release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AboutRelease {
    /// Its version.
    pub version: Version,
    /// The day it came out, as `2026-08-03`.
    pub date: Option<String>,
    /// The series it belongs to.
    pub series: Vec<String>,
    /// What it provides besides itself, and in which version.
    pub provides: BTreeMap<ToolName, Version>,
    /// What it needs, in words.
    pub needs: Vec<String>,
    /// What it demands of a machine, so that it is left aside for those that are known to lack it; in words.
    pub demands: Vec<String>,
    /// What it does not stand beside, in words.
    pub excludes: Vec<String>,
    /// What it has artifacts for: platforms, systems, or `any`.
    #[serde(rename = "for")]
    pub scopes: Vec<String>,
    /// Bytes of the artifact for this platform; null where it has none, or its definition does not say.
    pub size: Option<u64>,
    /// Its optional portions.
    pub pieces: Vec<AboutPiece>,
}

/// An optional portion of a release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AboutPiece {
    /// Its name.
    pub piece: String,
    /// What it is for.
    pub summary: String,
    /// What it needs besides, in words.
    pub needs: Vec<String>,
    /// Bytes for this platform; null where there is nothing for it, or its definition does not say.
    pub size: Option<u64>,
}

impl About {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.about/4";

    /// The shape of a definition, as it is on a machine.
    pub fn of(definition: &Definition, catalog: Option<&str>, machine: &Machine) -> Self {
        let release = |release: &Release| AboutRelease {
            version: release.version.clone(),
            date: release.date.map(|date| date.to_string()),
            series: release.series.clone(),
            provides: definition.provided_by(release).into_iter().map(|(n, v)| (n.clone(), v.clone())).collect(),
            needs: release.says.needs.iter().map(Need::to_string).collect(),
            demands: definition.gates_of(release).iter().map(|gate| words::demanded(&gate.demand)).collect(),
            excludes: release.says.excludes.iter().map(Exclusion::to_string).collect(),
            scopes: release.artifacts.iter().flat_map(|artifact| plain(&artifact.scopes)).collect(),
            size: release.artifact(machine).and_then(|artifact| artifact.size),
            pieces: release.pieces.iter().map(|(name, of)| piece(name, of, machine)).collect(),
        };
        Self {
            format: Self::FORMAT,
            tool: definition.tool.clone(),
            catalog: catalog.map(str::to_owned),
            kind: definition.kind.clone(),
            summary: definition.summary.clone(),
            provides: definition.provides(),
            commands: definition.says.commands.keys().map(ToString::to_string).collect(),
            spdx: definition.spdx.clone(),
            licences: definition.says.licences.clone(),
            gates: definition.says.gates.iter().map(|gate| words::demanded(&gate.demand)).collect(),
            releases: definition.releases.iter().map(release).collect(),
        }
    }
}

fn piece(name: &str, of: &Piece, machine: &Machine) -> AboutPiece {
    AboutPiece {
        piece: name.to_owned(),
        summary: of.summary.clone(),
        needs: of.says.needs.iter().map(Need::to_string).collect(),
        size: of.artifact(machine).and_then(|artifact| artifact.size),
    }
}

/// Tools that were searched for, best fit first.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Search {
    /// `kladder.search/1`
    pub format: &'static str,
    /// The tools.
    pub tools: Vec<Found>,
}

impl Search {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.search/1";
}

/// A tool that was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Found {
    /// Which one.
    pub tool: ToolName,
    /// What sort of tool it is.
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// Capabilities.
    pub provides: Vec<ToolName>,
    /// The newest version that is no preview; null where only the host can have it.
    pub newest: Option<Version>,
}

/// What a check of a catalog found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogCheck {
    /// `kladder.catalog-check/1`
    pub format: &'static str,
    /// What the catalog calls itself.
    pub catalog: String,
    /// How many definitions could be read.
    pub tools: usize,
    /// In the order of the files.
    pub remarks: Vec<CatalogRemark>,
}

/// Something to tell a keeper.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogRemark {
    /// `mistake` where something fails for whoever meets it, `doubt` where it may be meant.
    pub kind: &'static str,
    /// The file.
    pub file: String,
    /// The line, from 1; null where the file as a whole is meant.
    pub line: Option<usize>,
    /// The column in characters, from 1.
    pub column: Option<usize>,
    /// What it is, in words.
    pub text: String,
}

impl CatalogCheck {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalog-check/1";

    /// The shape of what was found.
    pub fn of(checked: &CheckedCatalog) -> Self {
        let broken = checked.broken.iter().map(|error| broken(&Problem::catalog(error)));
        let told = |remark: &Remark| CatalogRemark {
            kind: if remark.fault.is_wrong() { "mistake" } else { "doubt" },
            file: path(&remark.place.path),
            line: Some(remark.place.line),
            column: Some(remark.place.column),
            text: words::fault(&remark.fault),
        };
        let remarks = broken.chain(checked.remarks.iter().map(told)).collect();
        Self { format: Self::FORMAT, catalog: checked.name.clone(), tools: checked.tools, remarks }
    }
}

/// A file that cannot be read.
fn broken(problem: &Problem) -> CatalogRemark {
    let place = match &problem.place {
        Where::Places(places) => places.first().map(|place| (place.path.clone(), Some((place.line, place.column)))),
        Where::File(file) => Some((file.clone(), None)),
        Where::Nowhere => None,
    };
    let (file, at) = place.unwrap_or_default();
    let text = std::iter::once(&problem.what).chain(&problem.why).cloned().collect::<Vec<_>>().join(": ");
    CatalogRemark {
        kind: "mistake",
        file: path(&file),
        line: at.map(|(line, _)| line),
        column: at.map(|(_, column)| column),
        text,
    }
}

/// What makers have published that definitions lack.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogLook {
    /// `kladder.catalog-look/1`
    pub format: &'static str,
    /// By tool, in the order of the names.
    pub tools: Vec<CatalogNews>,
}

/// What one tool's index tells.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogNews {
    /// The tool.
    pub tool: String,
    /// The newest version that its definition has; null where it has none.
    pub newest: Option<String>,
    /// Newer ones, newest first.
    pub published: Vec<CatalogVersion>,
    /// Until when its maker looks after series, where a feed says so.
    pub series: Vec<CatalogSeries>,
    /// Why nothing was found out; null where something was.
    pub failed: Option<String>,
}

/// Until when a series is looked after.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogSeries {
    /// What its versions begin with.
    pub series: String,
    /// The last day, as `YYYY-MM-DD`.
    pub until: String,
    /// That day is over.
    pub is_over: bool,
}

/// A version that is published.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogVersion {
    /// The version.
    pub version: String,
    /// The day, as `YYYY-MM-DD`; null where the index does not say.
    pub date: Option<String>,
    /// It comes before the version that it prepares.
    pub preview: bool,
}

impl CatalogLook {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalog-look/1";

    /// The shape of what was found.
    pub fn of(tools: Vec<CatalogNews>) -> Self {
        Self { format: Self::FORMAT, tools }
    }
}

impl CatalogNews {
    /// What was found.
    pub fn found(tool: String, newest: Option<String>, news: &[News], supports: &[Support]) -> Self {
        let one = |one: &News| CatalogVersion {
            version: one.version.to_string(),
            date: one.date.clone(),
            preview: one.preview,
        };
        let series = |one: &Support| CatalogSeries {
            series: one.series.clone(),
            until: one.until.clone(),
            is_over: one.is_over,
        };
        let (published, series) = (news.iter().map(one).collect(), supports.iter().map(series).collect());
        Self { tool, newest, published, series, failed: None }
    }

    /// Why nothing was.
    pub fn failed(tool: String, newest: Option<String>, why: String) -> Self {
        Self { tool, newest, published: Vec::new(), series: Vec::new(), failed: Some(why) }
    }
}

/// A release that was entered into a definition.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogEnter {
    /// `kladder.catalog-enter/1`
    pub format: &'static str,
    /// The tool.
    pub tool: String,
    /// The version.
    pub version: String,
    /// The definition's file.
    pub file: String,
    /// The release was there before, and nothing was done.
    pub there_already: bool,
    /// Nothing was written.
    pub dry_run: bool,
    /// Its files; those that belong to another one behind it, without platforms.
    pub files: Vec<CatalogFile>,
    /// What the release before has a file for, and this one has not.
    pub missing: Vec<String>,
}

/// One file of it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogFile {
    /// For which platforms.
    pub platforms: Vec<String>,
    /// Its name.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// Its digest, in hexadecimal digits.
    pub sha256: String,
    /// The digest is the index's word; otherwise its bytes were hashed here.
    pub listed: bool,
}

impl CatalogEnter {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalog-enter/1";

    /// The shape of what came of it.
    pub fn of(tool: &ToolName, version: &Version, file: &Path, entered: &Entered, dry_run: bool) -> Self {
        let one = |file: &EnteredFile| CatalogFile {
            platforms: file.scopes.clone(),
            file: file.file.clone(),
            size: file.size,
            sha256: file.sha256.to_string(),
            listed: !file.hashed,
        };
        Self {
            format: Self::FORMAT,
            tool: tool.to_string(),
            version: version.to_string(),
            file: path(file),
            there_already: entered.text.is_none(),
            dry_run,
            files: entered.files.iter().map(one).collect(),
            missing: entered.missing.clone(),
        }
    }
}

/// Releases, each climbed and verified by itself.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogTry {
    /// `kladder.catalog-try/1`
    pub format: &'static str,
    /// In the order of tools, the newest release of each first.
    pub releases: Vec<CatalogTried>,
}

/// One release that was tried.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogTried {
    /// The tool.
    pub tool: String,
    /// The version.
    pub version: String,
    /// How long climbing and verifying took.
    pub seconds: f64,
    /// Bytes of archives, its needs' included; 0 where it failed.
    pub bytes: u64,
    /// Why it does not stand; null where it does.
    pub failed: Option<String>,
}

impl CatalogTry {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalog-try/1";

    /// The shape of what came of it.
    pub fn of(releases: Vec<CatalogTried>) -> Self {
        Self { format: Self::FORMAT, releases }
    }
}

impl CatalogTried {
    /// One release: its bytes, or why it failed.
    pub fn of(tool: &ToolName, version: &Version, took: Duration, told: Result<u64, String>) -> Self {
        let (bytes, failed) = match told {
            Ok(bytes) => (bytes, None),
            Err(why) => (0, Some(why)),
        };
        Self { tool: tool.to_string(), version: version.to_string(), seconds: took.as_secs_f64(), bytes, failed }
    }
}

/// The catalogs of the ladder, or of the settings.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Catalogs {
    /// `kladder.catalogs/1`
    pub format: &'static str,
    /// The most important first.
    pub catalogs: Vec<CatalogHere>,
}

/// One of them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogHere {
    /// Its name, which pins carry.
    pub name: String,
    /// What it is called among people.
    pub title: String,
    /// How many tools it has.
    pub tools: usize,
    /// `here`, `elsewhere`, or `program` for the one that comes with it.
    pub from: String,
    /// Its folder or address.
    pub place: String,
    /// When it was fetched (RFC 3339); null where it was not.
    pub fetched: Option<String>,
    /// Of all its definitions; null where it cannot be read.
    pub digest: Option<String>,
    /// Whether somebody vouches for it.
    pub signed: bool,
}

impl Catalogs {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalogs/1";
}

/// A first definition.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogDraft {
    /// `kladder.catalog-draft/1`
    pub format: &'static str,
    /// What it is called.
    pub tool: String,
    /// Its version; null where that was not found out.
    pub version: Option<String>,
    /// Where it was written; null where it was only shown.
    pub file: Option<String>,
    /// The definition.
    pub text: String,
}

impl CatalogDraft {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.catalog-draft/1";
}
