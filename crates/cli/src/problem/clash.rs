//! A clash of wishes in sentences.

use std::path::Path;

use kladder_core::document::Place;
use kladder_core::ladder::{HostPolicy, Terms};
use kladder_core::pins::{Change, ClashReport, ClashingWish, Step, WayOut, Withheld};
use kladder_core::version::Version;

use super::explain::{either, plain};
use super::{Code, Problem};
use crate::render::text::count;

/// More sentences than these hide the wishes.
const SENTENCES: usize = 12;

pub(super) fn problem(report: &ClashReport, ladder: &Path) -> Problem {
    let what = match report.wishes.as_slice() {
        [only] => format!("nothing meets the wish for {}", only.tool),
        _ => "these wishes cannot be met together".to_owned(),
    };
    let mut problem = Problem::new(Code::NoSolution, what);
    let placed: Vec<&Place> = report.wishes.iter().filter(|wish| wish.position.is_some()).map(|w| &w.place).collect();
    problem = if placed.is_empty() { problem.at(ladder) } else { placed.into_iter().fold(problem, Problem::at_place) };
    for line in sentences(report) {
        problem = problem.why(line);
    }
    report.ways_out.iter().fold(problem, |problem, way| problem.next(way_out(way, report)))
}

/// The links of a clash, from the wishes on.
pub(crate) fn sentences(report: &ClashReport) -> Vec<String> {
    let asked = report.wishes.iter().filter(|wish| wish.position.is_none());
    let asked = asked.map(|wish| format!("{} was asked to move to {}", wish.tool, wish.range));
    let mut lines: Vec<String> = asked.chain(report.steps.iter().map(sentence)).collect();
    if lines.len() > SENTENCES {
        let left = lines.split_off(SENTENCES).len();
        lines.push(format!("and {left} more like these"));
    }
    lines
}

fn sentence(step: &Step) -> String {
    match step {
        Step::Needs { tool, kept_by, versions, need, on } => {
            let kept = kept_by.iter().map(|owner| format!(", kept by {owner},")).collect::<String>();
            let on = if on.is_empty() { String::new() } else { format!(" (seen on {})", plain(on).join(", ")) };
            format!("{tool} {}{kept} needs {need}{on}", listed(versions))
        }
        Step::Excludes { tool, versions, other } => {
            format!("{tool} {} does not stand beside {other}", listed(versions))
        }
        Step::Withheld { tool, versions, why } => format!("{tool} {} {}", listed(versions), withheld(versions, why)),
        Step::NotThere { tool, range, newest: Some(newest) } => {
            format!("the catalog has no {tool} {range}; its newest is {newest}")
        }
        Step::NotThere { tool, range, newest: None } => format!("the catalog has no {tool} {range}"),
        Step::SeriesEnds { tool, series, newest } => format!("the {series} series of {tool} goes up to {newest}"),
    }
}

fn withheld(versions: &[Version], why: &Withheld) -> String {
    let one = versions.len() == 1;
    match why {
        Withheld::Preview if one => "would do, but is a preview, and none was asked for".into(),
        Withheld::Preview => "would do, but are previews, and none was asked for".into(),
        Withheld::NoArtifact(platforms) => {
            format!("{} no artifact for {}", if one { "has" } else { "have" }, either(&plain(platforms)))
        }
        Withheld::NoPiece(pieces) => format!("{} no piece {}", if one { "has" } else { "have" }, either(pieces)),
        Withheld::HostOnly => "may not be taken: the wish asks for what this host has".into(),
    }
}

/// `1.5.0`; `1.5.0 and 1.4.3`; `1.5.0 down to 1.2.0 (7 releases)`.
pub(crate) fn listed(newest_first: &[Version]) -> String {
    match newest_first {
        [] => String::new(),
        [one] => one.to_string(),
        [new, old] => format!("{new} and {old}"),
        [new, .., old] => format!("{new} down to {old} ({})", count(newest_first.len(), "release")),
    }
}

fn way_out(way: &WayOut, report: &ClashReport) -> String {
    let wish = |at: usize| report.wishes.iter().find(|wish| wish.position == Some(at));
    let taken = way.takes.as_ref().map(|(tool, version)| format!(", with {tool} {version}")).unwrap_or_default();
    let moved = if way.moved == 0 { String::new() } else { format!("; {} would move", count(way.moved, "pin")) };
    let change = match &way.change {
        Change::Range { wish: at, range } => {
            let terms = Terms { range: range.clone(), host: HostPolicy::Allow };
            on_line(wish(*at), |wish| format!("`{} = {}`", key(&wish.tool), terms.to_value().to_string().trim()))
        }
        Change::Host { wish: at } => on_line(wish(*at), |wish| format!("{} without its `host`", wish.tool)),
        Change::Platform(platform) => format!("without {platform} in `platforms` it can be done"),
        Change::Leave { wish: at } => on_line(wish(*at), |wish| format!("leaving out {}", wish.tool)),
    };
    format!("{change}{taken}{moved}")
}

fn on_line(wish: Option<&ClashingWish>, say: impl Fn(&ClashingWish) -> String) -> String {
    wish.map_or_else(String::new, |wish| format!("{} on line {} solves it", say(wish), wish.place.line))
}

/// A tool's name as a key of TOML.
fn key(tool: &str) -> String {
    let bare = tool.chars().all(|c| c.is_ascii_alphanumeric() || "_-".contains(c));
    if bare { tool.to_owned() } else { format!("\"{tool}\"") }
}
