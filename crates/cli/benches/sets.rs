//! A set of forty libraries with twenty thousand files: the first one, a second one with the same libraries, and one in which a
//! library moved, beside hard links to all its files alone, one after the other and on all cores.
//!
//! `cargo bench -p kladder --bench sets`. Each round has a home of its own; figures are medians, ratios are taken round by round.

#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use kladder_core::base::digest::of_file;
use kladder_pack::{Entry, Format, pack, with_record};

const LIBRARIES: usize = 40;
const FILES: usize = 500;
const RUNS: usize = 5;
/// A runtime that tells of its libraries, and compiles nothing.
const RUNTIME: &str = "#!/bin/sh\n[ \"$1\" = --version ] && { echo plank 3.11.4; exit; }\n\
    cat \"$PYTHONPATH\"/*.dist-info/METADATA | sed -n 's/^Name: //p;s/^Version: //p' | paste -d' ' - -\n";

fn main() {
    let made = tempfile::Builder::new().prefix("kladder-bench-").tempdir().unwrap();
    let folder = made.path();
    lay(folder);
    let mut times = vec![Vec::new(); 5];
    for round in 0..RUNS {
        let home = folder.join(format!("home{round}"));
        let climb = |desk: &str| {
            let mut command = Command::new(env!("CARGO_BIN_EXE_kladder"));
            command.args(["climb", "--quiet"]).current_dir(folder.join(desk)).env("KLADDER_HOME", &home);
            let started = Instant::now();
            assert!(command.stdout(Stdio::null()).status().unwrap().success());
            started.elapsed()
        };
        climb("none");
        for (desk, times) in ["first", "second", "moved"].iter().zip(&mut times) {
            times.push(climb(desk));
        }
        let all = listed(&home.join("data/shelf/.sets"));
        times[3].push(links(&all, &folder.join(format!("links{round}")), 1));
        times[4].push(links(
            &all,
            &folder.join(format!("more{round}")),
            std::thread::available_parallelism().unwrap().get(),
        ));
    }
    // Not between rounds: for a while a file system goes round the numbers of files that were just removed.
    let _ = Command::new("chmod").args(["-R", "u+w"]).arg(folder).status();
    println!("{LIBRARIES} libraries, {} files", LIBRARIES * FILES);
    let bare = times[3].clone();
    println!("{:28} {:6.2?}", "links to its files alone", median(bare.clone()));
    println!("{:28} {:6.2?}", "the same on all cores", median(times[4].clone()));
    let names = ["the first set", "a second one, the same", "one library moved"];
    for (name, of) in names.iter().zip(&times) {
        let ratio = |to: &[Duration]| {
            let mut all: Vec<f64> = of.iter().zip(to).map(|(of, to)| of.div_duration_f64(*to)).collect();
            all.sort_unstable_by(f64::total_cmp);
            all[all.len() / 2]
        };
        let (to_bare, to_first) = (ratio(&bare), ratio(&times[0]));
        println!("{name:28} {:6.2?}  {to_bare:.2} x links alone, {to_first:.2} x the first", median(of.clone()));
    }
}

/// A catalog, a yard, and a ladder for each case; `none` has the runtime alone, so that it is there before the clock runs.
fn lay(folder: &Path) {
    for sub in ["catalog/tools", "yard", "none", "first", "second", "moved"] {
        fs::create_dir_all(folder.join(sub)).unwrap();
    }
    let head = "[catalog]\nformat = 2\nname = \"bench\"\ntitle = \"Bench\"\nyards = [\"../yard\"]\n";
    fs::write(folder.join("catalog/catalog.toml"), head).unwrap();
    pack(Format::TarGz, &[Entry::program("plank", RUNTIME)], &folder.join("yard/plank.tar.gz")).unwrap();
    let (digest, size) = of_file(&folder.join("yard/plank.tar.gz")).unwrap();
    let text = format!(
        "tool = \"plank\"\nsummary = \"\"\ncommands.plank = \"plank\"\n[[releases]]\nversion = \"3.11.4\"\n\
         artifacts = [{{ file = \"plank.tar.gz\", size = {size}, sha256 = \"{digest}\" }}]\n"
    );
    fs::write(folder.join("catalog/tools/plank.toml"), text).unwrap();
    let lines: Vec<String> = (0..LIBRARIES).map(|library| wheel(folder, library, "1.0")).collect();
    let moved = wheel(folder, 0, "1.1");
    let plain = "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nplank = \"any\"\n";
    fs::write(folder.join("none/ladder.toml"), plain).unwrap();
    for desk in ["first", "second", "moved"] {
        let mut lock = "lock-version = \"1.0\"\n".to_owned();
        for (at, line) in lines.iter().enumerate() {
            lock.push_str(if desk == "moved" && at == 0 { &moved } else { line });
        }
        fs::write(folder.join(desk).join("pylock.toml"), lock).unwrap();
        let set = format!("[sets.{desk}]\nof = \"plank\"\nlock = \"pylock.toml\"\n");
        fs::write(folder.join(desk).join("ladder.toml"), [plain, &set].concat()).unwrap();
    }
}

/// A wheel in the yard, and what a lock file says of it.
fn wheel(folder: &Path, library: usize, version: &str) -> String {
    let (name, info) = (format!("lib{library}"), format!("lib{library}-{version}.dist-info"));
    let metadata = format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n");
    let mut entries = vec![Entry::file(&format!("{info}/METADATA"), metadata)];
    for file in 0..FILES {
        let mut text = format!("# {name} {version} {file}\n");
        (0..60).for_each(|line| writeln!(text, "tide_{line} = {}", line * file).unwrap());
        entries.push(Entry::file(&format!("{name}/part{}/m{file}.py", file / 25), text));
    }
    let file = format!("{name}-{version}-py3-none-any.whl");
    let path = folder.join("yard").join(&file);
    pack(Format::Zip, &with_record(entries, &info), &path).unwrap();
    let (digest, size) = of_file(&path).unwrap();
    format!(
        "[[packages]]\nname = \"{name}\"\nversion = \"{version}\"\n\
         wheels = [{{ name = \"{file}\", size = {size}, hashes = {{ sha256 = \"{digest}\" }} }}]\n"
    )
}

/// The folders and files of one of the sets on a shelf, with its place in front.
fn listed(shelf: &Path) -> (Vec<PathBuf>, Vec<PathBuf>) {
    let place = fs::read_dir(shelf).unwrap().next().unwrap().unwrap().path();
    let all = walkdir::WalkDir::new(&place).into_iter().map(|entry| entry.unwrap().into_path());
    all.partition(|path| path.is_dir())
}

/// Folders, and hard links for all files in them, by some threads at once.
fn links((folders, files): &(Vec<PathBuf>, Vec<PathBuf>), to: &Path, threads: usize) -> Duration {
    let from = &folders[0];
    let there = |path: &PathBuf| to.join(path.strip_prefix(from).unwrap());
    let started = Instant::now();
    for folder in folders {
        fs::create_dir(there(folder)).unwrap();
    }
    std::thread::scope(|scope| {
        for part in files.chunks(files.len().div_ceil(threads)) {
            scope.spawn(move || {
                for file in part {
                    fs::hard_link(file, there(file)).unwrap();
                }
            });
        }
    });
    started.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times.get(times.len() / 2).copied().unwrap_or_default()
}
