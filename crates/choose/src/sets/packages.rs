//! Lock files of Node projects (`package-lock.json`, lockfile version 3 of npm's documentation): which packages lie where.
//!
//! Packages are named there by SHA-512. What everything of ours is pinned by is SHA-256, so each is received once, and what it came
//! to stands beside the lock file, in `sums.NAME.toml`:
//!
//! ```toml
//! of = "DIGEST"                            # of the lock file's text
//! [sums]
//! "sha512-…" = { sha256 = "…", size = 123 }
//! ```

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::path::Path;

use serde::Deserialize;

use super::LibrarySet;
use super::lock::quoted;
use crate::catalog::Machine;
use crate::digest::{Canonical, Digest};
use crate::document::{DocumentError, Source};
use crate::path::InnerPath;
use crate::platform::Platform;

/// The index that packages are looked for in, where the settings have one of this name.
pub const PACKAGES: &str = "packages";
/// The folder that they lie in, in each other's too.
const MODULES: &str = "node_modules";

/// The packages of a lock file.
#[derive(Clone, Debug)]
pub struct Packages {
    /// Each where it lies, in the order of their paths.
    pub all: Vec<Package>,
    /// Of the file's text.
    pub digest: Digest,
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

/// What packages came to, by their digests as the lock file has them.
pub type Sums = BTreeMap<String, Sum>;

/// What one package came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sum {
    /// Of its bytes.
    pub sha256: Digest,
    /// How many there are.
    pub size: u64,
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
            all.push(Package { at, name, version, url, integrity, optional, is_built, on });
        }
        if all.is_empty() {
            return Err(PackagesError::Empty);
        }
        Ok(Self { all, digest: Digest::of(text.as_bytes()) })
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

    /// The definition of a set's tool, whose runtime's command is `interpreter`.
    ///
    /// # Errors
    /// [`PackagesError`] where a package is not for a machine, or its digest is not known.
    pub fn definition(
        &self,
        set: &LibrarySet,
        interpreter: &str,
        sums: &Sums,
        machines: &[Machine],
    ) -> Result<String, PackagesError> {
        let (mut artifacts, mut digest) = (String::new(), Canonical::new("kladder packages", 1));
        let platforms: BTreeSet<&Platform> = machines.iter().map(|machine| &machine.platform).collect();
        let mut top: BTreeMap<&str, &str> = BTreeMap::new();
        for platform in platforms {
            digest = digest.field("platform", platform.as_str());
            for (at, package) in self.on(platform)?.into_iter().enumerate() {
                let sum = sums.get(&package.integrity).ok_or_else(|| PackagesError::NoSum(package.at.to_string()))?;
                digest = digest.field("at", package.at.as_str()).field("sha256", sum.sha256.to_string());
                if package.is_top() {
                    top.insert(&package.at.as_str()[MODULES.len() + 1..], &package.version);
                }
                artifact(&mut artifacts, (at == 0).then_some(platform), package, *sum);
            }
        }
        let digest = digest.finish().to_string();
        let number = u32::from_str_radix(&digest[..8], 16).unwrap_or_default();
        let release = format!(
            "[[releases]]\nversion = \"1.{number}\"\nneeds = {{ {} = \"any\" }}\n{artifacts}",
            quoted(set.of.as_str())
        );
        Ok(head(set, interpreter, &top, self.all.len()) + &release)
    }
}

/// What packages came to, as a file: the same packages are the same bytes.
pub fn sums_to_toml(packages: &Packages, sums: &Sums) -> String {
    let mut out =
        "# Written by `kladder pin`: what the packages of the lock file come to. Commit it beside the ladder.\n"
            .to_owned();
    let _ = writeln!(out, "of = \"{}\"\n\n[sums]", packages.digest);
    for (integrity, Sum { sha256, size }) in sums {
        let _ = writeln!(out, "{} = {{ sha256 = \"{sha256}\", size = {size} }}", quoted(integrity));
    }
    out
}

/// Reads such a file.
///
/// # Errors
/// [`DocumentError`] where it is none.
pub fn sums_of(source: &Source) -> Result<Sums, DocumentError> {
    #[derive(Deserialize)]
    struct File {
        #[serde(default)]
        sums: Sums,
    }
    Ok(source.parse::<File>()?.sums)
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

fn artifact(out: &mut String, first_of: Option<&Platform>, package: &Package, sum: Sum) {
    match first_of {
        Some(platform) => _ = writeln!(out, "[[releases.artifacts]]\nfor = [\"{platform}\"]"),
        None => _ = writeln!(out, "[[releases.artifacts.also]]"),
    }
    let file = package.file();
    let _ = writeln!(out, "file = {}\nsize = {}\nsha256 = \"{}\"", quoted(&file), sum.size, sum.sha256);
    // Archives of packages have one folder around all, whatever it is called.
    let into = quoted(package.at.as_str());
    let _ = writeln!(out, "unpack = {{ layout = \"as-it-is\", strip = 1, into = {into} }}");
    let folder = package.url.as_deref().and_then(|url| url.split(['#', '?']).next()?.strip_suffix(&file));
    let index = format!("index:{PACKAGES}/{}", package.name);
    let origins: Vec<String> = [Some(index.as_str()), folder].into_iter().flatten().map(quoted).collect();
    let _ = writeln!(out, "origins = [{}]", origins.join(", "));
}

/// Puts links to the commands of the packages beside them, as their projects' scripts expect them.
const LINKS: &str = "const fs = require('fs'), path = require('path'), root = path.join(process.argv[1], 'node_modules')
const named = at => fs.readdirSync(at).filter(name => !name.startsWith('.'))
const all = named(root).flatMap(name => name[0] === '@' ? named(path.join(root, name)).map(one => name + '/' + one) : [name])
for (const name of all) {
    const folder = path.join(root, name), file = path.join(folder, 'package.json')
    const bin = fs.existsSync(file) && JSON.parse(fs.readFileSync(file, 'utf8')).bin
    const commands = typeof bin === 'string' ? { [name.split('/').pop()]: bin } : bin || {}
    for (const [command, to] of Object.entries(commands)) {
        const target = path.join(folder, to), link = path.join(root, '.bin', command)
        if (/[\\/\\\\]/.test(command) || path.relative(folder, target).startsWith('..') || !fs.existsSync(target)) continue
        fs.mkdirSync(path.dirname(link), { recursive: true })
        // What came from another set's place may be run already, and is everybody's.
        if (!(fs.statSync(target).mode & 0o100)) fs.chmodSync(target, 0o755)
        if (!fs.existsSync(link)) fs.symlinkSync(path.relative(path.dirname(link), target), link)
    }
}
";

/// Tells each package and its version.
const SEEN: &str = "const fs = require('fs'), root = process.argv[1] + '/node_modules/'
for (const name of process.argv.slice(2)) console.log(name, JSON.parse(fs.readFileSync(root + name + '/package.json', 'utf8')).version)";

/// What holds for all machines. The check has the runtime read what each package in the project's own folder says it is.
fn head(set: &LibrarySet, interpreter: &str, top: &BTreeMap<&str, &str>, many: usize) -> String {
    let runtime = quoted(interpreter);
    let names: Vec<String> = top.keys().map(|name| quoted(name)).collect();
    let claims: String = top
        .iter()
        .map(|(name, version)| {
            let like = quoted(&format!("(?m)^{} {}$", regex::escape(name), regex::escape(version)));
            format!("[[checks.claims]]\nname = {}\nstdout = {like}\n", quoted(&format!("has {name} {version}")))
        })
        .collect();
    format!(
        "tool = {name}\nsummary = {summary}\n\
         [[set-up]]\nname = \"links to its commands\"\nrun = [{runtime}, \"-e\", {links}, \"{{folder}}\"]\n\
         [[checks]]\nname = \"the runtime finds its packages\"\nrun = [{runtime}, \"-e\", {seen}, \"{{folder}}\", {names}]\n{claims}",
        name = quoted(set.name.as_str()),
        summary = quoted(&format!("The packages of {}, {many} of them", set.name)),
        links = quoted(LINKS),
        seen = quoted(SEEN),
        names = names.join(", "),
    )
}
