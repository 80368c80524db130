//! Routes and climbs.

use std::path::Path;
use std::time::Duration;

use kladder_choose::digest::Digest;
use kladder_choose::ladder::Ladder;
use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::platform::Platform;
use kladder_choose::version::Version;
use kladder_core::climb::gates::Standing;
use kladder_core::climb::settings::SettingPlaced;
use kladder_core::climb::{Awaited, CodeStanding, CodeState, Prospect};
use kladder_core::keep::landing::Landing;
use kladder_core::keep::state::TaskName;
use kladder_core::keep::terms::Asked;
use kladder_core::tasks::{Because, Rung, Would};
use kladder_core::wire::placed::State;
use schemars::JsonSchema;
use serde::Serialize;

use super::path;
use crate::words;

/// What a climb would do.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Route {
    /// `kladder.route/2`
    pub format: &'static str,
    /// The ladder's file.
    pub ladder: String,
    /// The platform that the route is for.
    pub platform: Platform,
    /// Bytes to fetch.
    pub bytes_to_fetch: u64,
    /// Bytes that the shelf will take.
    pub bytes_of_disk: u64,
    /// By the rates of earlier climbs; null before the first.
    pub seconds: Option<f64>,
    /// Set-ups and fit-outs that nobody has timed, which `seconds` does not count.
    pub untimed: usize,
    /// How every gate stands.
    pub gates: Vec<Gate>,
    /// Those that are still to be accepted.
    pub licences: Vec<Licence>,
    /// What a person must fetch.
    pub by_person: Vec<RouteVisit>,
    /// Bottom first.
    pub rungs: Vec<RouteRung>,
    /// Rungs of the current landing that the new one leaves out.
    pub leaving: Vec<Leaving>,
    /// The code that the ladder wants.
    pub code: Vec<Code>,
}

/// How a gate stands.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Gate {
    /// Its name, for `--skip-gate`.
    pub gate: String,
    /// The tool that needs it; null for the route as a whole.
    pub tool: Option<ToolName>,
    /// Whether it is open.
    pub open: bool,
    /// What is needed, in words.
    pub needed: String,
    /// What was found, in words.
    pub found: String,
    /// What a person can do about it.
    pub advice: Option<String>,
    /// The commands with which an administrator opens it.
    pub admin: Vec<String>,
    /// Who can open it: `administrator`, `person`; null where nobody is known to.
    pub who: Option<String>,
    /// What a person does to open it.
    pub person: Option<String>,
    /// How long that takes, in minutes.
    pub minutes: Option<u32>,
    /// What must be started anew before it counts: `restart`, `session`.
    pub after: Option<String>,
}

/// A licence that is still to be accepted.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Licence {
    /// Its name.
    pub licence: String,
    /// Of its text.
    pub sha256: Digest,
    /// What comes under it.
    pub tools: Vec<ToolName>,
}

/// A rung of a route.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RouteRung {
    /// Which one.
    pub rung: RungKey,
    /// Its version.
    pub version: Version,
    /// What sort of tool it is.
    pub kind: String,
    /// Lines of the ladder that wish for it.
    pub wished_at: Vec<usize>,
    /// The rungs that need it.
    pub needed_by: Vec<RungKey>,
    /// Its own, then its pieces'; none for what the host has.
    pub files: Vec<RouteFile>,
    /// Bytes of its files.
    pub size: u64,
    /// Its pieces.
    pub pieces: Vec<String>,
    /// Something of it is to be fetched.
    pub to_fetch: bool,
    /// The tasks that are left, in order.
    pub todo: Vec<TaskName>,
    /// How many checks it has.
    pub checks: usize,
    /// How long its set-ups and fit-outs take that are left to do, as far as they were timed.
    pub seconds_of_work: f64,
    /// The commands that it would run to set itself up.
    pub set_up: Vec<String>,
    /// Tools that lend it files.
    pub lenders: Vec<ToolName>,
    /// Where it stands or will stand.
    pub folder: String,
}

/// An artifact.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RouteFile {
    /// Its path in a yard.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: Digest,
}

/// A file that a person must fetch.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RouteVisit {
    /// The tool that it is for.
    pub rung: RungKey,
    /// Its name.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// The page.
    pub page: String,
    /// What the page asks for.
    pub asks: Option<String>,
    /// What it costs.
    pub costs: Option<String>,
    /// Where a file of that name and size lies among the person's downloads.
    pub found: Option<String>,
}

/// A rung that leaves the landing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Leaving {
    /// Which tool.
    pub tool: ToolName,
    /// Its version.
    pub version: Version,
}

impl Route {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.route/2";

    /// The shape of what lies ahead.
    pub fn of(ladder: &Ladder, platform: &Platform, prospect: &Prospect, code: &[CodeStanding]) -> Self {
        let leaving = prospect.route.leaving.iter();
        Self {
            format: Self::FORMAT,
            ladder: path(&ladder.path),
            platform: platform.clone(),
            bytes_to_fetch: prospect.fetch,
            bytes_of_disk: prospect.unpacked,
            seconds: prospect.time().map(|time| time.as_secs_f64()),
            untimed: prospect.work().untimed,
            gates: prospect.gates.iter().map(gate).collect(),
            licences: prospect.licences.iter().map(licence).collect(),
            by_person: prospect.by_person.iter().map(visit).collect(),
            rungs: prospect.route.rungs.iter().map(|rung| route_rung(rung, prospect)).collect(),
            leaving: leaving.map(|it| Leaving { tool: it.tool.clone(), version: it.version.clone() }).collect(),
            code: code.iter().map(Code::of).collect(),
        }
    }
}

fn visit(awaited: &Awaited) -> RouteVisit {
    let Awaited { tool, file, size, visit, found } = awaited;
    RouteVisit {
        rung: tool.clone(),
        file: file.clone(),
        size: *size,
        page: visit.page.clone(),
        asks: visit.asks.clone(),
        costs: visit.costs.clone(),
        found: found.as_deref().map(path),
    }
}

fn gate(gate: &Standing) -> Gate {
    Gate {
        gate: gate.gate.clone(),
        tool: gate.tool.clone(),
        open: gate.open,
        needed: words::needed(&gate.needed),
        found: words::found(&gate.found),
        advice: gate.advice.clone(),
        admin: gate.admin.clone(),
        who: gate.who.and_then(plain_value),
        person: gate.person.clone(),
        minutes: gate.minutes,
        after: gate.after.and_then(plain_value),
    }
}

/// A value as it is written.
fn plain_value(value: impl Serialize) -> Option<String> {
    serde_json::to_value(value).ok()?.as_str().map(str::to_owned)
}

fn licence(asked: &Asked) -> Licence {
    Licence { licence: asked.licence.id.clone(), sha256: asked.licence.digest(), tools: asked.tools.clone() }
}

fn route_rung(rung: &Rung, prospect: &Prospect) -> RouteRung {
    let file = |artifact: &kladder_choose::catalog::Artifact| RouteFile {
        file: artifact.file.to_string(),
        size: artifact.size,
        sha256: artifact.sha256,
    };
    let line = |because: &Because| if let Because::Wished { line } = because { Some(*line) } else { None };
    let needer = |because: &Because| if let Because::NeededBy { rung } = because { Some(rung.clone()) } else { None };
    let run = |would: Would| if let Would::Run { command, .. } = would { Some(command) } else { None };
    RouteRung {
        rung: rung.key.clone(),
        version: rung.version.clone(),
        kind: rung.definition.kind.clone(),
        wished_at: rung.because.iter().filter_map(line).collect(),
        needed_by: rung.because.iter().filter_map(needer).collect(),
        files: rung.shelved().iter().flat_map(|shelved| &shelved.artifacts).map(file).collect(),
        size: rung.size(),
        pieces: rung.pieces.iter().map(|(piece, _)| piece.clone()).collect(),
        to_fetch: rung.to_fetch,
        todo: rung.todo.clone(),
        checks: rung.definition.says.checks.len(),
        seconds_of_work: prospect.work_of(rung).time.as_secs_f64(),
        set_up: rung.would().into_iter().filter_map(run).collect(),
        lenders: rung.berth.iter().flat_map(|berth| berth.lenders().into_iter().cloned()).collect(),
        folder: path(rung.folder()),
    }
}

/// How a climb ended.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Climb {
    /// `kladder.climb/2`
    pub format: &'static str,
    /// A new landing was made.
    pub changed: bool,
    /// Rungs that were damaged and were brought anew.
    pub mended: Vec<RungKey>,
    /// The landing that is current.
    pub landing: u32,
    /// The folder of its commands.
    pub commands: String,
    /// Its rungs, bottom first.
    pub rungs: Vec<ClimbRung>,
    /// The code that the ladder wants.
    pub code: Vec<Code>,
    /// The files that the ladder has settings for.
    pub settings: Vec<SettingFile>,
    /// How long it took.
    pub seconds: f64,
}

/// A file of a person that a ladder has settings for.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingFile {
    /// Where it is.
    pub path: String,
    /// `stands`, `to-write`, `differs` (a person's own), `yours` (changed since), `clash`, `to-undo`, `left`.
    pub state: &'static str,
    /// Whether it was changed just now.
    pub changed: bool,
    /// What became of it, in words.
    pub why: String,
}

impl SettingFile {
    fn of(placed: &SettingPlaced) -> Self {
        let state = match placed.state {
            State::Stands => "stands",
            State::ToWrite => "to-write",
            State::Differs => "differs",
            State::Yours => "yours",
            State::Clash => "clash",
            State::ToUndo => "to-undo",
            State::Left(_) => "left",
        };
        let why = words::setting(&placed.state, placed.changed);
        Self { path: path(&placed.path), state, changed: placed.changed, why }
    }
}

/// A source of code.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Code {
    /// Its name.
    pub name: String,
    /// The folder it is to be in.
    pub folder: String,
    /// Where it comes from.
    pub from: String,
    /// `there` (before, and left as it is), `to-bring`, `brought`, `missing`.
    pub state: &'static str,
    /// Why it is missing, in words.
    pub why: Option<String>,
}

impl Code {
    fn of(code: &CodeStanding) -> Self {
        let (state, why) = match &code.state {
            CodeState::There => ("there", None),
            CodeState::ToBring => ("to-bring", None),
            CodeState::Brought => ("brought", None),
            CodeState::Missing(why) => ("missing", Some(words::code_missing(why))),
        };
        Self { name: code.name.clone(), folder: path(&code.folder), from: code.from.clone(), state, why }
    }
}

/// A rung of a landing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClimbRung {
    /// Which one.
    pub rung: RungKey,
    /// Its version.
    pub version: Version,
    /// Its folder on the shelf, or the host's file.
    pub folder: String,
}

impl Climb {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.climb/2";

    /// The shape of a landing that a climb led to.
    pub fn of(
        landing: &Landing,
        changed: bool,
        mended: &[RungKey],
        commands: &Path,
        took: Duration,
        code: &[CodeStanding],
        settings: &[SettingPlaced],
    ) -> Self {
        let rung = |rung: &kladder_core::keep::landing::LandedRung| ClimbRung {
            rung: rung.key.clone(),
            version: rung.version.clone(),
            folder: path(&rung.folder),
        };
        Self {
            format: Self::FORMAT,
            changed,
            mended: mended.to_vec(),
            landing: landing.number,
            commands: path(commands),
            rungs: landing.rungs.iter().map(rung).collect(),
            code: code.iter().map(Code::of).collect(),
            settings: settings.iter().map(SettingFile::of).collect(),
            seconds: took.as_secs_f64(),
        }
    }
}
