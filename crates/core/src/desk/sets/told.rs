//! What lock files have, told: which libraries, who needs them, and what moved.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_choose::names::ToolName;
use kladder_choose::sets::{Library, LibrarySet, Lock, Packages, normalised};

use super::lock_of;
use crate::base::files;
use crate::desk::Desk;
use crate::keep::landing::{Landings, WORKED_IN};

/// A library of a set, before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibraryMove {
    /// The set.
    pub set: ToolName,
    /// The library.
    pub library: String,
    /// Its version on file; `None` for a new one.
    pub was: Option<String>,
    /// Its version now; `None` for one that is not needed any more.
    pub now: Option<String>,
}

/// A library in a set, and why it is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibraryThere {
    /// The set.
    pub set: ToolName,
    /// The tool that is the set's runtime.
    pub of: ToolName,
    /// The library.
    pub library: Library,
    /// What the ladder says of it, where it wishes for it itself.
    pub wish: Option<String>,
    /// Libraries of the set that need it, with their versions.
    pub askers: Vec<(String, Option<String>)>,
    /// From one that the ladder wishes for down to it, where it does not wish for it itself.
    pub way: Vec<String>,
}

/// A library that another installer put where no set sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misplaced {
    /// The folder that it lies in.
    pub folder: PathBuf,
    /// Its version.
    pub version: String,
    /// Who put it there, as its record says it.
    pub by: Option<String>,
}

/// Where installers put libraries in a project's folder, by habit.
const HABITS: [&str; 3] = [".venv", "venv", "env"];

impl Desk {
    /// Copies of a library outside of all sets: in the person's own folder of libraries, and in environments of the project's
    /// folder.
    pub fn misplaced(&self, name: &str) -> Vec<Misplaced> {
        let wanted = normalised(name);
        let all = self.outside_of_sets().into_iter();
        all.filter(|(library, _)| *library == wanted).map(|(_, misplaced)| misplaced).collect()
    }

    /// Copies of the sets' own libraries outside of all sets, by their names: what another installer put where no set sees it.
    pub fn misplaced_libraries(&self) -> Vec<(String, Misplaced)> {
        // Packages have no place but their projects'.
        let sets = self.ladder.sets.iter().filter(|set| set.packages.is_none());
        let locks = sets.filter_map(|set| locked(&self.ladder, set));
        let ours: BTreeSet<String> = locks.flatten().map(|library| library.name).collect();
        let mut all = if ours.is_empty() { Vec::new() } else { self.outside_of_sets() };
        all.retain(|(library, _)| ours.contains(library));
        all
    }

    fn outside_of_sets(&self) -> Vec<(String, Misplaced)> {
        let project = self.ladder.path.parent().unwrap_or(Path::new("."));
        let person = self.surroundings.host.person.iter().map(|home| home.join(".local"));
        let around = HABITS.iter().map(|habit| project.join(habit)).chain(person);
        around.flat_map(|top| sites(&top)).flat_map(|site| copies(&site)).collect()
    }

    /// The set whose environment the caller works in.
    pub fn worked_in(&self) -> Option<ToolName> {
        let told = self.surroundings.host.environment.get(WORKED_IN)?;
        let sets = Landings::of(&self.surroundings.home.ladders(), &self.ladder.path).sets().ok()?;
        sets.into_iter().find(|set| set.folder.as_os_str() == told).map(|set| set.name)
    }

    /// The libraries of a set as its lock file has them, or will have them; `None` for what is no set.
    pub fn libraries(&self, set: &str) -> Option<Vec<Library>> {
        let set = self.ladder.sets.iter().find(|one| one.name == *set)?;
        locked(&self.ladder, set)
    }

    /// Whether a set has a library of that name.
    pub fn has_library(&self, name: &str) -> bool {
        !self.library(name).is_empty()
    }

    /// Where a library is, and why.
    pub fn library(&self, name: &str) -> Vec<LibraryThere> {
        let there = |set: &LibrarySet| {
            let wanted = if set.packages.is_some() { name.to_owned() } else { normalised(name) };
            let all = locked(&self.ladder, set).unwrap_or_default();
            let needs = |one: &&Library| one.depends.contains(&wanted);
            let askers: Vec<_> = all.iter().filter(needs).map(|one| (one.name.clone(), one.version.clone())).collect();
            let way = way(&all, &wanted);
            let found = all.into_iter().filter(|one| one.name == wanted);
            let told = found.map(|library| {
                let wish = set.wish(&wanted).filter(|_| library.is_wished).map(str::to_owned);
                let way = if library.is_wished { Vec::new() } else { way.clone() };
                let (set, of, askers) = (set.name.clone(), set.of.clone(), askers.clone());
                LibraryThere { set, of, library, wish, askers, way }
            });
            told.collect::<Vec<_>>()
        };
        self.ladder.sets.iter().flat_map(there).collect()
    }

    /// The libraries that are at other versions than on file, or new, or gone; to be asked before the lock files are written.
    pub fn library_moves(&self) -> Vec<LibraryMove> {
        self.ladder.sets.iter().flat_map(|set| moves(&self.ladder, set)).collect()
    }
}

/// The folders of libraries below an environment, or a person's folder that is like one; links into ours are none.
fn sites(top: &Path) -> Vec<PathBuf> {
    let lib = top.join("lib");
    let versions = files::names(&lib).unwrap_or_default().into_iter();
    let site = |name| lib.join(name).join("site-packages");
    versions.map(site).filter(|site| std::fs::symlink_metadata(site).is_ok_and(|meta| meta.is_dir())).collect()
}

/// The libraries in a folder of libraries, by their names ("Recording installed projects").
fn copies(site: &Path) -> Vec<(String, Misplaced)> {
    let copy = |name: std::ffi::OsString| {
        let (library, version) = name.to_str()?.strip_suffix(".dist-info")?.split_once('-')?;
        let by = files::text_of_at_most(&site.join(&name).join("INSTALLER"), 1 << 10);
        let by = by.map(|by| by.trim().to_owned()).filter(|by| !by.is_empty());
        Some((normalised(library), Misplaced { folder: site.to_path_buf(), version: version.to_owned(), by }))
    };
    files::names(site).unwrap_or_default().into_iter().filter_map(copy).collect()
}

/// What a set has, as its lock file has it or will have it.
fn locked(ladder: &Ladder, set: &LibrarySet) -> Option<Vec<Library>> {
    match (&set.packages, &set.locked) {
        (Some(own), _) => match &own.locked {
            Some(text) => Some(Packages::parse(text).ok()?.libraries()),
            None => on_file(ladder, set),
        },
        (None, Some(text)) => Some(Lock::parse(&Source::new(lock_of(ladder, set), text.clone())).ok()?.libraries),
        (None, None) => on_file(ladder, set),
    }
}

fn on_file(ladder: &Ladder, set: &LibrarySet) -> Option<Vec<Library>> {
    match &set.packages {
        Some(own) => {
            let path = own.lock.below(ladder.path.parent().unwrap_or(Path::new(".")));
            Some(Packages::parse(&files::source(&path).ok()?.text).ok()?.libraries())
        }
        None => Some(Lock::parse(&files::source(&lock_of(ladder, set)).ok()?).ok()?.libraries),
    }
}

fn moves(ladder: &Ladder, set: &LibrarySet) -> Vec<LibraryMove> {
    // A package may be there at several versions.
    let versions = |all: Option<Vec<Library>>| -> BTreeMap<String, String> {
        let mut versions: BTreeMap<String, String> = BTreeMap::new();
        for library in all.into_iter().flatten() {
            let version = library.version.unwrap_or_default();
            let told = versions.entry(library.name).or_default();
            *told = if told.is_empty() { version } else { [told.as_str(), " ", &version].concat() };
        }
        versions
    };
    let (was, now) = (versions(on_file(ladder, set)), versions(locked(ladder, set)));
    let names: BTreeSet<&String> = was.keys().chain(now.keys()).collect();
    let moved = names.into_iter().filter(|name| was.get(*name) != now.get(*name));
    let told = |name: &String| LibraryMove {
        set: set.name.clone(),
        library: name.clone(),
        was: was.get(name).cloned(),
        now: now.get(name).cloned(),
    };
    moved.map(told).collect()
}

/// The shortest way from what is wished for, which is found breadth-first.
fn way(all: &[Library], to: &str) -> Vec<String> {
    let mut from: BTreeMap<&str, &str> = BTreeMap::new();
    let wished = all.iter().filter(|library| library.is_wished);
    let mut queue: Vec<&Library> = wished.collect();
    let mut at = 0;
    while let Some(library) = queue.get(at).copied() {
        at += 1;
        for next in all.iter().filter(|one| library.depends.contains(&one.name) && !one.is_wished) {
            if !from.contains_key(next.name.as_str()) {
                from.insert(&next.name, &library.name);
                queue.push(next);
            }
        }
    }
    let mut way = vec![to.to_owned()];
    while let Some(before) = way.first().and_then(|first| from.get(first.as_str())) {
        way.insert(0, (*before).to_owned());
    }
    way
}
