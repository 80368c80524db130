//! Lock files of Python projects (PEP 751, `pylock.toml`, version 1).

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::digest::Digest;
use crate::document::{DocumentError, Source};

/// Which libraries a project wants, all of them at one version.
#[derive(Clone, Debug)]
pub struct Lock {
    /// The runtime's versions that it was made for, as PEP 440 says it.
    pub requires_python: Option<String>,
    /// Environments that it was made for, as markers (PEP 508); any will do where there are none.
    pub environments: Vec<String>,
    /// Each library, in the order of the file.
    pub libraries: Vec<Library>,
}

/// One library.
#[derive(Clone, Debug)]
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
            libraries: file.packages.into_iter().map(library).collect::<Result<_, _>>()?,
        })
    }
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
pub(super) fn normalised(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for part in name.split(['-', '_', '.']).filter(|part| !part.is_empty()) {
        if !out.is_empty() {
            out.push('-');
        }
        out.push_str(&part.to_lowercase());
    }
    out
}
