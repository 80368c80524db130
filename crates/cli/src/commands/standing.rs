//! `kladder` alone: where this machine stands.

use std::process::ExitCode;

use kladder_core::pins::Freshness;
use kladder_core::standing::{Next, Standing};
use serde::Serialize;

use crate::context::{Context, Opened};
use crate::problem::Problem;
use crate::render::Out;
use crate::render::text::{GOOD, STRONG, TOLD, bytes, columns, count, shown, styled};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    ladder: Option<String>,
    title: Option<String>,
    /// `current`, `stale` or `missing`.
    pins: Option<&'static str>,
    landing: Option<u32>,
    rungs: usize,
    to_climb: usize,
    bytes_to_fetch: u64,
    next: &'static str,
}

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    if context.ladder_path().is_none() {
        return no_ladder(out);
    }
    let opened = context.open()?;
    let (pins, freshness) = opened.settle(context, out)?;
    let standing = Standing::of(&opened.site(context, &pins), freshness)?;
    out.value(&shape(&opened, &standing))?;
    show(&opened, &standing, out)?;
    Ok(ExitCode::SUCCESS)
}

fn no_ladder(out: &Out) -> Result<ExitCode, Problem> {
    let next = "kladder demo";
    let (ladder, title, pins, landing) = (None, None, None, None);
    let (rungs, to_climb, bytes_to_fetch) = (0, 0, 0);
    out.value(&Shape { format: STANDING, ladder, title, pins, landing, rungs, to_climb, bytes_to_fetch, next })?;
    out.say("No ladder here, and none for this workstation.")?;
    out.say("\nA ladder is a file, ladder.toml, that says what a workstation must have.")?;
    out.say(format!("To see the whole story on made-up data: {}", styled(TOLD, next)))?;
    out.say(format!("To get an example to start from:        {}", styled(TOLD, "kladder demo --keep FOLDER")))?;
    Ok(ExitCode::SUCCESS)
}

const STANDING: &str = "kladder.standing/1";

fn show(opened: &Opened, standing: &Standing, out: &Out) -> Result<(), Problem> {
    let row = |name: &str, text: String| vec![name.to_owned(), text];
    let pins = match standing.pins {
        Freshness::Current => "fit the ladder".to_owned(),
        Freshness::Stale => "are older than the ladder".to_owned(),
        Freshness::HostMoved => "do not fit this host any more".to_owned(),
        Freshness::Missing => "none yet".to_owned(),
    };
    let landing = standing.landing.as_ref().map_or_else(
        || "none yet".to_owned(),
        |landing| format!("{}, made {}", landing.number, landing.made.strftime("%Y-%m-%d %H:%M UTC")),
    );
    let rungs = match standing.to_climb {
        0 => format!("{}, {}", standing.rungs, styled(GOOD, "all in place")),
        left => format!("{}, {left} to climb, {} to fetch", standing.rungs, bytes(standing.to_fetch)),
    };
    out.say(styled(STRONG, &opened.ladder.title))?;
    let rows = vec![
        row(
            "ladder",
            format!(
                "{}, {}",
                shown(&opened.ladder.path),
                count(opened.ladder.wishes.len(), "wish").replace("wishs", "wishes")
            ),
        ),
        row("pins", pins),
        row("landing", landing),
        row("rungs", rungs),
        row("next", styled(TOLD, next(standing.next))),
    ];
    out.say(columns(&[], rows, &[]))
}

fn next(next: Next) -> &'static str {
    match next {
        Next::Climb => "kladder route, then kladder climb",
        Next::ClimbAgain => "kladder climb",
        Next::Verify => "kladder verify, or kladder run -- CMD",
    }
}

fn shape(opened: &Opened, standing: &Standing) -> Shape {
    Shape {
        format: STANDING,
        ladder: Some(opened.ladder.path.display().to_string()),
        title: Some(opened.ladder.title.clone()),
        pins: Some(match standing.pins {
            Freshness::Current => "current",
            Freshness::Stale => "stale",
            Freshness::HostMoved => "host-moved",
            Freshness::Missing => "missing",
        }),
        landing: standing.landing.as_ref().map(|landing| landing.number),
        rungs: standing.rungs,
        to_climb: standing.to_climb,
        bytes_to_fetch: standing.to_fetch,
        next: next(standing.next),
    }
}
