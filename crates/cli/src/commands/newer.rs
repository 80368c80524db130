//! `kladder newer`

use std::process::ExitCode;

use kladder_core::near::near;
use kladder_core::pins::{Choosing, HostTools, Limits, Moves, News, Passed, Pins};
use serde::Serialize;

use super::{climb, pin};
use crate::args::NewerOptions;
use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::reason::{moves, words};
use crate::render::text::{FAINT, STRONG, count, styled};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    rungs: Vec<RungShape>,
}

#[derive(Serialize)]
struct RungShape {
    tool: String,
    version: String,
    date: Option<String>,
    within: Option<NewShape>,
    in_series: Option<NewShape>,
    at_all: Option<NewShape>,
}

#[derive(Serialize)]
struct NewShape {
    version: String,
    date: Option<String>,
    /// The series, where that is what counts.
    series: Option<String>,
    /// What keeps it away; null where nothing does.
    kept_by: Option<String>,
}

pub(super) fn run(context: &Context, out: &Out, options: &NewerOptions) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, _) = opened.settle(context, out)?;
    let tools = asked_for(&pins, &options.tools)?;
    let host = HostTools::of(&context.host);
    if options.take {
        let moves = if options.tools.is_empty() {
            Moves { all: true, ..Moves::default() }
        } else {
            Moves { tools, ..Moves::default() }
        };
        let opened = Opened { old: Some(pins), ..opened };
        let pins = pin::choose(context, &opened, &host, &moves, Limits::default())?;
        pin::report(&opened, &pins, "", out)?;
        return climb::run(context, out, &options.climb);
    }
    let (Opened { ladder, catalog, .. }, here) = (&opened, &context.host.platform);
    let (none, limits) = (Moves::default(), Limits::default());
    let choosing = Choosing { ladder, catalog, here, host: &host, old: Some(&pins), moves: &none, limits };
    let news = tools.iter().filter_map(|tool| choosing.news(tool).transpose());
    let news = news.collect::<Result<Vec<News>, _>>().map_err(|error| Problem::from_pins(&error, &ladder.path))?;
    out.value(&Shape { format: "kladder.newer/1", rungs: news.iter().map(shape).collect() })?;
    show(&news, &options.tools, out)?;
    Ok(ExitCode::SUCCESS)
}

fn asked_for(pins: &Pins, named: &[String]) -> Result<Vec<String>, Problem> {
    if let Some(wrong) = named.iter().find(|tool| !pins.rungs.contains_key(*tool)) {
        let problem = Problem::new(Code::NotInCatalog, format!("`{wrong}` is no rung of this ladder"));
        let near = near(wrong, pins.rungs.keys().map(String::as_str));
        return Err(near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?"))));
    }
    Ok(if named.is_empty() { pins.rungs.keys().cloned().collect() } else { named.to_vec() })
}

fn show(news: &[News], named: &[String], out: &Out) -> Result<(), Problem> {
    let is_old = |news: &&News| news.within.is_some() || news.in_series.is_some() || news.at_all.is_some();
    let old: Vec<&News> = news.iter().filter(is_old).collect();
    for news in &old {
        out.say(format!("{} {}", styled(STRONG, &news.tool), dated(news.version.as_str(), news.date.as_deref())))?;
        for line in lines(news) {
            out.say(format!("  {line}"))?;
        }
    }
    let still = news.len() - old.len();
    let gap = if old.is_empty() { "" } else { "\n" };
    if still > 0 {
        out.say(format!(
            "{gap}Nothing newer is out for {}{}.",
            if old.is_empty() { "" } else { "the other " },
            count(still, "rung")
        ))?;
    }
    let ready = old.iter().filter(|news| news.within.is_some()).count();
    if ready > 0 {
        let gap = if still == 0 { "\n" } else { "" };
        let named: String = named.iter().map(|tool| format!(" {tool}")).collect();
        out.say(format!("{gap}`kladder newer --take{named}` moves {} and climbs.", count(ready, "rung")))?;
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
        format!("{version} is the newest{what}, but {}", words(&news.tool, &passed.reason))
    };
    lines.extend(news.in_series.iter().map(|(series, passed)| kept(passed, format!(" in {series}"))));
    lines.extend(news.at_all.iter().map(|passed| kept(passed, String::new())));
    lines
}

fn dated(version: &str, date: Option<&str>) -> String {
    let date = date.map(|date| styled(FAINT, format!(" of {date}"))).unwrap_or_default();
    format!("{version}{date}")
}

fn shape(news: &News) -> RungShape {
    let kept = |passed: &Passed, series: Option<String>| NewShape {
        version: passed.version.to_string(),
        date: passed.date.clone(),
        series,
        kept_by: Some(words(&news.tool, &passed.reason)),
    };
    RungShape {
        tool: news.tool.clone(),
        version: news.version.to_string(),
        date: news.date.clone(),
        within: news.within.as_ref().map(|(version, date, _)| NewShape {
            version: version.to_string(),
            date: date.clone(),
            series: None,
            kept_by: None,
        }),
        in_series: news.in_series.as_ref().map(|(series, passed)| kept(passed, Some(series.clone()))),
        at_all: news.at_all.as_ref().map(|passed| kept(passed, None)),
    }
}
