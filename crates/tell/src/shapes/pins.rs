//! Pins, why they are as they are, and what is newer.

use std::collections::BTreeMap;

use kladder_choose::names::ToolName;
use kladder_choose::pins::{News, Passed, Pin as OnePin, Pins, Why as Because};
use kladder_choose::version::Version;
use kladder_core::desk::LibraryMove;
use schemars::JsonSchema;
use serde::Serialize;

use super::sets::{LibraryMoved, moved};
use crate::words;

/// What was pinned.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Pin {
    /// `kladder.pin/3`
    pub format: &'static str,
    /// The pins' file.
    pub file: String,
    /// Whether it changed.
    pub changed: bool,
    /// Each rung, by tool.
    pub rungs: Vec<Pinned>,
    /// Rungs that are not needed any more.
    pub left: Vec<ToolName>,
    /// Optional wishes that could not be met.
    pub left_out: Vec<ToolName>,
    /// Libraries of its sets that moved.
    pub libraries: Vec<LibraryMoved>,
}

/// A pinned rung.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Pinned {
    /// Which tool.
    pub tool: ToolName,
    /// The version that is pinned.
    pub version: Version,
    /// The version on machines where it is another one.
    pub elsewhere: BTreeMap<String, Version>,
    /// The machines that it is needed on, by name or platform; all of the ladder's where it is empty.
    #[serde(rename = "for")]
    pub machines: Vec<String>,
    /// Tools that it keeps to itself, with their versions.
    pub keeps: BTreeMap<String, Version>,
    /// The version that was pinned before; null for a new rung.
    pub was: Option<Version>,
}

impl Pin {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.pin/3";

    /// The shape of pins, held against those before.
    pub fn of(pins: &Pins, old: Option<&Pins>, file: String, changed: bool, libraries: &[LibraryMove]) -> Self {
        let before = |tool: &ToolName| old.and_then(|old| old.rungs.get(tool)).map(|pin| pin.version.clone());
        let rung = |(tool, pin): (&ToolName, &OnePin)| Pinned {
            tool: tool.clone(),
            version: pin.version.clone(),
            elsewhere: pin.elsewhere.iter().map(|(on, version)| (on.to_string(), version.clone())).collect(),
            machines: pin.on.iter().map(ToString::to_string).collect(),
            keeps: pin.private.iter().map(|(tool, pin)| (tool.to_string(), pin.version.clone())).collect(),
            was: before(tool),
        };
        let gone = old.into_iter().flat_map(|old| old.rungs.keys()).filter(|tool| !pins.rungs.contains_key(*tool));
        let (left, left_out) = (gone.cloned().collect(), pins.left_out.clone());
        let (rungs, libraries) = (pins.rungs.iter().map(rung).collect(), moved(libraries));
        Self { format: Self::FORMAT, file, changed, rungs, left, left_out, libraries }
    }
}

/// Why a rung is there, at its version.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Why {
    /// `kladder.why/2`
    pub format: &'static str,
    /// Which tool.
    pub tool: ToolName,
    /// The pinned version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// The series it belongs to.
    pub series: Vec<String>,
    /// Who asks for it, in words.
    pub asked_by: Vec<String>,
    /// Releases that were passed over, newest first.
    pub passed_over: Vec<PassedOver>,
    /// Older releases, newest first; the newest that fits was taken.
    pub older: Vec<Version>,
    /// The capabilities that it stands for, and why it does, in words.
    pub stands_for: BTreeMap<String, String>,
    /// What the host has and why that was not taken, in words; null where there is nothing.
    pub host: Option<String>,
    /// Rungs that keep another version to themselves, and which.
    pub kept_by: BTreeMap<String, Version>,
    /// Who answers to its commands.
    pub answers: Vec<Answer>,
}

/// A release that was passed over.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PassedOver {
    /// Its version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// Why, in words.
    pub reason: String,
}

/// Who answers to a command.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Answer {
    /// As it is typed.
    pub command: String,
    /// The ladder's file; null before it is climbed.
    pub ours: Option<String>,
    /// The first on the caller's PATH.
    pub first: Option<String>,
    /// The tool whose command it is, where `[answers]` in the ladder says so; null otherwise.
    pub by_answers: Option<ToolName>,
}

impl Why {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.why/2";

    /// The shape of the reasons for a rung.
    pub fn of(why: &Because, kept_by: &[(ToolName, Version)], answers: Vec<Answer>) -> Self {
        Self {
            format: Self::FORMAT,
            tool: why.tool.clone(),
            version: why.version.clone(),
            date: why.date.clone(),
            series: why.series.clone(),
            asked_by: why.askers.iter().map(words::asked).collect(),
            passed_over: why.passed.iter().map(|passed| passed_over(&why.tool, passed)).collect(),
            older: why.older.clone(),
            stands_for: why.met.iter().map(|met| (met.capability.to_string(), words::met(met))).collect(),
            host: why.beside.as_ref().map(words::beside),
            kept_by: kept_by.iter().map(|(owner, version)| (owner.to_string(), version.clone())).collect(),
            answers,
        }
    }
}

fn passed_over(tool: &ToolName, passed: &Passed) -> PassedOver {
    PassedOver {
        version: passed.version.clone(),
        date: passed.date.clone(),
        reason: words::reason(tool, &passed.reason),
    }
}

/// What has come out since the pins.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Newer {
    /// `kladder.newer/2`
    pub format: &'static str,
    /// Each rung that was asked for.
    pub rungs: Vec<NewerRung>,
    /// Libraries of its sets that would move if they were let go.
    pub libraries: Vec<LibraryMoved>,
}

/// What is newer than a pin.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NewerRung {
    /// Which tool.
    pub tool: ToolName,
    /// The pinned version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// What the rung would move to if it were let go.
    pub within: Option<New>,
    /// The newest of the series that the pinned release belongs to.
    pub in_series: Option<New>,
    /// The newest that is no preview.
    pub at_all: Option<New>,
}

/// A newer release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct New {
    /// Its version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<String>,
    /// The series, where that is what counts.
    pub series: Option<String>,
    /// What keeps it away, in words; null where nothing does.
    pub kept_by: Option<String>,
}

impl Newer {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.newer/2";

    /// The shape of some news.
    pub fn of(news: &[News], libraries: &[LibraryMove]) -> Self {
        Self { format: Self::FORMAT, rungs: news.iter().map(newer).collect(), libraries: moved(libraries) }
    }
}

fn newer(news: &News) -> NewerRung {
    let kept = |passed: &Passed, series: Option<String>| New {
        version: passed.version.clone(),
        date: passed.date.clone(),
        series,
        kept_by: Some(words::reason(&news.tool, &passed.reason)),
    };
    NewerRung {
        tool: news.tool.clone(),
        version: news.version.clone(),
        date: news.date.clone(),
        within: news.within.as_ref().map(|(version, date, _)| New {
            version: version.clone(),
            date: date.clone(),
            series: None,
            kept_by: None,
        }),
        in_series: news.in_series.as_ref().map(|(series, passed)| kept(passed, Some(series.clone()))),
        at_all: news.at_all.as_ref().map(|passed| kept(passed, None)),
    }
}
