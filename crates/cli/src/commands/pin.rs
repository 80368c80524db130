//! `kladder pin`

use std::process::ExitCode;
use std::time::Duration;

use kladder_choose::names::ToolName;
use kladder_choose::pins::{Limits, Moves, OnHost, Pinned, Pins, Shift, shifts};
use kladder_choose::version::Version;
use kladder_core::base::event::chain;
use kladder_core::desk::Desk;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{clean, count, plain};

use super::libraries;
use crate::args::PinOptions;
use crate::context::{Context, tell_differing};
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, TOLD, shown, styled};

pub(super) fn run(context: &Context, out: &Out, options: &PinOptions) -> Result<ExitCode, Problem> {
    let desk = context.open_moving(&options.moves)?;
    if options.check {
        return check(&desk, out, options);
    }
    let host = desk.host_tools();
    let fresh = desk.old.as_ref().is_none_or(|old| old.ladder == desk.ladder.digest);
    tell_differing(&desk.differing(&host), out)?;
    let pins = choose(&desk, &host, &moves(&desk, options)?, limits(options))?;
    let why = if fresh || !options.moves.is_empty() { "" } else { ", since the ladder has changed" };
    report(&desk, &pins, why, out)?;
    Ok(ExitCode::SUCCESS)
}

/// New pins for an opened ladder, which keep what does not have to move.
pub(super) fn choose(desk: &Desk, host: &dyn OnHost, moves: &Moves, limits: Limits) -> Result<Pins, Problem> {
    let pins = desk.choosing(host, moves, limits).pins();
    pins.map(|pins| desk.sized(pins)).map_err(|error| Problem::from_pins(&error, &desk.ladder.path))
}

/// Writes pins and tells what moved.
pub(super) fn report(desk: &Desk, pins: &Pins, why: &str, out: &Out) -> Result<(), Problem> {
    let libraries = desk.library_moves();
    let changed = desk.write_pins(pins)?;
    let path = desk.ladder.pins_path();
    out.value(&shapes::Pin::of(pins, desk.old.as_ref(), shapes::path(&path), changed, &libraries))?;
    left_out(desk, pins, out)?;
    unsized_files(desk, out)?;
    let file = shown(&path);
    let moved = moves_between(desk.old.as_ref(), pins);
    if libraries.is_empty() && moved.iter().all(|moved| moved.now == moved.was) {
        return out.say(format!("{} pinned in {file}; nothing moved.", count(pins.rungs.len(), "rung")));
    }
    let (stay, moved): (Vec<_>, Vec<_>) = moved.into_iter().partition(|moved| moved.now == moved.was);
    let of_set = |moved: &Moved| libraries::rows(desk, moved.tool, moved.was.is_none(), &libraries);
    let rows = moved.iter().flat_map(|moved| of_set(moved).unwrap_or_else(|| rows(moved, pins)));
    out.say(out.columns(&["rung", "version", ""], rows.collect(), &[]))?;
    let stay = if stay.is_empty() { String::new() } else { format!("; {} of them stayed", stay.len()) };
    out.say(format!("\n{} pinned in {file}{why}{stay}.", count(pins.rungs.len(), "rung")))
}

/// Tells which optional wishes are not met, and why.
fn left_out(desk: &Desk, pins: &Pins, out: &Out) -> Result<(), Problem> {
    let (host, moves) = (desk.host_tools(), Moves::default());
    for tool in &pins.left_out {
        let why = desk.choosing(&host, &moves, Limits::default()).why_left_out(pins, tool);
        let why = why.map_or_else(String::new, |error| {
            let problem = Problem::from_pins(&error, &desk.ladder.path);
            std::iter::once(problem.what).chain(problem.why).collect::<Vec<_>>().join("; ")
        });
        out.say(format!("{} is optional, and left out: {}", styled(STRONG, tool), clean(&why)))?;
    }
    Ok(())
}

/// Tells whose size nobody told: a climb needs it.
fn unsized_files(desk: &Desk, out: &Out) -> Result<(), Problem> {
    for one in desk.unsized_files() {
        out.say(format!("The size of {} is not known.", styled(STRONG, &one.file)))?;
        for (place, error) in one.asked {
            let why = error.map_or_else(|| "it does not tell".to_owned(), |error| chain(&error));
            out.say(format!("  {}: {}", clean(&place), clean(&why)))?;
        }
    }
    Ok(())
}

/// What comes after pins that have changed.
pub(super) fn lead_on(out: &Out) -> Result<(), Problem> {
    out.say(format!("Next: {}", styled(TOLD, "kladder climb")))
}

fn limits(options: &PinOptions) -> Limits {
    options.within.map_or_else(Limits::default, |seconds| Limits::within(Duration::from_secs(seconds)))
}

fn moves(desk: &Desk, options: &PinOptions) -> Result<Moves, Problem> {
    let mut moves = Moves::default();
    let is_rung = |name: &str| desk.old.as_ref().is_some_and(|pins| pins.rungs.contains_key(name));
    // A library was let go when the desk was opened.
    let rungs = options.moves.iter().filter(|name| is_rung(name) || !desk.has_library(name));
    for text in rungs {
        match text.split_once('=') {
            None => moves.tools.push(name(text)?),
            Some((tool, version)) => moves.exact.push((name(tool)?, exact(version)?)),
        }
    }
    Ok(moves)
}

pub(super) fn name(text: &str) -> Result<ToolName, Problem> {
    text.parse().map_err(|error| Problem::new(Code::Usage, format!("{error}")))
}

fn exact(text: &str) -> Result<Version, Problem> {
    text.parse().map_err(|error| {
        Problem::new(Code::Usage, format!("{error}"))
            .next("write `--move TOOL=VERSION`, or `--move TOOL` for the newest")
    })
}

/// Whether the pins on file are what the ladder and the catalog ask for. No host is asked, so that the answer is the same
/// on every machine.
fn check(desk: &Desk, out: &Out, options: &PinOptions) -> Result<ExitCode, Problem> {
    let path = desk.ladder.pins_path();
    let stale =
        |what: String| Problem::new(Code::PinsStale, what).at(&path).next("`kladder pin`, then commit the file");
    let Some(old) = &desk.old else { return Err(stale("there are no pins".into())) };
    let pins = choose(desk, &Pinned(old), &Moves::default(), limits(options))?;
    let differs: Vec<Shift> = shifts(old, &pins, "");
    if pins.rungs == old.rungs && pins.ladder == old.ladder && pins.left_out == old.left_out {
        out.value(&shapes::Pin::of(&pins, Some(old), shapes::path(&path), false, &[]))?;
        out.say(format!("{} pinned in {}, as the ladder asks for.", count(pins.rungs.len(), "rung"), shown(&path)))?;
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
        (None, None) => tool.to_string(),
    }
}

/// A rung before and after; one that was left out has no version now.
struct Moved<'a> {
    tool: &'a ToolName,
    now: Option<&'a Version>,
    was: Option<&'a Version>,
}

fn moves_between<'a>(old: Option<&'a Pins>, pins: &'a Pins) -> Vec<Moved<'a>> {
    let before = |tool: &ToolName| old.and_then(|old| old.rungs.get(tool)).map(|pin| &pin.version);
    let now = pins.rungs.iter().map(|(tool, pin)| Moved { tool, now: Some(&pin.version), was: before(tool) });
    let gone = old.into_iter().flat_map(|old| &old.rungs).filter(|(tool, _)| !pins.rungs.contains_key(*tool));
    now.chain(gone.map(|(tool, pin)| Moved { tool, now: None, was: Some(&pin.version) })).collect()
}

fn rows(Moved { tool, now, was }: &Moved<'_>, pins: &Pins) -> Vec<Vec<String>> {
    let mut rows = Vec::new();
    let note = match (now, was) {
        (Some(_), None) => "new".to_owned(),
        (Some(_), Some(was)) => format!("was {was}"),
        (None, _) => "not needed any more".to_owned(),
    };
    let version = now.or(*was).map(Version::to_string).unwrap_or_default();
    rows.push(vec![styled(STRONG, tool), version, styled(FAINT, note)]);
    let Some(pin) = pins.rungs.get(*tool) else { return rows };
    for (platform, version) in &pin.elsewhere {
        rows.push(vec![String::new(), version.to_string(), styled(FAINT, format!("on {platform}"))]);
    }
    if !pin.on.is_empty() {
        let note = format!("only on {}", plain(&pin.on).join(", "));
        rows.push(vec![String::new(), String::new(), styled(FAINT, note)]);
    }
    for (private, pin) in &pin.private {
        let note = format!("{private} that {tool} keeps to itself");
        rows.push(vec![String::new(), pin.version.to_string(), styled(FAINT, note)]);
    }
    rows
}
