//! The shelf, its manifests, and landings that are begun, finished, or dropped.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_core::base::digest::{Digest, Fingerprint};
use kladder_core::base::files;
use kladder_core::keep::landing::{LandedRung, Landing, Landings, Made};
use kladder_core::bring::shelf::{Difference, Manifest, ManifestEntry, Place, Shelf, What};
use kladder_choose::version::Version;

fn artifact(strip: usize) -> Artifact {
    let unpack = Unpacking { strip, ..Unpacking::default() };
    Artifact { file: "tidlow-4.0.8.tar.gz".into(), size: 1, sha256: Digest::of(b"archive"), unpacked: None, unpack }
}

fn version() -> Version {
    "4.0.8".parse().unwrap()
}

fn entry(path: &Path, text: &str) -> ManifestEntry {
    let what = What::File { runs: false, size: text.len() as u64, blake3: Fingerprint::of(text.as_bytes()) };
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
    let place = Shelf::new(&folder.join("shelf")).place("tidlow", &version(), &[artifact(1)], &[]);
    let manifest = Manifest::new("tidlow", &version(), vec![Digest::of(b"archive")], entries);
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
    assert!(place.is_taken() && !folder.path().join("prepared").exists());
    assert_eq!(place.manifest().unwrap().compare(&place.files()).unwrap(), []);
    for path in [place.files(), place.files().join("plain")] {
        assert_eq!(fs::metadata(path).unwrap().permissions().mode() & 0o222, 0);
    }
    let other = Shelf::new(&folder.path().join("shelf")).place("tidlow", &version(), &[artifact(2)], &[]);
    assert_ne!(other, place, "another way of unpacking is another item");
    files::remove_tree(&place.folder).unwrap();
    assert!(!place.is_taken());
}

#[test]
fn every_kind_of_difference_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let place = shelved(folder.path());
    let at = |name: &str| place.files().join(name);
    unlock(&place.files());
    let differences = || place.manifest().unwrap().compare(&place.files()).unwrap();
    fs::write(at("extra"), "").unwrap();
    assert_eq!(differences(), [Difference::Extra("extra".into())]);
    fs::remove_file(at("extra")).unwrap();
    unlock(&at("plain"));
    assert_eq!(differences(), [Difference::Changed("plain".into())], "its run bit");
    fs::write(at("plain"), "other").unwrap();
    fs::set_permissions(at("plain"), fs::Permissions::from_mode(0o444)).unwrap();
    assert_eq!(differences(), [Difference::Changed("plain".into())], "its bytes");
    fs::remove_file(at("plain")).unwrap();
    assert_eq!(differences(), [Difference::Missing("plain".into())]);
    fs::write(at("plain"), "plain").unwrap();
    fs::remove_file(at("link")).unwrap();
    std::os::unix::fs::symlink("elsewhere", at("link")).unwrap();
    assert_eq!(differences(), [Difference::Changed("link".into())]);
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
        tool: "tidlow".into(),
        version: version.parse().unwrap(),
        folder: "/shelf/tidlow".into(),
        berth: None,
        kept_by: None,
    }];
    Made { ladder, text: "", pins, rungs, skipped_gates: Vec::new() }
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
