//! Problems as text and as JSON.

use std::fmt::Write as _;

use kladder_choose::document::Place;
use kladder_tell::problem::{Problem, Where};
use kladder_tell::shapes;
use kladder_tell::text::{clean, shortened};
use unicode_width::UnicodeWidthStr;

use super::text::{BAD, FAINT, STRONG, TOLD, shown, styled, wrapped};

/// Columns that labels take.
const LABEL: usize = 9;
/// Columns that a line of a file may take where nobody knows the terminal's.
const WIDE: usize = 120;

/// Characters of a sentence that anybody reads; JSON has all of it.
const LONGEST: usize = 800;

/// The problem for people: what, where, why, next.
pub(super) fn text(problem: &Problem, width: Option<usize>) -> String {
    let mut out = String::new();
    let head = format!("{} {}", styled(BAD, "kladder:"), styled(STRONG, clean(&shortened(&problem.what, LONGEST))));
    out.push_str(&width.map_or_else(|| head.clone(), |width| wrapped(&head, width)));
    out.push('\n');
    let room = width.unwrap_or(WIDE).saturating_sub(LABEL).max(20);
    match &problem.place {
        Where::Nowhere => {}
        Where::File(path) => push(&mut out, "where", &[shown(path)]),
        Where::Places(places) => {
            let digits = places.iter().map(|place| place.line.to_string().len()).max().unwrap_or(1);
            let shown: Vec<String> = places.iter().flat_map(|at| place(at, digits, room)).collect();
            push(&mut out, "where", &shown);
        }
    }
    lines(&mut out, "why", &problem.why, width.map(|_| room));
    lines(&mut out, "next", &problem.next, width.map(|_| room));
    out
}

fn lines(out: &mut String, label: &str, lines: &[String], room: Option<usize>) {
    let broken = |line: &String| {
        let line = clean(&shortened(line, LONGEST));
        let text = room.map_or(line.clone(), |room| wrapped(&line, room));
        text.lines().map(str::to_owned).collect::<Vec<_>>()
    };
    push(out, label, &lines.iter().flat_map(broken).collect::<Vec<_>>());
}

fn push(out: &mut String, label: &str, lines: &[String]) {
    for (at, line) in lines.iter().enumerate() {
        let label = if at == 0 { label } else { "" };
        let pad = " ".repeat(LABEL - 2 - label.len());
        // Writing to a string does not fail.
        let _ = writeln!(out, "  {}{pad}{line}", styled(FAINT, label));
    }
}

/// File, line and column; the line itself, its number `digits` wide; a mark under what is meant. Of a line that does not
/// fit, what is around the mark.
fn place(place: &Place, digits: usize, room: usize) -> Vec<String> {
    let number = format!("{:>digits$}", place.line);
    let room = room.saturating_sub(digits + 3).max(10);
    let before: Vec<char> = place.text.chars().take(place.column - 1).collect();
    let skip = (before.len() + place.length.min(room / 2)).saturating_sub(room.saturating_sub(1));
    let skip = skip.min(before.len());
    let lead = if skip > 0 { "…" } else { "" };
    let before: String = before[skip..].iter().collect();
    let meant: String = place.text.chars().skip(place.column - 1).take(place.length).collect();
    let text: String = place.text.chars().skip(skip).take(room - lead.chars().count()).collect();
    let indent = " ".repeat(clean(&before).width() + lead.chars().count());
    let space = room.saturating_sub(indent.len()).max(1);
    let mark = "^".repeat(clean(&meant).width().clamp(1, space));
    let gutter = " ".repeat(number.len());
    vec![
        format!("{}, line {}, column {}", shown(&place.path), place.line, place.column),
        format!("{} {lead}{}", styled(FAINT, format!("{number} |")), clean(&text)),
        format!("{gutter} {} {indent}{}", styled(FAINT, "|"), styled(TOLD, mark)),
    ]
}

/// The problem for programs.
pub(super) fn json(problem: &Problem) -> String {
    // Plain texts and numbers always have a form.
    serde_json::to_string_pretty(&shapes::Problem::of(problem)).unwrap_or_default() + "\n"
}
