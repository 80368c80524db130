//! Problems as text and as JSON.

use std::fmt::Write as _;

use kladder_core::document::Place;
use serde_json::json;
use unicode_width::UnicodeWidthStr;

use super::text::{BAD, FAINT, STRONG, TOLD, clean, shown, styled};
use crate::problem::{Problem, Where};

const LABEL: usize = 7;

/// The problem for people: what, where, why, next.
pub(super) fn text(problem: &Problem) -> String {
    let mut out = format!("{} {}\n", styled(BAD, "kladder:"), styled(STRONG, clean(&problem.what)));
    match &problem.place {
        Where::Nowhere => {}
        Where::File(path) => lines(&mut out, "where", &[shown(path)]),
        Where::Places(places) => {
            let width = places.iter().map(|place| place.line.to_string().len()).max().unwrap_or(1);
            let shown: Vec<String> = places.iter().flat_map(|at| place(at, width)).collect();
            push(&mut out, "where", &shown);
        }
    }
    lines(&mut out, "why", &problem.why);
    lines(&mut out, "next", &problem.next);
    out
}

fn lines(out: &mut String, label: &str, lines: &[String]) {
    push(out, label, &lines.iter().map(|line| clean(line)).collect::<Vec<_>>());
}

fn push(out: &mut String, label: &str, lines: &[String]) {
    for (at, line) in lines.iter().enumerate() {
        let label = if at == 0 { label } else { "" };
        let pad = " ".repeat(LABEL - label.len());
        // Writing to a string does not fail.
        let _ = writeln!(out, "  {}{pad}{line}", styled(FAINT, label));
    }
}

/// File, line and column; the line itself, its number `width` wide; a mark under what is meant.
fn place(place: &Place, width: usize) -> Vec<String> {
    let number = format!("{:>width$}", place.line);
    let before: String = place.text.chars().take(place.column - 1).collect();
    let meant: String = place.text.chars().skip(place.column - 1).take(place.length).collect();
    let indent = " ".repeat(clean(&before).width());
    let mark = "^".repeat(clean(&meant).width().max(1));
    let gutter = " ".repeat(number.len());
    vec![
        format!("{}, line {}, column {}", clean(&shown(&place.path)), place.line, place.column),
        format!("{} {}", styled(FAINT, format!("{number} |")), clean(&place.text)),
        format!("{gutter} {} {indent}{}", styled(FAINT, "|"), styled(TOLD, mark)),
    ]
}

/// The problem for programs.
pub(super) fn json(problem: &Problem) -> String {
    let spot = |place: &Place| json!({ "file": place.path, "line": place.line, "column": place.column });
    let places = match &problem.place {
        Where::Nowhere => Vec::new(),
        Where::File(path) => vec![json!({ "file": path })],
        Where::Places(places) => places.iter().map(spot).collect(),
    };
    let value = json!({
        "format": "kladder.problem/1",
        "code": problem.code as u8,
        "what": problem.what,
        "where": places,
        "why": problem.why,
        "next": problem.next,
    });
    format!("{value:#}\n")
}
