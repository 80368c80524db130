//! Verdicts on a terminal: what failed in full, the rest at a glance.

use kladder_choose::names::RungKey;
use kladder_core::base::event::{Finding, Outcome, Skipped, Subject, Verdict};
use kladder_core::climb::route::Route;
use kladder_tell::problem::Problem;
use kladder_tell::text::{both, clean, count, time};
use kladder_tell::{shapes, words};

use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, TOLD, styled};

/// Owners of failures that the last line names.
const NAMED: usize = 5;
/// Rehearsals that want other tools are told one by one up to this number: a large catalog has many.
const MOST_FOR_OTHERS: usize = 4;

/// What failed, with what helps; then what was not looked at, a line each.
pub(super) fn show_reasons(shape: &shapes::Verify, out: &Out) -> Result<(), Problem> {
    let failed: Vec<_> = shape.verdicts.iter().filter(|one| one.mend.is_some()).collect();
    let is_last_of = |at: usize| {
        let mend = |at: usize| failed.get(at).and_then(|one| one.mend.as_ref()).map(|mend| &mend.words);
        let owner = |at: usize| failed.get(at).map(|one| words::owner(&one.verdict.subject));
        mend(at) != mend(at + 1) || owner(at) != owner(at + 1)
    };
    for (at, one) in failed.iter().enumerate() {
        show_failed(&one.verdict, was_new(one, shape), out)?;
        // What helps several in a row is said once.
        if let Some(mend) = one.mend.as_ref().filter(|_| is_last_of(at)) {
            out.say(format!("    {} {}", styled(STRONG, "what helps:"), clean(&mend.words)))?;
        }
    }
    if !failed.is_empty() {
        out.say("")?;
    }
    // What comes after a failure is told with it.
    let is_told = |one: &&shapes::Verdict| is_skipped(one) && one.outcome != Outcome::Skipped(Skipped::EarlierFailed);
    let skipped: Vec<_> = shape.verdicts.iter().map(|one| &one.verdict).filter(is_told).collect();
    let for_others = skipped.iter().filter(|one| is_for_others(one)).count();
    for one in skipped.iter().filter(|one| for_others <= MOST_FOR_OTHERS || !is_for_others(one)) {
        show_skipped(one, out)?;
    }
    if for_others > MOST_FOR_OTHERS {
        let others = count(for_others, "rehearsal");
        out.say(format!(
            "  {others} of the catalog want tools that are not on the ladder; `kladder rehearse` lists all."
        ))?;
    }
    if skipped.is_empty() { Ok(()) } else { out.say("") }
}

/// Whether it failed now and passed the last time.
fn was_new(one: &shapes::Verified, shape: &shapes::Verify) -> Option<String> {
    (one.failed_before == Some(false)).then(|| shape.since.as_deref().map(day)).flatten()
}

fn is_skipped(verdict: &shapes::Verdict) -> bool {
    matches!(verdict.outcome, Outcome::Skipped(_))
}

fn is_for_others(verdict: &shapes::Verdict) -> bool {
    matches!(verdict.outcome, Outcome::Skipped(Skipped::NotOnLadder { .. }))
}

/// A time as a person reads it.
fn day(text: &str) -> String {
    match text.split_once('T') {
        Some((day, time)) => format!("{day} {} UTC", time.chars().take(5).collect::<String>()),
        None => text.to_owned(),
    }
}

/// A verdict that did not pass, for whoever shows them one by one.
pub(super) fn show_reason(verdict: &Verdict, out: &Out) -> Result<(), Problem> {
    let shape = shapes::Verdict::of(verdict);
    match &verdict.outcome {
        Outcome::Passed => Ok(()),
        Outcome::Skipped(_) => show_skipped(&shape, out),
        Outcome::Failed { .. } => show_failed(&shape, None, out),
    }
}

fn show_skipped(verdict: &shapes::Verdict, out: &Out) -> Result<(), Problem> {
    let (owner, why) = (words::owner(&verdict.subject), verdict.why.as_deref().unwrap_or_default());
    let what = match &verdict.outcome {
        // Which tools are missing says it all.
        Outcome::Skipped(Skipped::NotOnLadder { .. }) => clean(why),
        _ => format!("{}: {}", clean(&verdict.claim), clean(why)),
    };
    out.say(format!("  {} {}: {what}", word(&verdict.outcome), styled(STRONG, clean(&owner))))
}

fn show_failed(verdict: &shapes::Verdict, passed_before: Option<String>, out: &Out) -> Result<(), Problem> {
    let Outcome::Failed { finding, output, causes } = &verdict.outcome else { return Ok(()) };
    let owner = styled(STRONG, clean(&words::owner(&verdict.subject)));
    let new = passed_before.map(|at| styled(FAINT, format!(" (passed {at})"))).unwrap_or_default();
    out.say(format!("\n  {} {owner}: {}{new}", word(&verdict.outcome), clean(&verdict.claim)))?;
    out.say(format!("    {}", clean(verdict.why.as_deref().unwrap_or_default())))?;
    let quoted = |line: String| out.say(format!("    {} {line}", styled(FAINT, "|")));
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
    causes
        .iter()
        .try_for_each(|cause| out.say(format!("    {} {}", styled(TOLD, "likely:"), clean(&words::cause(cause)))))
}

/// A line for each rung; where something failed, for those alone whose it is.
pub(super) fn show_rungs(route: &Route, verdicts: &[Verdict], out: &Out) -> Result<(), Problem> {
    let of = |rung: &RungKey, is_meant: fn(&Verdict) -> bool| {
        verdicts.iter().any(|verdict| verdict.subject.rung() == Some(rung) && is_meant(verdict))
    };
    let looked = route.rungs.iter().filter(|rung| of(&rung.key, |_| true));
    let (failed, passed): (Vec<_>, Vec<_>) = looked.partition(|rung| of(&rung.key, Verdict::failed));
    let any_failed = verdicts.iter().any(Verdict::failed);
    let rows = if any_failed { &failed } else { &passed }.iter().map(|rung| {
        let own = |kind: fn(&Subject) -> bool| cell(verdicts, &rung.key, kind);
        vec![
            styled(STRONG, &rung.key),
            rung.version.to_string(),
            own(|subject| matches!(subject, Subject::Files { .. })),
            own(|subject| matches!(subject, Subject::Answer { .. })),
            own(|subject| !matches!(subject, Subject::Files { .. } | Subject::Answer { .. })),
        ]
    });
    let rows: Vec<_> = rows.collect();
    if !rows.is_empty() {
        out.say(out.columns(&["rung", "version", "files", "commands", "checks"], rows, &[]))?;
    }
    if any_failed && !passed.is_empty() {
        let other = if failed.is_empty() { "" } else { "other " };
        out.say(format!("  {} {}", styled(GOOD, "passed"), count(passed.len(), &[other, "rung"].concat())))?;
    }
    Ok(())
}

/// Rehearsals: a line for one that passed, else step by step.
pub(super) fn show_rehearsals(verdicts: &[Verdict], out: &Out) -> Result<(), Problem> {
    let of = |verdict: &&Verdict| match &verdict.subject {
        Subject::Rehearsal { rehearsal, step: Some(_) } => Some(rehearsal.clone()),
        _ => None,
    };
    let steps: Vec<&Verdict> = verdicts.iter().filter(|verdict| of(verdict).is_some()).collect();
    let (mut passed, mut failed) = (Vec::new(), Vec::new());
    for one in steps.chunk_by(|one, next| of(one) == of(next)) {
        let has_failed = one.iter().any(|step| step.failed());
        if has_failed { failed.push(one) } else { passed.push(one) }
    }
    for steps in failed {
        out.say(format!("\n  rehearsal {}", styled(STRONG, clean(&words::owner(&steps[0].subject)))))?;
        let is_left_out = |step: &&&Verdict| step.outcome == Outcome::Skipped(Skipped::EarlierFailed);
        let left_out = steps.iter().filter(is_left_out).count();
        for step in steps.iter().filter(|step| !is_left_out(step)) {
            let claim = clean(&words::claim(&step.subject));
            out.say(format!("    {}  {claim}  {}", word(&step.outcome), styled(FAINT, time(step.took))))?;
        }
        if left_out > 0 {
            out.say(format!("    {}  {}", styled(FAINT, "skipped"), count(left_out, "further step")))?;
        }
    }
    let row = |steps: &&[&Verdict]| {
        let took = steps.iter().map(|step| step.took).sum();
        let name = clean(&words::owner(&steps[0].subject));
        vec![styled(STRONG, name), styled(GOOD, "passed"), count(steps.len(), "step"), time(took)]
    };
    let rows: Vec<_> = passed.iter().map(row).collect();
    if rows.is_empty() {
        return Ok(());
    }
    out.say(format!("\n{}", out.columns(&["rehearsal", "", "", "took"], rows, &[])))
}

/// How all of it came out, and what is another than the last time.
pub(super) fn sentence(shape: &shapes::Verify) -> String {
    let skipped = if shape.skipped == 0 { String::new() } else { format!(", {} skipped", shape.skipped) };
    let mended = shape.verdicts.iter().filter(|one| one.mend.is_none() && one.failed_before == Some(true));
    let mended = mended.filter(|one| one.verdict.outcome == Outcome::Passed).count();
    let since = shape.since.as_deref().map(day).unwrap_or_default();
    let mended = if mended == 0 {
        String::new()
    } else {
        format!(" {mended} that failed {since} {} again.", if mended == 1 { "passes" } else { "pass" })
    };
    if shape.failed == 0 {
        return format!("{}{skipped}.{mended}", styled(GOOD, format!("All {} passed", shape.passed)));
    }
    let mut owners: Vec<String> = Vec::new();
    for one in shape.verdicts.iter().filter(|one| one.mend.is_some()) {
        let owner = words::owner(&one.verdict.subject);
        if !owners.contains(&owner) {
            owners.push(owner);
        }
    }
    let more = owners.len().saturating_sub(NAMED);
    owners.truncate(NAMED);
    if more > 0 {
        owners.push(format!("{more} more"));
    }
    let failed = styled(BAD, format!("{} of {} failed", shape.failed, shape.failed + shape.passed));
    format!("{failed}{skipped}: {}.{mended}", clean(&both(&owners)))
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
