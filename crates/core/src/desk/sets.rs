//! Sets of libraries: their lock files are read, and they become tools of a catalog of their own.

use std::path::{Path, PathBuf};

use kladder_choose::catalog::{CatalogError, Catalogs, Machine, Memory};
use kladder_choose::digest::{Canonical, Digest};
use kladder_choose::document::DocumentError;
use kladder_choose::ladder::Ladder;
use kladder_choose::names::ToolName;
use kladder_choose::sets::{LibrarySet, Lock, LockError, SetError, definition};

use crate::base::files;

/// The name of the catalog that sets are in.
const CATALOG: &str = "sets of this ladder";

/// Why a set cannot be had.
#[derive(Debug, thiserror::Error)]
#[error("the set {name} cannot be had")]
pub struct SetProblem {
    /// Which one.
    pub name: ToolName,
    /// Its lock file.
    pub lock: PathBuf,
    /// Why.
    #[source]
    pub why: WhyNoSet,
}

/// What is wrong with a set.
#[derive(Debug, thiserror::Error)]
pub enum WhyNoSet {
    /// Its lock file cannot be used.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// Its libraries cannot be had.
    #[error(transparent)]
    Set(#[from] SetError),
    /// A catalog has a tool of its name.
    #[error("a catalog has a tool of this name")]
    Taken,
    /// No catalog has its runtime.
    #[error("no catalog has {0}")]
    NoRuntime(ToolName),
    /// A catalog cannot be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
}

fn lock_of(ladder: &Ladder, set: &LibrarySet) -> PathBuf {
    set.lock.below(ladder.path.parent().unwrap_or(Path::new(".")))
}

/// What decides about pins is in the lock files, too.
pub(super) fn with_locks(mut ladder: Ladder) -> Ladder {
    if !ladder.sets.is_empty() {
        // One that cannot be read is told where it is used.
        let of = |set: &LibrarySet| Digest::of(&files::read(&lock_of(&ladder, set)).unwrap_or_default());
        let locks: Vec<String> = ladder.sets.iter().map(|set| of(set).to_string()).collect();
        ladder.digest = Canonical::new("kladder ladder and sets", 1)
            .field("ladder", ladder.digest.to_string())
            .list("locks", locks)
            .finish();
    }
    ladder
}

/// The catalogs with one more, that has the ladder's sets.
///
/// # Errors
/// [`SetProblem`] for the first set that cannot be had.
pub(super) fn with_sets(catalogs: Catalogs, ladder: &Ladder, here: &Machine) -> Result<Catalogs, Box<SetProblem>> {
    let Some(first) = ladder.sets.first() else { return Ok(catalogs) };
    let mut memory = Memory::new(CATALOG);
    for set in &ladder.sets {
        let text = defined(&catalogs, ladder, set, here).map_err(|why| problem(ladder, set, why))?;
        memory.add(set.name.as_str(), &text);
    }
    catalogs.and(Box::new(memory)).map_err(|error| problem(ladder, first, error.into()))
}

fn problem(ladder: &Ladder, set: &LibrarySet, why: WhyNoSet) -> Box<SetProblem> {
    Box::new(SetProblem { name: set.name.clone(), lock: lock_of(ladder, set), why })
}

fn defined(catalogs: &Catalogs, ladder: &Ladder, set: &LibrarySet, here: &Machine) -> Result<String, WhyNoSet> {
    if catalogs.tool(set.name.as_str())?.is_some() {
        return Err(WhyNoSet::Taken);
    }
    let source = files::source(&lock_of(ladder, set)).map_err(|error| LockError::from(DocumentError::from(error)))?;
    let lock = Lock::parse(&source)?;
    let runtime = catalogs.tool(set.of.as_str())?.ok_or_else(|| WhyNoSet::NoRuntime(set.of.clone()))?;
    let mut minors: Vec<(u32, u32)> = Vec::new();
    for release in &runtime.releases {
        let minor = minor_of(release.version.as_str()).filter(|minor| !minors.contains(minor));
        minors.extend(minor);
    }
    let machines = if ladder.machines.is_empty() { vec![here.clone()] } else { ladder.machines.clone() };
    Ok(definition(set, &lock, &source.text, &minors, &machines)?)
}

/// The first two numbers of a version.
fn minor_of(version: &str) -> Option<(u32, u32)> {
    let mut parts = version.split(['.', '-', '+']);
    Some((parts.next()?.parse().ok()?, parts.next()?.parse().ok()?))
}
