//! A clash of wishes in sentences.

use std::path::Path;

use kladder_choose::document::Place;
use kladder_choose::ladder::{HostPolicy, Range, Terms};
use kladder_choose::pins::{Change, ClashReport, Step, WayOut, Withheld};
use kladder_choose::version::{Requirement, Version};

use crate::problem::{Code, Problem};
use crate::text::{count, either};
use crate::words::demanded;

/// More sentences than these hide the wishes.
const SENTENCES: usize = 12;

pub(crate) fn problem(report: &ClashReport, ladder: &Path) -> Problem {
    let moving = report.wishes.iter().find(|wish| wish.position.is_none());
    let what = match (moving, report.wishes.as_slice()) {
        (Some(moving), _) => format!("{} cannot move to {}", moving.tool, bare(&moving.range)),
        (None, [only]) => format!("nothing meets the wish for {}", only.tool),
        _ => "these wishes cannot be met together".to_owned(),
    };
    let mut problem = Problem::new(Code::NoSolution, what);
    let placed: Vec<&Place> = report.wishes.iter().filter(|wish| wish.position.is_some()).map(|w| &w.place).collect();
    problem = if placed.is_empty() { problem.at(ladder) } else { placed.into_iter().fold(problem, Problem::at_place) };
    for line in sentences(report) {
        problem = problem.why(line);
    }
    for step in &report.steps {
        if let Step::NotOnHost { absent, .. } = step {
            problem = absent.chores.iter().fold(problem, super::host::brought_by_hand);
        }
    }
    report.ways_out.iter().fold(problem, |problem, way| problem.next(way_out(way)))
}

/// The links of a clash, from the wishes on.
pub fn sentences(report: &ClashReport) -> Vec<String> {
    let mut lines: Vec<String> = report.steps.iter().map(sentence).collect();
    if lines.len() > SENTENCES {
        let left = lines.split_off(SENTENCES).len();
        lines.push(format!("and {left} more like these"));
    }
    lines
}

/// The version of a range that names just one.
fn bare(range: &Range) -> String {
    range.to_string().trim_start_matches('=').to_owned()
}

/// What a wish asks for: `skerroc 1.4`, `the long-term series of tidlow`.
pub fn wished(name: &str, range: &Range) -> String {
    match &range.series {
        Some(series) if range.requirement == Requirement::any() && range.pieces.is_empty() => {
            format!("the {series} series of {name}")
        }
        _ => format!("{name} {range}"),
    }
}

fn sentence(step: &Step) -> String {
    match step {
        Step::Needs { tool, kept_by, versions, need, from } => {
            let kept = kept_by.iter().map(|owner| format!(", kept by {owner},")).collect::<String>();
            let verb = if versions.len() == 1 { "needs" } else { "need" };
            let from = if from.is_empty() { String::new() } else { format!(" (from {})", either(from)) };
            format!("{tool} {}{kept} {verb} {need}{from}", listed(versions))
        }
        Step::Excludes { tool, versions, other, from } => {
            let verb = if versions.len() == 1 { "does" } else { "do" };
            let from = from.iter().map(|from| format!(", which {from} provides")).collect::<String>();
            format!("{tool} {} {verb} not stand beside {other}{from}", listed(versions))
        }
        Step::Withheld { tool, versions, why } => format!("{tool} {} {}", listed(versions), withheld(versions, why)),
        Step::Brings { tool, versions, brought } => {
            let verb = if versions.len() == 1 { "brings" } else { "bring" };
            format!("{tool} {} {verb} {brought} along, which does not stand beside it then", listed(versions))
        }
        Step::NotThere { tool, provided: None, range, newest: Some(newest) } => {
            format!("the catalog has no {tool} {range}; its newest is {newest}")
        }
        Step::NotThere { tool, provided: None, range, newest: None } => format!("the catalog has no {tool} {range}"),
        Step::NotThere { tool, provided: Some(name), range, newest } => {
            let newest = newest.iter().map(|newest| format!("; the newest that it provides is {newest}"));
            format!("no {tool} provides {name} {range}{}", newest.collect::<String>())
        }
        Step::NotOnHost { tool, range, absent } => {
            let told = super::host::absent(absent).join("; ");
            format!("only this host could have {tool}, and has none that is {range}: {told}")
        }
        Step::SeriesEnds { tool, series, newest } => format!("the {series} series of {tool} goes up to {newest}"),
    }
}

fn withheld(versions: &[Version], why: &Withheld) -> String {
    let one = versions.len() == 1;
    match why {
        Withheld::Preview if one => "would do, but is a preview, and none was asked for".into(),
        Withheld::Preview => "would do, but are previews, and none was asked for".into(),
        Withheld::NoArtifact(platforms) => {
            format!("{} no artifact for {}", if one { "has" } else { "have" }, either(platforms))
        }
        Withheld::Gate { machine, demand } => {
            format!("{} {}, which {machine} does not have", if one { "needs" } else { "need" }, demanded(demand))
        }
        Withheld::NoPiece(pieces) => format!("{} no piece {}", if one { "has" } else { "have" }, either(pieces)),
        Withheld::HostOnly => "may not be taken: the wish asks for what this host has".into(),
    }
}

/// `1.5.0`; `1.5.0 and 1.4.3`; `1.5.0 down to 1.2.0 (7 releases)`.
pub fn listed(newest_first: &[Version]) -> String {
    match newest_first {
        [] => String::new(),
        [one] => one.to_string(),
        [new, old] => format!("{new} and {old}"),
        [new, .., old] => format!("{new} down to {old} ({})", count(newest_first.len(), "release")),
    }
}

fn way_out(way: &WayOut) -> String {
    let taken = way.takes.as_ref().map(|(tool, version)| format!(", with {tool} {version}")).unwrap_or_default();
    let moved = if way.moved == 0 { String::new() } else { format!("; {} would move", count(way.moved, "pin")) };
    let (tool, line, host) =
        way.wish.as_ref().map_or(("", 0, HostPolicy::Allow), |w| (w.tool.as_str(), w.line, w.host));
    let change = match &way.change {
        Change::Range { range, .. } => format!("{} on line {line} solves it", assigned(tool, range, host)),
        Change::Add { tool, range } => {
            format!("{} as one more wish solves it", assigned(tool, range, HostPolicy::Allow))
        }
        Change::Host { .. } => format!("{tool} without its `host` on line {line} solves it"),
        Change::Machine(kind) => format!("without the machines of {kind} it can be done"),
        Change::Leave { .. } => format!("leaving out {tool} on line {line} solves it"),
    };
    format!("{change}{taken}{moved}")
}

/// A wish as it would stand in the ladder.
fn assigned(tool: &str, range: &Range, host: HostPolicy) -> String {
    let terms = Terms { range: range.clone(), host };
    format!("`{} = {}`", key(tool), terms.to_value().to_string().trim())
}

/// A tool's name as a key of TOML.
fn key(tool: &str) -> String {
    let bare = tool.chars().all(|c| c.is_ascii_alphanumeric() || "_-".contains(c));
    if bare { tool.to_owned() } else { format!("\"{tool}\"") }
}
