//! `kladder route`

use std::process::ExitCode;

use kladder_core::catalog::Artifact;
use kladder_core::climb::Prospect;
use kladder_core::confine::Confined;
use kladder_core::fetch::Yard;
use kladder_core::gates::{Standing, admin_script as admin_script_of};
use kladder_core::pins::Freshness;
use kladder_core::restart::Anew;
use kladder_core::route::{Because, Route, Rung, Work};
use kladder_core::terms::Asked;
use serde::Serialize;

use crate::context::{Context, Opened};
use crate::person::weight;
use crate::problem::Problem;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, STRONG, bytes, clean, columns, count, shown, styled};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    ladder: String,
    platform: String,
    bytes_to_fetch: u64,
    bytes_of_disk: u64,
    /// By the rates of earlier climbs.
    seconds: Option<f64>,
    gates: Vec<GateShape>,
    /// Those that are still to be accepted.
    licences: Vec<LicenceShape>,
    rungs: Vec<RungShape>,
    leaving: Vec<LeavingShape>,
}

#[derive(Serialize)]
struct GateShape {
    gate: String,
    tool: Option<String>,
    open: bool,
    needed: String,
    found: String,
    advice: Option<String>,
    admin: Vec<String>,
}

#[derive(Serialize)]
struct LicenceShape {
    licence: String,
    sha256: String,
    tools: Vec<String>,
}

#[derive(Serialize)]
struct RungShape {
    tool: String,
    version: String,
    kind: String,
    /// Lines of the ladder that wish for it.
    wished_at: Vec<usize>,
    needed_by: Vec<String>,
    /// Its own, then its pieces'; none for what the host has.
    files: Vec<FileShape>,
    size: u64,
    pieces: Vec<String>,
    /// `nothing`, `wire`, `unpack` or `fetch`: the first step that is left.
    work: &'static str,
    checks: usize,
    /// The commands that it runs to set itself up.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    set_up: Vec<Vec<String>>,
    /// Tools that lend it files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    lenders: Vec<String>,
    folder: String,
}

#[derive(Serialize)]
struct FileShape {
    file: String,
    size: u64,
    sha256: String,
}

#[derive(Serialize)]
struct LeavingShape {
    tool: String,
    version: String,
}

pub(super) fn run(context: &Context, out: &Out, admin_script: bool) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, freshness) = opened.settle(context, out)?;
    let prospect = opened.site(context, &pins).prospect()?;
    let route = &prospect.route;
    if admin_script {
        let script = admin_script_of(&prospect.gates);
        out.say(script.unwrap_or_else(|| "# There is nothing for an administrator to do.".into()))?;
        return Ok(ExitCode::SUCCESS);
    }
    out.value(&shape(&opened, context, &prospect))?;
    show(&opened, context, route, out)?;
    if route.is_done() {
        out.say("\nNothing to do: this machine is at the top.")?;
        return Ok(ExitCode::SUCCESS);
    }
    out.say(format!("\n{}", summary(&prospect, &opened.yards)))?;
    ahead(&prospect, out)?;
    for leaving in &route.leaving {
        out.say(format!("{} {} leaves the landing; it stays on the shelf.", leaving.tool, leaving.version))?;
    }
    if freshness != Freshness::Current {
        out.say("These versions are not pinned yet; `kladder pin` or `kladder climb` writes them down.")?;
    }
    out.say("Set off with `kladder climb`.")?;
    Ok(ExitCode::SUCCESS)
}

fn show(opened: &Opened, context: &Context, route: &Route, out: &Out) -> Result<(), Problem> {
    let title = styled(STRONG, &opened.ladder.title);
    out.say(format!("{title}, on {}, bottom rung first\n", context.host.platform))?;
    let rows = route.rungs.iter().enumerate().map(|(at, rung)| row(at, rung)).collect();
    out.say(columns(&["", "rung", "version", "what it is", "size", "to do", "why"], rows, &[0, 4]))
}

fn row(at: usize, rung: &Rung) -> Vec<String> {
    vec![
        styled(FAINT, at + 1),
        styled(STRONG, &rung.name.tool),
        rung.name.version.to_string(),
        clean(&rung.definition.kind),
        if rung.shelved().is_some() { bytes(rung.size()) } else { styled(FAINT, "host's own") },
        work(rung).to_owned(),
        why(rung),
    ]
}

/// Who wants the rung, and who wants which of its pieces.
fn why(rung: &Rung) -> String {
    let piece = |(piece, asking): &(String, Vec<Because>)| format!("; with {piece}: {}", because(asking));
    let pieces: String = rung.pieces.iter().map(piece).collect();
    match &rung.kept_by {
        Some(owner) => format!("for {owner} alone{pieces}"),
        None => because(&rung.because) + &pieces,
    }
}

fn because(because: &[Because]) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut needed: Vec<&str> = Vec::new();
    for one in because {
        match one {
            Because::Wished { line } => parts.push(format!("wish in line {line}")),
            Because::NeededBy { tool } => needed.push(tool),
        }
    }
    if !needed.is_empty() {
        parts.push(format!("for {}", needed.join(", ")));
    }
    parts.join(", ")
}

fn work(rung: &Rung) -> &'static str {
    if rung.shelved().is_none() {
        return if rung.work == Work::Nothing { "nothing" } else { "check" };
    }
    match (rung.work, rung.definition.checks.is_empty()) {
        (Work::Nothing, _) => "nothing",
        (Work::Wire, true) => "wire",
        (Work::Wire, false) => "wire, check",
        (Work::Unpack, true) => "unpack",
        (Work::Unpack, false) => "unpack, check",
        (Work::Fetch, true) => "fetch, unpack",
        (Work::Fetch, false) => "fetch, unpack, check",
    }
}

fn summary(prospect: &Prospect, yards: &[Yard]) -> String {
    if prospect.fetch == 0 {
        return format!("{}; nothing to fetch.", count(prospect.route.rungs.len(), "rung"));
    }
    let from = yards.first().map_or_else(|| "No yard is known.".into(), |yard| format!("They come from {yard}."));
    format!("{} {from}", weight(prospect))
}

/// Gates, licences and restarts on the way.
fn ahead(prospect: &Prospect, out: &Out) -> Result<(), Problem> {
    let (open, closed): (Vec<_>, Vec<_>) = prospect.gates.iter().partition(|gate| gate.open);
    if !open.is_empty() {
        out.say(format!("{} open.", count(open.len(), "gate")))?;
    }
    for gate in &closed {
        let tool = gate.tool.as_deref().unwrap_or("the route");
        let name = styled(BAD, format!("Gate {} is closed:", gate.gate));
        out.say(format!("{name} {tool} needs {}; found: {}.", gate.needed, clean(&gate.found)))?;
        gate.advice.iter().try_for_each(|advice| out.say(format!("  {advice}")))?;
    }
    if closed.iter().any(|gate| !gate.admin.is_empty()) {
        out.say("`kladder route --admin-script` prints what an administrator must do, as a script.")?;
    }
    for asked in &prospect.licences {
        let (tools, id) = (asked.tools.join(", "), &asked.licence.id);
        out.say(format!("{tools} comes under the licence {id}; the climb asks for it. `kladder terms show {id}`"))?;
    }
    for rung in &prospect.route.rungs {
        around(rung, out)?;
        let what = match rung.definition.after {
            Some(Anew::Restart) if rung.work >= Work::Unpack => "the machine must be restarted",
            Some(Anew::Session) if rung.work >= Work::Unpack => "you must log in anew",
            _ => continue,
        };
        out.say(format!("After {} {what}; the climb stops there, and goes on when you climb again.", rung.name.tool))?;
    }
    Ok(())
}

/// What a rung runs to set itself up, what is lent to it, and where it may write.
fn around(rung: &Rung, out: &Out) -> Result<(), Problem> {
    let tool = &rung.name.tool;
    for trial in rung.definition.set_up.iter().filter(|_| rung.is_to_bring()) {
        let run = clean(&trial.run.join(" "));
        let confined = Confined::here();
        out.say(format!("{tool} runs a set-up command, {confined}: {} ({run})", clean(&trial.name)))?;
    }
    let Some(berth) = &rung.berth else { return Ok(()) };
    let lenders: Vec<&str> = berth.lenders().collect();
    if !lenders.is_empty() {
        out.say(format!("{tool} gets a berth: {} lends it files.", lenders.join(", ")))?;
    }
    berth.corners().try_for_each(|corner| out.say(format!("{tool} may write in {}.", shown(&corner))))
}

fn shape(opened: &Opened, context: &Context, prospect: &Prospect) -> Shape {
    let route = &prospect.route;
    let leaving = route.leaving.iter();
    let gate = |gate: &Standing| GateShape {
        gate: gate.gate.clone(),
        tool: gate.tool.clone(),
        open: gate.open,
        needed: gate.needed.clone(),
        found: gate.found.clone(),
        advice: gate.advice.clone(),
        admin: gate.admin.clone(),
    };
    let licence = |asked: &Asked| LicenceShape {
        licence: asked.licence.id.clone(),
        sha256: asked.licence.digest().to_string(),
        tools: asked.tools.clone(),
    };
    Shape {
        format: "kladder.route/1",
        ladder: opened.ladder.path.display().to_string(),
        platform: context.host.platform.to_string(),
        bytes_to_fetch: prospect.fetch,
        bytes_of_disk: prospect.unpacked,
        seconds: prospect.time.map(|time| time.as_secs_f64()),
        gates: prospect.gates.iter().map(gate).collect(),
        licences: prospect.licences.iter().map(licence).collect(),
        rungs: route.rungs.iter().map(rung_shape).collect(),
        leaving: leaving.map(|l| LeavingShape { tool: l.tool.clone(), version: l.version.to_string() }).collect(),
    }
}

fn file_shape(artifact: &Artifact) -> FileShape {
    FileShape { file: artifact.file.clone(), size: artifact.size, sha256: artifact.sha256.to_string() }
}

fn rung_shape(rung: &Rung) -> RungShape {
    let lines = rung.because.iter().filter_map(|b| if let Because::Wished { line } = b { Some(*line) } else { None });
    let tools =
        rung.because.iter().filter_map(|b| if let Because::NeededBy { tool } = b { Some(tool.clone()) } else { None });
    RungShape {
        tool: rung.name.tool.clone(),
        version: rung.name.version.to_string(),
        kind: rung.definition.kind.clone(),
        wished_at: lines.collect(),
        needed_by: tools.collect(),
        files: rung.shelved().iter().flat_map(|shelved| &shelved.artifacts).map(file_shape).collect(),
        size: rung.size(),
        pieces: rung.pieces.iter().map(|(piece, _)| piece.clone()).collect(),
        work: match rung.work {
            Work::Nothing => "nothing",
            Work::Wire => "wire",
            Work::Unpack => "unpack",
            Work::Fetch => "fetch",
        },
        checks: rung.definition.checks.len(),
        set_up: rung.definition.set_up.iter().map(|trial| trial.run.clone()).collect(),
        lenders: rung.berth.iter().flat_map(kladder_core::berth::Berth::lenders).map(str::to_owned).collect(),
        folder: rung.folder().display().to_string(),
    }
}
