//! `kladder newer`

use std::process::ExitCode;

use kladder_choose::names::ToolName;
use kladder_choose::near::near;
use kladder_choose::pins::{Choosing, Limits, Moves, News, Passed, Pins, PinsError, shifts};
use kladder_core::desk::{Desk, LibraryMove};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{clean, count};
use kladder_tell::words::{moves, reason};

use super::{climb, pin};
use crate::args::NewerOptions;
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, styled};

pub(super) fn run(context: &Context, out: &Out, options: &NewerOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let tools = asked_for(&desk, &pins, &options.tools)?;
    let moving = sets_moving(context, &desk, &options.tools);
    if let Err(problem) = &moving {
        out.say(format!("Libraries are not looked up: {}", clean(&problem.what)))?;
    }
    let libraries = moving.as_ref().map_or_else(|_| Vec::new(), Desk::library_moves);
    let desk = if options.take { moving? } else { desk };
    let desk = Desk { old: Some(pins), ..desk };
    let host = desk.host_tools();
    let none = Moves::default();
    let choosing = desk.choosing(&host, &none, Limits::default());
    let failed = |error: PinsError| Problem::from_pins(&error, &desk.ladder.path);
    let all = options.tools.is_empty();
    let moves = if all { Moves { all, ..Moves::default() } } else { choosing.taking(&tools).map_err(failed)? };
    if options.take {
        let pins = pin::choose(&desk, &host, &moves, Limits::default())?;
        pin::report(&desk, &pins, "", out)?;
        return climb::run(context, out, &options.climb);
    }
    let news = tools.iter().filter_map(|tool| choosing.news(tool).transpose());
    let news = news.collect::<Result<Vec<News>, _>>().map_err(failed)?;
    out.value(&shapes::Newer::of(&news, &libraries))?;
    let taken = Choosing { moves: &moves, ..choosing }.pins().map_err(failed)?;
    let moved = desk.old.as_ref().map_or(0, |old| shifts(old, &taken, "").len());
    show(&news, moved + usize::from(!libraries.is_empty()), &libraries, &options.tools, out)?;
    Ok(ExitCode::SUCCESS)
}

/// The desk with every library let go, or those that are named, alone or by their sets.
fn sets_moving(context: &Context, desk: &Desk, named: &[String]) -> Result<Desk, Problem> {
    let all = || desk.ladder.sets.iter().map(|set| set.name.to_string()).collect();
    let moving: Vec<String> = if named.is_empty() { all() } else { named.to_vec() };
    context.open_moving(&moving)
}

fn asked_for(desk: &Desk, pins: &Pins, named: &[String]) -> Result<Vec<ToolName>, Problem> {
    let is_there = |tool: &&String| pins.rungs.contains_key(tool.as_str()) || desk.has_library(tool);
    if let Some(wrong) = named.iter().find(|tool| !is_there(tool)) {
        let problem = Problem::new(Code::NotInCatalog, format!("`{wrong}` is no rung of this ladder"));
        let near = near(wrong, pins.rungs.keys().map(ToolName::as_str));
        if near.is_empty() {
            return Err(problem.next("`kladder newer` lists what can be taken"));
        }
        return Err(near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?"))));
    }
    let is_meant = |tool: &&ToolName| named.is_empty() || named.iter().any(|named| **tool == *named);
    Ok(pins.rungs.keys().filter(is_meant).cloned().collect())
}

fn show(news: &[News], moved: usize, libraries: &[LibraryMove], named: &[String], out: &Out) -> Result<(), Problem> {
    let is_old = |news: &&News| news.within.is_some() || news.in_series.is_some() || news.at_all.is_some();
    let old: Vec<&News> = news.iter().filter(is_old).collect();
    for news in &old {
        out.say(format!("{} {}", styled(STRONG, &news.tool), dated(news.version.as_str(), news.date.as_deref())))?;
        for line in lines(news) {
            out.say(format!("  {line}"))?;
        }
    }
    for line in super::libraries::would(libraries) {
        out.say(line)?;
    }
    let still = news.len() - old.len();
    let gap = if old.is_empty() && libraries.is_empty() { "" } else { "\n" };
    if still > 0 {
        out.say(format!(
            "{gap}Nothing newer is out for {}{}.",
            if old.is_empty() { "" } else { "the other " },
            count(still, "rung")
        ))?;
    }
    if moved > 0 {
        let gap = if still == 0 { "\n" } else { "" };
        let named: String = named.iter().map(|tool| format!(" {tool}")).collect();
        out.say(format!("{gap}`kladder newer --take{named}` moves {} and climbs.", count(moved, "rung")))?;
    }
    Ok(())
}

fn lines(news: &News) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some((version, date, shifts)) = &news.within {
        let along = if shifts.is_empty() { String::new() } else { format!("; {}", moves(shifts)) };
        lines.push(format!("{} fits the ladder{along}", dated(version.as_str(), date.as_deref())));
    }
    let kept = |passed: &Passed, what: String| {
        let version = dated(passed.version.as_str(), passed.date.as_deref());
        format!("{version} is the newest{what}, but {}", reason(&news.tool, &passed.reason))
    };
    lines.extend(news.in_series.iter().map(|(series, passed)| kept(passed, format!(" in {series}"))));
    lines.extend(news.at_all.iter().map(|passed| kept(passed, String::new())));
    lines
}

fn dated(version: &str, date: Option<&str>) -> String {
    let date = date.map(|date| styled(FAINT, format!(" of {date}"))).unwrap_or_default();
    format!("{version}{date}")
}
