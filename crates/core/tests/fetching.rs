//! Bringing artifacts in, from yards that behave and yards that do not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use kladder_core::catalog::{Artifact, Unpacking};
use kladder_core::digest::Digest;
use kladder_core::event::{Event, Observer, Silent};
use kladder_core::fetch::{Cache, FetchError, Yard, YardError, fetch};
use kladder_yard::{Fault, Rule, Settings};

const NAME: &str = "sub folder/a+b~1%20.bin";

/// A yard with one file of 300,000 bytes, and an empty cache.
struct Scene {
    folder: tempfile::TempDir,
    artifact: Artifact,
}

impl Scene {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let bytes: Vec<u8> = (0..75_000u32).flat_map(u32::to_le_bytes).collect();
        let file = folder.path().join("yard").join(NAME);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, &bytes).unwrap();
        let (size, sha256) = (bytes.len() as u64, Digest::of(&bytes));
        let artifact = Artifact { file: NAME.into(), size, sha256, unpacked: None, unpack: Unpacking::default() };
        Self { folder, artifact }
    }

    fn yard(&self) -> PathBuf {
        self.folder.path().join("yard")
    }

    fn serve(&self, fault: Option<Fault>) -> kladder_yard::Yard {
        let rules = fault.into_iter().map(|fault| Rule { ending: ".bin".into(), fault }).collect();
        let settings = Settings { folder: self.yard(), rules };
        kladder_yard::Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap()
    }

    fn cache(&self) -> Cache {
        Cache::new(&self.folder.path().join("cache"))
    }

    fn fetch(&self, yards: &[Yard]) -> Result<PathBuf, FetchError> {
        fetch(&self.artifact, yards, &self.cache(), &Silent)
    }

    /// The one yard's error; nothing may be left in the cache.
    fn refused(&self, yard: Yard) -> YardError {
        let error = self.fetch(&[yard]).unwrap_err();
        assert_eq!(files_in(&self.folder.path().join("cache")), 0);
        match error {
            FetchError::AllFailed { mut attempts, .. } => attempts.remove(0).error,
            other => panic!("{other}"),
        }
    }
}

fn files_in(folder: &Path) -> usize {
    let Ok(entries) = fs::read_dir(folder) else { return 0 };
    entries.map(|entry| entry.unwrap().path()).map(|path| if path.is_dir() { files_in(&path) } else { 1 }).sum()
}

#[test]
fn names_with_signs_arrive_from_folders_and_servers_alike() {
    let scene = Scene::new();
    let served = scene.serve(None);
    for yard in [Yard::parse(&scene.yard().display().to_string()), Yard::parse(&format!("{}/", served.url()))] {
        let _ = fs::remove_dir_all(scene.folder.path().join("cache"));
        let path = scene.fetch(&[yard]).unwrap();
        assert_eq!(fs::read(path).unwrap(), fs::read(scene.yard().join(NAME)).unwrap());
    }
}

#[test]
fn every_misbehaviour_has_its_own_error_and_leaves_nothing() {
    let scene = Scene::new();
    let from = |fault| {
        let served = scene.serve(Some(fault));
        scene.refused(Yard::parse(&served.url()))
    };
    assert!(matches!(from(Fault::Cut(1000)), YardError::Broke { got: 1000, expected: 300_000, .. }));
    assert!(matches!(from(Fault::Corrupt(299_999)), YardError::OtherDigest { .. }));
    assert!(matches!(from(Fault::Status(404)), YardError::NotThere));
    assert!(matches!(from(Fault::Status(500)), YardError::Status(500)));
    let nobody = Yard::parse("http://127.0.0.1:9");
    assert!(matches!(scene.refused(nobody), YardError::Unreachable { .. }));
}

#[test]
fn a_folder_with_other_bytes_is_no_better_than_a_server() {
    let scene = Scene::new();
    let (file, yard) = (scene.yard().join(NAME), Yard::parse(&scene.yard().display().to_string()));
    let whole = fs::read(&file).unwrap();
    fs::write(&file, &whole[1..]).unwrap();
    assert!(matches!(scene.refused(yard.clone()), YardError::Short { got: 299_999, expected: 300_000 }));
    fs::write(&file, [&whole[..], b"!"].concat()).unwrap();
    assert!(matches!(scene.refused(yard.clone()), YardError::Long { expected: 300_000 }));
    fs::remove_file(&file).unwrap();
    assert!(matches!(scene.refused(yard), YardError::NotThere));
}

#[test]
fn the_first_yard_that_delivers_ends_the_search() {
    let scene = Scene::new();
    let (bad, good, spare) = (scene.serve(Some(Fault::Corrupt(7))), scene.serve(None), scene.serve(None));
    let yards = [&bad, &good, &spare].map(|served| Yard::parse(&served.url()));
    assert!(scene.fetch(&yards).is_ok());
    assert_eq!([bad.requests(), good.requests(), spare.requests()].map(|n| n > 0), [true, true, false]);
}

#[test]
fn what_is_cached_is_not_asked_for_again_unless_its_bytes_changed() {
    let scene = Scene::new();
    let served = scene.serve(None);
    let yards = [Yard::parse(&served.url())];
    let path = scene.fetch(&yards).unwrap();
    assert_eq!(scene.fetch(&[]).unwrap(), path, "without any yard");
    let mut bytes = fs::read(&path).unwrap();
    bytes[5] ^= 1;
    fs::write(&path, bytes).unwrap();
    assert!(matches!(scene.fetch(&[]), Err(FetchError::NoYard { .. })));
    assert!(scene.fetch(&yards).is_ok());
}

/// Cancels after some bytes, and remembers what it was told.
struct Impatient {
    received: AtomicU64,
    after: u64,
    fetched: AtomicBool,
}

impl Observer for Impatient {
    fn event(&self, event: &Event) {
        self.fetched.fetch_or(matches!(event, Event::Fetched { .. }), Ordering::Relaxed);
    }
    fn cancelled(&self) -> bool {
        self.received.load(Ordering::Relaxed) >= self.after
    }
    fn received(&self) -> Option<&AtomicU64> {
        Some(&self.received)
    }
}

#[test]
fn bytes_are_counted_as_they_come_and_a_cancelled_download_is_gone() {
    let scene = Scene::new();
    let yards = [Yard::parse(&scene.yard().display().to_string())];
    let listening = |after| Impatient { received: AtomicU64::new(0), after, fetched: AtomicBool::new(false) };
    let impatient = listening(1);
    let result = fetch(&scene.artifact, &yards, &scene.cache(), &impatient);
    assert!(matches!(result, Err(FetchError::Cancelled(_))), "{result:?}");
    assert_eq!(files_in(&scene.folder.path().join("cache")), 0);
    let patient = listening(u64::MAX);
    fetch(&scene.artifact, &yards, &scene.cache(), &patient).unwrap();
    assert_eq!(patient.received.load(Ordering::Relaxed), 300_000);
    assert!(patient.fetched.load(Ordering::Relaxed));
}
