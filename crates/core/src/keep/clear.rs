//! What nothing uses any more: found, weighed, removed.
//!
//! A place on the shelf is used by every landing that has it, and by the last climb of a ladder that did not land, which
//! goes on from there. A ladder whose file is gone uses nothing.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::bring::parts::{LIBRARIES, files_of, is_in_use};
use crate::keep::landing::{Landing, LandingError, Landings};
use crate::keep::state::{Ended, Journal, JournalError, Kind, StateError, Step};
use crate::keep::whose::Whose;
use crate::settings::Home;

/// What came of a download that is older than this is given up.
const STALE: Duration = Duration::from_hours(24);

/// What is kept although nothing needs it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Policy {
    /// Landings of each ladder, newest first; all, where it is `None`. The current one always is.
    pub landings: Option<usize>,
    /// Artifacts that were used within this time.
    pub used_within: Duration,
    /// Bytes of artifacts, those used last first.
    pub cache: Option<u64>,
}

/// What something is that may go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Waste {
    /// A version on the shelf that no landing has.
    Shelved {
        /// Its tool and place.
        name: String,
    },
    /// A berth that no landing has.
    Berth,
    /// What a tool wrote for a ladder no landing of which has it any more.
    Corner {
        /// The tool.
        tool: String,
    },
    /// A landing that is not to be kept.
    Landing {
        /// The ladder's file.
        ladder: PathBuf,
        /// Its number.
        number: u32,
    },
    /// The landings of a ladder whose file is gone.
    Ladder {
        /// The file.
        ladder: PathBuf,
    },
    /// An artifact that was not used for long.
    Artifact,
    /// What came of a download that nobody went on with.
    Partial,
    /// An index of a catalog, which is made anew when it is needed.
    Index,
    /// Something that Kite Ladder keeps.
    Home,
}

/// Something that may go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// What it is.
    pub what: Waste,
    /// Where.
    pub path: PathBuf,
    /// Bytes on disk that are free when it is gone; what is shared with others is not.
    pub size: u64,
}

/// Why nothing could be cleared.
#[derive(Debug, thiserror::Error)]
pub enum ClearError {
    /// A landing could not be read, so what it uses is not known.
    #[error(transparent)]
    Landing(#[from] LandingError),
    /// The home could not be written to.
    #[error(transparent)]
    State(#[from] StateError),
    /// A file could not be read or removed.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

impl From<JournalError> for ClearError {
    fn from(error: JournalError) -> Self {
        Self::State(StateError::Journal(error))
    }
}

/// What may go, by a policy; largest first within its kind.
///
/// # Errors
/// [`ClearError`] where a landing's record, the shelf or the cache cannot be read: what is in use would not be known.
pub fn plan(home: &Home, policy: &Policy) -> Result<Vec<Item>, ClearError> {
    let (mut items, mut used) = (Vec::new(), unlanded(home)?);
    for landings in Landings::everywhere(&home.ladders())? {
        ladder(&landings, policy, &mut items, &mut used)?;
    }
    shelf(home, &used, &mut items)?;
    cache(home, policy, &mut items)?;
    Ok(items)
}

/// What Kite Ladder keeps in its folders, by the folder; everything else in them is somebody else's.
const OURS: [(&str, &[&str]); 3] = [
    ("config", &["config.toml", "ladder.toml", "ladder.pinned.toml", "ladder.toml.before"]),
    (
        "data",
        &[
            "shelf",
            "wired",
            "staging",
            "ladders",
            "launchers",
            "lock",
            "journal.db",
            "journal.db-wal",
            "journal.db-shm",
            "terms.json",
            "chores.json",
            "restarts.json",
            "rates.json",
        ],
    ),
    ("cache", &["artifacts", "catalogs", "catalogs-fetched", "listed"]),
];

fn folder_of<'h>(home: &'h Home, name: &str) -> &'h Path {
    match name {
        "config" => &home.config,
        "data" => &home.data,
        _ => &home.cache,
    }
}

/// Every trace of Kite Ladder: what it keeps in its folders. Ladders and pins in projects are their owners'.
pub fn everything(home: &Home) -> Vec<Item> {
    let ours = OURS.iter().flat_map(|(folder, names)| names.iter().map(|name| folder_of(home, folder).join(name)));
    let there = ours.filter(|path| fs::symlink_metadata(path).is_ok());
    there.map(|path| Item { what: Waste::Home, size: weight(&path), path }).collect()
}

/// What stands in Kite Ladder's folders and is not Kite Ladder's.
///
/// # Errors
/// [`FileError`] where a folder cannot be listed.
pub fn foreign(home: &Home) -> Result<Vec<PathBuf>, FileError> {
    let mut foreign = Vec::new();
    for (folder, ours) in OURS {
        let folder = folder_of(home, folder);
        let is_ours = |name: &std::ffi::OsString| ours.iter().any(|ours| name == ours) || is_left(name);
        let others = files::names(folder)?.into_iter().filter(|name| !is_ours(name));
        foreign.extend(others.map(|name| folder.join(name)));
    }
    // All three may be one folder, or below one another.
    foreign.retain(|path| ![&home.config, &home.data, &home.cache].contains(&path));
    Ok(foreign)
}

/// What a killed process of ours may have left.
fn is_left(name: &std::ffi::OsString) -> bool {
    let name = name.to_string_lossy();
    name.starts_with(".new-") || name.ends_with(".leaving")
}

/// Removes what was found. Whoever calls this is the only one who writes.
///
/// # Errors
/// [`ClearError`] for the first item that cannot be removed, or where the user asked for an end; what was removed before
/// stays removed.
pub fn remove(items: &[Item], observer: &dyn Observer) -> Result<(), ClearError> {
    for item in items {
        check_cancelled(observer)?;
        match &item.what {
            Waste::Landing { number, .. } => {
                let landings = item.path.ancestors().nth(2).unwrap_or(&item.path);
                Landings::at(landings).remove(*number)?;
            }
            Waste::Corner { tool } => {
                // The record first: what it says was made is about to go.
                let fitted = item.path.ancestors().nth(2).unwrap_or(&item.path).join("fitted");
                files::remove_tree(&fitted.join([tool, ".json"].concat()))?;
                files::vanish(&item.path)?;
            }
            Waste::Artifact | Waste::Partial => fs::remove_file(&item.path).on("remove", &item.path)?,
            // A link is removed, and what is behind it stays.
            Waste::Home => files::remove_tree(&item.path)?,
            _ => files::vanish(&item.path)?,
        }
    }
    Ok(())
}

/// Removes the folders themselves, where nothing is left in them.
pub fn leave(home: &Home) {
    for folder in [&home.config, &home.data, &home.cache] {
        // What is not empty stays; that is what this is for.
        let _ = fs::remove_dir(folder);
    }
}

/// The places that a climb without a landing left for the next one.
fn unlanded(home: &Home) -> Result<BTreeSet<PathBuf>, ClearError> {
    let Some(journal) = Journal::read(&home.data)? else { return Ok(BTreeSet::new()) };
    let (mut used, mut seen) = (BTreeSet::new(), BTreeSet::new());
    for run in journal.runs(None)? {
        let is_last = run.kind == Kind::Climb && seen.insert(run.ladder.clone());
        if !is_last || matches!(run.ended, Some(Ended::Done | Ended::Finished)) || !run.ladder.exists() {
            continue;
        }
        for (_, step) in journal.steps(&run)? {
            if let Step::Shelved { folder, .. } = step {
                used.insert(folder);
            }
        }
    }
    Ok(used)
}

fn ladder(
    landings: &Landings,
    policy: &Policy,
    items: &mut Vec<Item>,
    used: &mut BTreeSet<PathBuf>,
) -> Result<(), ClearError> {
    // One that cannot be read would hide what it uses.
    let all = landings.all()?.into_iter().map(|(_, landing)| landing).collect::<Result<Vec<_>, _>>()?;
    let current = landings.current_number();
    let Some(newest) = all.last() else { return Ok(()) };
    let ladder = Whose::read(landings.folder()).map_or_else(|| newest.ladder.clone(), |whose| whose.ladder);
    if !ladder.exists() {
        let (what, path) = (Waste::Ladder { ladder }, landings.folder().to_path_buf());
        items.push(Item { what, size: weight(&path), path });
        return Ok(());
    }
    let keep = policy.landings.unwrap_or(usize::MAX).max(1);
    let (old, kept): (Vec<(usize, &Landing)>, Vec<_>) =
        all.iter().enumerate().partition(|(at, landing)| all.len() - at > keep && Some(landing.number) != current);
    used.extend(kept.iter().flat_map(|(_, landing)| landing.rungs.iter().map(|rung| rung.folder.clone())));
    let berths: BTreeSet<&PathBuf> =
        kept.iter().flat_map(|(_, landing)| &landing.rungs).filter_map(|rung| rung.berth.as_ref()).collect();
    for name in files::names(&landings.folder().join("berths"))? {
        let path = landings.folder().join("berths").join(name);
        if !berths.contains(&path) {
            items.push(Item { what: Waste::Berth, size: weight(&path), path });
        }
    }
    let tools: BTreeSet<String> =
        kept.iter().flat_map(|(_, landing)| &landing.rungs).map(|rung| rung.key.folder_name()).collect();
    for name in files::names(&landings.folder().join("corners"))? {
        let (tool, path) = (name.to_string_lossy().into_owned(), landings.folder().join("corners").join(&name));
        if !tools.contains(&tool) {
            items.push(Item { what: Waste::Corner { tool }, size: weight(&path), path });
        }
    }
    for (_, landing) in old {
        let path = landings.folder().join("landings").join(landing.number.to_string());
        let what = Waste::Landing { ladder: landing.ladder.clone(), number: landing.number };
        items.push(Item { what, size: weight(&path), path });
    }
    Ok(())
}

fn shelf(home: &Home, used: &BTreeSet<PathBuf>, items: &mut Vec<Item>) -> Result<(), ClearError> {
    let mut found = Vec::new();
    let shelf = home.shelf();
    let has_libraries = shelf.join(LIBRARIES).exists();
    let of_sets = files_of(used.iter().map(PathBuf::as_path).filter(|_| has_libraries));
    for tool in files::names(&shelf)? {
        for place in files::names(&shelf.join(&tool))? {
            let path = shelf.join(&tool).join(&place);
            let is_of_set = || tool == LIBRARIES && is_in_use(&path, &of_sets);
            if !used.contains(&path) && !is_of_set() {
                let name = format!("{}/{}", tool.display(), place.display());
                found.push(Item { what: Waste::Shelved { name }, size: weight(&path), path });
            }
        }
    }
    found.sort_by_key(|item| std::cmp::Reverse(item.size));
    items.extend(found);
    Ok(())
}

fn cache(home: &Home, policy: &Policy, items: &mut Vec<Item>) -> Result<(), ClearError> {
    let mut artifacts = Vec::new();
    let folder = home.artifacts.join("artifacts");
    for sub in files::names(&folder)? {
        for name in files::names(&folder.join(&sub))? {
            let path = folder.join(&sub).join(&name);
            let Ok(meta) = fs::metadata(&path) else { continue };
            let idle = meta.modified().ok().and_then(|then| SystemTime::now().duration_since(then).ok());
            let (idle, size) = (idle.unwrap_or_default(), meta.blocks() * 512);
            if path.extension().is_some() {
                if idle > STALE {
                    items.push(Item { what: Waste::Partial, path, size });
                }
            } else {
                artifacts.push((idle, Item { what: Waste::Artifact, path, size }));
            }
        }
    }
    artifacts.sort_by_key(|(idle, _)| *idle);
    let mut kept = 0;
    for (idle, item) in artifacts {
        if idle > policy.used_within || policy.cache.is_some_and(|most| kept + item.size > most) {
            items.push(item);
        } else {
            kept += item.size;
        }
    }
    let lists = home.cache.join("listed/packages");
    let indexes = [home.indexes(), lists];
    let all = indexes.iter().map(|folder| Ok(files::names(folder)?.into_iter().map(|name| folder.join(name))));
    for path in all.collect::<Result<Vec<_>, FileError>>()?.into_iter().flatten() {
        let idle = fs::metadata(&path).and_then(|meta| meta.accessed()).ok();
        let idle = idle.and_then(|then| SystemTime::now().duration_since(then).ok()).unwrap_or_default();
        if idle > policy.used_within {
            items.push(Item { what: Waste::Index, size: weight(&path), path });
        }
    }
    Ok(())
}

/// Bytes on disk that belong to a tree alone: files with other links elsewhere are not counted.
fn weight(path: &Path) -> u64 {
    let entries = walkdir::WalkDir::new(path).into_iter().filter_map(Result::ok);
    let metas = entries.filter_map(|entry| entry.metadata().ok());
    metas.filter(|meta| !meta.is_file() || meta.nlink() == 1).map(|meta| meta.blocks() * 512).sum()
}
