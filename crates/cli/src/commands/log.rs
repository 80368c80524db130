//! `kladder log`

use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

use kladder_core::state::{Ended, Journal, Kind, Run, Step};
use serde::Serialize;

use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, bytes, clean, columns, count, shown, styled, time};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    runs: Vec<RunShape>,
}

#[derive(Serialize)]
struct RunShape {
    run: i64,
    kind: Kind,
    ladder: String,
    process: u32,
    begun: String,
    seconds: Option<f64>,
    ended: Option<Ended>,
    #[serde(skip_serializing_if = "String::is_empty")]
    why: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    steps: Vec<StepShape>,
}

#[derive(Serialize)]
struct StepShape {
    at: f64,
    #[serde(flatten)]
    step: Step,
}

fn shape(run: &Run, steps: Vec<(Duration, Step)>) -> RunShape {
    RunShape {
        run: run.id,
        kind: run.kind,
        ladder: run.ladder.display().to_string(),
        process: run.process,
        begun: run.begun.to_string(),
        seconds: run.took.map(|took| took.as_secs_f64()),
        ended: run.ended,
        why: run.why.clone(),
        steps: steps.into_iter().map(|(at, step)| StepShape { at: at.as_secs_f64(), step }).collect(),
    }
}

pub(super) fn run(context: &Context, out: &Out, number: Option<i64>, list: bool) -> Result<ExitCode, Problem> {
    let none = || {
        Problem::new(Code::NotClimbed, "nothing has been written down yet")
            .why("climbs, verifications and returns to earlier landings are")
            .next("`kladder climb`")
    };
    let journal = Journal::read(&context.home.data)?.ok_or_else(none)?;
    let ladder = context.ladder_path().map(|path| path.canonicalize().unwrap_or(path));
    if list {
        return list_runs(&journal, out);
    }
    let found = match number {
        Some(number) => journal.run(number)?.ok_or_else(|| {
            Problem::new(Code::Usage, format!("there is no run {number}")).next("`kladder log --list` lists them")
        })?,
        None => latest(&journal, ladder.as_deref())?.ok_or_else(none)?,
    };
    let steps = journal.steps(&found)?;
    tell(&found, &steps, out)?;
    out.value(&Shape { format: "kladder.log/1", runs: vec![shape(&found, steps)] })?;
    Ok(ExitCode::SUCCESS)
}

/// The last run of this ladder, or of any where there is none.
fn latest(journal: &Journal, ladder: Option<&Path>) -> Result<Option<Run>, Problem> {
    let own = journal.runs(ladder)?.into_iter().next();
    Ok(match own {
        Some(run) => Some(run),
        None => journal.runs(None)?.into_iter().next(),
    })
}

fn list_runs(journal: &Journal, out: &Out) -> Result<ExitCode, Problem> {
    let runs = journal.runs(None)?;
    let row = |run: &Run| {
        let took = run.took.map(time).unwrap_or_default();
        let begun = run.begun.strftime("%Y-%m-%d %H:%M UTC").to_string();
        vec![run.id.to_string(), begun, kind(run.kind).to_owned(), outcome(run), took, shown(&run.ladder)]
    };
    let rows = runs.iter().map(row).collect();
    out.say(columns(&["run", "begun", "what", "how it ended", "took", "ladder"], rows, &[0]))?;
    out.say("\n`kladder log RUN` tells one step by step.")?;
    let runs = runs.iter().map(|run| shape(run, Vec::new())).collect();
    out.value(&Shape { format: "kladder.log/1", runs })?;
    Ok(ExitCode::SUCCESS)
}

fn kind(kind: Kind) -> &'static str {
    match kind {
        Kind::Climb => "climb",
        Kind::Back => "back",
        Kind::Verify => "verify",
    }
}

fn outcome(run: &Run) -> String {
    match run.ended {
        Some(Ended::Done) => styled(GOOD, "done"),
        Some(Ended::Failed) => styled(BAD, "failed"),
        Some(Ended::Finished) => "killed, finished by the next one".into(),
        Some(Ended::Undone) => "killed, undone by the next one".into(),
        None => "under way, or killed".into(),
    }
}

fn tell(run: &Run, steps: &[(Duration, Step)], out: &Out) -> Result<(), Problem> {
    let begun = run.begun.strftime("%Y-%m-%d %H:%M:%S UTC");
    let what = styled(STRONG, format!("Run {}, {}", run.id, kind(run.kind)));
    out.say(format!("{what} of {}, begun {begun} by process {}", shown(&run.ladder), run.process))?;
    for (at, step) in steps {
        let (line, output) = words(step);
        out.say(format!("  {}  {line}", styled(FAINT, format!("{:>8.3} s", at.as_secs_f64()))))?;
        for line in output.lines().filter(|line| !line.trim().is_empty()) {
            out.say(format!("              {}", styled(FAINT, clean(line))))?;
        }
    }
    let took = run.took.map(|took| format!(", after {}", time(took))).unwrap_or_default();
    out.say(format!("{}{took}.", outcome(run)))?;
    if run.why.is_empty() { Ok(()) } else { out.say(format!("  why  {}", clean(&run.why))) }
}

/// A step in words, and what was printed on the way.
fn words(step: &Step) -> (String, &str) {
    let line = match step {
        Step::YardFailed { yard, reason } => format!("{yard}: {reason}"),
        Step::Fetched { file, size, cached: false } => format!("fetched {file}, {}; its digest agrees", bytes(*size)),
        Step::Fetched { file, size, cached: true } => {
            format!("{file}, {}, was in the cache; its digest agrees", bytes(*size))
        }
        Step::Rung { tool, version } => return (styled(STRONG, clean(&format!("{tool} {version}"))), ""),
        Step::OnHost { file } => format!("the host's own, {}", file.display()),
        Step::SetUp { tool, name, confined, output, seconds } => {
            return (clean(&format!("set-up of {tool}: {name} ({confined}, {seconds:.2} s)")), output);
        }
        Step::Shelved { files, folder, .. } => format!("{} on the shelf, {}", count(*files, "file"), folder.display()),
        Step::Checked { owner, claim, outcome, why, output, seconds } => {
            let why = if why.is_empty() { String::new() } else { format!(": {why}") };
            let line = clean(&format!("{owner}: {claim}: {outcome}{why} ({seconds:.2} s)"));
            return (if outcome == "failed" { styled(BAD, line) } else { line }, output);
        }
        Step::Climbed { tool } => format!("{tool} is done"),
        Step::Landed { number } => format!("landing {number} is current"),
    };
    (clean(&line), "")
}
