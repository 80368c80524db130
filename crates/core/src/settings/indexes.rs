//! The indexes that may be asked for files, each by a name that catalogs use.
//!
//! ```toml
//! [indexes]
//! wheels = { kind = "python", address = "https://wheels.harbour.example/simple/" }
//! packages = { kind = "npm", as-configured = true }      # as this machine's own client has it
//! debian = { kind = "debian", address = "https://deb.harbour.example/", suites = ["stable"], components = ["main"] }
//! ```

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kladder_choose::address::YardAddress;
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::names::is_plain;
use kladder_choose::sets::OF_CATALOGS;
use serde::Deserialize;
use toml::Spanned;

/// What an index speaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum IndexKind {
    /// The Python Simple Repository API (PEP 503, 691).
    Python,
    /// An npm registry.
    Npm,
    /// A Debian archive.
    Debian,
    /// A registry of images (OCI Distribution).
    Oci,
    /// Folders with a file of checksums in each.
    Sums,
    /// Pages of links.
    Page,
    /// Feeds of releases (Atom, RSS).
    Feed,
}

impl IndexKind {
    /// As the settings have it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Python => "python",
            Self::Npm => "npm",
            Self::Debian => "debian",
            Self::Oci => "oci",
            Self::Sums => "sums",
            Self::Page => "page",
            Self::Feed => "feed",
        }
    }

    /// The client of this machine whose configuration names such indexes.
    pub fn client(self) -> Option<&'static str> {
        match self {
            Self::Python => Some("pip"),
            Self::Npm => Some("npm"),
            Self::Debian => Some("apt"),
            Self::Oci | Self::Sums | Self::Page | Self::Feed => None,
        }
    }
}

/// One index, as the settings have it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IndexSetting {
    /// What it speaks.
    pub kind: IndexKind,
    /// Where it is, ending with a slash; `None` where the machine's own client knows.
    pub address: Option<String>,
    /// Of a Debian archive: which suites.
    pub suites: Vec<String>,
    /// Of a Debian archive: which components.
    pub components: Vec<String>,
    /// Of a Debian archive: whose signatures count; the system's own where nobody says.
    pub keyring: Option<PathBuf>,
    /// Of a Debian archive: it need not be signed.
    pub unsigned: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct IndexForm {
    kind: IndexKind,
    address: Option<Spanned<String>>,
    #[serde(default)]
    as_configured: bool,
    #[serde(default)]
    suites: Vec<String>,
    #[serde(default)]
    components: Vec<String>,
    keyring: Option<PathBuf>,
    #[serde(default)]
    unsigned: bool,
}

/// The table `[indexes]`; paths in it begin at `folder`.
pub(super) fn indexes(
    source: &Source,
    forms: BTreeMap<Spanned<String>, Spanned<IndexForm>>,
    folder: &Path,
) -> Result<BTreeMap<String, IndexSetting>, DocumentError> {
    let index = |(name, form): (Spanned<String>, Spanned<IndexForm>)| {
        if !is_plain(name.get_ref()) {
            return Err(source.invalid(name.span(), format!("`{}` cannot be the name of an index", name.get_ref())));
        }
        if name.get_ref() == OF_CATALOGS {
            let message = format!("`{OF_CATALOGS}` means the ladder's catalogs in a set: call the index otherwise");
            return Err(source.invalid(name.span(), message));
        }
        let span = form.span();
        let setting = form.into_inner().checked(source, folder).map_err(|wrong| match wrong {
            Wrong::Here(message) => source.invalid(span, message),
            Wrong::There(error) => error,
        })?;
        Ok((name.into_inner(), setting))
    };
    forms.into_iter().map(index).collect()
}

/// What is wrong: with the index as a whole, or at a place of its own.
enum Wrong {
    Here(String),
    There(DocumentError),
}

impl IndexForm {
    fn checked(self, source: &Source, folder: &Path) -> Result<IndexSetting, Wrong> {
        let kind = self.kind;
        let address = match (self.address, self.as_configured) {
            (Some(text), false) => Some(address(source, &text, folder).map_err(Wrong::There)?),
            (None, true) if kind.client().is_some() => None,
            (None, true) => {
                let kind = kind.as_str();
                return Err(Wrong::Here(format!("no client of this machine knows an index of the kind `{kind}`")));
            }
            (Some(_), true) => return Err(Wrong::Here("either `address` or `as-configured` stands here".to_owned())),
            (None, false) => {
                return Err(Wrong::Here("where is it? `address` says so, or `as-configured = true`".to_owned()));
            }
        };
        let is_archive = kind == IndexKind::Debian;
        let says_suites = !self.suites.is_empty() && !self.components.is_empty();
        if is_archive && address.is_some() && !says_suites {
            return Err(Wrong::Here("a Debian archive needs `suites` and `components`".to_owned()));
        }
        if !is_archive && (!self.suites.is_empty() || !self.components.is_empty() || self.keyring.is_some()) {
            return Err(Wrong::Here("`suites`, `components` and `keyring` are for a Debian archive".to_owned()));
        }
        let keyring = self.keyring.map(|file| folder.join(file));
        let (suites, components) = (self.suites, self.components);
        Ok(IndexSetting { kind, address, suites, components, keyring, unsigned: self.unsigned })
    }
}

fn address(source: &Source, text: &Spanned<String>, folder: &Path) -> Result<String, DocumentError> {
    match YardAddress::new(text.get_ref(), folder) {
        Ok(YardAddress::Server(address)) => Ok(format!("{}/", address.trim_end_matches('/'))),
        Ok(_) => Err(source.invalid(text.span(), "an index is an address with http:// or https://".to_owned())),
        Err(error) => Err(source.invalid(text.span(), error.to_string())),
    }
}
