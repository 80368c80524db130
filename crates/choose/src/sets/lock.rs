//! Lock files of Python projects (PEP 751, `pylock.toml`, version 1): those of others are read, and ours are written, as
//! `pylock.NAME.toml`. What the format has no place for stands in `tool.kladder`, as it provides.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::str::FromStr;

use pep508_rs::pep440_rs::{Operator, Version, VersionSpecifier, VersionSpecifiers};
use serde::Deserialize;

use super::OF_CATALOGS;
use crate::digest::Digest;
use crate::document::{DocumentError, Source};
use crate::names::is_plain;

/// Which libraries a project wants, all of them at one version.
#[derive(Clone, Debug)]
pub struct Lock {
    /// The runtime's versions that it was made for, as PEP 440 says it.
    pub requires_python: Option<String>,
    /// Environments that it was made for, as markers (PEP 508); any will do where there are none.
    pub environments: Vec<String>,
    /// A digest of the wishes that it was made from, where it was made here.
    pub wishes: Option<String>,
    /// Each library, in the order of the file.
    pub libraries: Vec<Library>,
}

/// One library.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Library {
    /// Its name, normalised (PEP 503).
    pub name: String,
    /// Its version, as it says it.
    pub version: Option<String>,
    /// Where it is wanted (PEP 508); everywhere where it is not said.
    pub marker: Option<String>,
    /// The runtime's versions that it wants.
    pub requires_python: Option<String>,
    /// Files that only need to be unpacked.
    pub wheels: Vec<Wheel>,
    /// How else it could be had, which is not done: from its sources, for instance.
    pub otherwise: Option<&'static str>,
    /// The index that it is taken from, as the settings call it.
    pub index: Option<String>,
    /// What it needs, by name.
    pub depends: Vec<String>,
    /// Its optional pieces that are wanted.
    pub pieces: Vec<String>,
    /// The ladder itself wishes for it.
    pub is_wished: bool,
}

/// A file that only needs to be unpacked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wheel {
    /// Its name.
    pub file: String,
    /// The folder where it is published, with a slash at its end; `None` where only the name is told.
    pub origin: Option<String>,
    /// Bytes; `None` where nobody says.
    pub size: Option<u64>,
    /// Of its bytes.
    pub sha256: Digest,
}

/// Why a lock file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// It is not written as it should be.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// It is of a version that is not known here.
    #[error("it is a lock file of version {0}, and 1 is what is read here")]
    Version(String),
    /// A wheel has no digest that counts.
    #[error("{0} has no SHA-256 digest, so that nobody could tell its bytes from others")]
    NoDigest(String),
}

#[derive(Deserialize)]
struct File {
    #[serde(rename = "lock-version")]
    lock_version: String,
    #[serde(rename = "requires-python")]
    requires_python: Option<String>,
    #[serde(default)]
    environments: Vec<String>,
    #[serde(default)]
    packages: Vec<Package>,
    #[serde(default)]
    tool: Tools,
}

/// What is ours, in the place that is everybody's.
#[derive(Default, Deserialize)]
struct Tools {
    #[serde(default)]
    kladder: Own,
}

#[derive(Default, Deserialize)]
struct Own {
    wishes: Option<String>,
    index: Option<String>,
    #[serde(default)]
    pieces: Vec<String>,
    #[serde(default)]
    wished: bool,
}

#[derive(Deserialize)]
struct Named {
    name: Option<String>,
}

#[derive(Deserialize)]
struct Package {
    name: String,
    version: Option<String>,
    marker: Option<String>,
    #[serde(rename = "requires-python")]
    requires_python: Option<String>,
    #[serde(default)]
    wheels: Vec<WheelForm>,
    #[serde(default)]
    dependencies: Vec<Named>,
    #[serde(default)]
    tool: Tools,
    sdist: Option<toml::Value>,
    archive: Option<toml::Value>,
    vcs: Option<toml::Value>,
    directory: Option<toml::Value>,
}

#[derive(Deserialize)]
struct WheelForm {
    name: Option<String>,
    url: Option<String>,
    path: Option<String>,
    size: Option<u64>,
    #[serde(default)]
    hashes: BTreeMap<String, String>,
}

impl Lock {
    /// Reads a lock file. Keys that are not known are somebody's own, and are passed over, as the specification wants it.
    ///
    /// # Errors
    /// [`LockError`].
    pub fn parse(source: &Source) -> Result<Self, LockError> {
        let file: File = source.parse()?;
        if file.lock_version != "1" && !file.lock_version.starts_with("1.") {
            return Err(LockError::Version(file.lock_version));
        }
        Ok(Self {
            requires_python: file.requires_python,
            environments: file.environments,
            wishes: file.tool.kladder.wishes,
            libraries: file.packages.into_iter().map(library).collect::<Result<_, _>>()?,
        })
    }

    /// The least patch level of a minor version that will do, where it says one.
    pub(super) fn least(&self, (major, minor): (u32, u32)) -> Option<String> {
        let versions = VersionSpecifiers::from_str(self.requires_python.as_deref()?).ok()?;
        let is_it = |one: &&VersionSpecifier| {
            let release = one.version().release();
            let is_of_minor = release.len() > 2 && release[..2] == [u64::from(major), u64::from(minor)];
            *one.operator() == Operator::GreaterThanEqual && is_of_minor
        };
        versions.iter().find(is_it).map(|one| one.version().to_string())
    }

    /// Whether it is for a version of its runtime.
    pub fn is_for(&self, version: &str) -> bool {
        let wanted =
            self.requires_python.as_deref().map_or(Ok(VersionSpecifiers::empty()), VersionSpecifiers::from_str);
        wanted.ok().zip(Version::from_str(version).ok()).is_some_and(|(wanted, version)| wanted.contains(&version))
    }

    /// As a file: the same libraries are the same bytes.
    pub fn to_toml(&self) -> String {
        let mut out = "# Written by `kladder pin` (PEP 751). Commit it beside the ladder.\n".to_owned();
        out.push_str("lock-version = \"1.0\"\ncreated-by = \"kladder\"\n");
        if let Some(versions) = &self.requires_python {
            let _ = writeln!(out, "requires-python = {}", quoted(versions));
        }
        let _ = writeln!(out, "environments = [{}]", several(&self.environments));
        let mut libraries = String::new();
        for library in &self.libraries {
            library.write(&mut libraries);
        }
        if let Some(wishes) = &self.wishes {
            let sum = Digest::of(libraries.as_bytes());
            let _ = writeln!(out, "\n[tool.kladder]\nwishes = {}\nsum = \"{sum}\"", quoted(wishes));
        }
        out + &libraries
    }

    /// Whether the libraries in the text of a lock file that was made here are those that were written.
    pub fn is_whole(text: &str) -> bool {
        let (_, rest) = text.split_once("\nsum = \"").unwrap_or_default();
        let (sum, libraries) = rest.split_once("\"\n").unwrap_or_default();
        sum.parse().is_ok_and(|sum: Digest| sum == Digest::of(libraries.as_bytes()))
    }
}

impl Library {
    /// Whether the ladder's catalogs had it, and no index.
    pub(super) fn is_in_catalogs(&self) -> bool {
        self.index.as_deref() == Some(OF_CATALOGS)
    }

    fn write(&self, out: &mut String) {
        let _ = writeln!(out, "\n[[packages]]\nname = {}", quoted(&self.name));
        let said = [("version", &self.version), ("marker", &self.marker), ("requires-python", &self.requires_python)];
        for (key, value) in said {
            if let Some(value) = value {
                let _ = writeln!(out, "{key} = {}", quoted(value));
            }
        }
        if !self.depends.is_empty() {
            let names: Vec<String> = self.depends.iter().map(|name| format!("{{ name = {} }}", quoted(name))).collect();
            let _ = writeln!(out, "dependencies = [{}]", names.join(", "));
        }
        out.push_str("wheels = [\n");
        for wheel in &self.wheels {
            let url = wheel
                .origin
                .as_ref()
                .map(|origin| format!("url = {}, ", quoted(&[origin.as_str(), &wheel.file].concat())))
                // It lies in a yard, under its name.
                .or_else(|| self.is_in_catalogs().then(|| format!("path = {}, ", quoted(&wheel.file))));
            let size = wheel.size.map(|size| format!("size = {size}, ")).unwrap_or_default();
            let name = quoted(&wheel.file);
            let url = url.unwrap_or_default();
            let _ = writeln!(out, "    {{ name = {name}, {url}{size}hashes = {{ sha256 = \"{}\" }} }},", wheel.sha256);
        }
        out.push_str("]\n");
        let mut own = Vec::new();
        own.extend(self.index.as_ref().map(|index| format!("index = {}", quoted(index))));
        if !self.pieces.is_empty() {
            own.push(format!("pieces = [{}]", several(&self.pieces)));
        }
        if self.is_wished {
            own.push("wished = true".to_owned());
        }
        if !own.is_empty() {
            let _ = writeln!(out, "tool.kladder = {{ {} }}", own.join(", "));
        }
    }
}

pub(super) fn quoted(text: &str) -> String {
    toml::Value::from(text).to_string()
}

fn several(texts: &[String]) -> String {
    texts.iter().map(|text| quoted(text)).collect::<Vec<_>>().join(", ")
}

fn library(package: Package) -> Result<Library, LockError> {
    let otherwise = [
        (package.sdist.is_some(), "from its sources"),
        (package.archive.is_some(), "from an archive"),
        (package.vcs.is_some(), "from a repository"),
        (package.directory.is_some(), "from a folder"),
    ];
    Ok(Library {
        name: normalised(&package.name),
        version: package.version,
        marker: package.marker,
        requires_python: package.requires_python,
        wheels: package.wheels.into_iter().map(wheel).collect::<Result<_, _>>()?,
        otherwise: otherwise.into_iter().find(|(is_so, _)| *is_so).map(|(_, how)| how),
        // Both become a part of an address.
        index: package.tool.kladder.index.filter(|index| is_plain(index) && is_plain(&package.name)),
        depends: package.dependencies.into_iter().filter_map(|one| Some(normalised(&one.name?))).collect(),
        pieces: package.tool.kladder.pieces,
        is_wished: package.tool.kladder.wished,
    })
}

fn wheel(form: WheelForm) -> Result<Wheel, LockError> {
    let from = form.url.or(form.path).unwrap_or_default();
    // A fragment or a question is no part of a file's name.
    let plain = from.split(['#', '?']).next().unwrap_or_default();
    let (folder, last) = plain.rsplit_once('/').map_or(("", plain), |(folder, last)| (folder, last));
    let file = form.name.unwrap_or_else(|| last.replace("%2B", "+").replace("%2b", "+"));
    let Some(sha256) = form.hashes.get("sha256").and_then(|text| text.parse().ok()) else {
        return Err(LockError::NoDigest(file));
    };
    let origin = folder.contains("://").then(|| [folder, "/"].concat());
    Ok(Wheel { file, origin, size: form.size, sha256 })
}

/// A name in its one form (PEP 503).
pub fn normalised(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for part in name.split(['-', '_', '.']).filter(|part| !part.is_empty()) {
        if !out.is_empty() {
            out.push('-');
        }
        out.push_str(&part.to_lowercase());
    }
    out
}
