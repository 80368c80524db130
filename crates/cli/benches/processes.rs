//! Whole processes, side by side: start-up, a climb with nothing to do, the launcher on top of a direct start, shells with
//! and without wiring, and pins over a large catalog.
//!
//! `cargo bench -p kladder`. Each figure is the median of interleaved runs; the machine's mood cancels out of the ratios.
//! Needs `rustc` on PATH for the smallest static program that only execs.

#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use kladder_core::base::digest::Digest;
use kladder_synth::{Made, Shape};

const RUNS: usize = 200;
const RUNGS: usize = 200;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let kladder = PathBuf::from(env!("CARGO_BIN_EXE_kladder"));
    let version = command(&kladder, &["--version"]);
    println!("kladder --version            {}", shown(medians(&mut [version])[0]));
    let home = Home::with_rungs(folder.path(), RUNGS);
    assert!(home.kladder(&kladder, &["climb", "--quiet"]).status().unwrap().success());
    let idle = medians(&mut [home.kladder(&kladder, &["climb", "--quiet"])])[0];
    println!("climb, nothing to do, {RUNGS} rungs  {}", shown(idle));
    launcher(&home, &kladder, folder.path());
    shells(&home, &kladder, folder.path());
    large_catalog(&kladder, &folder.path().join("large"));
}

/// `pin` in a cold process over 10,000 tools x 20 versions, the index made and not.
fn large_catalog(kladder: &Path, folder: &Path) {
    Made::generate(&Shape::default()).write(&folder.join("catalog")).unwrap();
    // Files of this very moment are read again, since they may change without a trace.
    std::thread::sleep(Duration::from_secs(3));
    for (wishes, name) in [(20, "20 wishes"), (1, "a single wish")] {
        let rungs: String =
            (0..wishes).map(|at| format!("tool-{} = \"any\"\n", at * 125 + 9000 * usize::from(wishes == 1))).collect();
        fs::write(folder.join("ladder.toml"), format!("[ladder]\ncatalog = \"catalog\"\n[rungs]\n{rungs}")).unwrap();
        let pin = || {
            let _ = fs::remove_file(folder.join("ladder.pinned.toml"));
            let mut pin = Home(folder.to_path_buf()).kladder(kladder, &["pin", "--quiet"]);
            let started = Instant::now();
            assert!(pin.status().unwrap().success());
            started.elapsed()
        };
        let _ = fs::remove_dir_all(folder.join("home"));
        println!("pin, 10,000 x 20, {name}, making the index  {}", shown(pin()));
        let mut times: Vec<Duration> = (0..11).map(|_| pin()).collect();
        times.sort();
        let pins = fs::read_to_string(folder.join("ladder.pinned.toml")).unwrap();
        println!("pin, 10,000 x 20, {name}, {} rungs  {}", pins.matches("\nversion = ").count(), shown(times[5]));
    }
}

/// What each way of starting adds to a direct start of the same program.
fn launcher(home: &Home, kladder: &Path, folder: &Path) {
    let json = home.kladder(kladder, &["climb", "--json"]).stdout(Stdio::piped()).output().unwrap();
    let json: serde_json::Value = serde_json::from_slice(&json.stdout).unwrap();
    let commands = PathBuf::from(json["commands"].as_str().unwrap());
    let direct = PathBuf::from(json["rungs"][100]["folder"].as_str().unwrap()).join("files/tool");
    let name = json["rungs"][100]["rung"].as_str().unwrap();
    let (smallest, script) = (smallest(folder, &direct), folder.join("script"));
    fs::write(&script, format!("#!/bin/sh\nexec '{}' \"$@\"\n", direct.display())).unwrap();
    assert!(Command::new("chmod").arg("+x").arg(&script).status().unwrap().success());
    let wired = home.0.join("home/data/wired/commands").join(name);
    let ways = [&direct, &commands.join(name), &wired, &smallest, &script];
    let mut ways = ways.map(|way| command(way, &[]));
    for way in &mut ways {
        way.current_dir(&home.0);
    }
    let [direct, launched, wired, smallest, script] = medians(&mut ways)[..] else { return };
    println!("direct start                 {}", shown(direct));
    let added = |time: Duration| time.saturating_sub(direct).as_secs_f64();
    let named = [
        ("launcher of a landing", launched),
        ("wired launcher", wired),
        ("smallest static exec", smallest),
        ("#!/bin/sh wrapper", script),
    ];
    for (what, time) in named {
        println!("  {what:<25}  +{}  {:.2} x", shown(time.saturating_sub(direct)), added(time) / added(smallest));
    }
}

/// What wiring adds to the start of a shell, and how long the variables take.
fn shells(home: &Home, kladder: &Path, folder: &Path) {
    let (bare, wired) = (folder.join("bare"), folder.join("wired"));
    for (person, arguments) in [
        (&bare, ["vars", "--badge"].as_slice()),
        (&wired, &["wire", "--yes", "--shell", "bash", "--shell", "zsh", "--shell", "fish"]),
    ] {
        fs::create_dir_all(person).unwrap();
        assert!(home.kladder(kladder, arguments).env("HOME", person).status().unwrap().success());
    }
    for shell in ["bash", "zsh", "fish"] {
        let start = |person: &Path| {
            let mut start = command(Path::new("setsid"), &["--wait", shell, "-i", "-c", "true"]);
            start.env("HOME", person).stdin(Stdio::null()).stderr(Stdio::null());
            start
        };
        if Command::new(shell).args(["-c", "true"]).status().is_err() {
            println!("{shell}: not here");
            continue;
        }
        let [plain, with] = medians(&mut [start(&bare), start(&wired)])[..] else { return };
        println!("{shell}, interactive            {}, wired +{}", shown(plain), shown(with.saturating_sub(plain)));
    }
    for arguments in [["vars", "--as", "bash"].as_slice(), &["vars", "--badge"]] {
        println!("kladder {:<20} {}", arguments.join(" "), shown(medians(&mut [home.kladder(kladder, arguments)])[0]));
    }
}

fn smallest(folder: &Path, target: &Path) -> PathBuf {
    let (source, program) = (folder.join("smallest.rs"), folder.join("smallest"));
    let text = format!(
        "use std::os::unix::process::CommandExt;\nfn main() {{\n    let error = std::process::Command::new({:?}).args(std::env::args_os().skip(1)).exec();\n    panic!(\"{{error}}\");\n}}\n",
        target.display().to_string()
    );
    fs::write(&source, text).unwrap();
    let flags = ["-Copt-level=s", "-Cpanic=abort", "-Clto=fat", "-Ccodegen-units=1", "-Cstrip=symbols"];
    let fixed = ["-Ctarget-feature=+crt-static", "-Crelocation-model=static"];
    let built = Command::new("rustc")
        .arg("--edition=2021")
        .args(flags)
        .args(fixed)
        .arg("-o")
        .arg(&program)
        .arg(source)
        .status()
        .unwrap();
    assert!(built.success());
    program
}

fn command(program: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(program);
    command.args(arguments).stdout(Stdio::null());
    command
}

/// The median time of each command; the commands take turns.
fn medians(commands: &mut [Command]) -> Vec<Duration> {
    let mut times = vec![Vec::with_capacity(RUNS); commands.len()];
    for run in 0..RUNS + 5 {
        for (command, times) in commands.iter_mut().zip(&mut times) {
            let started = Instant::now();
            assert!(command.status().unwrap().success());
            if run >= 5 {
                times.push(started.elapsed());
            }
        }
    }
    let median = |times: &mut Vec<Duration>| {
        times.sort();
        times[times.len() / 2]
    };
    times.iter_mut().map(median).collect()
}

fn shown(time: Duration) -> String {
    format!("{:8.3} ms", time.as_secs_f64() * 1000.0)
}

struct Home(PathBuf);

impl Home {
    /// A ladder of tools in a chain; each is one small static program.
    fn with_rungs(folder: &Path, rungs: usize) -> Self {
        let (tools, yard) = (folder.join("catalog/tools"), folder.join("yard"));
        fs::create_dir_all(&tools).unwrap();
        fs::create_dir_all(&yard).unwrap();
        let program = nothing(folder);
        let (digest, size) = (Digest::of(&program), program.len());
        fs::write(yard.join("tool"), program).unwrap();
        let head = "[catalog]\nformat = 2\nname = \"bench\"\ntitle = \"Bench\"\nyards = [\"../yard\"]\n";
        fs::write(folder.join("catalog/catalog.toml"), head).unwrap();
        for rung in 0..rungs {
            let mut text = format!("tool = \"rung{rung:03}\"\nkind = \"bench\"\nsummary = \"\"\n");
            writeln!(text, "commands = {{ rung{rung:03} = \"tool\" }}\n[[releases]]\nversion = \"1.0\"").unwrap();
            if rung > 0 {
                writeln!(text, "needs = {{ rung{:03} = \"any\" }}", rung - 1).unwrap();
            }
            // Their digests differ in nothing, their places do.
            writeln!(text, "artifacts = [{{ file = \"tool\", size = {size}, sha256 = \"{digest}\" }}]").unwrap();
            fs::write(tools.join(format!("rung{rung:03}.toml")), text).unwrap();
        }
        let ladder = format!("[ladder]\ncatalog = \"catalog\"\n[rungs]\nrung{:03} = \"any\"\n", rungs - 1);
        fs::write(folder.join("ladder.toml"), ladder).unwrap();
        Self(folder.to_path_buf())
    }

    fn kladder(&self, kladder: &Path, arguments: &[&str]) -> Command {
        let mut command = command(kladder, arguments);
        command.current_dir(&self.0).env("KLADDER_HOME", self.0.join("home"));
        command
    }
}

/// A program that ends at once.
fn nothing(folder: &Path) -> Vec<u8> {
    let (source, program) = (folder.join("nothing.rs"), folder.join("nothing"));
    fs::write(&source, "fn main() {}\n").unwrap();
    let flags = ["-Copt-level=s", "-Cpanic=abort", "-Ctarget-feature=+crt-static", "-Cstrip=symbols"];
    assert!(Command::new("rustc").args(flags).arg("-o").arg(&program).arg(source).status().unwrap().success());
    fs::read(program).unwrap()
}
