//! What the pins of a ladder need, on some machines: every artifact once.

use std::collections::BTreeMap;

use kladder_choose::catalog::{Artifact, CatalogError, Machine, PinnedArtifact, Published};
use kladder_choose::digest::Digest;
use kladder_choose::ladder::CodeSource;
use kladder_choose::names::ToolName;
use kladder_choose::path::InnerPath;
use kladder_choose::pins::{Pin, Pins};

use crate::base::event::Observer;
use crate::base::side::side_by_side;
use crate::bring::fetch::{Cache, FetchError, Sources, fetch};
use crate::desk::Desk;

/// Why it is not known what pins need.
#[derive(Debug, thiserror::Error)]
pub enum NeededError {
    /// A catalog cannot be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// The size of a file is not known.
    #[error("the size of {0} is not known")]
    NoSize(String),
    /// No machine of the ladder is called so.
    #[error("the ladder is pinned for no machine called {name}")]
    NoMachine {
        /// The name.
        name: String,
        /// Those that there are.
        there: Vec<String>,
    },
}

/// One artifact, and whose it is.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// What it is, and where it is to be had.
    pub artifact: Artifact,
    /// The rungs that need it, with their versions.
    pub of: Vec<String>,
}

/// Everything that pins need.
#[derive(Clone, Debug, Default)]
pub struct Needed {
    /// The machines, as the ladder names them.
    pub machines: Vec<String>,
    /// By path in a yard and digest: one file may be known by several names, and one name may mean several files.
    pub all: BTreeMap<(InnerPath, Digest), Wanted>,
}

impl Needed {
    /// What pins need on the machines of these names; on all that the ladder is pinned for, where there is no name.
    ///
    /// # Errors
    /// [`NeededError`].
    pub fn of(desk: &Desk, pins: &Pins, names: &[String]) -> Result<Self, NeededError> {
        let ladder = &desk.ladder;
        let all = if ladder.machines.is_empty() { vec![desk.machine()] } else { ladder.machines.clone() };
        let called = |machine: &Machine| match machine.name.as_str() {
            "" => machine.platform.to_string(),
            name => name.to_owned(),
        };
        let there: Vec<String> = all.iter().map(called).collect();
        if let Some(name) = names.iter().find(|name| !there.contains(name)) {
            return Err(NeededError::NoMachine { name: name.clone(), there });
        }
        let is_meant = |machine: &&Machine| names.is_empty() || names.contains(&called(machine));
        let machines: Vec<&Machine> = all.iter().filter(is_meant).collect();
        let mut needed = Self { machines: machines.iter().map(|machine| called(machine)).collect(), ..Self::default() };
        for machine in machines {
            for (tool, pin) in pins.on(machine).all() {
                needed.rung(desk, tool, pin, machine)?;
            }
        }
        for source in ladder.code.iter().flat_map(|code| code.sources.values()) {
            if let CodeSource::Archive { file, sha256, size, .. } = source {
                let pinned = PinnedArtifact { file: file.clone(), size: *size, sha256: *sha256, also: Vec::new() };
                needed.add(&pinned, None, "the ladder's code")?;
            }
        }
        Ok(needed)
    }

    fn rung(&mut self, desk: &Desk, tool: &ToolName, pin: &Pin, machine: &Machine) -> Result<(), NeededError> {
        let definition = desk.catalogs.tool(tool)?;
        let release = definition.as_ref().and_then(|definition| definition.release(&pin.version));
        let of = format!("{tool} {}", pin.version);
        let own = pin.artifact(machine).map(|pinned| (None, Some(pinned)));
        let pieces = pin.piece_artifacts(machine).map(|(piece, pinned)| (Some(piece), pinned));
        for (piece, pinned) in own.into_iter().chain(pieces) {
            let Some(pinned) = pinned else { continue };
            self.add(pinned, release.and_then(|release| release.published(piece, pinned, machine)), &of)?;
        }
        Ok(())
    }

    fn add(&mut self, pinned: &PinnedArtifact, published: Option<&Published>, of: &str) -> Result<(), NeededError> {
        let artifacts = pinned.with(published).map_err(|file| NeededError::NoSize(file.to_string()))?;
        for artifact in artifacts {
            let key = (artifact.file.clone(), artifact.sha256);
            let wanted = self.all.entry(key).or_insert_with(|| Wanted { artifact, of: Vec::new() });
            if !wanted.of.iter().any(|one| one == of) {
                wanted.of.push(of.to_owned());
            }
        }
        Ok(())
    }

    /// Brings all of it into the cache, several at once. What the cache seems to hold is left as it is: whoever takes it holds it
    /// against its digest on the way.
    ///
    /// # Errors
    /// The first thing that could not be brought; the others are there.
    pub fn bring(&self, desk: &Desk, observer: &dyn Observer) -> Result<Cache, FetchError> {
        let cache = Cache::new(&desk.surroundings.home.artifacts);
        let all: Vec<&Wanted> = self.all.values().filter(|one| !cache.seems_to_hold(&one.artifact)).collect();
        let sources = Sources { yards: &desk.yards, cache: &cache, network: &desk.network };
        let came = side_by_side(&all, desk.network.at_once(), |wanted| {
            fetch(&wanted.artifact, sources, &mut (), observer).map(drop)
        });
        came.into_iter().collect::<Result<(), _>>()?;
        Ok(cache)
    }
}
