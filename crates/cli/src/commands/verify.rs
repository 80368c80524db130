//! `kladder verify`

use std::process::ExitCode;

use kladder_core::route::{Route, Work};
use kladder_core::verdict::{Outcome, Subject, Verdict};
use serde::Serialize;

use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::text::{BAD, FAINT, GOOD, STRONG, clean, columns, count, styled, time};
use crate::render::{Out, Progress};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    passed: usize,
    failed: usize,
    skipped: usize,
    verdicts: Vec<VerdictShape>,
}

#[derive(Serialize)]
struct VerdictShape {
    /// `files`, `answer`, `check` or `rehearsal`.
    kind: &'static str,
    /// The tool, or the rehearsal.
    of: String,
    claim: String,
    /// `passed`, `failed` or `skipped`.
    outcome: &'static str,
    why: Option<String>,
    output: Option<String>,
    seconds: f64,
}

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, _) = opened.settle(context, out)?;
    let site = opened.site(context, &pins);
    let route = site.route()?;
    ensure_climbed(&route, &opened)?;
    let progress = Progress::new(out)?;
    let verdicts = site.verify(&route, &progress);
    progress.finish();
    let verdicts = verdicts?;
    let tally = Tally::of(&verdicts);
    out.value(&shape(&verdicts, &tally))?;
    show(&route, &verdicts, out)?;
    out.say(format!("\n{}", tally.sentence()))?;
    Ok(if tally.failed == 0 { ExitCode::SUCCESS } else { Code::CheckFailed.into() })
}

fn ensure_climbed(route: &Route, opened: &Opened) -> Result<(), Problem> {
    let missing: Vec<_> = route.rungs.iter().filter(|rung| rung.work != Work::Nothing).collect();
    let Some(first) = missing.first() else { return Ok(()) };
    let rungs = count(missing.len(), "rung");
    Err(Problem::new(Code::NotClimbed, format!("{rungs} not climbed yet, {} first of all", first.name.tool))
        .at(&opened.ladder.path)
        .why("verify looks at a landing that is what the pins say")
        .next("`kladder climb`"))
}

struct Tally {
    passed: usize,
    failed: usize,
    skipped: usize,
}

impl Tally {
    fn of(verdicts: &[Verdict]) -> Self {
        let number = |wanted: fn(&Outcome) -> bool| verdicts.iter().filter(|v| wanted(&v.outcome)).count();
        Self {
            passed: number(|outcome| matches!(outcome, Outcome::Passed)),
            failed: number(|outcome| matches!(outcome, Outcome::Failed { .. })),
            skipped: number(|outcome| matches!(outcome, Outcome::Skipped { .. })),
        }
    }

    fn sentence(&self) -> String {
        let skipped = if self.skipped == 0 { String::new() } else { format!(", {} skipped", self.skipped) };
        if self.failed > 0 {
            return format!("{} of {} failed{skipped}.", self.failed, self.failed + self.passed);
        }
        format!("{}{skipped}.", styled(GOOD, format!("All {} passed", self.passed)))
    }
}

/// A line for each rung, then the rehearsals step by step, then what failed in full.
fn show(route: &Route, verdicts: &[Verdict], out: &Out) -> Result<(), Problem> {
    let rows = route.rungs.iter().map(|rung| {
        let own: Vec<&Verdict> = verdicts.iter().filter(|v| of_rung(v, &rung.key())).collect();
        vec![
            styled(STRONG, &rung.name.tool),
            rung.name.version.to_string(),
            of(&own, "files"),
            of(&own, "answer"),
            of(&own, "check"),
        ]
    });
    out.say(columns(&["rung", "version", "files", "commands", "checks"], rows.collect(), &[]))?;
    let mut shown = "";
    for verdict in verdicts {
        let Subject::Rehearsal { rehearsal, step } = &verdict.subject else { continue };
        if shown != rehearsal {
            out.say(format!("\n  rehearsal {}", styled(STRONG, rehearsal)))?;
            shown = rehearsal;
        }
        out.say(format!("    {}  {}  {}", word(&verdict.outcome), clean(step), styled(FAINT, time(verdict.took))))?;
    }
    verdicts.iter().try_for_each(|verdict| show_reason(verdict, out))
}

fn show_reason(verdict: &Verdict, out: &Out) -> Result<(), Problem> {
    let (why, output) = match &verdict.outcome {
        Outcome::Passed => return Ok(()),
        Outcome::Failed { why, output } => (why, output.as_str()),
        Outcome::Skipped { why } => (why, ""),
    };
    let (owner, claim) = (verdict.subject.owner(), verdict.subject.claim());
    out.say(format!("\n  {} {}: {}", word(&verdict.outcome), styled(STRONG, owner), clean(&claim)))?;
    out.say(format!("    {}", clean(why)))?;
    output.lines().take(12).try_for_each(|line| out.say(format!("    {} {}", styled(FAINT, "|"), clean(line))))
}

fn of_rung(verdict: &Verdict, tool: &str) -> bool {
    !matches!(verdict.subject, Subject::Rehearsal { .. }) && verdict.subject.owner() == tool
}

fn kind(subject: &Subject) -> &'static str {
    match subject {
        Subject::Files { .. } => "files",
        Subject::Answer { .. } => "answer",
        Subject::Check { .. } | Subject::SetUp { .. } => "check",
        Subject::Rehearsal { .. } => "rehearsal",
    }
}

/// The cell for the verdicts of one kind: `passed`, `2 passed`, `failed`, or nothing.
fn of(verdicts: &[&Verdict], wanted: &str) -> String {
    let of_kind: Vec<_> = verdicts.iter().filter(|verdict| kind(&verdict.subject) == wanted).collect();
    match of_kind.iter().find(|verdict| verdict.failed()) {
        Some(failed) => word(&failed.outcome),
        None if of_kind.is_empty() => styled(FAINT, "none"),
        None if of_kind.len() == 1 => styled(GOOD, "passed"),
        None => styled(GOOD, format!("{} passed", of_kind.len())),
    }
}

fn word(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Passed => styled(GOOD, "passed"),
        Outcome::Failed { .. } => styled(BAD, "failed"),
        Outcome::Skipped { .. } => styled(FAINT, "skipped"),
    }
}

fn shape(verdicts: &[Verdict], tally: &Tally) -> Shape {
    let one = |verdict: &Verdict| {
        let (outcome, why, output) = match &verdict.outcome {
            Outcome::Passed => ("passed", None, None),
            Outcome::Failed { why, output } => ("failed", Some(why.clone()), Some(output.clone())),
            Outcome::Skipped { why } => ("skipped", Some(why.clone()), None),
        };
        VerdictShape {
            kind: kind(&verdict.subject),
            of: verdict.subject.owner().to_owned(),
            claim: verdict.subject.claim(),
            outcome,
            why,
            output,
            seconds: verdict.took.as_secs_f64(),
        }
    };
    Shape {
        format: "kladder.verify/1",
        passed: tally.passed,
        failed: tally.failed,
        skipped: tally.skipped,
        verdicts: verdicts.iter().map(one).collect(),
    }
}
