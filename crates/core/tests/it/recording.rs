//! The journal, who may write, and how what was left is mended.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

use kladder_core::base::event::{Event, Observer, Silent};
use kladder_core::bring::shelf::{Manifest, Place, Standing};
use kladder_core::keep::landing::{Landings, Made};
use kladder_core::keep::state::{Ended, Intent, Journal, JournalError, Kind, Recorder, StateError, Step, Writer};
use kladder_core::settings::Home;

struct Scene {
    folder: tempfile::TempDir,
    home: Home,
}

impl Scene {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::within(&folder.path().join("home"));
        Self { folder, home }
    }

    fn ladder(&self) -> PathBuf {
        self.folder.path().join("ladder.toml")
    }

    /// A run that is killed after `steps`, with this in mind.
    fn killed(&self, intent: Option<Intent>, steps: &[Event]) -> i64 {
        let writer = Writer::enter(&self.home, None, &Silent).unwrap();
        let recorder = Recorder::begin(&writer.journal, Kind::Climb, &self.ladder(), &Silent).unwrap();
        for step in steps {
            recorder.event(step);
        }
        if let Some(intent) = intent {
            recorder.intend(&intent).unwrap();
        }
        fs::create_dir_all(self.home.staging().join("half")).unwrap();
        writer.journal.runs(None).unwrap()[0].id
    }

    /// What the next one says, and how the run is told to have ended.
    fn mended(&self, run: i64) -> (Vec<bool>, Option<Ended>) {
        let heard = Heard::default();
        let writer = Writer::enter(&self.home, None, &heard).unwrap();
        assert!(!self.home.staging().exists());
        (heard.0.into_inner().unwrap(), writer.journal.run(run).unwrap().unwrap().ended)
    }
}

/// Whether each recovery that is told of finished something.
#[derive(Default)]
struct Heard(Mutex<Vec<bool>>);

impl Observer for Heard {
    fn event(&self, event: &Event) {
        if let Event::Recovered { finished, process } = event {
            assert_eq!(*process, std::process::id());
            self.0.lock().unwrap().push(*finished);
        }
    }
}

fn shelved(folder: &Path) -> Event {
    let rung = kladder_core::base::event::RungName { tool: "plank".parse().unwrap(), version: "1".parse().unwrap() };
    Event::Shelved { rung, files: 1, fetched: 1, from_cache: 0, folder: folder.to_path_buf() }
}

#[test]
fn a_killed_run_is_undone_unless_its_landing_is_whole() {
    let scene = Scene::new();
    let landings = Landings::of(&scene.home.ladders(), &scene.ladder());
    let pins = scene.folder.path().join("pins.toml");
    let land = |number| Intent::Land { landings: landings.folder().to_path_buf(), number, pins: Some(pins.clone()) };
    let run = scene.killed(None, &[]);
    assert_eq!(scene.mended(run), (vec![false], Some(Ended::Undone)));
    let run = scene.killed(Some(land(1)), &[]);
    std::mem::forget(landings.draft().unwrap());
    assert_eq!(scene.mended(run), (vec![false], Some(Ended::Undone)));
    assert!(!pins.exists() && fs::read_dir(landings.folder().join("landings")).unwrap().next().is_none());
    let run = scene.killed(Some(land(1)), &[]);
    let made = Made {
        ladder: &scene.ladder(),
        text: "",
        pins: "the pins",
        locks: vec![],
        rungs: vec![],
        skipped_gates: vec![],
        after: None,
    };
    landings.draft().unwrap().finish(made).unwrap();
    assert!(landings.current_number().is_none());
    assert_eq!(scene.mended(run), (vec![true], Some(Ended::Finished)));
    assert_eq!(
        (landings.current().unwrap().unwrap().number, fs::read_to_string(&pins).unwrap().as_str()),
        (1, "the pins")
    );
    assert_eq!(scene.mended(run), (vec![], Some(Ended::Finished)), "once is enough");
}

#[test]
fn what_a_killed_run_shelved_stays_only_if_it_is_whole() {
    let scene = Scene::new();
    let place = |name: &str| Place { folder: scene.home.shelf().join("plank").join(name) };
    for name in ["whole", "torn"] {
        let prepared = scene.folder.path().join(name);
        fs::create_dir_all(prepared.join("files")).unwrap();
        fs::write(prepared.join("files/plank"), "bytes").unwrap();
        let entries = Manifest::scan(&prepared.join("files")).unwrap();
        place(name)
            .put(&prepared, &Manifest::new(&"plank".parse().unwrap(), &"1".parse().unwrap(), vec![], entries))
            .unwrap();
    }
    let torn = place("torn").files().join("plank");
    fs::remove_file(&torn).unwrap_or_else(|_| {
        kladder_core::base::files::make_writable(&place("torn").files()).unwrap();
        fs::remove_file(&torn).unwrap();
    });
    let run = scene.killed(None, &[shelved(&place("whole").folder), shelved(&place("torn").folder)]);
    assert_eq!(scene.mended(run).1, Some(Ended::Undone));
    assert!(place("whole").standing() == Standing::Whole && !place("torn").folder.exists());
}

#[test]
fn steps_are_read_back_as_they_were_and_old_runs_are_forgotten() {
    let scene = Scene::new();
    let writer = Writer::enter(&scene.home, None, &Silent).unwrap();
    let begin = || Recorder::begin(&writer.journal, Kind::Climb, &scene.ladder(), &Silent).unwrap();
    let recorder = begin();
    recorder.event(&Event::YardFailed { yard: "a".into(), reason: "b".into(), next: "c".into() });
    recorder.event(&Event::Ahead { fetch: 7, rungs: Vec::new() });
    recorder.event(&shelved(Path::new("/shelf/plank")));
    recorder.end::<(), _>(&Err(StateError::Busy { process: Some(7) })).unwrap();
    let journal = Journal::read(&scene.home.data).unwrap().unwrap();
    let run = journal.runs(Some(&scene.ladder())).unwrap().remove(0);
    assert_eq!((run.ended, run.why.as_str()), (Some(Ended::Failed), "process 7 works on this home"));
    let steps: Vec<Step> = journal.steps(&run).unwrap().into_iter().map(|(_, step)| step).collect();
    let failed = Step::YardFailed { yard: "a".into(), reason: "b".into(), rung: None };
    assert_eq!(
        steps,
        [failed, Step::Shelved { tool: "plank".parse().unwrap(), files: 1, folder: "/shelf/plank".into() }]
    );
    (0..210).for_each(|_| begin().end::<_, StateError>(&Ok(())).unwrap());
    assert!(journal.runs(None).unwrap().len() <= 201 && journal.run(run.id).unwrap().is_none());
    assert_eq!(journal.runs(Some(Path::new("/elsewhere"))).unwrap(), []);
}

#[test]
fn one_writes_and_the_others_wait_for_as_long_as_they_like() {
    let scene = Scene::new();
    let first = Writer::enter(&scene.home, None, &Silent).unwrap();
    let second = Writer::enter(&scene.home, Some(Duration::from_millis(120)), &Silent);
    assert!(matches!(second, Err(StateError::Busy { process: Some(who) }) if who == std::process::id()));
    // Who finds nothing to do waits for nobody, and mends nothing of one who lives.
    Writer::mend(&scene.home, &Silent).unwrap();
    drop(first);
    assert!(Writer::enter(&scene.home, Some(Duration::ZERO), &Silent).is_ok());
}

#[test]
fn a_newer_journal_is_refused_and_one_that_is_none_is_told() {
    let scene = Scene::new();
    drop(Writer::enter(&scene.home, None, &Silent).unwrap());
    let path = scene.home.data.join("journal.db");
    rusqlite::Connection::open(&path).unwrap().pragma_update(None, "user_version", 9).unwrap();
    let newer = |error: Option<JournalError>| assert!(matches!(error, Some(JournalError::Newer { version: 9, .. })));
    newer(Journal::open(&scene.home.data).err());
    newer(Journal::read(&scene.home.data).err());
    for end in ["-wal", "-shm"] {
        let _ = fs::remove_file(path.with_file_name(format!("journal.db{end}")));
    }
    fs::write(&path, "no database at all, whatever its name says").unwrap();
    assert!(matches!(Journal::read(&scene.home.data), Err(JournalError::Sqlite { .. })));
    fs::remove_file(&path).unwrap();
    assert!(Journal::read(&scene.home.data).unwrap().is_none());
}
