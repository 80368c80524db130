//! Where Kite Ladder keeps things.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kladder_choose::address::YardAddress;
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::catalog_at;
use toml::Spanned;

use super::indexes::{IndexForm, indexes};
use super::sign_in::{SignInForm, sign_ins};
use super::{IndexSetting, Manners, NeighbourSetting, OriginRules, SignIn};
use crate::base::files;

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
        let text = if path.exists() { files::source(&path)?.text } else { String::new() };
        let wrong = |error: toml_edit::TomlError| DocumentError::Invalid {
            place: Box::new(Source::new(&path, text.clone()).place(error.span().unwrap_or(0..0))),
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
    pub fn settings(&self) -> Result<Settings, DocumentError> {
        let path = self.config.join("config.toml");
        if !path.exists() {
            return Ok(Settings::default());
        }
        let source = files::source(&path)?;
        let form: Form = source.parse()?;
        let yard = |text: &Spanned<String>| {
            let address = YardAddress::new(text.get_ref(), &self.config);
            address.map_err(|error| source.invalid(text.span(), error.to_string()))
        };
        let mut network = form.network;
        network.certificates = network.certificates.map(|file| self.config.join(file));
        Ok(Settings {
            catalogs: form
                .catalog
                .map(Folders::into_list)
                .unwrap_or_default()
                .into_iter()
                .map(|catalog| catalog_at(&self.config, &catalog))
                .collect(),
            cache: form.cache.map(|cache| self.config.join(cache)),
            yards: form.yards.iter().map(yard).collect::<Result<_, _>>()?,
            network,
            origins: origins(&source, form.origins, form.mirrors)?,
            indexes: indexes(&source, form.indexes, &self.config)?,
            sign_ins: sign_ins(&source, form.sign_ins, &self.config)?,
            neighbours: form.neighbours,
            collector: form.collector.map(|text| collector(&source, &text)).transpose()?,
            identity: form.identity,
            tell_commands: form.tell_commands,
            rehearse: form.rehearse,
        })
    }
}

/// The settings of `config.toml`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Settings {
    /// The catalogs for ladders that name none, the most important first.
    pub catalogs: Vec<PathBuf>,
    /// Yards that take the place of the catalogs' own.
    pub yards: Vec<YardAddress>,
    /// The cache of artifacts, where it is not the home's own: a folder that several homes share.
    pub cache: Option<PathBuf>,
    /// How to treat the network.
    pub network: Manners,
    /// Which origins may be asked, and where they are looked for instead.
    pub origins: OriginRules,
    /// The indexes that may be asked, by the names that catalogs use.
    pub indexes: BTreeMap<String, IndexSetting>,
    /// How to sign in, by host.
    pub sign_ins: BTreeMap<String, SignIn>,
    /// Whether machines of the room give each other what they have, and how.
    pub neighbours: Option<NeighbourSetting>,
    /// Where a climb sends how this machine stands, without a slash at its end.
    pub collector: Option<String>,
    /// Who works here, for version control.
    pub identity: BTreeMap<String, String>,
    /// Whether wired shells tell who would bring a command that is not there.
    pub tell_commands: bool,
    /// Whether a climb that changed something runs the rehearsals of its rungs.
    pub rehearse: bool,
}

#[derive(serde::Deserialize)]
#[serde(deny_unknown_fields)]
struct Form {
    catalog: Option<Folders>,
    #[serde(default)]
    yards: Vec<Spanned<String>>,
    cache: Option<PathBuf>,
    #[serde(default)]
    network: Manners,
    origins: Option<Spanned<OriginsForm>>,
    #[serde(default)]
    mirrors: BTreeMap<Spanned<String>, Spanned<String>>,
    #[serde(default)]
    indexes: BTreeMap<Spanned<String>, Spanned<IndexForm>>,
    #[serde(default, rename = "sign-in")]
    sign_ins: BTreeMap<Spanned<String>, Spanned<SignInForm>>,
    neighbours: Option<NeighbourSetting>,
    collector: Option<Spanned<String>>,
    #[serde(default)]
    identity: BTreeMap<String, String>,
    #[serde(default, rename = "tell-commands")]
    tell_commands: bool,
    #[serde(default)]
    rehearse: bool,
}

#[derive(serde::Deserialize)]
#[serde(untagged, expecting = "here stands `true`, `false`, or a list of the hosts that may be asked")]
enum OriginsForm {
    Any(bool),
    Hosts(Vec<String>),
}

/// Where standings are sent to.
fn collector(source: &Source, text: &Spanned<String>) -> Result<String, DocumentError> {
    match YardAddress::new(text.get_ref(), Path::new("/")) {
        Ok(YardAddress::Server(address)) => Ok(address),
        Ok(_) => Err(source.invalid(text.span(), "a collector is an address with http:// or https://".to_owned())),
        Err(error) => Err(source.invalid(text.span(), error.to_string())),
    }
}

/// Which origins may be asked. Mirrors begin and end like addresses, so that no other host is meant by accident.
fn origins(
    source: &Source,
    form: Option<Spanned<OriginsForm>>,
    mirrors: BTreeMap<Spanned<String>, Spanned<String>>,
) -> Result<OriginRules, DocumentError> {
    let hosts = match form.map(Spanned::into_inner) {
        None | Some(OriginsForm::Any(true)) => None,
        Some(OriginsForm::Any(false)) => Some(Vec::new()),
        Some(OriginsForm::Hosts(hosts)) => Some(hosts),
    };
    let address = |text: &Spanned<String>| match YardAddress::new(text.get_ref(), std::path::Path::new("/")) {
        Ok(YardAddress::Server(_)) if text.get_ref().ends_with('/') => Ok(text.get_ref().clone()),
        Err(error) => Err(source.invalid(text.span(), error.to_string())),
        Ok(_) => Err(source.invalid(text.span(), "a mirror is an address that ends with a slash".to_owned())),
    };
    let mirrors = mirrors.iter().map(|(from, to)| Ok((address(from)?, address(to)?)));
    Ok(OriginRules { hosts, mirrors: mirrors.collect::<Result<_, DocumentError>>()? })
}

#[derive(serde::Deserialize)]
#[serde(untagged, expecting = "here stands a folder, or a list of folders")]
enum Folders {
    One(PathBuf),
    Several(Vec<PathBuf>),
}

impl Folders {
    fn into_list(self) -> Vec<PathBuf> {
        match self {
            Self::One(folder) => vec![folder],
            Self::Several(folders) => folders,
        }
    }
}
