//! Sets of libraries: what they want is chosen from indexes, or read from lock files, and they become tools of a catalog of their
//! own.
//!
//! A set that says which libraries it wants has a lock file beside the ladder, `pylock.NAME.toml`, which is to it what the pins
//! are to rungs: while it fits the wishes no index is asked; else what still fits stays. It is written together with the pins.

mod in_catalogs;
mod lookup;
mod packages;
mod told;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use kladder_choose::catalog::{CatalogError, Catalogs, Definition, Machine, Memory, TextKind};
use kladder_choose::digest::{Canonical, Digest};
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::Ladder;
use kladder_choose::names::ToolName;
use kladder_choose::sets::{
    Interpreter, Libraries, LibraryClash, LibrarySet, Lock, LockError, NotChosen, PackagesError, SetError, choose,
    definition, interpreters, kernel_rehearsal,
};
use kladder_choose::version::{Requirement, Version};

pub use self::in_catalogs::InCatalogsError;
use self::lookup::Lookup;
pub use self::lookup::LookupError;
pub use self::told::{LibraryMove, LibraryThere, Misplaced};
use crate::base::files::{self, FileError};
use crate::bring::fetch::{Cache, Network, Sources, Yard};
use crate::settings::Home;

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
    /// Its lock file of packages cannot be used.
    #[error(transparent)]
    Packages(#[from] PackagesError),
    /// Its libraries do not go together.
    #[error("its libraries do not go together")]
    Clash(Box<LibraryClash>),
    /// Choosing them took too long.
    #[error("choosing its libraries takes too long")]
    GaveUp,
    /// They could not be looked up.
    #[error(transparent)]
    Lookup(#[from] LookupError),
    /// Where its lock file should be is one that was not written here.
    #[error("there is a lock file already that Kite Ladder did not write")]
    NotOurs,
    /// Its lock file was changed, or is only a part of what was written.
    #[error("it is not as Kite Ladder wrote it")]
    NotAsWritten,
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

/// What sets are looked up with.
pub(super) struct Means<'m> {
    pub(super) network: &'m Network,
    pub(super) yards: &'m [Arc<dyn Yard>],
    pub(super) home: &'m Home,
    /// Libraries, and sets of them, that may move.
    pub(super) moving: &'m [ToolName],
    /// Hears how many libraries were looked up.
    pub(super) looking: Option<fn(&ToolName, usize)>,
}

fn lock_of(ladder: &Ladder, set: &LibrarySet) -> PathBuf {
    set.lock.below(ladder.path.parent().unwrap_or(Path::new(".")))
}

/// What decides about pins is in the lock files, too: as they are, or as they will be.
pub(super) fn with_locks(mut ladder: Ladder) -> Ladder {
    if !ladder.sets.is_empty() {
        // One that cannot be read is told where it is used.
        let of = |set: &LibrarySet| match &set.locked {
            Some(text) => Digest::of(text.as_bytes()),
            None => Digest::of(&files::read(&lock_of(&ladder, set)).unwrap_or_default()),
        };
        let locks: Vec<String> = ladder.sets.iter().map(|set| of(set).to_string()).collect();
        ladder.digest = Canonical::new("kladder ladder and sets", 1)
            .field("ladder", ladder.own_digest.to_string())
            .list("locks", locks)
            .finish();
    }
    ladder
}

/// The catalogs with one more, that has the ladder's sets; the ladder learns what their lock files hold.
///
/// # Errors
/// [`SetProblem`] for the first set that cannot be had.
pub(super) fn with_sets(
    catalogs: Catalogs,
    ladder: &mut Ladder,
    here: &Machine,
    means: &Means<'_>,
) -> Result<Catalogs, Box<SetProblem>> {
    if ladder.sets.is_empty() {
        return Ok(catalogs);
    }
    let mut memory = Memory::new(CATALOG);
    let machines = if ladder.machines.is_empty() { vec![here.clone()] } else { ladder.machines.clone() };
    let mut locked = Vec::new();
    for set in &ladder.sets {
        let reading = SetReading { catalogs: &catalogs, ladder, set, machines: &machines, means };
        let defined = reading.defined().map_err(|why| problem(ladder, set, why))?;
        memory.add(set.name.as_str(), &defined.text);
        if let Some((name, text)) = kernel_rehearsal(set, &defined.interpreter) {
            memory.add_text(TextKind::Rehearsal, &name, &text);
        }
        locked.push((defined.locked, defined.packages));
    }
    for (set, (lock, packages)) in ladder.sets.iter_mut().zip(locked) {
        set.locked = lock;
        if let Some(own) = &mut set.packages {
            own.locked.clone_from(&packages);
        }
    }
    let joined = catalogs.and(Box::new(memory));
    joined.map_err(|error| problem(ladder, &ladder.sets[0], error.into()))
}

/// Writes the lock files that were made here; tells whether one changed.
///
/// # Errors
/// [`FileError`]; the old one is still there then.
pub(super) fn write_locks(ladder: &Ladder) -> Result<bool, FileError> {
    let mut changed = false;
    for (file, text) in ladder.sets.iter().flat_map(LibrarySet::written) {
        let path = file.below(ladder.path.parent().unwrap_or(Path::new(".")));
        if files::read(&path).is_ok_and(|old| old == text.as_bytes()) {
            continue;
        }
        let path = path.canonicalize().unwrap_or(path);
        files::replace(&path, text.as_bytes())?;
        changed = true;
    }
    Ok(changed)
}

fn problem(ladder: &Ladder, set: &LibrarySet, why: WhyNoSet) -> Box<SetProblem> {
    let lock = set.packages.as_ref().map_or(&set.lock, |own| &own.lock);
    let lock = lock.below(ladder.path.parent().unwrap_or(Path::new(".")));
    Box::new(SetProblem { name: set.name.clone(), lock, why })
}

/// One set, and all that it is made from.
struct SetReading<'r> {
    catalogs: &'r Catalogs,
    ladder: &'r Ladder,
    set: &'r LibrarySet,
    machines: &'r [Machine],
    means: &'r Means<'r>,
}

/// What a set comes to.
struct DefinedSet {
    /// The definition of its tool.
    text: String,
    /// What its lock file holds, where that is written here.
    locked: Option<String>,
    /// What the lock file of its packages holds, where that is written here.
    packages: Option<String>,
    /// The runtime's command.
    interpreter: String,
}

impl SetReading<'_> {
    fn defined(&self) -> Result<DefinedSet, WhyNoSet> {
        let set = self.set;
        if self.catalogs.tool(set.name.as_str())?.is_some() {
            return Err(WhyNoSet::Taken);
        }
        let runtime = self.catalogs.tool(set.of.as_str())?.ok_or_else(|| WhyNoSet::NoRuntime(set.of.clone()))?;
        let interpreter = interpreter_of(&runtime, set);
        if let Some(packages) = &set.packages {
            return self.packaged(&runtime, interpreter, packages);
        }
        let Some(wanted) = &set.libraries else {
            let (lock, _) = self.on_file()?;
            let minors = minors(&runtimes(&runtime, |_| true));
            let text = definition(set, &interpreter, &lock, &minors, self.machines)?;
            return Ok(DefinedSet { text, locked: None, packages: None, interpreter });
        };
        let range = self.range();
        let runtimes = runtimes(&runtime, |version| range.is_none_or(|range| range.allows(version)));
        let lock = self.chosen(wanted, &runtimes)?;
        let text = definition(set, &interpreter, &lock, &minors(&runtimes), self.machines)?;
        Ok(DefinedSet { text, locked: Some(lock.to_toml()), packages: None, interpreter })
    }

    /// The versions of the runtime that the ladder wants.
    fn range(&self) -> Option<&Requirement> {
        self.ladder.wishes.iter().find(|wish| wish.tool == self.set.of).map(|wish| &wish.range.requirement)
    }

    /// Whether a library, or the whole set, may move.
    fn moves(&self, library: &str) -> bool {
        self.means.moving.iter().any(|name| name.as_str() == library || *name == self.set.name)
    }

    fn spots(&self, Runtime { minor, patch }: &Runtime) -> Vec<Interpreter> {
        interpreters(*minor, *patch, self.machines)
    }

    fn on_file(&self) -> Result<(Lock, Source), LockError> {
        let source: Source = files::source(&lock_of(self.ladder, self.set)).map_err(DocumentError::from)?;
        Ok((Lock::parse(&source)?, source))
    }

    /// The lock file that was written here, where there is one.
    fn own(&self) -> Result<Option<Lock>, WhyNoSet> {
        if !lock_of(self.ladder, self.set).exists() {
            return Ok(None);
        }
        let (lock, source) = self.on_file()?;
        match lock.wishes {
            None => Err(WhyNoSet::NotOurs),
            Some(_) if !Lock::is_whole(&source.text) => Err(WhyNoSet::NotAsWritten),
            Some(_) => Ok(Some(lock)),
        }
    }

    /// What is on file, where it fits; else what is chosen now, for the first runtime that there is a choice for: the one that
    /// it was made for before the others.
    fn chosen(&self, wanted: &Libraries, runtimes: &[Runtime]) -> Result<Lock, WhyNoSet> {
        let old = self.own()?;
        let wishes = |runtime: &Runtime| self.set.wishes(&self.spots(runtime)).map(|digest| digest.to_string());
        let before = old.as_ref().and_then(|old| runtimes.iter().find(|runtime| old.is_for(&runtime.to_string())));
        let moves = |library: &str| self.moves(library);
        let moves_some = |lock: &Lock| lock.libraries.iter().any(|library| moves(&library.name));
        if let Some((old, runtime)) = old.as_ref().zip(before)
            && old.wishes == wishes(runtime)
            && !moves_some(old)
        {
            return Ok(old.clone());
        }
        let told = |number| {
            if let Some(looking) = self.means.looking {
                looking(&self.set.name, number);
            }
        };
        let cache = Cache::new(&self.means.home.artifacts);
        let sources = Sources { yards: self.means.yards, cache: &cache, network: self.means.network };
        let lookup = Lookup::new(wanted, self.catalogs, sources, self.means.home, &told);
        let chosen = self.chosen_for(wanted, runtimes, before, old.as_ref(), &moves, &lookup);
        told(0);
        let (lock, runtime) = chosen?;
        Ok(Lock { wishes: wishes(&runtime), ..lock })
    }

    fn chosen_for(
        &self,
        wanted: &Libraries,
        runtimes: &[Runtime],
        before: Option<&Runtime>,
        old: Option<&Lock>,
        moves: &dyn Fn(&str) -> bool,
        lookup: &Lookup<'_>,
    ) -> Result<(Lock, Runtime), WhyNoSet> {
        let mut first = None;
        for runtime in before.into_iter().chain(runtimes.iter().filter(|one| Some(*one) != before)) {
            match choose(wanted, self.spots(runtime), old, moves, lookup) {
                Ok(lock) => return Ok((lock, *runtime)),
                Err(NotChosen::Asked(error)) => return Err(error.into()),
                Err(NotChosen::GaveUp) => _ = first.get_or_insert(WhyNoSet::GaveUp),
                Err(NotChosen::Clash(clash)) => _ = first.get_or_insert(WhyNoSet::Clash(clash)),
            }
        }
        Err(first.unwrap_or_else(|| SetError::NoRuntime(self.set.of.to_string()).into()))
    }
}

/// A version of a runtime, as far as libraries care.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Runtime {
    minor: (u32, u32),
    patch: Option<u32>,
}

impl std::fmt::Display for Runtime {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}.{}", self.minor.0, self.minor.1, self.patch.unwrap_or_default())
    }
}

/// The newest release of each minor version of a runtime, in the order of its releases.
fn runtimes(runtime: &Definition, allowed: impl Fn(&Version) -> bool) -> Vec<Runtime> {
    let mut all: Vec<Runtime> = Vec::new();
    for release in runtime.releases.iter().filter(|release| allowed(&release.version)) {
        let mut parts = release.version.as_str().split(['.', '-', '+']).map(|part| part.parse().ok());
        let Some((major, minor)) = parts.next().flatten().zip(parts.next().flatten()) else { continue };
        let (minor, patch) = ((major, minor), parts.next().flatten());
        match all.iter_mut().find(|one| one.minor == minor) {
            Some(one) => one.patch = one.patch.max(patch),
            None => all.push(Runtime { minor, patch }),
        }
    }
    all
}

/// The command of a runtime that is there whether it is a rung's or the host's own.
fn interpreter_of(runtime: &Definition, set: &LibrarySet) -> String {
    let of_host = runtime.host.as_ref().and_then(|host| host.command.as_ref());
    let of_both = of_host.filter(|name| runtime.says.commands.contains_key(*name));
    of_both.map_or_else(|| set.of.to_string(), ToString::to_string)
}

fn minors(runtimes: &[Runtime]) -> Vec<(u32, u32)> {
    runtimes.iter().map(|runtime| runtime.minor).collect()
}
