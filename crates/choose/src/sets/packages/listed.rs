//! Packages as their registry lists them: its package document (npm's "package metadata", abbreviated or whole).

use std::collections::BTreeMap;

use nodejs_semver::{Range, Version};
use serde::Deserialize;

/// All that is listed of one package.
#[derive(Clone, Debug, Default)]
pub struct ListedPackage {
    /// Its releases: those that fit where nothing else decides first. What its registry calls `latest` is the first, finished ones
    /// come before previews, what was taken back is last, and otherwise the newest is before the others.
    pub releases: Vec<PackageRelease>,
    /// Names of releases: `latest` and what its makers call so.
    pub tags: BTreeMap<String, String>,
}

/// One release of a package.
#[derive(Clone, Debug)]
pub struct PackageRelease {
    /// Its version.
    pub version: Version,
    /// As its registry writes it.
    pub written: String,
    /// What it says of itself.
    pub says: PackageSays,
}

/// What a release says of itself, by the names of the document, which a lock file has, too.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct PackageSays {
    pub(super) dependencies: BTreeMap<String, String>,
    pub(super) optional_dependencies: BTreeMap<String, String>,
    pub(super) peer_dependencies: BTreeMap<String, String>,
    pub(super) peer_dependencies_meta: BTreeMap<String, PeerMeta>,
    #[serde(alias = "bundledDependencies")]
    pub(super) bundle_dependencies: Bundled,
    pub(super) bin: Option<serde_json::Value>,
    pub(super) engines: Option<serde_json::Value>,
    pub(super) os: OneOrMore,
    pub(super) cpu: OneOrMore,
    pub(super) libc: OneOrMore,
    pub(super) has_install_script: bool,
    scripts: BTreeMap<String, serde_json::Value>,
    deprecated: Option<serde_json::Value>,
    pub(super) dist: Dist,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct PeerMeta {
    pub(super) optional: bool,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Dist {
    pub(super) tarball: String,
    pub(super) integrity: Option<String>,
}

/// Packages that come inside: by name, or all.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged)]
pub(super) enum Bundled {
    Named(Vec<String>),
    All(bool),
}

impl Default for Bundled {
    fn default() -> Self {
        Self::All(false)
    }
}

/// Old releases have a word where new ones have a list.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(untagged)]
pub(super) enum OneOrMore {
    #[default]
    None,
    One(String),
    More(Vec<String>),
}

impl OneOrMore {
    pub(super) fn all(&self) -> Vec<String> {
        match self {
            Self::None => Vec::new(),
            Self::One(one) => vec![one.clone()],
            Self::More(all) => all.clone(),
        }
    }
}

impl PackageSays {
    /// Whether a package comes inside it.
    pub(super) fn bundles(&self, name: &str) -> bool {
        match &self.bundle_dependencies {
            Bundled::All(all) => *all,
            Bundled::Named(names) => names.iter().any(|one| one == name),
        }
    }

    /// Whether it is for a runtime; one that says nothing, or nothing that can be read, is.
    pub(super) fn runs_on(&self, runtime: &Version) -> bool {
        let wanted = self.engines.as_ref().and_then(|engines| engines.get("node")?.as_str());
        wanted.and_then(|text| text.parse::<Range>().ok()).is_none_or(|range| range.satisfies(runtime))
    }

    /// Whether a script is to be run when it is installed.
    pub(super) fn is_built(&self) -> bool {
        self.has_install_script
            || ["preinstall", "install", "postinstall"].iter().any(|name| self.scripts.contains_key(*name))
    }

    fn is_withdrawn(&self) -> bool {
        self.deprecated.as_ref().is_some_and(|why| !matches!(why, serde_json::Value::Bool(false)))
    }
}

impl ListedPackage {
    /// Reads the document of a package; `address` makes whole addresses of those in it.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(name: &str, text: &str, address: &dyn Fn(&str) -> Option<String>) -> Result<Self, String> {
        #[derive(Deserialize)]
        struct Document {
            name: String,
            #[serde(default, rename = "dist-tags")]
            tags: BTreeMap<String, String>,
            #[serde(default)]
            versions: BTreeMap<String, serde_json::Value>,
        }
        let document: Document = serde_json::from_str(text).map_err(|error| error.to_string())?;
        if document.name != name {
            return Err(format!("it tells of `{}` where `{name}` was asked for", document.name));
        }
        // One release that is written in a way of its own takes nothing from the others.
        let release = |(written, says): (String, serde_json::Value)| {
            let mut says: PackageSays = serde_json::from_value(says).ok()?;
            says.dist.tarball = address(&says.dist.tarball)?;
            Some(PackageRelease { version: Version::parse(&written).ok()?, written, says })
        };
        let mut releases: Vec<PackageRelease> = document.versions.into_iter().filter_map(release).collect();
        let latest = document.tags.get("latest");
        let rank =
            |one: &PackageRelease| (Some(&one.written) != latest, one.says.is_withdrawn(), one.version.is_prerelease());
        releases.sort_by(|one, other| rank(one).cmp(&rank(other)).then_with(|| other.version.cmp(&one.version)));
        Ok(Self { releases, tags: document.tags })
    }
}
