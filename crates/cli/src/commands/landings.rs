//! `kladder landings` and `kladder back`

use std::process::ExitCode;
use std::time::Instant;

use kladder_choose::version::Version;
use kladder_core::climb::{self, Back, BackRequest};
use kladder_core::keep::landing::{Landing as Recorded, Landings};
use kladder_tell::problem::Problem;
use kladder_tell::shapes::{self, Change, Landing};
use kladder_tell::text::{clean, count, time};

use crate::args::BackOptions;
use crate::commands::{login, settings};
use crate::context::Context;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, shown, styled};
use crate::render::{Out, Progress};

/// Changes that fit on a line.
const SHOWN: usize = 3;

pub(super) fn list(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let ladder = context.around.read_ladder()?;
    let landings = Landings::of(&context.around.home.ladders(), &ladder.path);
    let all = listed(&landings)?;
    if all.is_empty() {
        out.say("There is no landing yet; `kladder climb` makes the first.")?;
    } else {
        out.say(format!("Where {} has been, the latest first:", styled(STRONG, clean(&ladder.title))))?;
        all.iter().try_for_each(|landing| told(landing).iter().try_for_each(|line| out.say(line)))?;
        if all.len() > 1 {
            out.say("\n`kladder back NUMBER` returns to one of them, its pins too.")?;
        }
        if all.iter().any(|landing| landing.current && landing.damaged.is_some()) {
            out.say("\nThe current one is damaged; `kladder climb` makes another one from the pins and the shelf.")?;
        }
    }
    let ladder = shapes::path(&ladder.path);
    out.value(&shapes::Landings { format: shapes::Landings::FORMAT, ladder, landings: all })?;
    Ok(ExitCode::SUCCESS)
}

/// All landings, newest first, each held against the one it was climbed from.
fn listed(landings: &Landings) -> Result<Vec<Landing>, Problem> {
    let current = landings.current_number();
    let all = landings.all()?;
    let find = |number: u32| all.iter().find(|(other, _)| *other == number).and_then(|(_, it)| it.as_ref().ok());
    let shape = |(number, landing): &(u32, Result<Recorded, _>)| {
        let is_current = current == Some(*number);
        match landing {
            Ok(landing) => Landing::of(landing, landing.after.and_then(find), is_current),
            Err(error) => Landing {
                number: *number,
                made: None,
                current: is_current,
                after: None,
                rungs: 0,
                changes: Vec::new(),
                skipped_gates: Vec::new(),
                damaged: Some(kladder_core::base::event::chain(error)),
            },
        }
    };
    Ok(all.iter().rev().map(shape).collect())
}

/// A landing in two or three lines: when and how many rungs, then what it changed.
fn told(landing: &Landing) -> Vec<String> {
    let number = format!("landing {}", landing.number);
    let number = if landing.current { styled(GOOD, number) } else { styled(STRONG, number) };
    if let Some(why) = &landing.damaged {
        return vec![format!("\n  {number}: {}", styled(BAD, "damaged")), format!("    {}", clean(why))];
    }
    let made = landing.made.as_deref().unwrap_or_default();
    let made = made.get(..16).unwrap_or(made).replace('T', " ");
    let stands = if landing.current { format!(", {}", styled(GOOD, "where you are")) } else { String::new() };
    let mut lines = vec![format!("\n  {number} of {made} UTC, {}{stands}", count(landing.rungs, "rung"))];
    let mut changes: Vec<String> = landing.changes.iter().take(SHOWN).map(sentence).collect();
    match landing.changes.len() {
        _ if landing.after.is_none() => changes = vec!["the first one".to_owned()],
        0 => changes.push(styled(FAINT, "the same rungs")),
        all if all > SHOWN => changes.push(format!("{} more", all - SHOWN)),
        _ => {}
    }
    let from = landing.after.filter(|after| after + 1 != landing.number);
    let from = from.map(|after| format!(" (climbed from landing {after})")).unwrap_or_default();
    lines.push(format!("    {}{from}", changes.join(", ")));
    if !landing.skipped_gates.is_empty() {
        let gates = landing.skipped_gates.join(", ");
        lines.push(format!("    {}", styled(FAINT, clean(&format!("closed gates that were skipped: {gates}")))));
    }
    lines
}

fn sentence(change: &Change) -> String {
    let tool = styled(STRONG, &change.tool);
    let text = |version: &Option<Version>| version.as_ref().map(Version::to_string).unwrap_or_default();
    match (&change.was, &change.now) {
        (None, Some(now)) => format!("{tool} {now} came"),
        (Some(was), None) => format!("{tool} {was} left"),
        (Some(was), Some(now)) if was == now => format!("{tool} {now} made anew"),
        (was, now) => format!("{tool} from {} to {}", text(was), text(now)),
    }
}

pub(super) fn back(context: &Context, out: &Out, options: &BackOptions) -> Result<ExitCode, Problem> {
    let started = Instant::now();
    let ladder = context.around.read_ladder()?;
    let keeps = login::kept(context, &ladder);
    let (number, with_ladder, wait) = (options.number, options.with_ladder, context.around.wait);
    let request = BackRequest { number, with_ladder, wait, keeps };
    let progress = Progress::new(out)?;
    let done = climb::back(&context.around.home, &ladder, &request, &progress);
    progress.finish();
    let Back { landing, before, ladder_differs } = done?;
    let took = started.elapsed();
    out.value(&shapes::Back {
        format: shapes::Back::FORMAT,
        landing: landing.number,
        before: before.as_ref().map(|before| before.number),
        ladder_differs,
        seconds: took.as_secs_f64(),
    })?;
    let number = styled(GOOD, format!("landing {}", landing.number));
    let title = styled(STRONG, clean(&ladder.title));
    out.say(format!("{title} is at {number} again ({}), after {}.", count(landing.rungs.len(), "rung"), time(took)))?;
    out.say(format!("Its pins stand in {}.", shown(&ladder.pins_path())))?;
    if ladder_differs {
        out.say(format!(
            "{} is another one than it was then: where its wishes ask for it, the next climb moves rungs again. \
             `kladder back {} --with-ladder` puts that one back too.",
            shown(&ladder.path),
            landing.number
        ))?;
    }
    settings::go_back(context, out, landing.number, &progress)?;
    if options.with_ladder && ladder.path.with_added_extension("before").exists() {
        out.say(format!("The ladder as it was until now is kept in {}.before.", shown(&ladder.path)))?;
    }
    Ok(ExitCode::SUCCESS)
}
