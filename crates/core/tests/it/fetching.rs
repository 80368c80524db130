//! Bringing artifacts in, from yards that behave and yards that do not.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use kladder_choose::catalog::Artifact;
use kladder_choose::names::RungKey;
use kladder_core::base::digest::{Digest, of_file};
use kladder_core::base::event::{Event, Observer, Silent};
use kladder_core::bring::fetch::{Cache, FetchError, Network, Sources, YardError, fetch};
use kladder_core::settings::{Manners, Rate};
use kladder_yard::{Fault, Rule, Settings};

use crate::{artifact, yard};

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
        let artifact = artifact(NAME, size, sha256);
        Self { folder, artifact }
    }

    fn yard(&self) -> PathBuf {
        self.folder.path().join("yard")
    }

    fn serve(&self, fault: Option<Fault>) -> kladder_yard::Yard {
        self.serve_by(fault.into_iter().map(|fault| Rule::new(".bin", fault)).collect())
    }

    fn serve_by(&self, rules: Vec<Rule>) -> kladder_yard::Yard {
        let settings = Settings { folder: self.yard(), rules, ..Settings::default() };
        kladder_yard::Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap()
    }

    fn cache(&self) -> Cache {
        Cache::new(&self.folder.path().join("cache"))
    }

    fn fetch(&self, yards: &[String]) -> Result<PathBuf, FetchError> {
        self.fetch_as(&Manners { retries: 0, patience: 1, ..Manners::default() }, yards, &Silent)
    }

    fn fetch_as(&self, manners: &Manners, yards: &[String], observer: &dyn Observer) -> Result<PathBuf, FetchError> {
        let network = Network::new(manners).unwrap();
        let yards: Vec<_> = yards.iter().map(|at| yard(at, &network)).collect();
        let sources = Sources { yards: &yards, cache: &self.cache(), network: &network };
        fetch(&self.artifact, sources, &mut (), observer).map(|fetched| fetched.path)
    }

    /// The one yard's error, and how many bytes of the artifact are kept for a later try.
    fn refused(&self, yard: String) -> (YardError, u64) {
        let error = self.fetch(&[yard]).unwrap_err();
        let partial = self.cache().path(&self.artifact.sha256).with_added_extension("part");
        let kept = fs::metadata(&partial).map_or(0, |meta| meta.len());
        assert_eq!(files_in(&self.folder.path().join("cache")), usize::from(kept > 0));
        let _ = fs::remove_file(partial);
        match error {
            FetchError::AllFailed { mut attempts, .. } => (attempts.remove(0).error, kept),
            other => panic!("{other}"),
        }
    }
}

fn files_in(folder: &Path) -> usize {
    let Ok(entries) = fs::read_dir(folder) else { return 0 };
    entries.map(|entry| entry.unwrap().path()).map(|path| if path.is_dir() { files_in(&path) } else { 1 }).sum()
}

fn yards(served: &[&kladder_yard::Yard]) -> Vec<String> {
    served.iter().map(|served| served.url()).collect()
}

#[test]
fn names_with_signs_arrive_from_folders_and_servers_alike() {
    let scene = Scene::new();
    let served = scene.serve(None);
    for yard in [scene.yard().display().to_string(), format!("{}/", served.url())] {
        let _ = fs::remove_dir_all(scene.folder.path().join("cache"));
        let path = scene.fetch(&[yard]).unwrap();
        assert_eq!(fs::read(path).unwrap(), fs::read(scene.yard().join(NAME)).unwrap());
    }
}

#[test]
fn every_misbehaviour_has_its_own_error_and_only_right_bytes_are_kept() {
    let scene = Scene::new();
    let from = |fault| {
        let served = scene.serve(Some(fault));
        scene.refused(served.url())
    };
    let long = Duration::from_secs(5);
    assert!(matches!(from(Fault::Cut(1000)), (YardError::Broke { got: 1000, expected: 300_000, .. }, 0)));
    assert!(matches!(from(Fault::Cut(200_000)), (YardError::Broke { got: 200_000, .. }, 200_000)));
    assert!(matches!(from(Fault::Reset(200_000)), (YardError::Broke { .. }, _)));
    assert!(matches!(from(Fault::Corrupt(299_999)), (YardError::OtherDigest { .. }, 0)));
    assert!(matches!(from(Fault::Status(404)), (YardError::NotThere, 0)));
    assert!(matches!(from(Fault::Status(500)), (YardError::Status { status: 500, pause: None }, 0)));
    assert!(matches!(from(Fault::Busy(7)), (YardError::Status { status: 503, pause: Some(_) }, 0)));
    assert!(matches!(from(Fault::Circle), (YardError::Redirects, 0)));
    assert!(matches!(from(Fault::Length(299_000)), (YardError::OtherSize { offered: 299_000, .. }, 0)));
    assert!(matches!(from(Fault::Hang(long)), (YardError::Stalled { got: 150_000, .. }, 150_000)));
    assert!(matches!(from(Fault::Trickle(Duration::from_millis(10))), (YardError::Stalled { .. }, 0)));
    assert!(matches!(from(Fault::Stall(long)), (YardError::Stalled { got: 0, .. } | YardError::Unreachable { .. }, 0)));
    let nobody = "http://127.0.0.1:9".to_owned();
    assert!(matches!(scene.refused(nobody), (YardError::Unreachable { .. }, 0)));
}

#[test]
fn a_folder_with_other_bytes_is_no_better_than_a_server() {
    let scene = Scene::new();
    let (file, yard) = (scene.yard().join(NAME), scene.yard().display().to_string());
    let whole = fs::read(&file).unwrap();
    fs::write(&file, &whole[1..]).unwrap();
    assert!(matches!(scene.refused(yard.clone()).0, YardError::OtherSize { offered: 299_999, expected: 300_000 }));
    let mut wrong = whole.clone();
    wrong[7] ^= 1;
    fs::write(&file, wrong).unwrap();
    assert!(matches!(scene.refused(yard.clone()), (YardError::OtherDigest { .. }, 0)));
    fs::remove_file(&file).unwrap();
    assert!(matches!(scene.refused(yard).0, YardError::NotThere));
}

#[test]
fn a_broken_download_goes_on_where_it_was_also_at_another_yard_and_in_a_later_climb() {
    let scene = Scene::new();
    let once = |fault| vec![Rule::new(".bin", fault).times(1)];
    // The same yard, the next yard, and another climb altogether.
    let cut = scene.serve_by(once(Fault::Cut(200_000)));
    let counting = Counting::default();
    scene.fetch_as(&Manners::default(), &yards(&[&cut]), &counting).unwrap();
    assert_eq!(counting.received.load(Ordering::Relaxed), 300_000, "no byte came twice");
    for split in [false, true] {
        fs::remove_dir_all(scene.folder.path().join("cache")).unwrap();
        let (cut, good) = (scene.serve(Some(Fault::Cut(200_000))), scene.serve(None));
        let counting = Counting::default();
        if split {
            assert!(scene.fetch(&yards(&[&cut])).is_err());
            scene.fetch_as(&Manners::default(), &yards(&[&good]), &counting).unwrap();
            assert_eq!(counting.received.load(Ordering::Relaxed), 100_000);
        } else {
            let patient = Manners { retries: 0, ..Manners::default() };
            scene.fetch_as(&patient, &yards(&[&cut, &good]), &counting).unwrap();
            assert_eq!(counting.received.load(Ordering::Relaxed), 300_000);
        }
    }
}

#[test]
fn what_came_earlier_is_not_trusted() {
    let scene = Scene::new();
    let partial = scene.cache().path(&scene.artifact.sha256).with_added_extension("part");
    let faults = [None, Some(Fault::NoParts), Some(Fault::OtherPart(10))];
    for (fault, wrong) in
        faults.into_iter().flat_map(|fault| [150_000, 300_000, 300_001].map(|wrong| (fault.clone(), wrong)))
    {
        let _ = fs::remove_dir_all(scene.folder.path().join("cache"));
        fs::create_dir_all(partial.parent().unwrap()).unwrap();
        fs::write(&partial, vec![b'x'; wrong]).unwrap();
        let served = scene.serve(fault.clone());
        let path = scene.fetch(&yards(&[&served])).unwrap();
        assert_eq!(of_file(&path).unwrap().0, scene.artifact.sha256, "{fault:?}, {wrong}");
        assert!(!partial.exists());
    }
}

#[test]
fn a_yard_that_is_busy_is_left_alone_and_then_asked_again() {
    let scene = Scene::new();
    let served = scene
        .serve_by(vec![Rule::new(".bin", Fault::Busy(1)).times(1), Rule::new(".bin", Fault::Status(500)).times(1)]);
    let started = Instant::now();
    scene.fetch_as(&Manners::default(), &yards(&[&served]), &Silent).unwrap();
    assert_eq!(served.requests(), 3);
    assert!(started.elapsed() >= Duration::from_secs(1));
}

#[test]
fn two_who_want_the_same_artifact_fetch_it_once() {
    let scene = Scene::new();
    let served = scene.serve(Some(Fault::Stall(Duration::from_millis(300))));
    std::thread::scope(|scope| {
        let both = [0, 1].map(|_| scope.spawn(|| scene.fetch(&yards(&[&served])).unwrap()));
        let [one, other] = both.map(|thread| thread.join().unwrap());
        assert_eq!(one, other);
    });
    assert_eq!(served.requests(), 1);
}

#[test]
fn the_rate_is_kept() {
    let scene = Scene::new();
    let served = scene.serve(None);
    let started = Instant::now();
    let slow = Manners { rate: Some(Rate(600_000)), ..Manners::default() };
    scene.fetch_as(&slow, &yards(&[&served]), &Silent).unwrap();
    assert!(started.elapsed() >= Duration::from_millis(450), "{:?}", started.elapsed());
}

#[test]
fn the_first_yard_that_delivers_ends_the_search() {
    let scene = Scene::new();
    let (bad, good, spare) = (scene.serve(Some(Fault::Corrupt(7))), scene.serve(None), scene.serve(None));
    assert!(scene.fetch(&yards(&[&bad, &good, &spare])).is_ok());
    assert_eq!([bad.requests(), good.requests(), spare.requests()].map(|n| n > 0), [true, true, false]);
}

#[test]
fn what_is_cached_is_not_asked_for_again_unless_its_bytes_changed() {
    let scene = Scene::new();
    let served = scene.serve(None);
    let yards = [served.url()];
    let path = scene.fetch(&yards).unwrap();
    assert_eq!(scene.fetch(&[]).unwrap(), path, "without any yard");
    let mut bytes = fs::read(&path).unwrap();
    bytes[5] ^= 1;
    fs::write(&path, bytes).unwrap();
    assert!(matches!(scene.fetch(&[]), Err(FetchError::NoYard { .. })));
    assert!(scene.fetch(&yards).is_ok());
}

/// Counts bytes, and cancels after some.
struct Counting {
    received: AtomicU64,
    after: u64,
    fetched: AtomicBool,
}

impl Default for Counting {
    fn default() -> Self {
        Self { received: AtomicU64::new(0), after: u64::MAX, fetched: AtomicBool::new(false) }
    }
}

impl Observer for Counting {
    fn event(&self, event: &Event) {
        self.fetched.fetch_or(matches!(event, Event::Fetched { .. }), Ordering::Relaxed);
    }
    fn cancelled(&self) -> bool {
        self.received.load(Ordering::Relaxed) >= self.after
    }
    fn received(&self, _: Option<&RungKey>, bytes: u64) {
        self.received.fetch_add(bytes, Ordering::Relaxed);
    }
}

#[test]
fn a_cancelled_download_is_taken_up_again() {
    let scene = Scene::new();
    let yards = [scene.yard().display().to_string()];
    let impatient = Counting { after: 1, ..Counting::default() };
    let result = scene.fetch_as(&Manners::default(), &yards, &impatient);
    assert!(matches!(result, Err(FetchError::Cancelled(_))), "{result:?}");
    let patient = Counting::default();
    scene.fetch_as(&Manners::default(), &yards, &patient).unwrap();
    let both = impatient.received.load(Ordering::Relaxed) + patient.received.load(Ordering::Relaxed);
    assert!(both == 300_000 && patient.fetched.load(Ordering::Relaxed), "{both}");
}
