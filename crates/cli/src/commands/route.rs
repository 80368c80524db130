//! `kladder route`

use std::process::ExitCode;

use kladder_core::fetch::Yard;
use kladder_core::pins::Freshness;
use kladder_core::route::{Because, Route, Rung, Work};
use serde::Serialize;

use crate::context::{Context, Opened};
use crate::problem::Problem;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, bytes, columns, count, styled};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    ladder: String,
    platform: String,
    bytes_to_fetch: u64,
    rungs: Vec<RungShape>,
    leaving: Vec<LeavingShape>,
}

#[derive(Serialize)]
struct RungShape {
    tool: String,
    version: String,
    kind: String,
    /// Lines of the ladder that wish for it.
    wished_at: Vec<usize>,
    needed_by: Vec<String>,
    file: String,
    size: u64,
    sha256: String,
    /// `nothing`, `wire`, `unpack` or `fetch`: the first step that is left.
    work: &'static str,
    checks: usize,
    folder: String,
}

#[derive(Serialize)]
struct LeavingShape {
    tool: String,
    version: String,
}

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, freshness) = opened.settle(context)?;
    let route = opened.site(context, &pins).route()?;
    out.value(&shape(&opened, context, &route))?;
    show(&opened, context, &route, out)?;
    if route.is_done() {
        out.say("\nNothing to do: this machine is at the top.")?;
        return Ok(ExitCode::SUCCESS);
    }
    out.say(format!("\n{}", summary(&route, &opened.yards)))?;
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
        rung.definition.kind.clone(),
        bytes(rung.artifact.size),
        work(rung).to_owned(),
        because(&rung.because),
    ]
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

fn summary(route: &Route, yards: &[Yard]) -> String {
    let rungs = count(route.rungs.len(), "rung");
    let size = route.bytes_to_fetch();
    if size == 0 {
        return format!("{rungs}; nothing to fetch.");
    }
    let from = yards.first().map_or_else(|| ", but no yard is known".into(), |yard| format!(" from {yard}"));
    format!("{rungs}; {} to fetch{from}.", bytes(size))
}

fn shape(opened: &Opened, context: &Context, route: &Route) -> Shape {
    let leaving = route.leaving.iter();
    Shape {
        format: "kladder.route/1",
        ladder: opened.ladder.path.display().to_string(),
        platform: context.host.platform.to_string(),
        bytes_to_fetch: route.bytes_to_fetch(),
        rungs: route.rungs.iter().map(rung_shape).collect(),
        leaving: leaving.map(|l| LeavingShape { tool: l.tool.clone(), version: l.version.to_string() }).collect(),
    }
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
        file: rung.artifact.file.clone(),
        size: rung.artifact.size,
        sha256: rung.artifact.sha256.to_string(),
        work: match rung.work {
            Work::Nothing => "nothing",
            Work::Wire => "wire",
            Work::Unpack => "unpack",
            Work::Fetch => "fetch",
        },
        checks: rung.definition.checks.len(),
        folder: rung.place.folder.display().to_string(),
    }
}
