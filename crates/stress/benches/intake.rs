//! Verifying and unpacking, as whole processes, beside the system's own tools on the same archives.
//!
//! `cargo bench -p kladder-stress [-- ARCHIVE…]` makes archives in a temporary folder and takes, in turns:
//! `sha256sum` alone, `bsdtar -x` alone, and ours, which does both (this program, started anew with `--bring`). It prints
//! medians, the ratio of ours to `bsdtar` alone (the median of each round's), and the most memory that ours had.
//! Rounds during which a hypervisor took the processors away are left out, and counted.

#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_choose::path::InnerPath;
use kladder_core::base::digest::of_file;
use kladder_core::base::event::Silent;
use kladder_core::base::files::remove_tree;
use kladder_core::bring::fetch::{Cache, Network, Sources};
use kladder_core::bring::intake::bring_in;
use kladder_core::bring::shelf::Twins;
use kladder_core::settings::Manners;

const RUNS: usize = 5;
const MOST_RUNS: usize = 15;
/// Rounds in which more than this share of the processors' time was stolen tell about the neighbours, and are left out.
const CALM: f64 = 0.05;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [bring, file, cache, into] = arguments.as_slice()
        && bring == "--bring"
    {
        return bring_one(file, Path::new(cache), Path::new(into));
    }
    if Command::new("bsdtar").arg("--version").output().is_err() {
        println!("bsdtar is not here: nothing to compare with");
        return;
    }
    let folder = tempfile::Builder::new().prefix("kladder-bench-").tempdir().unwrap();
    let wanted: Vec<&String> = arguments.iter().filter(|argument| !argument.starts_with("--")).collect();
    println!(
        "{:<14} {:>8} {:>7} | {:>8} {:>8} {:>8} | {:>6} {:>7} | calm rounds",
        "archive", "MB", "files", "sha256sum", "bsdtar", "ours", "ratio", "MB mem"
    );
    for (tree, archives) in [("large", &["tar.gz", "tar.zst", "tar.xz"][..]), ("small", &["tar.gz", "tar.zst", "zip"])]
    {
        let source = folder.path().join(tree);
        for ending in archives {
            let name = format!("{tree}.{ending}");
            if wanted.is_empty() || wanted.iter().any(|wanted| **wanted == name) {
                if !source.exists() {
                    grow(&source, tree == "large");
                }
                compare(&source, &name, folder.path());
            }
        }
    }
}

/// A tree of about 600 MB in 60 files, or of 100 MB in 20,000.
fn grow(folder: &Path, large: bool) {
    let mut dice = fastrand::Rng::with_seed(412);
    let (folders, files, size) = if large { (6, 10, 10_000_000) } else { (100, 200, 5_000) };
    let words: Vec<Vec<u8>> =
        (0..4000).map(|_| (0..dice.usize(4..24)).map(|_| dice.u8(b'a'..=b'z')).collect()).collect();
    for sub in 0..folders {
        let sub = folder.join(format!("part-{sub}"));
        fs::create_dir_all(&sub).unwrap();
        for file in 0..files {
            let mut bytes = Vec::with_capacity(size + 64);
            while bytes.len() < size {
                // Text, and some that cannot be compressed, as in object files.
                match dice.u8(0..60) {
                    0 => bytes.extend((0..24).map(|_| dice.u8(..))),
                    _ => bytes.extend_from_slice(dice.choice(&words).unwrap()),
                }
            }
            fs::write(sub.join(format!("file-{file}")), bytes).unwrap();
        }
    }
}

fn pack(source: &Path, archive: &Path) {
    let (parent, name) = (source.parent().unwrap(), source.file_name().unwrap());
    let mut command = Command::new("bsdtar");
    command.arg("-C").arg(parent).arg("-a").arg("-cf").arg(archive);
    match archive.extension().and_then(|e| e.to_str()) {
        Some("xz") => _ = command.args(["--options", "xz:compression-level=1"]),
        Some("gz") => _ = command.args(["--options", "gzip:compression-level=1"]),
        _ => {}
    }
    assert!(command.arg(name).status().unwrap().success());
}

/// What one turn of the three took.
struct Round {
    hash: Duration,
    bsdtar: Duration,
    ours: Duration,
    /// The most memory that ours had, MB.
    memory: u64,
    /// The share of the processors' time that a hypervisor gave to others.
    stolen: f64,
}

/// An archive in a cache, and places to unpack it to.
struct Case<'c> {
    name: &'c str,
    cache: PathBuf,
    cached: PathBuf,
    places: PathBuf,
}

impl Case<'_> {
    fn round(&self, number: usize) -> Round {
        let before = processors();
        let hash = timed(Command::new("sha256sum").arg(&self.cached)).0;
        let into = self.places.join(format!("{}-{number}-bsdtar", self.name));
        fs::create_dir_all(&into).unwrap();
        let bsdtar = timed(Command::new("bsdtar").arg("-xf").arg(&self.cached).arg("-C").arg(&into)).0;
        self.leave(&into);
        let into = self.places.join(format!("{}-{number}-ours", self.name));
        let mut command = Command::new(std::env::current_exe().unwrap());
        let (ours, said) = timed(command.arg("--bring").arg(self.name).arg(&self.cache).arg(&into));
        self.leave(&into);
        let [stolen, all] = [0, 1].map(|at| processors()[at] - before[at]);
        Round { hash, bsdtar, ours, memory: said.trim().parse().unwrap(), stolen: stolen / all.max(1.0) }
    }

    /// Small trees stay until the end: where many files were deleted a short while ago, making new ones goes slowly, since
    /// ext4 shuns their inodes.
    fn leave(&self, into: &Path) {
        if self.name.starts_with("large") {
            remove_tree(into).unwrap();
        }
    }
}

/// Time stolen from the processors, and all their time, since they were started.
fn processors() -> [f64; 2] {
    let stat = fs::read_to_string("/proc/stat").unwrap_or_default();
    let told = stat.lines().next().unwrap_or_default().split_whitespace().skip(1).take(8);
    let ticks: Vec<f64> = told.map(|ticks| ticks.parse().unwrap()).collect();
    [ticks.get(7).copied().unwrap_or(0.0), ticks.iter().sum()]
}

fn compare(source: &Path, name: &str, folder: &Path) {
    let archive = folder.join(name);
    pack(source, &archive);
    let (digest, size) = of_file(&archive).unwrap();
    let cache = folder.join("cache");
    let cached = Cache::new(&cache).path(&digest);
    fs::create_dir_all(cached.parent().unwrap()).unwrap();
    fs::rename(&archive, &cached).unwrap();
    let case = Case { name, cache, cached, places: folder.join("places") };
    let (mut rounds, mut taken) = (Vec::new(), 0);
    while rounds.len() < RUNS && taken < MOST_RUNS {
        rounds.extend(Some(case.round(taken)).filter(|round| round.stolen < CALM));
        taken += 1;
    }
    if rounds.is_empty() {
        println!("{name:<14} no calm round in {taken}");
    } else {
        let files = walkdir::WalkDir::new(source).into_iter().filter(|e| e.as_ref().unwrap().file_type().is_file());
        tell(name, size, files.count(), &rounds, taken);
    }
    fs::remove_dir_all(&case.cache).unwrap();
}

fn tell(name: &str, size: u64, files: usize, rounds: &[Round], taken: usize) {
    let of = |figure: fn(&Round) -> f64| {
        let mut figures: Vec<f64> = rounds.iter().map(figure).collect();
        figures.sort_unstable_by(f64::total_cmp);
        figures[figures.len() / 2]
    };
    let [hash, bsdtar] = [of(|round| round.hash.as_secs_f64()), of(|round| round.bsdtar.as_secs_f64())];
    let [ours, ratio] = [of(|round| round.ours.as_secs_f64()), of(|round| round.ours.div_duration_f64(round.bsdtar))];
    #[allow(clippy::cast_precision_loss, reason = "a figure to read")]
    let megabytes = size as f64 / 1e6;
    let (memory, calm) = (rounds.iter().map(|round| round.memory).max().unwrap_or(0), rounds.len());
    println!(
        "{name:<14} {megabytes:>8.1} {files:>7} | {hash:>8.2}s {bsdtar:>7.2}s {ours:>7.2}s | {ratio:>6.2} {memory:>7} | \
         {calm} of {taken}"
    );
}

fn timed(command: &mut Command) -> (Duration, String) {
    // What earlier runs left to be written must not be paid for by this one.
    assert!(Command::new("sync").status().unwrap().success());
    let started = Instant::now();
    let output = command.output().unwrap();
    let took = started.elapsed();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    (took, String::from_utf8(output.stdout).unwrap())
}

/// Verifies and unpacks the one artifact of a cache; prints the most memory that it took, in MB.
fn bring_one(file: &str, folder: &Path, into: &Path) {
    let whole = walkdir::WalkDir::new(folder)
        .into_iter()
        .map(Result::unwrap)
        .find(|entry| entry.file_type().is_file())
        .unwrap();
    let path: PathBuf = whole.into_path();
    let sha256 = path.file_name().unwrap().to_str().unwrap().parse().unwrap();
    let size = fs::metadata(&path).unwrap().len();
    let file = InnerPath::new(file).unwrap();
    let artifact = Artifact {
        file,
        size,
        sha256,
        unpacked: None,
        unpack: Unpacking::default(),
        origins: Vec::new(),
        by_person: None,
    };
    let (cache, network) = (Cache::new(folder), Network::new(&Manners::default()).unwrap());
    let sources = Sources { yards: &[], cache: &cache, network: &network };
    bring_in(&[artifact], sources, into, &Twins::default(), &Silent).unwrap();
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    println!("{}", peak.trim().trim_end_matches(" kB").parse::<u64>().unwrap() / 1000);
}
