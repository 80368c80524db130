//! The shelf, its manifests, and landings that are begun, finished, or dropped.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::version::Version;
use kladder_core::base::digest::{Digest, Fingerprint};
use kladder_core::base::event::{Difference, How};
use kladder_core::base::files;
use kladder_core::bring::shelf::{Known, Manifest, ManifestEntry, Place, PlaceRecipe, Shelf, Standing, What};
use kladder_core::keep::landing::{LandedRung, Landing, Landings, Made, Recipes};

use crate::artifact;

/// The place of an archive that loses so many folders.
fn place(folder: &Path, strip: usize) -> Place {
    let unpack = Unpacking { strip, ..Unpacking::default() };
    let artifacts = [Artifact { unpack, ..artifact("tidlow-4.0.8.tar.gz", 1, Digest::of(b"archive")) }];
    let recipe = PlaceRecipe { artifacts: &artifacts, set_up: &[] };
    Shelf::new(&folder.join("shelf")).place(&tidlow(), &version(), &recipe)
}

fn tidlow() -> ToolName {
    "tidlow".parse().unwrap()
}

fn version() -> Version {
    "4.0.8".parse().unwrap()
}

fn entry(path: &Path, text: &str) -> ManifestEntry {
    let what = What::File { executable: false, size: text.len() as u64, blake3: Fingerprint::of(text.as_bytes()) };
    ManifestEntry { path: path.to_path_buf(), what }
}

/// Shelves two files, one with a name that is no UTF-8, and a link.
fn shelved(folder: &Path) -> Place {
    let prepared = folder.join("prepared");
    let odd = PathBuf::from(std::ffi::OsStr::from_bytes(b"odd\xff%name"));
    fs::create_dir_all(prepared.join("files")).unwrap();
    fs::write(prepared.join("files/plain"), "plain").unwrap();
    fs::write(prepared.join("files").join(&odd), "odd").unwrap();
    std::os::unix::fs::symlink("plain", prepared.join("files/link")).unwrap();
    let link = ManifestEntry { path: "link".into(), what: What::Link { target: "plain".into() } };
    let mut entries = vec![entry(Path::new("plain"), "plain"), entry(&odd, "odd"), link];
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    let place = place(folder, 1);
    let manifest = Manifest::new(&tidlow(), &version(), vec![Digest::of(b"archive")], entries);
    place.put(&prepared, &manifest).unwrap();
    assert_eq!(place.manifest().unwrap(), manifest);
    place
}

fn unlock(path: &Path) {
    fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn an_item_is_whole_read_only_and_in_a_place_of_its_own() {
    let folder = tempfile::tempdir().unwrap();
    let place = shelved(folder.path());
    assert!(place.standing() == Standing::Whole && !folder.path().join("prepared").exists());
    assert_eq!(place.manifest().unwrap().compare(&place.files()).unwrap(), []);
    for path in [place.files(), place.files().join("plain")] {
        assert_eq!(fs::metadata(path).unwrap().permissions().mode() & 0o222, 0);
    }
    assert_ne!(super::shelving::place(folder.path(), 2), place, "another way of unpacking is another item");
    files::remove_tree(&place.folder).unwrap();
    assert_eq!(place.standing(), Standing::Absent);
}

fn difference(path: &str, how: How) -> Difference {
    Difference { path: path.into(), how }
}

#[test]
fn every_kind_of_difference_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let place = shelved(folder.path());
    let at = |name: &str| place.files().join(name);
    unlock(&place.files());
    let differences = || place.manifest().unwrap().compare(&place.files()).unwrap();
    fs::write(at("extra"), "").unwrap();
    assert_eq!(differences(), [difference("extra", How::Extra)]);
    fs::remove_file(at("extra")).unwrap();
    unlock(&at("plain"));
    assert_eq!(differences(), [difference("plain", How::Mode)], "its run bit");
    fs::write(at("plain"), "other").unwrap();
    fs::set_permissions(at("plain"), fs::Permissions::from_mode(0o444)).unwrap();
    assert_eq!(differences(), [difference("plain", How::Changed)], "its bytes");
    fs::remove_file(at("plain")).unwrap();
    assert_eq!(differences(), [difference("plain", How::Missing)]);
    fs::write(at("plain"), "plain").unwrap();
    fs::remove_file(at("link")).unwrap();
    std::os::unix::fs::symlink("elsewhere", at("link")).unwrap();
    assert_eq!(differences(), [difference("link", How::Changed)]);
}

#[test]
fn a_second_one_at_the_same_place_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let place = shelved(folder.path());
    let again = shelved(folder.path());
    assert_eq!(
        (again.folder.as_path(), again.manifest().unwrap().compare(&again.files()).unwrap().len()),
        (place.folder.as_path(), 0)
    );
}

fn made<'m>(ladder: &'m Path, pins: &'m str, version: &str) -> Made<'m> {
    let rungs = vec![LandedRung {
        key: RungKey::shared(&tidlow()),
        version: version.parse().unwrap(),
        folder: "/shelf/tidlow".into(),
        berth: None,
        recipes: Recipes::new(),
    }];
    Made { ladder, text: "", pins, locks: Vec::new(), rungs, skipped_gates: Vec::new(), after: None }
}

fn land(landings: &Landings, made: Made<'_>) -> Landing {
    let landing = landings.draft().unwrap().finish(made).unwrap();
    landings.make_current(landing.number, None).unwrap();
    landing
}

#[test]
fn a_landing_becomes_current_when_committed_and_not_before() {
    let folder = tempfile::tempdir().unwrap();
    let ladder = folder.path().join("ladder.toml");
    let landings = Landings::of(&folder.path().join("ladders"), &ladder);
    assert!(landings.current().unwrap().is_none());
    land(&landings, made(&ladder, "pins 1", "4.0.7"));
    let first = landings.current().unwrap().unwrap();
    let draft = landings.draft().unwrap();
    fs::write(draft.folder().join("half"), "done").unwrap();
    assert_eq!(landings.current().unwrap().unwrap(), first);
    let unfinished = draft.folder().to_path_buf();
    drop(draft);
    assert!(!unfinished.exists());
    let second = land(&landings, made(&ladder, "pins 2", "4.0.8"));
    assert_eq!((first.number, second.number), (1, 2));
    assert_eq!(landings.current().unwrap().unwrap(), second);
    assert_eq!(fs::read_to_string(landings.current_link().join("pins.toml")).unwrap(), "pins 2");
}

#[test]
fn what_a_killed_climb_left_is_no_obstacle() {
    let folder = tempfile::tempdir().unwrap();
    let ladder = folder.path().join("ladder.toml");
    let landings = Landings::of(&folder.path().join("ladders"), &ladder);
    // Killed while making the first landing, and while switching to it.
    std::mem::forget(landings.draft().unwrap());
    let above = landings.current_link().parent().unwrap().to_path_buf();
    std::os::unix::fs::symlink("landings/1", above.join(".current-new")).unwrap();
    assert!(landings.current().unwrap().is_none());
    let landing = land(&landings, made(&ladder, "", "4.0.8"));
    assert_eq!(landings.current().unwrap(), Some(landing));
    let left: Vec<_> = fs::read_dir(above.join("landings")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left, ["1"]);
}

#[test]
fn ladders_in_folders_of_one_name_do_not_share_landings() {
    let of = |path: &str| Landings::of(Path::new("/ladders"), Path::new(path)).current_link();
    assert_ne!(of("/a/desk/ladder.toml"), of("/b/desk/ladder.toml"));
    assert_eq!(of("/a/desk/ladder.toml"), of("/a/desk/ladder.toml"));
}

/// What they are made from must not change unnoticed: whoever changes one on purpose raises its number.
#[test]
fn digests_of_places_and_berths_stay_what_they_are() {
    use kladder_choose::path::InnerPath;
    use kladder_core::keep::berth::{self, Berth, Loan};
    let inner = |text: &str| InnerPath::new(text).unwrap();
    let unpack = Unpacking {
        strip: 1,
        leave_out: vec!["share/doc".into()],
        moves: [(inner("usr"), inner(""))].into(),
        executable: vec!["bin/*".into()],
        ..Unpacking::default()
    };
    let artifacts = [Artifact { unpack, ..artifact("a.tar.gz", 1, Digest::of(b"archive")) }];
    let place = PlaceRecipe { artifacts: &artifacts, set_up: &[] }.digest();
    let (key, shelved) = (RungKey::shared(&tidlow()), Path::new("/shelf/tidlow/1"));
    let loans = vec![Loan {
        lender: "a".parse().unwrap(),
        from: "/shelf/a".into(),
        only: vec!["*.h".into()],
        at: inner("lib"),
    }];
    let (corners, commands) = ([inner("state")], [inner("bin/tidlow")]);
    let ladder = Path::new("/ladder");
    let made = berth::Made { ladder, key: &key, shelved, loans, corners: &corners, commands: &commands };
    let berth = Berth::new(made).recipe();
    let digests = [
        ("a place", place, "1e666c7849ba5d805eef2b7a552754dcc34fb3dace8cf1fc98793801d618a7a6"),
        ("a berth", berth, "437159166b46dfbdfdebeaf1f783dada266cfc57c4a96e6f029e32ed18d0d445"),
    ];
    for (what, digest, pinned) in digests {
        assert_eq!(digest.to_string(), pinned, "{what}");
    }
}

#[test]
fn what_was_changed_since_it_was_known_is_read_again_whatever_its_times_say() {
    let folder = tempfile::tempdir().unwrap();
    let files = folder.path().join("files");
    fs::create_dir_all(&files).unwrap();
    for name in ["same", "other", "gone", "swapped"] {
        fs::write(files.join(name), ["it is ", name].concat()).unwrap();
    }
    let mut unpacked = Manifest::scan(&files).unwrap();
    // What is not read again is taken as it was known: a wrong fingerprint of `same` tells that apart.
    let at = |entries: &[ManifestEntry], name: &str| entries.iter().position(|entry| entry.path == Path::new(name));
    let same = at(&unpacked, "same").unwrap();
    unpacked[same] = entry(Path::new("same"), "it IS same");
    std::thread::sleep(std::time::Duration::from_millis(20));
    let known = Known::now(&unpacked, folder.path()).unwrap();
    let times = fs::metadata(files.join("other")).unwrap().modified().unwrap();
    fs::write(files.join("other"), "IT IS OTHER").unwrap();
    fs::File::options().write(true).open(files.join("other")).unwrap().set_modified(times).unwrap();
    fs::remove_file(files.join("gone")).unwrap();
    fs::write(files.join("new"), "new").unwrap();
    fs::rename(files.join("new"), files.join("swapped")).unwrap();
    let since = Manifest::scan_since(&files, &known).unwrap();
    let plain = Manifest::scan(&files).unwrap();
    assert_eq!(since[at(&since, "same").unwrap()], unpacked[same]);
    let rest = |entries: &[ManifestEntry]| -> Vec<ManifestEntry> {
        entries.iter().filter(|entry| entry.path != Path::new("same")).cloned().collect()
    };
    assert_eq!((rest(&since), since.len()), (rest(&plain), 3));
}
