//! `kladder log`

use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

use kladder_core::base::event::{Outcome, Subject};
use kladder_core::keep::state::{Ended, Journal, Kind, Run, Step};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{Log, LogRun};
use kladder_tell::text::{bytes, clean, count, time};
use kladder_tell::words;

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, shown, styled};

pub(super) fn run(context: &Context, out: &Out, number: Option<i64>, list: bool) -> Result<ExitCode, Problem> {
    let none = || {
        Problem::new(Code::NotClimbed, "nothing has been written down yet")
            .why("climbs, verifications and returns to earlier landings are")
            .next("`kladder climb`")
    };
    let journal = Journal::read(&context.around.home.data)?.ok_or_else(none)?;
    let ladder = context.around.ladder_path().map(|path| path.canonicalize().unwrap_or(path));
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
    out.value(&Log { format: Log::FORMAT, runs: vec![LogRun::of(&found, steps)] })?;
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
    out.say(out.columns(&["run", "begun", "what", "how it ended", "took", "ladder"], rows, &[0]))?;
    out.say("\n`kladder log RUN` tells one step by step.")?;
    let runs = runs.iter().map(|run| LogRun::of(run, Vec::new())).collect();
    out.value(&Log { format: Log::FORMAT, runs })?;
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
        Some(Ended::Stopped) => "stopped before anything failed".into(),
        Some(Ended::Finished) => "killed, finished by the next one".into(),
        Some(Ended::Undone) => "killed, undone by the next one".into(),
        None => "under way, or killed".into(),
    }
}

fn tell(run: &Run, steps: &[(Duration, Step)], out: &Out) -> Result<(), Problem> {
    let begun = run.begun.strftime("%Y-%m-%d %H:%M:%S UTC");
    let what = styled(STRONG, format!("Run {}, {}", run.id, kind(run.kind)));
    out.say(format!("{what} of {}, begun {begun} by process {}", shown(&run.ladder), run.process))?;
    let mut told = false;
    for part in parts(steps) {
        match &part.name {
            Some(name) => out.say(format!("\n  {}", styled(STRONG, clean(name))))?,
            None if told => out.say("")?,
            None => {}
        }
        told = true;
        for (at, step) in part.steps {
            let Some((line, output)) = words(step) else { continue };
            out.say(format!("  {}  {line}", styled(FAINT, format!("{:>8.3} s", at.as_secs_f64()))))?;
            for line in output.iter().filter(|line| !line.trim().is_empty()) {
                out.say(format!("              {}", styled(FAINT, clean(line))))?;
            }
        }
    }
    if steps.iter().any(|(_, step)| part_of(step, None).is_some()) {
        out.say("")?;
    }
    let took = run.took.map(|took| format!(", after {}", time(took))).unwrap_or_default();
    out.say(format!("{}{took}.", outcome(run)))?;
    if run.why.is_empty() { Ok(()) } else { out.say(format!("  why  {}", clean(&run.why))) }
}

/// Steps that belong together.
#[derive(Default)]
struct Part<'s> {
    /// Whose they are; `None` for those of the run itself.
    name: Option<String>,
    /// When work on it began.
    begun: Duration,
    steps: Vec<&'s (Duration, Step)>,
}

/// The steps by the rung that they are of, in the order in which the rungs were climbed: files of several arrive at once.
fn parts(steps: &[(Duration, Step)]) -> Vec<Part<'_>> {
    let mut parts: Vec<Part<'_>> = Vec::new();
    let mut current = None;
    for timed in steps {
        let (at, step) = timed;
        let name = part_of(step, current.as_ref());
        let known = match &name {
            Some(_) => parts.iter().position(|part| part.name == name),
            None => parts.len().checked_sub(1).filter(|last| parts[*last].name.is_none()),
        };
        let known = known.unwrap_or_else(|| {
            parts.push(Part { name: name.clone(), begun: *at, steps: Vec::new() });
            parts.len() - 1
        });
        if matches!(step, Step::Rung { .. }) {
            parts[known].begun = *at;
            current = name;
        } else if matches!(step, Step::Climbed { .. } | Step::Stopped { .. }) {
            current = None;
        }
        parts[known].steps.push(timed);
    }
    parts.sort_by_key(|part| part.begun);
    parts
}

/// Whose a step is; what does not say so is of the rung that is climbed then.
fn part_of(step: &Step, current: Option<&String>) -> Option<String> {
    match step {
        Step::Rung { rung, .. } | Step::Climbed { rung } | Step::Stopped { rung, .. } | Step::Worked { rung, .. } => {
            Some(rung.to_string())
        }
        Step::Fetching { rung, .. } | Step::Fetched { rung, .. } | Step::YardFailed { rung, .. } => {
            rung.as_ref().map(ToString::to_string).or_else(|| current.cloned())
        }
        Step::OnHost { .. } | Step::Shelved { .. } => current.cloned(),
        Step::Checked { subject, .. } => Some(current.cloned().unwrap_or_else(|| words::owner(subject))),
        Step::Landed { .. } => None,
    }
}

/// A step in words, and what was printed on the way; `None` for what only began then.
fn words(step: &Step) -> Option<(String, Vec<String>)> {
    let line = match step {
        Step::Fetching { .. } | Step::Climbed { .. } => return None,
        Step::YardFailed { yard, reason, .. } => format!("{yard}: {reason}"),
        Step::Fetched { file, size, cached: false, from, .. } => {
            let from = from.as_ref().map(|from| format!(" from {from}")).unwrap_or_default();
            format!("fetched {file}, {}{from}; its digest agrees", bytes(*size))
        }
        Step::Fetched { file, size, cached: true, .. } => {
            format!("{file}, {}, was in the cache; its digest agrees", bytes(*size))
        }
        Step::Rung { version, .. } => format!("is climbed, at {version}"),
        Step::OnHost { file } => format!("the host's own, {}", shown(file)),
        Step::Worked { work, rung, name, confined, output, seconds } => {
            let (work, confined) = (words::work(*work), words::confined(confined));
            let line = clean(&format!("{work} {rung}: {name} ({seconds:.2} s); {confined}"));
            return Some((line, output.lines().map(str::to_owned).collect()));
        }
        Step::Shelved { files, folder, .. } => format!("{} on the shelf, {}", count(*files, "file"), shown(folder)),
        Step::Checked { subject, outcome, seconds } => return Some(checked(subject, outcome, *seconds)),
        Step::Stopped { rung, why } => {
            return Some((styled(BAD, clean(&format!("{rung} was not climbed: {why}"))), Vec::new()));
        }
        Step::Landed { number } => format!("landing {number} is current"),
    };
    Some((clean(&line), Vec::new()))
}

fn checked(subject: &Subject, outcome: &Outcome, seconds: f64) -> (String, Vec<String>) {
    let claim = words::claim(subject);
    let line = |came: String| clean(&format!("{claim}: {came} ({seconds:.2} s)"));
    match outcome {
        Outcome::Passed => (line("passed".to_owned()), Vec::new()),
        Outcome::Skipped(why) => (line(format!("skipped, since {}", words::skipped(why))), Vec::new()),
        Outcome::Failed { finding, output, causes } => {
            let mut lines = words::output(output);
            lines.extend(causes.iter().map(words::cause));
            (styled(BAD, line(format!("failed: {}", words::finding(finding)))), lines)
        }
    }
}
