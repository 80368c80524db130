//! What a command works with: the environment, read once, and the files of a ladder.

use std::env;
use std::path::{Path, PathBuf};
use std::time::Duration;

use etcetera::BaseStrategy;
use kladder_core::catalog::Catalog;
use kladder_core::climb::Site;
use kladder_core::fetch::{Network, Yard};
use kladder_core::home::{Config, Home};
use kladder_core::ladder::{self, Ladder};
use kladder_core::pins::{Freshness, HostTools, Moved, Pins, settle};
use kladder_core::survey::Host;

use crate::args::Global;
use crate::problem::{Code, Problem};
use crate::render::Out;

/// The variables that a survey looks at: proxies, in either case, and the session.
const TELLING: [&str; 9] = [
    "HTTP_PROXY",
    "http_proxy",
    "HTTPS_PROXY",
    "https_proxy",
    "ALL_PROXY",
    "all_proxy",
    "NO_PROXY",
    "no_proxy",
    "XDG_SESSION_ID",
];

/// The caller's surroundings.
#[derive(Clone, Debug)]
pub(crate) struct Context {
    pub(crate) home: Home,
    pub(crate) host: Host,
    pub(crate) folder: PathBuf,
    ladder: Option<PathBuf>,
    yards: Vec<String>,
    pub(crate) offline: bool,
    pub(crate) wait: Option<Duration>,
    root: Option<PathBuf>,
}

/// A ladder with all that belongs to it.
pub(crate) struct Opened {
    pub(crate) ladder: Ladder,
    pub(crate) catalog: Catalog,
    pub(crate) old: Option<Pins>,
    pub(crate) yards: Vec<Yard>,
    pub(crate) network: Network,
}

impl Context {
    /// Reads the environment.
    pub(crate) fn from_environment(global: &Global) -> Result<Self, Problem> {
        let folder = env::current_dir()
            .map_err(|error| Problem::new(Code::Failed, "the current folder cannot be told").why(error.to_string()))?;
        let root = env::var_os("KLADDER_HOME").filter(|home| !home.is_empty()).map(|home| folder.join(home));
        let home = match &root {
            Some(root) => Home::within(root),
            None => usual_home()?,
        };
        // Settings that cannot be read are told of by whoever needs them.
        let shared = home.config().ok().and_then(|config| config.cache);
        let home = Home { artifacts: shared.unwrap_or_else(|| home.artifacts.clone()), ..home };
        let mut host = Host::new(env::var_os("PATH").unwrap_or_default(), &env::temp_dir());
        host.variables = TELLING.iter().filter_map(|name| Some(((*name).to_owned(), env::var(name).ok()?))).collect();
        if let Some(root) = &global.root {
            host.root = described_root(&folder.join(root))?;
        }
        let (ladder, yards) = (global.ladder.clone(), global.yards.clone());
        let (offline, wait) = (global.offline, global.wait.map(Duration::from_secs));
        Ok(Self { home, host, folder, ladder, yards, offline, wait, root })
    }

    /// The same surroundings with another home and ladder.
    pub(crate) fn elsewhere(&self, home: Home, ladder: PathBuf) -> Self {
        Self { home, ladder: Some(ladder), yards: Vec::new(), ..self.clone() }
    }

    /// The ladder's file; `None` when there is none.
    pub(crate) fn ladder_path(&self) -> Option<PathBuf> {
        let own = || Some(self.home.ladder()).filter(|path| path.is_file());
        match &self.ladder {
            Some(named) => Some(self.folder.join(named)),
            None => ladder::find_from(&self.folder).or_else(own),
        }
    }

    /// The folder that `KLADDER_HOME` names.
    pub(crate) fn root(&self) -> Option<&Path> {
        self.root.as_deref()
    }

    /// Reads the ladder alone.
    pub(crate) fn ladder(&self) -> Result<Ladder, Problem> {
        Ok(Ladder::read(&self.ladder_path().ok_or_else(|| self.no_ladder())?)?)
    }

    /// Reads the ladder, its pins and its catalog.
    pub(crate) fn open(&self) -> Result<Opened, Problem> {
        let path = self.ladder_path().ok_or_else(|| self.no_ladder())?;
        let ladder = Ladder::read(&path)?;
        let config = self.home.config()?;
        let catalog = Catalog::open(&self.catalog_folder(&ladder, &config)?, Some(&self.home.indexes()))?;
        let old = Pins::read(&ladder.pins_path())?;
        let (yards, network) = (self.yards(&config, &catalog), Network::new(&config.network)?);
        Ok(Opened { ladder, catalog, old, yards, network })
    }

    /// The catalog of the ladder, or of the settings where there is no ladder.
    pub(crate) fn catalog(&self) -> Result<Catalog, Problem> {
        let config = self.home.config()?;
        let folder = match self.ladder_path() {
            Some(path) => self.catalog_folder(&Ladder::read(&path)?, &config)?,
            None => config.catalog.clone().ok_or_else(|| self.no_ladder())?,
        };
        Ok(Catalog::open(&folder, Some(&self.home.indexes()))?)
    }

    fn catalog_folder(&self, ladder: &Ladder, config: &Config) -> Result<PathBuf, Problem> {
        let named = ladder.catalog.clone().or_else(|| config.catalog.clone());
        named.ok_or_else(|| {
            Problem::new(Code::BadFile, "no catalog is named")
                .at(&ladder.path)
                .why("neither the ladder nor the settings say where the tool definitions are")
                .next("write `catalog = \"FOLDER\"` under [ladder]")
                .next(format!("or in {}", self.home.config.join("config.toml").display()))
        })
    }

    fn yards(&self, config: &Config, catalog: &Catalog) -> Vec<Yard> {
        let given: Vec<String> = self.yards.iter().map(|y| kladder_core::home::anchored(y, &self.folder)).collect();
        let lists = [&given, &config.yards, &catalog.yards];
        let first = lists.into_iter().find(|list| !list.is_empty());
        let all = first.into_iter().flatten().map(|yard| Yard::parse(yard));
        all.filter(|yard| !self.offline || matches!(yard, Yard::Folder(_))).collect()
    }

    fn no_ladder(&self) -> Problem {
        Problem::new(Code::BadFile, "there is no ladder")
            .at(&self.folder)
            .why(format!("no {} here or in a folder above, nor {}", ladder::FILE_NAME, self.home.ladder().display()))
            .next("write one; `kladder demo --keep FOLDER` makes an example to start from")
            .next("or name one with `--ladder FILE`")
    }
}

fn described_root(folder: &Path) -> Result<PathBuf, Problem> {
    folder
        .canonicalize()
        .ok()
        .filter(|folder| folder.is_dir())
        .ok_or_else(|| Problem::new(Code::BadFile, "there is no such folder to take the host's facts from").at(folder))
}

fn usual_home() -> Result<Home, Problem> {
    let base = etcetera::choose_base_strategy().map_err(|error| {
        Problem::new(Code::Failed, "your home folder cannot be told")
            .why(error.to_string())
            .next("set HOME, or KLADDER_HOME to a folder for everything that kladder keeps")
    })?;
    let own = |folder: PathBuf| folder.join("kite-ladder");
    Ok(Home::of(own(base.config_dir()), own(base.data_dir()), own(base.cache_dir())))
}

impl Opened {
    /// The pins to go by, and how the ones on file fit.
    pub(crate) fn settle(&self, context: &Context, out: &Out) -> Result<(Pins, Freshness), Problem> {
        let settled = settle(&self.ladder, &self.catalog, &context.host, self.old.as_ref());
        let settled = settled.map_err(|error| Problem::from_pins(&error, &self.ladder.path))?;
        tell(&settled.moved, out)?;
        Ok((settled.pins, settled.freshness))
    }

    /// Tells which pins on the host's own tools do not hold any more.
    pub(crate) fn tell_moved(&self, host: &HostTools<'_>, out: &Out) -> Result<(), Problem> {
        let moved = self.old.as_ref().map(|old| host.moved(old, &self.catalog)).unwrap_or_default();
        tell(&moved, out)
    }

    pub(crate) fn site<'s>(&'s self, context: &'s Context, pins: &'s Pins) -> Site<'s> {
        Site {
            ladder: &self.ladder,
            pins,
            catalog: &self.catalog,
            host: &context.host,
            home: &context.home,
            yards: &self.yards,
            network: &self.network,
            offline: context.offline,
        }
    }
}

fn tell(moved: &[Moved], out: &Out) -> Result<(), Problem> {
    for Moved { tool, was, file, now } in moved {
        let now = now.as_ref().map_or_else(
            || "nothing answers any more".to_owned(),
            |now| format!("{} {} answers now", now.file.display(), now.version),
        );
        out.say(format!("{tool} was pinned to this host's {} {was}, and {now}; chosen anew.", file.display()))?;
    }
    Ok(())
}
