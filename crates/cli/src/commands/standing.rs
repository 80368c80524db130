//! `kladder` alone: where this machine stands.

use std::process::ExitCode;

use kladder_core::desk::standing::{Next, Standing};
use kladder_core::desk::{Desk, Freshness};
use kladder_core::keep::landing::Landings;
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};

use crate::commands::{login, route, wire};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{GOOD, STRONG, TOLD, shown, styled};

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    if context.around.ladder_path().is_none() {
        return no_ladder(out);
    }
    let (desk, pins, freshness) = context.open_pinned(out)?;
    let standing = Standing::of(&desk.site(&pins), freshness)?;
    out.value(&shape(&desk, &standing))?;
    show(context, &desk, &standing, out)?;
    Ok(ExitCode::SUCCESS)
}

fn words(commands: &[&str]) -> Vec<Vec<String>> {
    commands.iter().map(|command| command.split(' ').map(str::to_owned).collect()).collect()
}

fn no_ladder(out: &Out) -> Result<ExitCode, Problem> {
    let next = words(&["kladder start", "kladder demo"]);
    out.value(&shapes::Standing { format: shapes::Standing::FORMAT, next, ..shapes::Standing::default() })?;
    out.say("No ladder here, and none for this workstation.")?;
    out.say("\nA ladder is a file, ladder.toml, that says what a workstation must have.")?;
    let rows = [
        ("to write one after a few questions", "kladder start"),
        ("to take a colleague's", "kladder start --from FILE, ADDRESS or REPOSITORY"),
        ("to see the whole story on made-up data", "kladder demo"),
        ("to get an example to play with", "kladder demo --keep FOLDER"),
    ];
    let rows = rows.map(|(what, command)| vec![what.to_owned(), styled(TOLD, command)]).to_vec();
    out.say(out.columns(&[], rows, &[]))?;
    Ok(ExitCode::SUCCESS)
}

fn show(context: &Context, desk: &Desk, standing: &Standing, out: &Out) -> Result<(), Problem> {
    let row = |name: &str, text: String| vec![name.to_owned(), text];
    let pins = match standing.pins {
        Freshness::Current => "fit the ladder".to_owned(),
        Freshness::Stale => "are older than the ladder".to_owned(),
        Freshness::HostMoved => "do not fit this host any more".to_owned(),
        Freshness::Missing => "none yet".to_owned(),
    };
    let landings = Landings::of(&desk.surroundings.home.ladders(), &desk.ladder.path);
    let none = if landings.numbers()?.is_empty() { "none yet" } else { "none that can be used" };
    let landing = standing.landing.as_ref().map_or_else(
        || none.to_owned(),
        |landing| format!("{}, made {}", landing.number, landing.made.strftime("%Y-%m-%d %H:%M UTC")),
    );
    let rungs = match standing.to_climb {
        0 => format!("{}, {}", standing.rungs.len(), styled(GOOD, "all stand")),
        left => format!("{}, {left} to climb, {} to fetch", standing.rungs.len(), bytes(standing.to_fetch)),
    };
    out.say(styled(STRONG, clean(&desk.ladder.title)))?;
    out.say("")?;
    route::draw(&standing.rungs, out)?;
    out.say("")?;
    let wishes = count(desk.ladder.wishes.len(), "wish");
    let wishes = match desk.old.as_ref().map_or(0, |pins| pins.left_out.len()) {
        0 => wishes,
        left_out => format!("{wishes}, {left_out} of them optional and left out"),
    };
    let rows = vec![
        row("ladder", format!("{}, {wishes}", shown(&desk.ladder.path))),
        row("pins", pins),
        row("landing", landing),
        row("rungs", rungs),
        row("next", styled(TOLD, next(standing.next).join(", then "))),
    ];
    out.say(out.columns(&[], rows, &[]))?;
    if standing.landing.is_some() && !wire::is_here(context) && wire::is_wired(context) {
        out.say(format!(
            "\nThis terminal is older than the landing; this brings it there:\n\n    {}",
            wire::to_paste(context)
        ))?;
    }
    if standing.landing.is_some() {
        login::tell(context, &desk.ladder, out)?;
    }
    Ok(())
}

fn next(next: Next) -> &'static [&'static str] {
    match next {
        Next::Climb => &["kladder route", "kladder climb"],
        Next::ClimbAgain => &["kladder climb"],
        Next::Verify => &["kladder verify"],
    }
}

fn shape(desk: &Desk, standing: &Standing) -> shapes::Standing {
    shapes::Standing {
        format: shapes::Standing::FORMAT,
        ladder: Some(shapes::path(&desk.ladder.path)),
        title: Some(desk.ladder.title.clone()),
        pins: Some(match standing.pins {
            Freshness::Current => "current",
            Freshness::Stale => "stale",
            Freshness::HostMoved => "host-moved",
            Freshness::Missing => "missing",
        }),
        landing: standing.landing.as_ref().map(|landing| landing.number),
        rungs: standing.rungs.len(),
        to_climb: standing.to_climb,
        bytes_to_fetch: standing.to_fetch,
        next: words(next(standing.next)),
    }
}
