//! What is known about the host. Everything the core knows of the machine comes through this module.
//!
//! Facts are read from a folder laid out like `/`, which is `/` itself unless another one is named: so any machine can be
//! described in a test, or looked at from outside. What files cannot tell (free disk, who is asking) comes from the
//! running system, or from `host.toml` in a described root. A file that is missing, unreadable or makes no sense leaves its
//! fact unknown and a note behind; nothing here fails.

mod described;
mod facts;
mod known;
mod machine;
mod people;
mod root;
mod system;
mod tools;

pub use facts::*;
pub use kladder_choose::pins::Untold;
pub use known::usual;
pub(crate) use machine::graphics;
pub use root::Root;
pub use tools::{Known, answers, ask_one};
pub(crate) use tools::{every_answer, runs, version_of_file};

/// The host's own command of this name, asked for its version in the usual way; `None` when no file answers.
pub fn version_of(host: &Host, command: &str) -> Option<HostTool> {
    ask_one(host, &known::of(command)?)
}

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use kladder_choose::platform::Platform;

use crate::host::enclosed::Encloser;
use crate::sys;

/// The machine as the core sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// Its platform.
    pub platform: Platform,
    /// The search path for commands, as the caller's environment has it.
    pub path: OsString,
    /// Where temporary files go.
    pub temporary: PathBuf,
    /// Where its facts are read: `/`, or a described root.
    pub root: PathBuf,
    /// The caller's variables that tell of proxies and of the session, by name.
    pub variables: Vec<(String, String)>,
    /// All variables of the caller.
    pub environment: Environment,
    /// The person's home folder, where that is known.
    pub person: Option<PathBuf>,
    /// Where `kladder` is installed, for entries in menus that start it.
    pub installed: Option<PathBuf>,
    /// The program that runs this, where it can start commands shut in ([`crate::host::enclosed::answer`]).
    pub kladder: Option<PathBuf>,
}

/// A caller's variables. What they hold is nobody's business, so that they are not shown by accident.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Environment(BTreeMap<OsString, OsString>);

impl Environment {
    /// All of them.
    pub fn all(&self) -> impl Iterator<Item = (OsString, OsString)> + '_ {
        self.0.iter().map(|(name, value)| (name.clone(), value.clone()))
    }

    /// One of them.
    pub fn get(&self, name: &str) -> Option<&OsStr> {
        self.0.get(OsStr::new(name)).map(OsString::as_os_str)
    }
}

impl FromIterator<(OsString, OsString)> for Environment {
    fn from_iter<I: IntoIterator<Item = (OsString, OsString)>>(variables: I) -> Self {
        Self(variables.into_iter().collect())
    }
}

impl std::fmt::Debug for Environment {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} variables", self.0.len())
    }
}

/// How the names of what is made among temporary files begin; the number of the process that made it follows.
pub(crate) const SCRATCH: &str = "kladder-check-";

/// How the names of what this process makes there begin.
pub fn scratch() -> String {
    format!("{SCRATCH}{}-", std::process::id())
}

impl Host {
    /// The host with its commands in `path`, on the platform this program was built for.
    pub fn new(path: OsString, temporary: &Path) -> Self {
        let (platform, temporary) = (platform_here(), temporary.to_path_buf());
        Self {
            platform,
            path,
            temporary,
            root: "/".into(),
            variables: Vec::new(),
            environment: Environment::default(),
            person: None,
            installed: None,
            kladder: None,
        }
    }

    /// The same with facts from a folder laid out like `/`; its platform is the described one's.
    #[must_use]
    pub fn described(self, root: PathBuf) -> Self {
        let mut host = Self { root, ..self };
        let survey = facts(&host, &[]);
        let is_musl = survey.libc.as_ref().is_some_and(|libc| libc.kind == "musl");
        let kind = survey.processor.kind.as_deref().unwrap_or(std::env::consts::ARCH);
        // A machine of a kind that nobody knows is looked at as the one at hand.
        if let Ok(platform) = Platform::new(&survey.system.os, kind, is_musl.then_some("musl")) {
            host.platform = platform;
        }
        host
    }

    /// What can start commands shut in.
    pub fn encloser(&self) -> Option<Encloser> {
        Some(Encloser { kladder: self.kladder.clone()?, reports: self.temporary.clone() })
    }

    /// Whether its facts come from elsewhere than the running system.
    pub fn is_described(&self) -> bool {
        self.root != Path::new("/")
    }
}

/// The platform of this machine: what this program was built for, with the C library that is here.
fn platform_here() -> Platform {
    let musl = || Platform::new(std::env::consts::OS, std::env::consts::ARCH, Some("musl")).ok();
    sys::facts::is_musl().then(musl).flatten().unwrap_or_else(Platform::built_for)
}

/// Surveys a host as [`facts`] does, asks the `known` tools for their versions, and looks for commands that are there twice.
pub fn look(host: &Host, folders: &[(&str, PathBuf)], known: &[Known]) -> Survey {
    Survey { tools: tools::ask(host, known), twice: tools::twice(host), ..facts(host, folders) }
}

/// Memory in all, in bytes, where that is told.
pub(crate) fn memory(host: &Host) -> Option<u64> {
    let root = Root::open(host);
    machine::memory(&root, &mut root.odd()).map(|memory| memory.total)
}

/// The facts that files tell. `folders` are the places whose free disk matters, by what they are for.
pub fn facts(host: &Host, folders: &[(&str, PathBuf)]) -> Survey {
    let root = Root::open(host);
    let mut odd = root.odd();
    let mut survey = Survey {
        system: system::system(&root),
        processor: machine::processor(&root),
        libc: system::libc(&root, &mut odd),
        memory: machine::memory(&root, &mut odd),
        disks: machine::disks(&root, folders),
        shells: people::shells(&root),
        rights: people::rights(&root),
        virtualisation: machine::virtualisation(&root),
        graphics: machine::graphics(&root),
        guest: system::guest(&root),
        proxies: people::proxies(host),
        identity: people::identity(&root, host),
        tools: Vec::new(),
        twice: Vec::new(),
        odd,
    };
    if !host.is_described() {
        add(&mut survey, sys::facts::told());
    }
    system::contradictions(&mut survey);
    survey
}

/// Adds what the running system tells to what its files did.
fn add(survey: &mut Survey, told: sys::Told) {
    let (system, processor) = (&mut survey.system, &mut survey.processor);
    system.release = system.release.take().or(told.release);
    system.kernel = system.kernel.take().or(told.kernel);
    processor.model = processor.model.take().or(told.model);
    if processor.features.is_empty() {
        processor.features = told.features;
    }
    // What of it is in use is not told.
    survey.memory = survey.memory.or(told.memory.map(|total| Memory { total, available: total }));
    survey.identity.boot = survey.identity.boot.take().or(told.boot);
    if let Some(can) = told.can_have_guests {
        survey.virtualisation = Virtualisation { flag: can, device: can, reachable: can };
    }
    survey.guest = match (&survey.guest, told.is_guest) {
        (Guest::Unknown, Some(true)) => Guest::Machine("unknown".into()),
        (Guest::Unknown, Some(false)) => Guest::Metal,
        (known, _) => known.clone(),
    };
}
