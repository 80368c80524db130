//! Verifying fifty rungs with four checks each: one after the other and side by side, beside the same two hundred commands bare.
//!
//! `cargo bench -p kladder --bench verifies`. Runs take turns; figures are medians, ratios are taken round by round.

#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use kladder_core::base::digest::of_file;
use kladder_pack::{Entry, Format, pack};

const RUNGS: usize = 50;
const CHECKS: usize = 4;
const RUNS: usize = 7;
/// Some ten milliseconds of work, as a compiler's version or a small build takes.
const SCRIPT: &str = "#!/bin/sh\nn=0\nwhile [ $n -lt 4000 ]; do n=$((n + 1)); done\necho \"tide $1 $n\"\n";

fn main() {
    let made = tempfile::Builder::new().prefix("kladder-bench-").tempdir().unwrap();
    let folder = made.path();
    lay(folder);
    let kladder = |arguments: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_kladder"));
        command.args(arguments).current_dir(folder).env("KLADDER_HOME", folder.join("home")).stdout(Stdio::null());
        timed(&mut command)
    };
    kladder(&["climb", "--quiet"]);
    let ways: [(&str, &[&str]); 4] = [
        ("one after the other", &["verify", "--jobs", "1"]),
        ("as much as there are cores", &["verify"]),
        ("again, nothing changed", &["verify"]),
        ("again with --deep", &["verify", "--deep"]),
    ];
    kladder(&["verify", "--deep"]);
    let mut times = vec![Vec::new(); ways.len() + 1];
    for _ in 0..RUNS {
        for ((_, arguments), times) in ways.iter().zip(&mut times) {
            times.push(kladder(arguments));
        }
        times[ways.len()].push(bare(folder));
    }
    let ratio = |of: &[Duration], to: &[Duration]| {
        let mut all: Vec<f64> = of.iter().zip(to).map(|(of, to)| of.div_duration_f64(*to)).collect();
        all.sort_unstable_by(f64::total_cmp);
        all[all.len() / 2]
    };
    println!("{RUNGS} rungs, {} checks", RUNGS * CHECKS);
    let (first, bare) = (&times[0], &times[ways.len()]);
    println!("{:28} {:6.2?}", "the commands bare", median(bare.clone()));
    for ((name, _), of) in ways.iter().zip(&times) {
        let (to_bare, to_one) = (ratio(of, bare), ratio(of, first));
        println!("{name:28} {:6.2?}  {to_bare:.2} x bare, {to_one:.2} x one after the other", median(of.clone()));
    }
}

/// A catalog, a yard and a ladder.
fn lay(folder: &Path) {
    for sub in ["catalog/tools", "yard"] {
        fs::create_dir_all(folder.join(sub)).unwrap();
    }
    let head = "[catalog]\nformat = 2\nname = \"bench\"\ntitle = \"Bench\"\nyards = [\"../yard\"]\n";
    fs::write(folder.join("catalog/catalog.toml"), head).unwrap();
    let mut wishes = String::new();
    for rung in 0..RUNGS {
        let file = format!("rung{rung}.tar.gz");
        let mut entries = vec![Entry::program(&format!("rung{rung}"), SCRIPT)];
        entries.extend((0..20).map(|n| Entry::file(&format!("share/f{n}"), vec![n; 5000])));
        pack(Format::TarGz, &entries, &folder.join("yard").join(&file)).unwrap();
        let (digest, size) = of_file(&folder.join("yard").join(&file)).unwrap();
        let checks: String = (0..CHECKS)
            .map(|check| {
                format!(
                    "[[checks]]\nname = \"tide {check}\"\nrun = [\"rung{rung}\", \"{check}\"]\nexpect = {{ stdout = '^tide {check}' }}\n"
                )
            })
            .collect();
        let text = format!(
            "tool = \"rung{rung}\"\nsummary = \"\"\ncommands.rung{rung} = \"rung{rung}\"\n{checks}[[releases]]\nversion = \"1.0\"\n\
             artifacts = [{{ file = \"{file}\", size = {size}, sha256 = \"{digest}\" }}]\n"
        );
        fs::write(folder.join("catalog/tools").join(format!("rung{rung}.toml")), text).unwrap();
        writeln!(wishes, "rung{rung} = \"any\"").unwrap();
    }
    fs::write(folder.join("ladder.toml"), format!("[ladder]\ncatalog = \"catalog\"\n[rungs]\n{wishes}")).unwrap();
}

/// The same commands, one after the other, with nothing around them.
fn bare(folder: &Path) -> Duration {
    let script = folder.join("script");
    fs::write(&script, SCRIPT).unwrap();
    let started = Instant::now();
    for check in 0..RUNGS * CHECKS {
        let number = (check % CHECKS).to_string();
        timed(Command::new("/bin/sh").arg(&script).arg(number).stdout(Stdio::null()));
    }
    started.elapsed()
}

fn timed(command: &mut Command) -> Duration {
    let started = Instant::now();
    assert!(command.status().unwrap().success());
    started.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times.get(times.len() / 2).copied().unwrap_or_default()
}
