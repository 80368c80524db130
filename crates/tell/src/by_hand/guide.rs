//! The guide: Markdown, bottom rung first, with what only a person can do marked so.

use std::fmt::Write;

use kladder_choose::catalog::Gate;
use kladder_choose::ladder::Ladder;
use kladder_choose::platform::Platform;
use kladder_core::climb::route::Route;
use kladder_core::tasks::Rung;

use super::steps::{self, Addresses, Step, Steps};
use crate::text::{bytes, clean};
use crate::words;

/// What stands before a step that no program can take for a person.
const YOURS: &str = "**Only you can do this:** ";

/// The guide of a route, for a platform; `addresses` tells where files are to be had.
pub fn guide(ladder: &Ladder, platform: &Platform, route: &Route, addresses: Addresses<'_>) -> String {
    let all = steps::of(route, addresses);
    let mut out = format!("# {}, by hand\n\n", clean(&ladder.title));
    let _ = writeln!(
        out,
        "For {platform}, {}, bottom rung first: each stands on those before it. `TOOLS` is a folder of yours; commands are put into its \
         `bin`, which comes first on your `PATH`.\n\n\
         ```sh\nTOOLS=${{TOOLS:-~/tools}}\nmkdir -p \"$TOOLS/bin\"\nexport PATH=\"$TOOLS/bin:$PATH\"\n```\n",
        steps::many(&all)
    );
    before(&mut out, route);
    let sum = if platform.as_str().starts_with("macos") { "shasum -a 256" } else { "sha256sum" };
    for (at, steps) in all.iter().enumerate() {
        rung(&mut out, at + 1, steps, sum);
    }
    out.push_str(
        "## Afterwards\n\nPut the lines that begin with `export` into the file that your shell reads at its start.\n",
    );
    out
}

/// Gates and licences: all of them, whatever this machine has done already.
fn before(out: &mut String, route: &Route) {
    let mut lines: Vec<String> = Vec::new();
    for rung in &route.rungs {
        let says = &rung.definition.says;
        lines.extend(says.gates.iter().map(|one| gate(rung, one)));
        let licences = says.licences.iter();
        lines.extend(licences.map(|id| format!("- {YOURS}read the licence {} of {}, and decide", clean(id), rung.key)));
    }
    if !lines.is_empty() {
        let _ = writeln!(out, "## Before you begin\n\n{}\n", lines.join("\n"));
    }
}

fn gate(rung: &Rung, gate: &Gate) -> String {
    let who = gate.who().map(|who| format!(" ({})", words::who(who))).unwrap_or_default();
    let mark = if gate.who().is_some() { YOURS } else { "" };
    let mut out = format!("- {mark}{} needs {}{who}", rung.key, clean(&words::demanded(&gate.demand)));
    for line in gate.person.iter().chain(&gate.advice) {
        let _ = write!(out, "\n  {}", clean(line));
    }
    for command in &gate.admin {
        let _ = write!(out, "\n  As administrator: `{}`", clean(command));
    }
    out
}

fn rung(out: &mut String, number: usize, steps: &Steps, sum: &str) {
    let _ = writeln!(out, "## {number}. {}\n\n{}\n", steps.title, steps.about);
    for step in &steps.all {
        match step {
            Step::Note(text) => _ = writeln!(out, "{text}\n"),
            Step::Left(text) => _ = writeln!(out, "By hand: {text}.\n"),
            Step::Do { what, commands } => _ = writeln!(out, "{what}\n\n```sh\n{}\n```\n", commands.join("\n")),
            Step::Fetch { name, size, sha256, from, visit, .. } => {
                let from: Vec<String> = from.iter().map(|from| format!("`{}`", clean(from))).collect();
                let _ = match visit {
                    Some(visit) => writeln!(out, "{YOURS}{}. Compare its digest:\n", clean(visit)),
                    None if from.is_empty() => {
                        writeln!(out, "Take `{name}`, {}, from a yard, and compare its digest:\n", bytes(*size))
                    }
                    None => {
                        let from = from.join(" or ");
                        writeln!(out, "Fetch `{name}`, {}, from {from}, and compare its digest:\n", bytes(*size))
                    }
                };
                let _ = writeln!(out, "```sh\necho '{sha256}  {name}' | {sum} -c\n```\n");
            }
        }
    }
}
