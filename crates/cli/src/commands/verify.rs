//! `kladder verify`

use std::process::ExitCode;

use kladder_choose::names::RungKey;
use kladder_core::base::event::{Finding, Outcome, Skipped, Subject, Verdict};
use kladder_core::climb::route::Route;
use kladder_core::climb::{Looking, Site};
use kladder_core::keep::landing::Recipes;
use kladder_core::keep::state::TaskName;
use kladder_core::tasks::Rung;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{clean, count, time};
use kladder_tell::{shapes, words};

use super::{climb, together};
use crate::args::{ClimbOptions, VerifyOptions};
use crate::context::Context;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out, options: &VerifyOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let site = desk.site(&pins);
    let route = site.route()?;
    ensure_climbed(&route, &site)
        .map_err(|problem| problem.why("verify looks at a landing that is what the pins and the catalog say"))?;
    let progress = Progress::new(out)?;
    let verified = site.verify(&route, Looking { person: Some(&context.person), deep: options.deep }, &progress);
    progress.finish();
    let verified = verified?;
    let (verdicts, shape) = (&verified.verdicts, shapes::Verify::of(&verified, &route.rungs));
    let mends = options.mend && verdicts.iter().any(is_damage);
    if !mends {
        out.value(&shape)?;
    }
    show(&route, verdicts, out)?;
    together::show(&shape.together, out)?;
    if let Some(kept) = &verified.kept {
        out.say(styled(FAINT, format!("\nPrograms were {}.", words::confined(kept))))?;
    }
    out.say(format!("\n{}", sentence(&shape)))?;
    if mends {
        out.say("\nWhat is damaged is brought anew:\n")?;
        climb::run(context, &out.without_values(), &ClimbOptions { yes: true, ..ClimbOptions::default() })?;
        out.say("")?;
        return run(context, out, &VerifyOptions { mend: false, ..options.clone() });
    }
    if shape.failed == 0 {
        return Ok(ExitCode::SUCCESS);
    }
    if verdicts.iter().any(is_damage) {
        out.say("`kladder verify --mend` brings anew what is damaged; `kladder climb` does it too.")?;
    }
    Ok(Code::CheckFailed.into())
}

/// Whether a verdict is about something that a climb makes anew.
fn is_damage(verdict: &Verdict) -> bool {
    let Outcome::Failed { finding, .. } = &verdict.outcome else { return false };
    matches!(verdict.subject, Subject::Files { .. } | Subject::Commands | Subject::FitOut { .. })
        || matches!(finding, Finding::OtherLauncher | Finding::NoEntry | Finding::OtherEntry { .. })
}

/// A landing that is another one than the pins say would be verified against what it never was. What is damaged is what
/// verifying is for, and new checks can be tried on what is there.
pub(super) fn ensure_climbed(route: &Route, site: &Site<'_>) -> Result<(), Problem> {
    let landing = site.landings().usable();
    let made = |recipes: &Recipes| -> Recipes {
        recipes.iter().filter(|(task, _)| **task != TaskName::Check).map(|(task, recipe)| (*task, *recipe)).collect()
    };
    let stands = |rung: &&Rung| {
        let landed = landing.as_ref().and_then(|landing| landing.rung(&rung.key));
        landed.is_some_and(|landed| made(&landed.recipes) == made(&rung.recipes()))
    };
    let missing: Vec<_> = route.rungs.iter().filter(|rung| !stands(rung)).collect();
    let Some(first) = missing.first() else { return Ok(()) };
    let rungs = count(missing.len(), "rung");
    let to_climb = if missing.len() == 1 { "is to be climbed" } else { "are to be climbed" };
    Err(Problem::new(Code::NotClimbed, format!("{rungs} {to_climb}, {} first of all", first.key))
        .at(&site.ladder.path)
        .next("`kladder climb`"))
}

fn sentence(tally: &shapes::Verify) -> String {
    let skipped = if tally.skipped == 0 { String::new() } else { format!(", {} skipped", tally.skipped) };
    if tally.failed > 0 {
        return format!("{} of {} failed{skipped}.", tally.failed, tally.failed + tally.passed);
    }
    format!("{}{skipped}.", styled(GOOD, format!("All {} passed", tally.passed)))
}

/// A line for each rung, then the rehearsals step by step, then what failed in full.
fn show(route: &Route, verdicts: &[Verdict], out: &Out) -> Result<(), Problem> {
    let rows = route.rungs.iter().map(|rung| {
        let own = |kind: fn(&Subject) -> bool| cell(verdicts, &rung.key, kind);
        vec![
            styled(STRONG, &rung.key),
            rung.version.to_string(),
            own(|subject| matches!(subject, Subject::Files { .. })),
            own(|subject| matches!(subject, Subject::Answer { .. })),
            own(|subject| matches!(subject, Subject::Check { .. } | Subject::SetUp { .. } | Subject::FitOut { .. })),
        ]
    });
    out.say(out.columns(&["rung", "version", "files", "commands", "checks"], rows.collect(), &[]))?;
    let mut shown = "";
    for verdict in verdicts {
        let Subject::Rehearsal { rehearsal, step: Some(step) } = &verdict.subject else { continue };
        if shown != rehearsal {
            out.say(format!("\n  rehearsal {}", styled(STRONG, clean(rehearsal))))?;
            shown = rehearsal;
        }
        out.say(format!("    {}  {}  {}", word(&verdict.outcome), clean(step), styled(FAINT, time(verdict.took))))?;
    }
    let for_others = verdicts.iter().filter(|verdict| is_for_others(verdict)).count();
    let is_told = |verdict: &&Verdict| for_others <= MOST_FOR_OTHERS || !is_for_others(verdict);
    verdicts.iter().filter(is_told).try_for_each(|verdict| show_reason(verdict, out))?;
    if for_others > MOST_FOR_OTHERS {
        let others = count(for_others, "rehearsal");
        out.say(format!(
            "\n  {others} of the catalog want tools that are not on the ladder; `kladder rehearse` lists all."
        ))?;
    }
    Ok(())
}

/// Rehearsals that want other tools are told one by one up to this number: a large catalog has many.
const MOST_FOR_OTHERS: usize = 4;

fn is_for_others(verdict: &Verdict) -> bool {
    matches!(verdict.outcome, Outcome::Skipped(Skipped::NotOnLadder { .. }))
}

pub(super) fn show_reason(verdict: &Verdict, out: &Out) -> Result<(), Problem> {
    let (owner, claim) = (clean(&words::owner(&verdict.subject)), clean(&words::claim(&verdict.subject)));
    let head = format!("\n  {} {}: {claim}", word(&verdict.outcome), styled(STRONG, owner));
    let quoted = |line: String| out.say(format!("    {} {line}", styled(FAINT, "|")));
    match &verdict.outcome {
        Outcome::Passed => Ok(()),
        Outcome::Skipped(why) => {
            out.say(head)?;
            out.say(format!("    {}", clean(&words::skipped(why))))
        }
        Outcome::Failed { finding, output, causes } => {
            out.say(head)?;
            out.say(format!("    {}", clean(&words::finding(finding))))?;
            let (lines, all): (Vec<String>, usize) = match finding {
                Finding::Differs { differences, all } => (differences.iter().map(words::difference).collect(), *all),
                Finding::CannotLoad { files, all } => (files.iter().map(words::unloadable).collect(), *all),
                _ => (Vec::new(), 0),
            };
            lines.iter().try_for_each(|line| quoted(clean(line)))?;
            if all > lines.len() {
                quoted(format!("and {} more", all - lines.len()))?;
            }
            words::output(output).into_iter().try_for_each(quoted)?;
            causes.iter().try_for_each(|cause| out.say(format!("    {}", clean(&words::cause(cause)))))
        }
    }
}

/// The cell for the verdicts of one kind: `passed`, `2 passed`, `failed`, or nothing.
fn cell(verdicts: &[Verdict], rung: &RungKey, kind: fn(&Subject) -> bool) -> String {
    let of_kind: Vec<_> =
        verdicts.iter().filter(|verdict| verdict.subject.rung() == Some(rung) && kind(&verdict.subject)).collect();
    match of_kind.iter().find(|verdict| verdict.failed()) {
        Some(failed) => word(&failed.outcome),
        None if of_kind.is_empty() => styled(FAINT, "none"),
        None if of_kind.len() == 1 => styled(GOOD, "passed"),
        None => styled(GOOD, format!("{} passed", of_kind.len())),
    }
}

pub(super) fn word(outcome: &Outcome) -> String {
    let style = match outcome {
        Outcome::Passed => GOOD,
        Outcome::Failed { .. } => BAD,
        Outcome::Skipped(_) => FAINT,
    };
    styled(style, words::outcome(outcome))
}
