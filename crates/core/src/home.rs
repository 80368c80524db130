//! Where Kite Ladder keeps things.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use crate::document::{DocumentError, Source};
use crate::files;
use crate::manners::Manners;

/// The folders of one user's Kite Ladder.
///
/// ```text
/// config/   config.toml, the workstation's own ladder.toml
/// data/     shelf/ staging/ ladders/ lock
/// cache/    artifacts by digest
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Home {
    /// Settings, written by people.
    pub config: PathBuf,
    /// What climbs made; everything in it is on one file system.
    pub data: PathBuf,
    /// What can be fetched or made again.
    pub cache: PathBuf,
    /// Where artifacts are kept: the cache, or a folder that several homes share.
    pub artifacts: PathBuf,
}

impl Home {
    /// All three folders below one, as `KLADDER_HOME` has it.
    pub fn within(folder: &Path) -> Self {
        Self::of(folder.join("config"), folder.join("data"), folder.join("cache"))
    }

    /// Three folders.
    pub fn of(config: PathBuf, data: PathBuf, cache: PathBuf) -> Self {
        Self { artifacts: cache.clone(), config, data, cache }
    }

    /// The workstation's own ladder.
    pub fn ladder(&self) -> PathBuf {
        self.config.join("ladder.toml")
    }

    /// Where versions stand side by side.
    pub fn shelf(&self) -> PathBuf {
        self.data.join("shelf")
    }

    /// Where things are made that are not finished yet.
    pub fn staging(&self) -> PathBuf {
        self.data.join("staging")
    }

    /// Where the landings of the ladders are.
    pub fn ladders(&self) -> PathBuf {
        self.data.join("ladders")
    }

    /// The file whose lock the one writing process holds.
    pub fn lock(&self) -> PathBuf {
        self.data.join("lock")
    }

    /// Where the indexes of catalogs are kept.
    pub fn indexes(&self) -> PathBuf {
        self.cache.join("catalogs")
    }

    /// The places whose free disk matters, by what they are for.
    pub fn places(&self, temporary: &Path) -> Vec<(&'static str, PathBuf)> {
        vec![("shelf", self.shelf()), ("cache", self.artifacts.clone()), ("temporary files", temporary.to_path_buf())]
    }

    /// Writes who works here into `config.toml`; everything else in it stays as it is.
    ///
    /// # Errors
    /// [`DocumentError`] where `config.toml` is there and wrong, or cannot be written; it stays as it was.
    pub fn write_identity(&self, pairs: &[(&str, &str)]) -> Result<(), DocumentError> {
        let path = self.config.join("config.toml");
        let text = if path.exists() { Source::read(&path)?.text } else { String::new() };
        let wrong = |error: toml_edit::TomlError| DocumentError::Invalid {
            place: Box::new(Source { path: path.clone(), text: text.clone() }.place(error.span().unwrap_or(0..0))),
            message: error.message().to_owned(),
        };
        let mut document: toml_edit::DocumentMut = text.parse().map_err(wrong)?;
        for (key, value) in pairs {
            document["identity"][key] = toml_edit::value(*value);
        }
        if let Some(table) = document["identity"].as_inline_table().cloned() {
            document["identity"] = toml_edit::Item::Table(table.into_table());
        }
        files::create_folder(&self.config)?;
        Ok(files::replace(&path, document.to_string().as_bytes())?)
    }

    /// Reads `config.toml`; a missing one is an empty one. Paths in it are made absolute from its folder.
    ///
    /// # Errors
    /// [`DocumentError`] with the place in the file.
    pub fn config(&self) -> Result<Config, DocumentError> {
        let path = self.config.join("config.toml");
        if !path.exists() {
            return Ok(Config::default());
        }
        let mut config: Config = Source::read(&path)?.parse()?;
        config.catalog = config.catalog.map(|catalog| self.config.join(catalog));
        config.cache = config.cache.map(|cache| self.config.join(cache));
        config.network.certificates = config.network.certificates.map(|file| self.config.join(file));
        config.yards = config.yards.iter().map(|yard| anchored(yard, &self.config)).collect();
        Ok(config)
    }
}

/// The settings of `config.toml`.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// The catalog for ladders that name none.
    pub catalog: Option<PathBuf>,
    /// Yards that take the place of the catalog's own: folders or `http(s)://` addresses.
    #[serde(default)]
    pub yards: Vec<String>,
    /// The cache of artifacts, where it is not the home's own: a folder that several homes share.
    pub cache: Option<PathBuf>,
    /// Manners towards the network.
    #[serde(default)]
    pub network: Manners,
    /// Who works here, for version control.
    #[serde(default)]
    pub identity: BTreeMap<String, String>,
}

/// A yard as an address or an absolute folder; relative folders start at `base`.
pub fn anchored(yard: &str, base: &Path) -> String {
    if yard.starts_with("http://") || yard.starts_with("https://") {
        return yard.to_owned();
    }
    let folder = base.join(yard);
    // One that is not there is named as it was written, when someone tries to fetch from it.
    folder.canonicalize().unwrap_or(folder).display().to_string()
}
