//! `kladder pin`

use std::process::ExitCode;

use kladder_core::pins::{Freshness, Pins};
use serde::Serialize;

use crate::context::{Context, Opened, shown};
use crate::problem::Problem;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, columns, count, styled};

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
    /// The version that was pinned before; null for a new rung.
    was: Option<&'a str>,
}

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, freshness) = opened.settle(context, out)?;
    let changed = write(&opened, &pins)?;
    let file = shown(&opened.ladder.pins_path());
    out.value(&shape(&opened, &pins, file.clone(), changed))?;
    let moved = moves(&opened, &pins);
    if !changed {
        out.say(format!("{} pinned in {file}; nothing moved.", count(pins.rungs.len(), "rung")))?;
        return Ok(ExitCode::SUCCESS);
    }
    let why = if freshness == Freshness::Stale { ", since the ladder has changed" } else { "" };
    out.say(columns(&["rung", "version", ""], rows(&moved), &[]))?;
    out.say(format!("\n{} pinned in {file}{why}.", count(pins.rungs.len(), "rung")))?;
    Ok(ExitCode::SUCCESS)
}

/// Writes the pins beside their ladder.
pub(super) fn write(opened: &Opened, pins: &Pins) -> Result<bool, Problem> {
    Ok(pins.write(&opened.ladder.pins_path())?)
}

/// Tool, version now, version before; rungs that were left out come last, without a version now.
type Move<'a> = (&'a str, Option<&'a str>, Option<&'a str>);

fn moves<'a>(opened: &'a Opened, pins: &'a Pins) -> Vec<Move<'a>> {
    let old = opened.old.as_ref();
    let before = |tool: &str| old.and_then(|old| old.rungs.get(tool)).map(|pin| pin.version.as_str());
    let now = pins.rungs.iter().map(|(tool, pin)| (tool.as_str(), Some(pin.version.as_str()), before(tool)));
    let gone = old.iter().flat_map(|old| &old.rungs).filter(|(tool, _)| !pins.rungs.contains_key(*tool));
    now.chain(gone.map(|(tool, pin)| (tool.as_str(), None, Some(pin.version.as_str())))).collect()
}

fn rows(moved: &[Move<'_>]) -> Vec<Vec<String>> {
    let row = |(tool, now, was): &Move<'_>| {
        let note = match (now, was) {
            (Some(_), None) => "new".to_owned(),
            (Some(now), Some(was)) if now == was => "stays".to_owned(),
            (Some(_), Some(was)) => format!("was {was}"),
            (None, _) => "not needed any more".to_owned(),
        };
        vec![styled(STRONG, tool), now.or(*was).unwrap_or_default().to_owned(), styled(FAINT, note)]
    };
    moved.iter().map(row).collect()
}

fn shape<'a>(opened: &'a Opened, pins: &'a Pins, file: String, changed: bool) -> Shape<'a> {
    let moved = moves(opened, pins);
    let kept = moved.iter().filter_map(|&(tool, now, was)| Some(PinnedShape { tool, version: now?, was }));
    let left = moved.iter().filter(|(_, now, _)| now.is_none()).map(|&(tool, _, _)| tool);
    Shape { format: "kladder.pin/1", file, changed, rungs: kept.collect(), left: left.collect() }
}
