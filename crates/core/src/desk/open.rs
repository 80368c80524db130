//! From where a command is called to everything that it works with.
//!
//! In order: the home (where things are kept), its settings, the ladder (the one that is named, else the nearest upward, else
//! the workstation's own), the catalogs that it names or the settings do, the pins beside it, and the yards: those of the
//! command, else those of the settings, else those of the catalogs.

use std::cell::RefCell;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use kladder_choose::address::{NotAnAddress, YardAddress};
use kladder_choose::catalog::{Catalog, CatalogError, Catalogs, Machine};
use kladder_choose::document::DocumentError;
use kladder_choose::ladder::{Ladder, STARTER, address_of};
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Pins, PinsFileError};

use super::catalogs::fetched::{self, FetchedError};
use super::catalogs::{Folder, Starter};
use super::ladders::{find_from, read_ladder, read_pins, write_pins};
use super::pinning::Unsized;
use super::sets::{Means, SetProblem, with_locks, with_sets, write_locks};
use crate::base::event::Silent;
use crate::base::files::FileError;
use crate::bring::bale::Bale;
use crate::bring::fetch::{Cache, Network, NetworkError, Yard, Yards, at};
use crate::bring::index::Around;
use crate::bring::neighbours::Neighbours;
use crate::climb::Site;
use crate::host::survey::Host;
use crate::host::tools::HostTools;
use crate::settings::{Home, NeighbourSetting, OriginRules, Settings};

/// Where a command is called, and what was said along with it.
#[derive(Clone, Debug)]
pub struct Surroundings {
    /// Where things are kept.
    pub home: Home,
    /// The machine.
    pub host: Host,
    /// The current folder.
    pub folder: PathBuf,
    /// The ladder that was named.
    pub ladder: Option<PathBuf>,
    /// The catalogs that were named, which take the place of those of ladder and settings.
    pub catalogs: Vec<PathBuf>,
    /// The yards that were named, which take the place of all others; folders start at the current one.
    pub yards: Vec<String>,
    /// Bales that artifacts come from before all else, the first of them first.
    pub bales: Vec<Bale>,
    /// Machines of the room may be asked, and given to, whatever the settings say.
    pub neighbours: bool,
    /// Nothing but the cache and yards that are folders may be used.
    pub offline: bool,
    /// How long to wait for another process that writes to the home; without an end where it is `None`.
    pub wait: Option<Duration>,
    /// Libraries, and sets of them, that may move although they are locked.
    pub moving: Vec<ToolName>,
    /// Hears how many libraries of a set were looked up, while that is done; zero in the end.
    pub looking: Option<fn(&ToolName, usize)>,
}

/// Why a desk could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum DeskError {
    /// There is no ladder.
    #[error("there is no ladder")]
    NoLadder {
        /// Where it was looked for, and above.
        folder: PathBuf,
        /// The workstation's own, which is not there either.
        own: PathBuf,
    },
    /// The home's path cannot be used.
    #[error("{} cannot be a home: {why}", path.display())]
    Home {
        /// Where it is.
        path: PathBuf,
        /// Why not.
        why: &'static str,
    },
    /// A yard that was named is none.
    #[error("`{text}` is no yard")]
    Yard {
        /// What was written.
        text: String,
        /// Why not.
        source: NotAnAddress,
    },
    /// The ladder or the settings are wrong.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// The pins could not be used.
    #[error(transparent)]
    Pins(#[from] PinsFileError),
    /// A set of libraries cannot be had.
    #[error(transparent)]
    Set(#[from] Box<SetProblem>),
    /// A catalog from elsewhere could not be had.
    #[error(transparent)]
    Fetched(#[from] FetchedError),
    /// The settings of the network are wrong.
    #[error(transparent)]
    Network(#[from] NetworkError),
}

/// Longest home, in bytes: paths below it must stay within what systems take for an interpreter line or a socket.
const LONGEST_HOME: usize = 512;

impl Surroundings {
    /// The ladder's file; `None` when there is none.
    pub fn ladder_path(&self) -> Option<PathBuf> {
        let own = || Some(self.home.ladder()).filter(|path| path.is_file());
        match &self.ladder {
            Some(named) => Some(self.folder.join(named)),
            None => find_from(&self.folder).or_else(own),
        }
    }

    fn needed_ladder(&self) -> Result<PathBuf, DeskError> {
        let missing = || DeskError::NoLadder { folder: self.folder.clone(), own: self.home.ladder() };
        self.ladder_path().ok_or_else(missing)
    }

    /// Reads the ladder alone.
    ///
    /// # Errors
    /// [`DeskError`] where there is none, or it is wrong.
    pub fn read_ladder(&self) -> Result<Ladder, DeskError> {
        Ok(read_ladder(&self.needed_ladder()?)?)
    }

    /// The catalogs of the ladder, or of the settings where there is no ladder.
    ///
    /// # Errors
    /// [`DeskError`] where none is named, or one cannot be used.
    pub fn open_catalogs(&self) -> Result<Catalogs, DeskError> {
        let settings = self.home.settings()?;
        match self.ladder_path().filter(|_| self.catalogs.is_empty()) {
            Some(path) => self.catalogs_of(&settings, Some(&read_ladder(&path)?)),
            None => self.catalogs_of(&settings, None),
        }
    }

    /// The folders of the catalogs of the ladder, or of the settings where there is no ladder.
    ///
    /// # Errors
    /// [`DeskError`] where the ladder or the settings are wrong.
    pub fn catalog_folders(&self) -> Result<Vec<PathBuf>, DeskError> {
        let settings = self.home.settings()?;
        let path = self.ladder_path().filter(|_| self.catalogs.is_empty());
        let ladder = path.map(|path| read_ladder(&path)).transpose()?;
        Ok(self.folders_of(&settings, ladder.as_ref()))
    }

    /// The catalogs that a ladder goes by: those of the command, its own, those of the settings, or the starter catalog.
    ///
    /// # Errors
    /// [`DocumentError`] where the settings are wrong.
    pub fn catalogs_in_use(&self, ladder: &Ladder) -> Result<Vec<PathBuf>, DocumentError> {
        Ok(self.folders_of(&self.home.settings()?, Some(ladder)))
    }

    fn folders_of(&self, settings: &Settings, ladder: Option<&Ladder>) -> Vec<PathBuf> {
        if !self.catalogs.is_empty() {
            return self.catalogs.clone();
        }
        let named = ladder.map(|ladder| ladder.catalogs.as_slice()).filter(|named| !named.is_empty());
        let folders = named.unwrap_or(&settings.catalogs);
        if folders.is_empty() { vec![PathBuf::from(STARTER)] } else { folders.to_vec() }
    }

    fn catalogs_of(&self, settings: &Settings, ladder: Option<&Ladder>) -> Result<Catalogs, DeskError> {
        self.open_folders(&self.folders_of(settings, ladder))
    }

    /// A catalog on this machine; one from elsewhere is fetched where it never was.
    fn here(&self, catalog: &Path) -> Result<PathBuf, DeskError> {
        match address_of(catalog) {
            None => Ok(catalog.to_path_buf()),
            Some(address) => {
                let network = self.network(&self.home.settings()?)?;
                Ok(fetched::folder_of(address, self, &network, &Silent)?)
            }
        }
    }

    /// The catalogs in some folders, the most important first.
    ///
    /// # Errors
    /// [`DeskError`] where one cannot be used.
    pub fn open_folders(&self, folders: &[PathBuf]) -> Result<Catalogs, DeskError> {
        let open = |folder: &PathBuf| -> Result<Box<dyn Catalog>, CatalogError> {
            if folder == Path::new(STARTER) {
                return Ok(Box::new(Starter::open()?));
            }
            Ok(Box::new(Folder::open(folder, Some(&self.home.indexes()))?))
        };
        let here = folders.iter().map(|folder| self.here(folder)).collect::<Result<Vec<_>, _>>()?;
        Ok(Catalogs::new(here.iter().map(open).collect::<Result<_, _>>()?)?)
    }

    /// The yards that the command names, else those of the settings.
    ///
    /// # Errors
    /// [`DeskError`] where one is none, or the settings are wrong.
    pub fn named_yards(&self) -> Result<Vec<YardAddress>, DeskError> {
        let named = |text: &String| {
            let address = YardAddress::new(text, &self.folder);
            address.map_err(|source| DeskError::Yard { text: text.clone(), source })
        };
        let named = self.yards.iter().map(named).collect::<Result<Vec<_>, _>>()?;
        Ok(if named.is_empty() { self.home.settings()?.yards } else { named })
    }

    fn yards_of(&self, catalogs: &Catalogs, network: &Network) -> Result<Yards, DeskError> {
        let named = self.named_yards()?;
        let first = if named.is_empty() { catalogs.yards() } else { named };
        let usable = first.iter().filter(|address| !self.offline || address.is_folder());
        let bales = self.bales.iter().map(|bale| Arc::new(bale.clone()) as Arc<dyn Yard>);
        Ok(bales.chain(usable.map(|address| at(address, network))).collect())
    }

    /// Machines of the room, where this command or the settings want them.
    fn neighbours_of(&self, settings: &Settings, network: &Network) -> Option<Neighbours> {
        let wanted = settings.neighbours.clone().or_else(|| self.neighbours.then(NeighbourSetting::default));
        let setting = wanted.filter(|_| !self.offline)?;
        Some(Neighbours::new(&setting, Cache::new(&self.home.artifacts), network))
    }

    /// Fails for a home whose path the things in it could not live with.
    fn check_home(&self) -> Result<(), DeskError> {
        let wrong = |path: &Path, why| Err(DeskError::Home { path: path.to_path_buf(), why });
        for path in [&self.home.data, &self.home.config, &self.home.cache] {
            let bytes = path.as_os_str().as_encoded_bytes();
            if bytes.len() > LONGEST_HOME {
                return wrong(path, "its path is longer than 512 bytes");
            }
            if bytes.contains(&b':') {
                return wrong(path, "there is a colon in its path, and PATH has colons between its folders");
            }
        }
        Ok(())
    }

    /// The way to servers, as the settings and the caller have it.
    ///
    /// # Errors
    /// [`NetworkError`].
    pub fn network(&self, settings: &Settings) -> Result<Network, NetworkError> {
        let (environment, home) = (self.host.environment.clone(), self.host.person.clone());
        let around = Around { environment, home, cache: self.home.cache.join("listed") };
        let mut settings = settings.clone();
        if self.offline {
            settings.origins = OriginRules::none();
        }
        Ok(Network::new(&settings.network)?.asking(&settings, around))
    }

    /// Opens everything.
    ///
    /// # Errors
    /// [`DeskError`] for the first thing that is missing or wrong.
    pub fn open(&self) -> Result<Desk, DeskError> {
        self.check_home()?;
        let mut ladder = self.read_ladder()?;
        let settings = self.home.settings()?;
        let here = self.host.machine();
        let network = self.network(&settings)?;
        let catalogs = self.catalogs_of(&settings, Some(&ladder))?;
        let mut yards = self.yards_of(&catalogs, &network)?;
        let (moving, looking) = (&self.moving, self.looking);
        let means = Means { network: &network, yards: &yards, home: &self.home, moving, looking };
        let catalogs = with_sets(catalogs, &mut ladder, &here, &means)?;
        let ladder = with_locks(ladder);
        let old = read_pins(&ladder.pins_path())?;
        let neighbours = self.neighbours_of(&settings, &network);
        if let Some(neighbours) = &neighbours {
            // What lies on this machine is nearer.
            let at = yards.iter().position(|yard| !yard.is_here()).unwrap_or(yards.len());
            yards.insert(at, Arc::new(neighbours.clone()));
        }
        Ok(Desk {
            surroundings: self.clone(),
            here,
            ladder,
            catalogs,
            old,
            yards,
            neighbours,
            network,
            untold: RefCell::default(),
        })
    }
}

/// A ladder with all that belongs to it.
pub struct Desk {
    /// Where it was opened.
    pub surroundings: Surroundings,
    /// The machine, for choosing.
    pub here: Machine,
    /// What is wanted.
    pub ladder: Ladder,
    /// What there is.
    pub catalogs: Catalogs,
    /// The pins on file.
    pub old: Option<Pins>,
    /// Where artifacts come from, best first.
    pub yards: Yards,
    /// Machines of the room, where they may be asked.
    pub neighbours: Option<Neighbours>,
    /// The way to those that are servers.
    pub network: Network,
    /// Files whose sizes nobody told when pins were chosen last.
    pub untold: RefCell<Vec<Unsized>>,
}

impl Desk {
    /// What the host has.
    pub fn host_tools(&self) -> HostTools<'_> {
        HostTools::of(&self.surroundings.host)
    }

    /// The same desk with another ladder in the place of its own; what its lock files hold stays.
    #[must_use]
    pub fn with_ladder(self, mut ladder: Ladder) -> Self {
        for set in &mut ladder.sets {
            let known = self.ladder.sets.iter().find(|known| known.name == set.name);
            set.locked = known.and_then(|known| known.locked.clone());
            if let (Some(own), Some(known)) = (&mut set.packages, known.and_then(|known| known.packages.as_ref())) {
                own.locked.clone_from(&known.locked);
            }
        }
        Self { ladder: with_locks(ladder), ..self }
    }

    /// Writes pins beside their ladder, and the lock files of its sets; tells whether a file changed.
    ///
    /// # Errors
    /// [`FileError`]; the pins that were there are still there then.
    pub fn write_pins(&self, pins: &Pins) -> Result<bool, FileError> {
        let locked = write_locks(&self.ladder)?;
        Ok(write_pins(pins, &self.ladder.pins_path())? || locked)
    }

    /// The machine of the ladder that this one counts as; itself, where the ladder is not pinned for it.
    pub fn machine(&self) -> Machine {
        self.ladder.machine(&self.here).unwrap_or_else(|| self.here.clone())
    }

    /// The ladder on this machine, by some pins.
    pub fn site<'d>(&'d self, pins: &'d Pins) -> Site<'d> {
        Site {
            ladder: &self.ladder,
            pins,
            catalogs: &self.catalogs,
            host: &self.surroundings.host,
            machine: self.machine(),
            home: &self.surroundings.home,
            yards: &self.yards,
            network: &self.network,
            offline: self.surroundings.offline,
            wanted: std::sync::OnceLock::new(),
        }
    }
}
