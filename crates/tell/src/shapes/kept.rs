//! What is kept from climb to climb: landings, the log, licences, and what may go.

use std::time::Duration;

use kladder_choose::digest::Digest;
use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_core::keep::landing::{Change as Changed, Landing as Recorded};
use kladder_core::keep::state::{Ended, Kind, Run, Step};
use kladder_core::keep::terms;
use schemars::JsonSchema;
use serde::Serialize;

use super::path;

/// Where a machine stands with its ladder.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Standing {
    /// `kladder.standing/1`
    pub format: &'static str,
    /// The ladder's file; null where there is none.
    pub ladder: Option<String>,
    /// What the ladder is called.
    pub title: Option<String>,
    /// `current`, `stale`, `host-moved` or `missing`.
    pub pins: Option<&'static str>,
    /// The landing that is current.
    pub landing: Option<u32>,
    /// Rungs of the ladder.
    pub rungs: usize,
    /// Rungs that are not in the current landing as pinned.
    pub to_climb: usize,
    /// Bytes that a climb would fetch.
    pub bytes_to_fetch: u64,
    /// The commands that make sense next, in order.
    pub next: Vec<Vec<String>>,
}

impl Standing {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.standing/1";
}

/// The landings of a ladder, newest first.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Landings {
    /// `kladder.landings/2`
    pub format: &'static str,
    /// The ladder's file.
    pub ladder: String,
    /// Each of them.
    pub landings: Vec<Landing>,
}

impl Landings {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.landings/2";
}

/// A landing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Landing {
    /// Its number.
    pub number: u32,
    /// When it was made (RFC 3339); null where its record cannot be used.
    pub made: Option<String>,
    /// Whether it is current.
    pub current: bool,
    /// The landing that was current when it was made.
    pub after: Option<u32>,
    /// How many rungs it has.
    pub rungs: usize,
    /// What it changed.
    pub changes: Vec<Change>,
    /// Gates that were closed and skipped.
    pub skipped_gates: Vec<String>,
    /// Why its record cannot be used.
    pub damaged: Option<String>,
}

impl Landing {
    /// The shape of a landing, held against the one it was climbed from.
    pub fn of(landing: &Recorded, before: Option<&Recorded>, current: bool) -> Self {
        let change = |Changed { tool, was, now }: Changed| Change { tool, was, now };
        Self {
            number: landing.number,
            made: Some(landing.made.to_string()),
            current,
            after: landing.after,
            rungs: landing.rungs.len(),
            changes: landing.changes_since(before).into_iter().map(change).collect(),
            skipped_gates: landing.skipped_gates.clone(),
            damaged: None,
        }
    }
}

/// A tool that is another one than before.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Change {
    /// Which tool.
    pub tool: ToolName,
    /// Null for one that came.
    pub was: Option<Version>,
    /// Null for one that left.
    pub now: Option<Version>,
}

/// A return to an earlier landing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Back {
    /// `kladder.back/1`
    pub format: &'static str,
    /// The landing that is current now.
    pub landing: u32,
    /// The one that was.
    pub before: Option<u32>,
    /// The ladder is another one than it was then.
    pub ladder_differs: bool,
    /// How long it took.
    pub seconds: f64,
}

impl Back {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.back/1";
}

/// Runs, newest first.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Log {
    /// `kladder.log/3`
    pub format: &'static str,
    /// The runs.
    pub runs: Vec<LogRun>,
}

impl Log {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.log/3";
}

/// A run.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LogRun {
    /// Its number.
    pub run: i64,
    /// What kind.
    pub kind: Kind,
    /// The ladder's file.
    pub ladder: String,
    /// The process.
    pub process: u32,
    /// When it began (RFC 3339).
    pub begun: String,
    /// How long it took; null while it is under way, or was killed.
    pub seconds: Option<f64>,
    /// How it ended; null while it is under way, or was killed.
    pub ended: Option<Ended>,
    /// Why it failed.
    pub why: String,
    /// What it did; empty in a list of runs.
    pub steps: Vec<LogStep>,
}

/// A step of a run.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LogStep {
    /// Seconds since the run began.
    pub at: f64,
    /// What it was.
    #[serde(flatten)]
    pub step: Step,
}

impl LogRun {
    /// The shape of a run.
    pub fn of(run: &Run, steps: Vec<(Duration, Step)>) -> Self {
        Self {
            run: run.id,
            kind: run.kind,
            ladder: path(&run.ladder),
            process: run.process,
            begun: run.begun.to_string(),
            seconds: run.took.map(|took| took.as_secs_f64()),
            ended: run.ended,
            why: run.why.clone(),
            steps: steps.into_iter().map(|(at, step)| LogStep { at: at.as_secs_f64(), step }).collect(),
        }
    }
}

/// What nothing uses any more.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Clear {
    /// `kladder.clear/1`
    pub format: &'static str,
    /// Whether it was removed.
    pub removed: bool,
    /// Bytes that are free then.
    pub bytes: u64,
    /// Each of them.
    pub items: Vec<ClearItem>,
    /// What stands among them and is not kladder's; it stays.
    pub foreign: Vec<String>,
}

impl Clear {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.clear/1";
}

/// Something that may go.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClearItem {
    /// `shelf`, `berth`, `landing`, `ladder`, `artifact`, `partial`, `index` or `home`.
    pub kind: &'static str,
    /// Where.
    pub path: String,
    /// Bytes.
    pub bytes: u64,
}

/// Licences that were accepted.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Terms {
    /// `kladder.terms/1`
    pub format: &'static str,
    /// Oldest first.
    pub accepted: Vec<Accepted>,
}

/// A licence that was accepted.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Accepted {
    /// Its name.
    pub licence: String,
    /// Of the text that was shown.
    pub sha256: Digest,
    /// The tools for which it was asked.
    pub tools: Vec<ToolName>,
    /// When (RFC 3339).
    pub at: String,
}

impl Terms {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.terms/1";

    /// The shape of what was accepted.
    pub fn of(terms: &terms::Terms) -> Self {
        let one = |accepted: &terms::Accepted| Accepted {
            licence: accepted.licence.clone(),
            sha256: accepted.text,
            tools: accepted.tools.clone(),
            at: accepted.at.to_string(),
        };
        Self { format: Self::FORMAT, accepted: terms.accepted.iter().map(one).collect() }
    }
}

/// A licence with its text.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LicenceText {
    /// `kladder.licence/1`
    pub format: &'static str,
    /// Its name.
    pub licence: String,
    /// What is to be accepted.
    pub text: String,
    /// Of the text.
    pub sha256: Digest,
    /// Whether this very text was accepted.
    pub accepted: bool,
}

impl LicenceText {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.licence/1";
}

/// An acceptance that was taken back.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Withdrawn {
    /// `kladder.withdrawn/1`
    pub format: &'static str,
    /// The licence.
    pub licence: String,
}

impl Withdrawn {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.withdrawn/1";
}
