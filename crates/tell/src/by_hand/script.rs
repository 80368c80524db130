//! The script: POSIX shell (IEEE 1003.1) and what machines have besides: tar, unzip where there are zips, and curl or wget.

use std::fmt::Write;

use kladder_choose::ladder::Ladder;
use kladder_choose::platform::Platform;
use kladder_core::climb::route::Route;

use super::steps::{self, Addresses, Step, Steps};
use crate::text::{clean, shell_word};

const HEAD: &str = r#"set -eu
TOOLS=${TOOLS:-"$HOME/tools"}
export PATH="$TOOLS/bin:$PATH"
mkdir -p "$TOOLS/bin" "$TOOLS/fetched"
cd "$TOOLS/fetched"

digest() {
    if command -v sha256sum > /dev/null; then sha256sum "$1"; else shasum -a 256 "$1"; fi | cut -d ' ' -f 1
}

# FILE DIGEST PATH [ADDRESS ...]: fetched unless it is there, from $YARD first where that is set: a folder or an address.
get() {
    file=$1 sum=$2 path=$3
    shift 3
    [ ! -f "$file" ] || [ "$(digest "$file")" != "$sum" ] || return 0
    [ -z "${YARD:-}" ] || set -- "$YARD/$path" "$@"
    for from; do
        rm -f "$file.part"
        case $from in
            http://* | https://*)
                if command -v curl > /dev/null; then curl -fsSL -o "$file.part" "$from"; else wget -q -O "$file.part" "$from"; fi || continue ;;
            *) cp "$from" "$file.part" || continue ;;
        esac
        if [ "$(digest "$file.part")" = "$sum" ]; then
            mv "$file.part" "$file"
            return 0
        fi
        echo "$from has other bytes than $file should have" >&2
    done
    echo "$file could not be fetched; put it into $TOOLS/fetched, or name a folder or address that has it: YARD=... $0" >&2
    exit 1
}
"#;

/// The script of a route, for a platform; `addresses` tells where files are to be had.
pub fn script(ladder: &Ladder, platform: &Platform, route: &Route, addresses: Addresses<'_>) -> String {
    let all = steps::of(route, addresses);
    let title = in_line(&ladder.title);
    let mut out =
        format!("#!/bin/sh\n# {title}, for {platform}, {}, bottom rung first; again is safe.\n", steps::many(&all));
    out.push_str(HEAD);
    let mut left_out = Vec::new();
    for steps in &all {
        rung(&mut out, steps, &mut left_out);
    }
    out.push_str("\ncat <<'END'\nAll rungs stand. Put this into the file that your shell reads at its start:\nEND\n");
    out.push_str("echo \"export PATH=\\\"$TOOLS/bin:\\$PATH\\\"\"\n");
    for line in all.iter().flat_map(exports) {
        let _ = writeln!(out, "echo \"{}\"", line.replace('\\', "\\\\").replace('"', "\\\""));
    }
    for note in &left_out {
        let _ = writeln!(out, "echo {} >&2", shell_word(format!("left to you: {note}")));
    }
    out
}

fn exports(steps: &Steps) -> Vec<String> {
    let commands = steps.all.iter().flat_map(|step| match step {
        Step::Do { commands, .. } => commands.as_slice(),
        _ => &[],
    });
    commands.filter(|command| command.starts_with("export ")).cloned().collect()
}

fn in_line(text: &str) -> String {
    clean(text).replace(['\n', '\r'], " ")
}

fn rung(out: &mut String, steps: &Steps, left_out: &mut Vec<String>) {
    let _ = writeln!(out, "\n# {}: {}", in_line(&steps.title), in_line(&steps.about));
    let _ = writeln!(out, "echo {}", shell_word(in_line(&steps.title)));
    for step in &steps.all {
        match step {
            Step::Fetch { name, path, sha256, from, visit, .. } => {
                if let Some(visit) = visit {
                    let _ = writeln!(out, "# {}", in_line(visit));
                }
                let from: String = from.iter().map(|from| format!(" {}", shell_word(from))).collect();
                let _ = writeln!(out, "get {} {sha256} {}{from}", shell_word(name), shell_word(path));
            }
            Step::Do { what, commands } => {
                let _ = writeln!(out, "# {}", in_line(what.trim_end_matches(':')));
                // What a check says is its own business; that it ends well is ours.
                let quiet = what.starts_with("See that");
                for command in commands {
                    let _ = writeln!(out, "{command}{}", if quiet { " > /dev/null" } else { "" });
                }
            }
            Step::Note(text) => _ = writeln!(out, "# {}", in_line(text)),
            Step::Left(text) => left_out.push(format!("{}: {text}", steps.title)),
        }
    }
}
