//! Lock files of Node projects (`package-lock.json`, lockfile version 3 of npm's documentation): which packages lie where.
//!
//! What is wished for is chosen from a registry (`choose`), which writes such a file (`write`); what one has becomes a tool (`define`).

mod choose;
mod define;
mod listed;
mod sums;
mod tree;
mod wanted;
mod write;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

pub use choose::{Registry, choose_packages};
pub use listed::{ListedPackage, PackageRelease, PackageSays};
use serde::Deserialize;
pub use sums::{Sum, Sums, SumsFile};
pub(super) use wanted::{PackageForms, wishes};

use self::wanted::PackageNeed;
use super::lock::Library;
use crate::catalog::Machine;
use crate::digest::Digest;
use crate::document::DocumentError;
use crate::path::InnerPath;
use crate::platform::Platform;

/// The index that packages are looked for in, where the settings have one of this name.
pub const PACKAGES: &str = "packages";
/// The folder that they lie in, in each other's too.
const MODULES: &str = "node_modules";

/// One package that is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackageWish {
    /// Its name.
    pub name: String,
    /// Its versions, as the ladder says it.
    pub written: String,
    /// The same, as packages say it of each other.
    pub versions: String,
}

impl PackageWish {
    fn need(&self) -> PackageNeed {
        PackageNeed::new(&self.name, &self.versions, false)
    }
}

/// The packages of a lock file.
#[derive(Clone, Debug)]
pub struct Packages {
    /// Each where it lies, in the order of their paths.
    pub all: Vec<Package>,
    /// Of the file's text.
    pub digest: Digest,
    /// A digest of what they were chosen by, where they were chosen here.
    pub wishes: Option<String>,
    /// The version of the runtime that they were chosen for.
    runtime: Option<String>,
    /// Whether the file is what was written here.
    pub is_whole: bool,
}

/// One package, in one place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Package {
    /// Where it lies, from `node_modules` on.
    pub at: InnerPath,
    /// As its index calls it.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Where its file is, where that is said.
    pub url: Option<String>,
    /// Its digest as the file has it: `sha512-` and base64.
    pub integrity: String,
    /// Names of those that it needs.
    pub depends: Vec<String>,
    /// The project itself wants it.
    pub is_wished: bool,
    /// The versions of its runtime that it wants.
    engines: Option<String>,
    /// It may be missing where it does not fit.
    optional: bool,
    /// It wants a script to be run when it is installed.
    is_built: bool,
    /// Systems, processors and C libraries that it is for; any where there are none.
    on: [Vec<String>; 3],
}

impl Package {
    /// The name of its file, without the scope of its name.
    pub fn file(&self) -> String {
        let last = |text: &str| text.rsplit('/').next().unwrap_or_default().to_owned();
        let plain = self.url.as_deref().and_then(|url| url.split(['#', '?']).next());
        plain.map_or_else(|| format!("{}-{}.tgz", last(&self.name), self.version), last)
    }

    /// Whether it is for a platform, by the names that Node has for systems, processors and C libraries.
    fn is_for(&self, platform: &Platform) -> bool {
        let mut parts = platform.as_str().split('/');
        let system = if parts.next() == Some("macos") { "darwin" } else { "linux" };
        let processor = match parts.next().unwrap_or_default() {
            "x86_64" => "x64",
            "aarch64" => "arm64",
            "i686" => "ia32",
            "armv7" => "arm",
            other => other,
        };
        let library = if parts.next() == Some("musl") { "musl" } else { "glibc" };
        let has = |wanted: &[String], there: &str| {
            let (not, only): (Vec<&String>, Vec<&String>) = wanted.iter().partition(|one| one.starts_with('!'));
            let is_refused = not.iter().any(|one| &one[1..] == there);
            !is_refused && (only.is_empty() || only.iter().any(|one| *one == there))
        };
        has(&self.on[0], system) && has(&self.on[1], processor) && (system != "linux" || has(&self.on[2], library))
    }

    /// Whether it lies in the project's own folder of packages, and not in another package's.
    fn is_top(&self) -> bool {
        !self.at.as_str()[MODULES.len()..].contains(MODULES)
    }
}

/// Why a lock file of packages cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum PackagesError {
    /// It is no such file.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// It is not JSON, or not as it should be.
    #[error("it is no lock file of packages: {0}")]
    Form(String),
    /// It is of a version that is not known here.
    #[error("it is a lock file of version {0}, and 3 is what is read here")]
    Version(u64),
    /// It has no packages.
    #[error("it has no package")]
    Empty,
    /// A path leads out of the folder of packages.
    #[error("`{0}` is no place of a package")]
    Path(String),
    /// A package is a folder of the project itself.
    #[error("{0} is a folder of the project, which no lock file pins")]
    Folder(String),
    /// A package has no digest that counts.
    #[error("{0} has no SHA-512 digest, so that nobody could tell its bytes from others")]
    NoDigest(String),
    /// A package wants to be built when it is installed.
    #[error("{} {} to run a script when {} installed, which is not done", .0.join(", "), if .0.len() == 1 { "wants" } else { "want" }, if .0.len() == 1 { "it is" } else { "they are" })]
    Built(Vec<String>),
    /// A package is not for one of the ladder's machines.
    #[error("{package} is not for {platform}")]
    Elsewhere {
        /// Where it lies.
        package: String,
        /// The platform.
        platform: Platform,
    },
    /// What one came to is not known.
    #[error("what {0} comes to is not known")]
    NoSum(String),
}

#[derive(Deserialize)]
struct File {
    #[serde(rename = "lockfileVersion")]
    version: u64,
    #[serde(default)]
    packages: BTreeMap<String, Entry>,
    #[serde(default)]
    kladder: Own,
}

/// What is ours.
#[derive(Default, Deserialize)]
struct Own {
    wishes: Option<String>,
    runtime: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
#[expect(clippy::struct_excessive_bools, reason = "so the file has it")]
struct Entry {
    name: Option<String>,
    version: Option<String>,
    resolved: Option<String>,
    integrity: Option<String>,
    #[serde(default)]
    link: bool,
    #[serde(default)]
    in_bundle: bool,
    #[serde(default)]
    optional: bool,
    #[serde(default)]
    dev_optional: bool,
    #[serde(default)]
    has_install_script: bool,
    #[serde(default)]
    os: Vec<String>,
    #[serde(default)]
    cpu: Vec<String>,
    #[serde(default)]
    libc: Vec<String>,
    #[serde(default)]
    dependencies: BTreeMap<String, String>,
    #[serde(default)]
    dev_dependencies: BTreeMap<String, String>,
    #[serde(default)]
    optional_dependencies: BTreeMap<String, String>,
    #[serde(default)]
    peer_dependencies: BTreeMap<String, String>,
    engines: Option<serde_json::Value>,
}

impl Entry {
    fn depends(&self) -> Vec<String> {
        let all = [&self.dependencies, &self.dev_dependencies, &self.optional_dependencies, &self.peer_dependencies];
        all.into_iter().flat_map(BTreeMap::keys).cloned().collect()
    }
}

impl Packages {
    /// Reads a lock file.
    ///
    /// # Errors
    /// [`PackagesError`].
    pub fn parse(text: &str) -> Result<Self, PackagesError> {
        let file: File = serde_json::from_str(text).map_err(|error| PackagesError::Form(error.to_string()))?;
        if file.version != 3 {
            return Err(PackagesError::Version(file.version));
        }
        let mut all = Vec::new();
        let wished = file.packages.get("").map(Entry::depends).unwrap_or_default();
        for (path, entry) in file.packages.into_iter().filter(|(path, _)| !path.is_empty()) {
            let wrong = || PackagesError::Path(path.clone());
            if entry.link || !path.starts_with(MODULES) {
                return Err(PackagesError::Folder(path));
            }
            // What comes inside another one is that one's.
            if entry.in_bundle {
                continue;
            }
            let at = InnerPath::new(&path).map_err(|_| wrong())?;
            let last = path.rsplit(&format!("{MODULES}/")).next().filter(|last| !last.is_empty()).ok_or_else(wrong)?;
            let (depends, is_wished) = (entry.depends(), wished.iter().any(|one| path == format!("{MODULES}/{one}")));
            let engines = entry.engines.as_ref().and_then(|all| Some(all.get("node")?.as_str()?.to_owned()));
            let name = entry.name.unwrap_or_else(|| last.to_owned());
            if !is_name(last) || !is_name(&name) || at.as_str() != path {
                return Err(wrong());
            }
            let integrity = entry.integrity.unwrap_or_default();
            let strongest = integrity.split_whitespace().find(|one| one.starts_with("sha512-"));
            let integrity = strongest.ok_or_else(|| PackagesError::NoDigest(path.clone()))?.to_owned();
            let url = entry.resolved.filter(|url| url.starts_with("https://") || url.starts_with("http://"));
            let (version, optional) = (entry.version.unwrap_or_default(), entry.optional || entry.dev_optional);
            let (is_built, on) = (entry.has_install_script, [entry.os, entry.cpu, entry.libc]);
            let on_file =
                Package { at, name, version, url, integrity, depends, is_wished, engines, optional, is_built, on };
            all.push(on_file);
        }
        if all.is_empty() {
            return Err(PackagesError::Empty);
        }
        let (digest, is_whole) = (Digest::of(text.as_bytes()), write::is_whole(text));
        let Own { wishes, runtime } = file.kladder;
        Ok(Self { all, digest, wishes, runtime, is_whole })
    }

    /// The same, in the terms of libraries.
    pub fn libraries(&self) -> Vec<Library> {
        let library = |package: &Package| Library {
            name: package.name.clone(),
            version: Some(package.version.clone()),
            depends: package.depends.clone(),
            is_wished: package.is_wished,
            ..Library::default()
        };
        let mut all: Vec<Library> = self.all.iter().map(library).collect();
        // One that lies in several places is one.
        all.sort_by(|one, other| (&one.name, !one.is_wished).cmp(&(&other.name, !other.is_wished)));
        let mut seen = BTreeSet::new();
        all.retain(|one| seen.insert((one.name.clone(), one.version.clone())));
        all
    }

    /// The packages that are wanted on some machines: those whose files must be known. The scripts of those that are `unbuilt` need not
    /// be run.
    ///
    /// # Errors
    /// [`PackagesError::Elsewhere`] for one that is needed and not for one of them, [`PackagesError::Built`] for those that are built.
    pub fn wanted(&self, machines: &[Machine], unbuilt: &[String]) -> Result<Vec<&Package>, PackagesError> {
        let mut seen = BTreeSet::new();
        for machine in machines {
            for package in self.on(&machine.platform)? {
                seen.insert(&package.at);
            }
        }
        let wanted: Vec<&Package> = self.all.iter().filter(|package| seen.contains(&package.at)).collect();
        let built = wanted.iter().filter(|package| package.is_built && !unbuilt.contains(&package.name));
        let built: BTreeSet<&String> = built.map(|package| &package.name).collect();
        if built.is_empty() { Ok(wanted) } else { Err(PackagesError::Built(built.into_iter().cloned().collect())) }
    }

    fn on(&self, platform: &Platform) -> Result<Vec<&Package>, PackagesError> {
        let mut all: Vec<&Package> = Vec::new();
        let mut left_out: Vec<&Package> = self.all.iter().filter(|package| package.optional).collect();
        left_out.retain(|package| !package.is_for(platform));
        for package in &self.all {
            let is_within =
                |other: &&Package| other.at != package.at && Path::new(package.at.as_str()).starts_with(&other.at);
            match (package.is_for(platform), package.optional) {
                // What lies in one that is left out is left out with it.
                _ if left_out.iter().any(is_within) => {}
                (true, _) => all.push(package),
                (false, true) => {}
                (false, false) => {
                    let (package, platform) = (package.at.to_string(), platform.clone());
                    return Err(PackagesError::Elsewhere { package, platform });
                }
            }
        }
        Ok(all)
    }
}

/// Whether a text is a package's name, with a scope or without: it becomes a folder, and a part of an address.
fn is_name(text: &str) -> bool {
    let plain = |part: &str| {
        let is_it = |char: char| char.is_ascii_alphanumeric() || "-._~".contains(char);
        !part.is_empty() && part.chars().all(is_it) && !part.starts_with('.') && part != MODULES
    };
    match text.strip_prefix('@').map(|rest| rest.split_once('/')) {
        None => plain(text),
        Some(both) => both.is_some_and(|(scope, name)| plain(scope) && plain(name)),
    }
}
