//! The caller's surroundings, read from the environment once.

use std::env;
use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use etcetera::BaseStrategy;
use kladder_choose::ladder::catalog_at;
use kladder_choose::names::ToolName;
use kladder_choose::pins::{HostPin, Pins};
use kladder_core::desk::{Desk, Freshness, Pinned, Surroundings};
use kladder_core::host::survey::Host;
use kladder_core::keep::wired::SINCE;
use kladder_core::settings::Home;
use kladder_core::share::laid::bales_of;
use kladder_core::wire;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::words;

use crate::args::Global;
use crate::render::Out;

/// The variables that tell of proxies, in either case, of the session, and of the keys that are at hand in it.
const TELLING: [&str; 12] = [
    "XDG_DATA_HOME",
    "SSH_AUTH_SOCK",
    "HTTP_PROXY",
    "http_proxy",
    "HTTPS_PROXY",
    "https_proxy",
    "ALL_PROXY",
    "all_proxy",
    "NO_PROXY",
    "no_proxy",
    "XDG_SESSION_ID",
    "SECURITYSESSIONID",
];

/// The least that a command must know.
pub(crate) struct Here {
    pub(crate) folder: PathBuf,
    /// The folder that `KLADDER_HOME` names.
    root: Option<PathBuf>,
    pub(crate) home: Home,
}

impl Here {
    /// Reads the environment.
    pub(crate) fn from_environment() -> Result<Self, Problem> {
        let folder = env::current_dir()
            .map_err(|error| Problem::new(Code::Failed, "the current folder cannot be told").why(error.to_string()))?;
        let root = env::var_os("KLADDER_HOME").filter(|home| !home.is_empty()).map(|home| folder.join(home));
        let home = match &root {
            Some(root) => Home::within(root),
            None => usual_home()?,
        };
        Ok(Self { folder, root, home })
    }
}

/// Where a command is called.
#[derive(Clone, Debug)]
pub(crate) struct Context {
    pub(crate) around: Surroundings,
    /// The person's home and shells.
    pub(crate) person: wire::Surroundings,
    /// Since when the calling shell is wired.
    pub(crate) since: Option<String>,
    /// The folder that `KLADDER_HOME` names.
    root: Option<PathBuf>,
}

impl Context {
    /// Reads the environment.
    pub(crate) fn from_environment(global: &Global) -> Result<Self, Problem> {
        let Here { folder, root, home } = Here::from_environment()?;
        // Settings that cannot be read are told of by whoever needs them.
        let shared = home.settings().ok().and_then(|settings| settings.cache);
        let home = Home { artifacts: shared.unwrap_or_else(|| home.artifacts.clone()), ..home };
        let mut host = Host::new(env::var_os("PATH").unwrap_or_default(), &env::temp_dir());
        host.variables = TELLING.iter().filter_map(|name| Some(((*name).to_owned(), env::var(name).ok()?))).collect();
        host.environment = env::vars_os().collect();
        // Whatever stands at the path it was started by; the program that runs is what is meant.
        host.person = home_folder();
        host.installed = env::current_exe().ok();
        host.kladder = cfg!(target_os = "linux").then(|| "/proc/self/exe".into());
        if let Some(root) = &global.root {
            host = host.described(described_root(&folder.join(root))?);
        }
        let catalogs = global.catalogs.iter().map(|named| catalog_at(&folder, named)).collect();
        let around = Surroundings {
            home,
            host,
            folder,
            ladder: global.ladder.clone(),
            catalogs,
            yards: global.yards.clone(),
            offline: global.offline,
            wait: global.wait.map(Duration::from_secs),
            moving: Vec::new(),
            bales: Vec::new(),
            neighbours: false,
            looking: (!global.json && !global.quiet).then_some(looking as fn(&ToolName, usize)),
        };
        let since = env::var(SINCE).ok();
        Ok(Self { around, person: person(), since, root })
    }

    /// The same surroundings with another home and ladder.
    pub(crate) fn elsewhere(&self, home: Home, ladder: PathBuf) -> Self {
        // Whoever works there has a home there too: nothing of the real one is touched.
        let person = home.config.with_file_name("person");
        // Whoever starts this out of a build has the build's libraries in front, which say nothing of that person.
        let is_of_loader = |name: &std::ffi::OsStr| {
            ["LD_", "DYLD_"].iter().any(|start| name.as_encoded_bytes().starts_with(start.as_bytes()))
        };
        let environment = self.around.host.environment.all().filter(|(name, _)| !is_of_loader(name)).collect();
        let host = Host { person: Some(person.clone()), environment, ..self.around.host.clone() };
        let around = Surroundings {
            home,
            host,
            ladder: Some(ladder),
            catalogs: Vec::new(),
            yards: Vec::new(),
            ..self.around.clone()
        };
        let shell = self.person.shell.clone();
        let person = wire::Surroundings { home: person, shell, ..wire::Surroundings::default() };
        Self { around, person, since: None, root: None }
    }

    /// The same home with another ladder, on a machine that a folder describes.
    pub(crate) fn on_machine(&self, root: &Path, ladder: PathBuf) -> Self {
        let host = self.around.host.clone().described(root.to_path_buf());
        let around = Surroundings { host, ladder: Some(ladder), ..self.around.clone() };
        Self { around, person: self.person.clone(), since: None, root: None }
    }

    /// The folder that `KLADDER_HOME` names.
    pub(crate) fn root(&self) -> Option<&Path> {
        self.root.as_deref()
    }

    /// Opens the desk.
    pub(crate) fn open(&self) -> Result<Desk, Problem> {
        Ok(self.with_bales().open()?)
    }

    /// The same surroundings, where machines of the room are asked, and given to.
    pub(crate) fn among_neighbours(&self) -> Self {
        let mut context = self.clone();
        context.around.neighbours = true;
        context
    }

    /// The surroundings with the bales that the ladder came out of, where none were named.
    fn with_bales(&self) -> Surroundings {
        let mut around = self.around.clone();
        if around.bales.is_empty() {
            around.bales = around.ladder_path().map(|ladder| bales_of(&ladder, &around.home)).unwrap_or_default();
        }
        around
    }

    /// Opens the desk; libraries, and sets of them, of these names may move.
    pub(crate) fn open_moving(&self, names: &[String]) -> Result<Desk, Problem> {
        let moving = names.iter().filter_map(|name| name.parse().ok()).collect();
        Ok(Surroundings { moving, ..self.with_bales() }.open()?)
    }

    /// Opens the desk, and finds the pins to go by.
    pub(crate) fn open_pinned(&self, out: &Out) -> Result<(Desk, Pins, Freshness), Problem> {
        let desk = self.open()?;
        let Pinned { pins, freshness, differing } = pinned(&desk)?;
        tell_differing(&differing, out)?;
        Ok((desk, pins, freshness))
    }
}

/// Tells on a terminal how far libraries are looked up, in a line that goes again.
fn looking(set: &ToolName, number: usize) {
    let mut out = io::stderr();
    if !out.is_terminal() {
        return;
    }
    // It is no loss where it cannot be told.
    let _ = match number {
        0 => write!(out, "\r\x1b[K"),
        number => write!(out, "\r\x1b[KLooking up the libraries of {set}: {number} so far"),
    };
    let _ = out.flush();
}

fn pinned(desk: &Desk) -> Result<Pinned, Problem> {
    desk.pinned().map_err(|error| Problem::from_pins(&error, &desk.ladder.path))
}

fn described_root(folder: &Path) -> Result<PathBuf, Problem> {
    folder
        .canonicalize()
        .ok()
        .filter(|folder| folder.is_dir())
        .ok_or_else(|| Problem::new(Code::BadFile, "there is no such folder to take the host's facts from").at(folder))
}

/// The person's home, which must be a real place.
fn home_folder() -> Option<PathBuf> {
    etcetera::home_dir().ok().filter(|home| home.is_absolute())
}

/// What decides which files the person's shells read.
fn person() -> wire::Surroundings {
    let path = |name: &str| env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let absolute = |name: &str| path(name).filter(|path| path.is_absolute());
    wire::Surroundings {
        home: home_folder().unwrap_or_default(),
        shell: path("SHELL"),
        zsh: absolute("ZDOTDIR"),
        settings: absolute("XDG_CONFIG_HOME"),
        interactive: absolute("ENV"),
    }
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

/// Tells which pins on the host's own tools do not hold any more.
pub(crate) fn tell_differing(differing: &[HostPin], out: &Out) -> Result<(), Problem> {
    for HostPin { tool, was, copy, now, silent } in differing {
        let copy = words::host::copy(copy);
        let now = match (silent, now) {
            (Some(why), _) => format!("says no version any more: {}", words::host::untold(why)),
            (None, Some(now)) if words::host::copy(&now.copy) == copy => format!("is {} now", now.version),
            (None, Some(now)) => {
                format!("is not what answers any more: {} {} is", words::host::copy(&now.copy), now.version)
            }
            (None, None) => "is gone".to_owned(),
        };
        out.say(format!("{tool} was pinned to {was} on this host, {copy}, which {now}; chosen anew."))?;
    }
    Ok(())
}
