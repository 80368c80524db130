//! `kladder pin`

use std::process::ExitCode;
use std::time::Duration;

use kladder_core::pins::{Choosing, HostTools, Limits, Moves, Pins, Shift, shifts};
use kladder_core::version::Version;
use serde::Serialize;

use crate::args::PinOptions;
use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, columns, count, shown, styled};

#[derive(Serialize)]
struct Shape<'a> {
    format: &'static str,
    file: String,
    changed: bool,
    rungs: Vec<PinnedShape<'a>>,
    left: Vec<&'a str>,
}

#[derive(Serialize)]
struct PinnedShape<'a> {
    tool: &'a str,
    version: &'a str,
    /// Where the version is another one.
    elsewhere: Vec<(&'a str, &'a str)>,
    /// The tools that it keeps to itself.
    keeps: Vec<(&'a str, &'a str)>,
    /// The version that was pinned before; null for a new rung.
    was: Option<&'a str>,
}

pub(super) fn run(context: &Context, out: &Out, options: &PinOptions) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    if options.check {
        return check(context, &opened, out, options);
    }
    let host = HostTools::of(&context.host);
    let fresh = opened.old.as_ref().is_none_or(|old| old.ladder == opened.ladder.digest);
    opened.tell_moved(&host, out)?;
    let pins = choose(context, &opened, &host, &moves(options)?, limits(options))?;
    let why = if fresh { "" } else { ", since the ladder has changed" };
    report(&opened, &pins, why, out)?;
    Ok(ExitCode::SUCCESS)
}

/// New pins for an opened ladder, which keep what does not have to move.
pub(super) fn choose(
    context: &Context,
    opened: &Opened,
    host: &HostTools<'_>,
    moves: &Moves,
    limits: Limits,
) -> Result<Pins, Problem> {
    let Opened { ladder, catalog, old, .. } = opened;
    let choosing = Choosing { ladder, catalog, here: &context.host.platform, host, old: old.as_ref(), moves, limits };
    choosing.pins().map_err(|error| Problem::from_pins(&error, &ladder.path))
}

/// Writes pins and tells what moved.
pub(super) fn report(opened: &Opened, pins: &Pins, why: &str, out: &Out) -> Result<(), Problem> {
    let changed = write(opened, pins)?;
    let file = shown(&opened.ladder.pins_path());
    out.value(&shape(opened, pins, file.clone(), changed))?;
    let moved = moves_between(opened.old.as_ref(), pins);
    if moved.iter().all(|(_, now, was)| now == was) {
        return out.say(format!("{} pinned in {file}; nothing moved.", count(pins.rungs.len(), "rung")));
    }
    let (stay, moved): (Vec<_>, Vec<_>) = moved.into_iter().partition(|(_, now, was)| now == was);
    out.say(columns(&["rung", "version", ""], rows(&moved, pins), &[]))?;
    let stay = if stay.is_empty() { String::new() } else { format!("; {} of them stayed", stay.len()) };
    out.say(format!("\n{} pinned in {file}{why}{stay}.", count(pins.rungs.len(), "rung")))
}

fn limits(options: &PinOptions) -> Limits {
    options.within.map_or_else(Limits::default, |seconds| Limits::within(Duration::from_secs(seconds)))
}

fn moves(options: &PinOptions) -> Result<Moves, Problem> {
    let mut moves = Moves::default();
    for text in &options.moves {
        match text.split_once('=') {
            None => moves.tools.push(text.clone()),
            Some((tool, version)) => moves.exact.push((tool.to_owned(), exact(version)?)),
        }
    }
    Ok(moves)
}

fn exact(text: &str) -> Result<Version, Problem> {
    text.parse().map_err(|error| {
        Problem::new(Code::Usage, format!("{error}"))
            .next("write `--move TOOL=VERSION`, or `--move TOOL` for the newest")
    })
}

/// Whether the pins on file are what the ladder and the catalog ask for. No host is asked, so that the answer is the same
/// on every machine.
fn check(context: &Context, opened: &Opened, out: &Out, options: &PinOptions) -> Result<ExitCode, Problem> {
    let file = shown(&opened.ladder.pins_path());
    let stale = |what: String| {
        Problem::new(Code::PinsStale, what).at(&opened.ladder.pins_path()).next("`kladder pin`, then commit the file")
    };
    let Some(old) = &opened.old else { return Err(stale("there are no pins".into())) };
    let pins = choose(context, opened, &HostTools::pinned(Some(old)), &Moves::default(), limits(options))?;
    let differs: Vec<Shift> = shifts(old, &pins, "");
    if pins.rungs == old.rungs && pins.ladder == old.ladder {
        out.value(&shape(opened, &pins, file.clone(), false))?;
        out.say(format!("{} pinned in {file}, as the ladder asks for.", count(pins.rungs.len(), "rung")))?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut problem = stale("the pins are not what the ladder asks for".into());
    if pins.ladder != old.ladder {
        problem = problem.why("the ladder has changed since they were made");
    }
    if differs.is_empty() && pins.ladder == old.ladder {
        problem = problem.why("pieces, platforms or files of some rungs differ");
    }
    Err(differs.iter().fold(problem, |problem, shift| problem.why(said(shift))))
}

/// `skerroc 1.4.2 would be 1.4.3`.
pub(super) fn said(Shift { tool, from, to }: &Shift) -> String {
    match (from, to) {
        (Some(from), Some(to)) => format!("{tool} {from} would be {to}"),
        (Some(from), None) => format!("{tool} {from} would not be needed any more"),
        (None, Some(to)) => format!("{tool} {to} would be new"),
        (None, None) => tool.clone(),
    }
}

/// Writes the pins beside their ladder.
pub(super) fn write(opened: &Opened, pins: &Pins) -> Result<bool, Problem> {
    Ok(pins.write(&opened.ladder.pins_path())?)
}

/// Tool, version now, version before; rungs that were left out come last, without a version now.
type Move<'a> = (&'a str, Option<&'a str>, Option<&'a str>);

fn moves_between<'a>(old: Option<&'a Pins>, pins: &'a Pins) -> Vec<Move<'a>> {
    let before = |tool: &str| old.and_then(|old| old.rungs.get(tool)).map(|pin| pin.version.as_str());
    let now = pins.rungs.iter().map(|(tool, pin)| (tool.as_str(), Some(pin.version.as_str()), before(tool)));
    let gone = old.into_iter().flat_map(|old| &old.rungs).filter(|(tool, _)| !pins.rungs.contains_key(*tool));
    now.chain(gone.map(|(tool, pin)| (tool.as_str(), None, Some(pin.version.as_str())))).collect()
}

fn rows(moved: &[Move<'_>], pins: &Pins) -> Vec<Vec<String>> {
    let mut rows = Vec::new();
    for (tool, now, was) in moved {
        let note = match (now, was) {
            (Some(_), None) => "new".to_owned(),
            (Some(_), Some(was)) => format!("was {was}"),
            (None, _) => "not needed any more".to_owned(),
        };
        rows.push(vec![styled(STRONG, tool), now.or(*was).unwrap_or_default().to_owned(), styled(FAINT, note)]);
        let Some(pin) = pins.rungs.get(*tool) else { continue };
        for (platform, version) in &pin.elsewhere {
            rows.push(vec![String::new(), version.to_string(), styled(FAINT, format!("on {platform}"))]);
        }
        if !pin.on.is_empty() {
            let platforms: Vec<&str> = pin.on.iter().map(kladder_core::platform::Platform::as_str).collect();
            let note = format!("only on {}", platforms.join(", "));
            rows.push(vec![String::new(), String::new(), styled(FAINT, note)]);
        }
        for (private, pin) in &pin.private {
            let note = format!("{private} that {tool} keeps to itself");
            rows.push(vec![String::new(), pin.version.to_string(), styled(FAINT, note)]);
        }
    }
    rows
}

fn shape<'a>(opened: &'a Opened, pins: &'a Pins, file: String, changed: bool) -> Shape<'a> {
    let moved = moves_between(opened.old.as_ref(), pins);
    let kept = moved.iter().filter_map(|&(tool, now, was)| {
        let pin = pins.rungs.get(tool)?;
        let elsewhere = pin.elsewhere.iter().map(|(platform, version)| (platform.as_str(), version.as_str())).collect();
        let keeps = pin.private.iter().map(|(tool, pin)| (tool.as_str(), pin.version.as_str())).collect();
        Some(PinnedShape { tool, version: now?, elsewhere, keeps, was })
    });
    let left = moved.iter().filter(|(_, now, _)| now.is_none()).map(|&(tool, _, _)| tool);
    Shape { format: "kladder.pin/1", file, changed, rungs: kept.collect(), left: left.collect() }
}
