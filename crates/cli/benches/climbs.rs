//! Climbs that have work to do: twelve rungs at once and one after the other, the demo's forty, the way back, a berth, a full
//! verification.
//!
//! `cargo bench -p kladder --bench climbs`. Runs take turns; figures are medians.

#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use kladder_choose::names::RungKey;
use kladder_choose::path::InnerPath;
use kladder_core::base::digest::of_file;
use kladder_core::base::files::remove_tree;
use kladder_core::bring::shelf::{Manifest, What};
use kladder_core::keep::berth::{Berth, Loan, Made};
use kladder_pack::{Entry, Format, pack};

const RUNGS: usize = 12;
const RUNS: usize = 5;

fn main() {
    let folder = tempfile::Builder::new().prefix("kladder-bench-").tempdir().unwrap();
    twelve(&folder.path().join("twelve"));
    forty(&folder.path().join("forty"));
    berth(&folder.path().join("berth"));
    verification(&folder.path().join("files"));
}

/// Words, as texts and programs have them: no noise, and no endless repetition.
fn words(bytes: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut out = Vec::with_capacity(bytes + 16);
    while out.len() < bytes {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let word = state % 5000;
        out.extend_from_slice(format!("{:x} ", word * word * 7919).as_bytes());
    }
    out
}

fn pack_rung(folder: &Path, rung: usize) {
    let files = (0..10).map(|n| Entry::file(&format!("f{n}"), words(1_000_000, n + 100 * rung as u64)));
    let archive = folder.join(format!("yard/rung{rung}.tar.xz"));
    pack(Format::TarXz, &files.collect::<Vec<_>>(), &archive).unwrap();
}

/// What a person does: the digest of each archive, then the archive.
fn by_hand(folder: &Path) -> Option<Duration> {
    Command::new("bsdtar").arg("--version").output().ok()?;
    let mut all = Duration::ZERO;
    for archive in fs::read_dir(folder.join("yard")).unwrap().map(|entry| entry.unwrap().path()) {
        let into = folder.join("by-hand").join(archive.file_name().unwrap());
        fs::create_dir_all(&into).unwrap();
        all += timed(Command::new("sha256sum").arg(&archive).stdout(Stdio::null()));
        all += timed(Command::new("bsdtar").arg("-xf").arg(&archive).arg("-C").arg(&into));
    }
    let synced = timed(&mut Command::new("sync"));
    remove_tree(&folder.join("by-hand")).unwrap();
    Some(all + synced)
}

fn twelve(folder: &Path) {
    for sub in ["catalog/tools", "yard", "home/config"] {
        fs::create_dir_all(folder.join(sub)).unwrap();
    }
    let head = "[catalog]\nformat = 2\nname = \"bench\"\ntitle = \"Bench\"\nyards = [\"../yard\"]\n";
    fs::write(folder.join("catalog/catalog.toml"), head).unwrap();
    let mut wishes = String::new();
    std::thread::scope(|scope| (0..RUNGS).for_each(|rung| drop(scope.spawn(move || pack_rung(folder, rung)))));
    for rung in 0..RUNGS {
        let file = format!("rung{rung}.tar.xz");
        let (digest, size) = of_file(&folder.join("yard").join(&file)).unwrap();
        let text = format!(
            "tool = \"rung{rung}\"\nsummary = \"\"\n[[releases]]\nversion = \"1.0\"\n\
             artifacts = [{{ file = \"{file}\", size = {size}, sha256 = \"{digest}\" }}]\n"
        );
        fs::write(folder.join("catalog/tools").join(format!("rung{rung}.toml")), text).unwrap();
        writeln!(wishes, "rung{rung} = \"any\"").unwrap();
    }
    fs::write(folder.join("ladder.toml"), format!("[ladder]\ncatalog = \"catalog\"\n[rungs]\n{wishes}")).unwrap();
    let kladder = |arguments: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_kladder"));
        command.args(arguments).current_dir(folder).env("KLADDER_HOME", folder.join("home")).stdout(Stdio::null());
        timed(&mut command)
    };
    let mut times: [Vec<Duration>; 3] = Default::default();
    for _ in 0..RUNS {
        for (times, setting) in times.iter_mut().zip(["[network]\nat-once = 1\n", ""]) {
            fs::write(folder.join("home/config/config.toml"), setting).unwrap();
            remove_tree(&folder.join("home/data")).unwrap();
            remove_tree(&folder.join("home/cache")).unwrap();
            timed(&mut Command::new("sync"));
            times.push(kladder(&["climb", "--quiet"]));
        }
        times[2].extend(by_hand(folder));
    }
    let (to_one, to_hand) = (ratio(&times[1], &times[0]), ratio(&times[1], &times[2]));
    let [one, many, hand] = times.map(median);
    println!("{RUNGS} rungs, several at once       {many:6.2?}");
    println!("{RUNGS} rungs, one after the other   {one:6.2?}  {to_one:.2} x");
    println!("sha256sum, bsdtar, one by one    {hand:6.2?}  {to_hand:.2} x");
    fs::write(folder.join("ladder.toml"), "[ladder]\ncatalog = \"catalog\"\n[rungs]\nrung0 = \"any\"\n").unwrap();
    kladder(&["climb", "--quiet"]);
    let back: Vec<Duration> = (0..40).map(|time| kladder(&["back", if time % 2 == 0 { "1" } else { "2" }])).collect();
    println!("back                             {:6.2?}", median(back));
}

/// The demo's larger ladder, each rung with two checks that start what it stands on: a first climb, one with
/// nothing to do, beside what a person would do of the first.
fn forty(folder: &Path) {
    kladder_demo::build_large(folder).unwrap();
    let kladder = |arguments: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_kladder"));
        command.args(arguments).args(["--quiet", "--yard", "../yard"]).current_dir(folder.join("desk"));
        timed(command.env("KLADDER_HOME", folder.join("home")).stdout(Stdio::null()))
    };
    let (mut first, mut again, mut hand) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..RUNS {
        remove_tree(&folder.join("home")).unwrap();
        timed(&mut Command::new("sync"));
        first.push(kladder(&["climb", "--yes"]));
        again.push(kladder(&["climb", "--yes"]));
        hand.extend(by_hand(folder));
    }
    let (to_hand, of_first) = (ratio(&first, &hand), ratio(&again, &first));
    println!("forty rungs, eighty checks       {:6.2?}", median(first));
    println!("nothing to do for them           {:6.2?}  {of_first:.3} x", median(again));
    println!("sha256sum, bsdtar, without checks {:5.2?}  {to_hand:.2} x", median(hand));
}

/// The median of ratios that were taken round by round: the machine's moods are longer than a round.
fn ratio(of: &[Duration], to: &[Duration]) -> f64 {
    let mut ratios: Vec<f64> = of.iter().zip(to).map(|(of, to)| of.div_duration_f64(*to)).collect();
    ratios.sort_unstable_by(f64::total_cmp);
    ratios.get(ratios.len() / 2).copied().unwrap_or(f64::NAN)
}

/// A berth over 20,000 files, into which a folder is lent.
fn berth(folder: &Path) {
    let shelved = folder.join("shelf");
    for sub in 0..100 {
        let sub = shelved.join(format!("lib/part-{sub}"));
        fs::create_dir_all(&sub).unwrap();
        (0..200).for_each(|file| fs::write(sub.join(format!("file-{file}")), "x").unwrap());
    }
    fs::create_dir_all(shelved.join("bin")).unwrap();
    fs::write(shelved.join("bin/tool"), "x").unwrap();
    fs::create_dir_all(folder.join("other")).unwrap();
    let make = |ladder: &str, lent: usize| {
        let at = InnerPath::new(&format!("lib/lent-{lent}")).unwrap();
        let loans = vec![Loan { lender: "other".parse().unwrap(), from: folder.join("other"), only: Vec::new(), at }];
        let (ladder, key) = (folder.join(ladder), RungKey::shared(&"tool".parse().unwrap()));
        let commands = [InnerPath::new("bin/tool").unwrap()];
        let made = Made { ladder: &ladder, key: &key, shelved: &shelved, loans, corners: &[], commands: &commands };
        let berth = Berth::new(made);
        let started = Instant::now();
        berth.make().unwrap();
        started.elapsed()
    };
    let first = median((0..RUNS).map(|time| make(&format!("ladder-{time}"), 0)).collect());
    println!("a berth over 20,000 files        {first:6.2?}");
    println!(
        "the same, with another loan      {:6.2?}",
        median((1..=RUNS).map(|time| make("ladder-0", time)).collect())
    );
}

/// All digests of a large tree again, beside `sha256sum`.
fn verification(folder: &Path) {
    fs::create_dir_all(folder).unwrap();
    for file in 0..30 {
        fs::write(folder.join(format!("f{file}")), words(10_000_000, file)).unwrap();
    }
    let entries = Manifest::scan(folder).unwrap();
    let bytes: u64 = entries.iter().map(|entry| if let What::File { size, .. } = entry.what { size } else { 0 }).sum();
    let manifest = Manifest::new(&"bench".parse().unwrap(), &"1.0".parse().unwrap(), Vec::new(), entries);
    let mut times: [Vec<Duration>; 2] = Default::default();
    for _ in 0..RUNS {
        let started = Instant::now();
        assert!(manifest.compare(folder).unwrap().is_empty());
        times[0].push(started.elapsed());
        let files = (0..30).map(|file| folder.join(format!("f{file}")));
        times[1].push(timed(Command::new("sha256sum").args(files).stdout(Stdio::null())));
    }
    #[allow(clippy::cast_precision_loss, reason = "a figure to read")]
    let rate = |time: Duration| bytes as f64 / 1e6 / time.as_secs_f64();
    let [ours, theirs] = times.map(median);
    println!("verifying files, one core        {:6.0} MB/s; sha256sum {:.0} MB/s", rate(ours), rate(theirs));
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
