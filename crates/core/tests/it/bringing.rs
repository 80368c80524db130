//! From yard to folder in one go: random trees in every format, over every way that bytes can take, come out as they are.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use fastrand::Rng;
use kladder_choose::catalog::Artifact;
use kladder_core::base::digest::{Fingerprint, of_file};
use kladder_core::base::event::Silent;
use kladder_core::bring::fetch::{Cache, FetchError, Network, Sources};
use kladder_core::bring::intake::{Brought, IntakeError, bring_in};
use kladder_core::bring::shelf::{Manifest, ManifestEntry, Twins, What};
use kladder_core::settings::Manners;
use kladder_pack::{Content, Entry, Format, pack};
use kladder_yard::{Fault, Rule, Settings};

use crate::{artifact, yard};

const FORMATS: [&str; 9] =
    ["a.tar", "a.tar.gz", "a.tar.xz", "a.tar.zst", "a.tar.bz2", "a.deb", "a.cpio", "a.rpm", "a.zip"];
/// Around the sizes at which readers, blocks and writers change their ways.
const EDGES: [usize; 5] = [512, 65_536, 262_144, 524_288, 2_100_000];
const NAMES: [&str; 6] = ["lib", "a b", "c+d~e%20", "ünï", "-x", "name-that-goes-on"];

/// Files of all sizes in folders of all depths; some to run, some the same as others, some links.
fn tree(dice: &mut Rng) -> Vec<Entry> {
    let mut entries: Vec<Entry> = Vec::new();
    for number in 0..dice.usize(1..120) {
        let above: String = (0..dice.usize(0..5)).map(|_| format!("{}/", dice.choice(NAMES).unwrap())).collect();
        let (path, size) = (format!("{above}file {number}"), size(dice));
        let bytes: Vec<u8> =
            if dice.bool() { vec![dice.u8(..); size] } else { (0..size).map(|_| dice.u8(..)).collect() };
        entries.push(Entry { path, content: Content::File(bytes, dice.bool()) });
        if dice.u8(0..8) == 0 {
            entries.push(Entry::link(&format!("{above}link {number}"), &format!("file {number}")));
        }
    }
    entries
}

fn size(dice: &mut Rng) -> usize {
    match dice.u8(0..12) {
        0 => 0,
        1 => dice.choice(EDGES).unwrap() + dice.usize(0..3) - 1,
        _ => dice.usize(0..3000),
    }
}

/// What a manifest of the tree says.
fn expected(entries: &[Entry]) -> Vec<ManifestEntry> {
    let what = |entry: &Entry| match &entry.content {
        Content::File(bytes, runs) => {
            What::File { executable: *runs, size: bytes.len() as u64, blake3: Fingerprint::of(bytes) }
        }
        Content::Link(target) => What::Link { target: target.into() },
        Content::HardLink(target) => panic!("none is made here: {target}"),
    };
    let by_path: BTreeMap<PathBuf, What> =
        entries.iter().map(|entry| (PathBuf::from(&entry.path), what(entry))).collect();
    by_path.into_iter().map(|(path, what)| ManifestEntry { path, what }).collect()
}

struct Scene {
    folder: tempfile::TempDir,
    artifact: Artifact,
    expected: Vec<ManifestEntry>,
    brought: usize,
}

impl Scene {
    fn new(name: &str, entries: &[Entry]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("yard")).unwrap();
        let archive = folder.path().join("yard").join(name);
        pack(Format::of_name(name).unwrap(), entries, &archive).unwrap();
        let (sha256, size) = of_file(&archive).unwrap();
        let artifact = artifact(name, size, sha256);
        Self { folder, artifact, expected: expected(entries), brought: 0 }
    }

    fn cached(&self) -> PathBuf {
        Cache::new(&self.folder.path().join("cache")).path(&self.artifact.sha256)
    }

    fn bring(&mut self, yards: &[&str]) -> Result<Brought, IntakeError> {
        self.brought += 1;
        let into = self.folder.path().join(format!("in-{}", self.brought));
        let network = Network::new(&Manners { retries: 2, ..Manners::default() }).unwrap();
        let cache = Cache::new(&self.folder.path().join("cache"));
        let yards: Vec<_> = yards.iter().map(|at| yard(at, &network)).collect();
        let sources = Sources { yards: &yards, cache: &cache, network: &network };
        let brought = bring_in(std::slice::from_ref(&self.artifact), sources, &into, &Twins::default(), &Silent)?;
        assert_eq!(brought.entries, self.expected, "{}", self.artifact.file);
        let mut there = Manifest::scan(&into).unwrap();
        there.sort_by(|a, b| a.path.cmp(&b.path));
        assert_eq!(there, self.expected, "{}", self.artifact.file);
        Ok(brought)
    }

    fn serve(&self, fault: Fault) -> kladder_yard::Yard {
        let settings = Settings {
            folder: self.folder.path().join("yard"),
            rules: vec![Rule::new("", fault).times(1)],
            ..Settings::default()
        };
        kladder_yard::Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap()
    }
}

/// Another byte somewhere in a file.
fn spoil(path: &Path, at: u64) {
    let mut bytes = fs::read(path).unwrap();
    bytes[usize::try_from(at).unwrap()] ^= 1;
    fs::remove_file(path).unwrap();
    fs::write(path, bytes).unwrap();
}

#[test]
fn whatever_way_the_bytes_take_the_same_tree_comes_out() {
    let mut dice = Rng::with_seed(412);
    for name in FORMATS.into_iter().cycle().take(18) {
        let mut scene = Scene::new(name, &tree(&mut dice));
        let (folder, size) = (scene.folder.path().join("yard").display().to_string(), scene.artifact.size);
        let (from, from_cache) = ([folder.as_str()], |b: &Brought| (b.fetched, b.from_cache));
        assert_eq!(from_cache(&scene.bring(&from).unwrap()), (size, 0));
        assert_eq!(from_cache(&scene.bring(&[]).unwrap()), (0, size), "it is in the cache");
        // What the cache has was damaged since: it was being unpacked already when that came out.
        spoil(&scene.cached(), dice.u64(0..size));
        assert_eq!(from_cache(&scene.bring(&from).unwrap()), (size, 0));
        for fault in [Fault::Cut(dice.u64(0..size)), Fault::Reset(dice.u64(0..size)), Fault::Corrupt(dice.u64(0..size))]
        {
            fs::remove_file(scene.cached()).unwrap();
            let served = scene.serve(fault.clone());
            // Another one takes over where the first one sent other bytes.
            let url = served.url();
            assert_eq!(from_cache(&scene.bring(&[&url, &folder]).unwrap()), (size, 0), "{name} {fault:?}");
            assert!(served.requests() > 0);
        }
    }
}

#[test]
fn a_tree_that_came_of_other_bytes_counts_for_nothing() {
    let mut dice = Rng::with_seed(7);
    for name in FORMATS {
        let mut scene = Scene::new(name, &tree(&mut dice));
        // A whole and sound archive, but not the pinned one.
        let other = scene.folder.path().join("yard").join(name);
        pack(Format::of_name(name).unwrap(), &[Entry::program("other", vec![7; 90_000])], &other).unwrap();
        let short = scene.artifact.size.saturating_sub(fs::metadata(&other).unwrap().len());
        let padded = [fs::read(&other).unwrap(), vec![0; usize::try_from(short).unwrap()]].concat();
        fs::write(&other, &padded[..usize::try_from(scene.artifact.size).unwrap()]).unwrap();
        let yard = scene.folder.path().join("yard").display().to_string();
        match scene.bring(&[&yard]) {
            Err(IntakeError::Fetch(error @ FetchError::AllFailed { .. })) => assert!(error.is_integrity(), "{error:?}"),
            other => panic!("{name}: {other:?}"),
        }
        assert!(!scene.cached().exists(), "nothing of it is kept");
    }
}
