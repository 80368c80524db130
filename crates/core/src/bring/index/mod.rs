//! Indexes: what their owners list under a name, and where it lies.
//!
//! Each kind has a file of its own that makes a list of files out of what an index answers; asking is done here. An index can
//! say anything: what it lists counts for finding a file, and the pinned digest for taking it.

mod apt;
mod configured;
mod debian;
mod feed;
mod html;
mod image;
mod npm;
mod oci;
mod page;
mod python;
mod release;
mod sums;

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use kladder_choose::address::without_password;
use kladder_choose::sets::ListedPackage;

use self::configured::Address;
pub(in crate::bring) use self::image::Part;
use crate::base::digest::Digest;
use crate::base::files::FileError;
use crate::bring::fetch::{Authorization, Document, Network, Reading, YardError, resolved};
use crate::host::survey::Environment;
use crate::settings::{IndexKind, IndexSetting, authority_of};

/// Most bytes of one answer: the longest list of a real index has about a quarter of this.
const MOST: u64 = 64 << 20;

/// Why an index could not be asked.
#[derive(Debug, thiserror::Error)]
pub enum IndexError {
    /// The settings do not name it.
    #[error("no index is called `{index}` in config.toml")]
    Unknown {
        /// The name.
        index: String,
    },
    /// The settings leave it to a client of this machine, and that one is not configured.
    #[error("the index `{index}` is to be as {client} has it, and {client} has none configured here")]
    NotConfigured {
        /// The name.
        index: String,
        /// The client.
        client: &'static str,
    },
    /// Origins may not be asked.
    #[error("the index `{index}` may not be asked")]
    Forbidden {
        /// The name.
        index: String,
    },
    /// It did not answer as a server should.
    #[error("the index at {url} did not answer")]
    Asked {
        /// Its address.
        url: String,
        /// What went wrong.
        source: Box<YardError>,
    },
    /// It knows nothing of that name.
    #[error("the index at {url} has nothing called `{project}`")]
    NoSuch {
        /// Its address.
        url: String,
        /// The name.
        project: String,
    },
    /// What it answered is not what its protocol says.
    #[error("the index at {url} answers what no {kind} index does: {why}")]
    Wrong {
        /// The address that was asked.
        url: String,
        /// What it should speak.
        kind: &'static str,
        /// What is wrong.
        why: String,
    },
    /// What it says of itself is not signed by whom it should be.
    #[error("what {url} says is not vouched for: {why}")]
    Unsigned {
        /// The address of what should be signed.
        url: String,
        /// What is wrong.
        why: String,
    },
    /// It lists another digest than is pinned.
    #[error("the index lists other bytes under this name")]
    OtherDigest {
        /// The digest that it lists.
        listed: Digest,
        /// The digest that is pinned.
        expected: Digest,
    },
    /// A file of this machine could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

impl IndexError {
    /// Whether it may do better when asked again.
    pub fn is_retryable(&self) -> bool {
        matches!(self, Self::Asked { source, .. } if source.is_retryable())
    }

    /// Whether it offers other bytes than are pinned.
    pub fn is_integrity(&self) -> bool {
        matches!(self, Self::OtherDigest { .. })
    }
}

/// A digest that an index lists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sum {
    /// SHA-256.
    Sha256(Digest),
    /// SHA-512, 64 bytes.
    Sha512(Vec<u8>),
}

/// What a file says of itself, in a file of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Beside {
    /// It is there.
    There,
    /// It is there with this digest.
    WithDigest(Digest),
}

/// One file that an index lists.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub file: String,
    /// Where it lies.
    pub url: String,
    /// The version that it belongs to, where the index says so or the name does.
    pub version: Option<String>,
    /// Its size in bytes.
    pub size: Option<u64>,
    /// Its digest.
    pub sum: Option<Sum>,
    /// The day it was published, as `YYYY-MM-DD`.
    pub date: Option<String>,
    /// It is no file, but word of the day, as `YYYY-MM-DD`, until which `version` and what begins with it is looked after.
    pub until: Option<String>,
    /// Its maker has taken it back.
    pub withdrawn: bool,
    /// The versions of its runtime that it wants, as its index says it (PEP 440).
    pub requires_python: Option<String>,
    /// What it says of itself lies beside it (PEP 658).
    pub metadata: Option<Beside>,
    /// What it cannot do without, by the names that its index has for that.
    pub depends: Vec<String>,
    /// Who asks for it, where its index wants to know.
    pub(in crate::bring) authorization: Option<Authorization>,
    /// What it is put together from, where it lies in no one place.
    pub(in crate::bring) parts: Arc<Vec<Part>>,
}

impl Listed {
    /// A file of which no more is known.
    pub fn at(file: String, url: String) -> Self {
        Self { file, url, ..Self::default() }
    }

    /// Whether it is a wheel.
    pub fn is_wheel(&self) -> bool {
        self.has_ending("whl")
    }

    /// Whether it is a Debian package.
    pub fn is_package(&self) -> bool {
        self.has_ending("deb")
    }

    fn has_ending(&self, ending: &str) -> bool {
        Path::new(&self.file).extension().is_some_and(|there| there.eq_ignore_ascii_case(ending))
    }

    /// Its SHA-256, where the index lists that.
    pub fn sha256(&self) -> Option<Digest> {
        if let Some(Sum::Sha256(digest)) = &self.sum { Some(*digest) } else { None }
    }
}

/// The person who asks, and where what was answered is kept.
#[derive(Clone, Debug, Default)]
pub struct Around {
    /// The caller's environment.
    pub environment: Environment,
    /// The person's home folder.
    pub home: Option<PathBuf>,
    /// Where answers are kept that are worth it.
    pub cache: PathBuf,
}

/// The indexes that the settings name.
#[derive(Debug, Default)]
pub struct Indexes {
    settings: BTreeMap<String, IndexSetting>,
    around: Around,
    /// What was answered already.
    lists: Mutex<HashMap<[String; 3], Arc<Vec<Listed>>>>,
    archives: debian::Archives,
}

impl Indexes {
    /// Those of the settings.
    pub fn new(settings: BTreeMap<String, IndexSetting>, around: Around) -> Self {
        Self { settings, around, lists: Mutex::default(), archives: debian::Archives::default() }
    }

    /// What kind of index is called so.
    pub fn kind(&self, index: &str) -> Option<IndexKind> {
        Some(self.settings.get(index)?.kind)
    }

    /// The address of an index as it may be shown; its name where there is none.
    pub fn shown(&self, index: &str) -> String {
        let address = self.settings.get(index).and_then(|setting| setting.address.as_deref());
        address.map_or_else(|| index.to_owned(), without_password)
    }

    /// Whether an address is on the host of an index.
    pub(in crate::bring) fn is_at(&self, index: &str, url: &str) -> bool {
        let own = self.settings.get(index).and_then(|setting| setting.address.as_deref());
        own.is_some_and(|own| authority_of(own) == authority_of(url))
    }

    /// Whether an address is on the host of some index.
    pub(in crate::bring) fn is_anywhere(&self, url: &str) -> bool {
        self.settings.keys().any(|index| self.is_at(index, url))
    }

    /// The files that an index lists under a name. Where only one `file` is looked for, an index that is large need not tell of
    /// those for other processors.
    ///
    /// # Errors
    /// [`IndexError`].
    pub fn listed(
        &self,
        index: &str,
        project: &str,
        file: Option<&str>,
        network: &Network,
    ) -> Result<Arc<Vec<Listed>>, IndexError> {
        let setting = self.settings.get(index).ok_or_else(|| IndexError::Unknown { index: index.to_owned() })?;
        if network.origins.is_none() {
            return Err(IndexError::Forbidden { index: index.to_owned() });
        }
        let hint = file.filter(|_| setting.kind == IndexKind::Debian).map(debian::architecture).unwrap_or_default();
        let key = [index.to_owned(), project.to_owned(), hint.to_owned()];
        let lists = || self.lists.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lists().get(&key) {
            return Ok(Arc::clone(known));
        }
        let asking = Asking { index, project, network };
        let list = match setting.kind {
            IndexKind::Debian => self.archives.listed(setting, &self.around, hint, &asking)?,
            kind => self.plain(kind, setting, &asking)?,
        };
        let list = Arc::new(list);
        lists().insert(key, Arc::clone(&list));
        Ok(list)
    }

    /// What a registry of packages says of one; `None` where it has none of that name.
    ///
    /// # Errors
    /// [`IndexError`].
    pub fn package(&self, index: &str, name: &str, network: &Network) -> Result<Option<ListedPackage>, IndexError> {
        let setting = self.settings.get(index).ok_or_else(|| IndexError::Unknown { index: index.to_owned() })?;
        if network.origins.is_none() {
            return Err(IndexError::Forbidden { index: index.to_owned() });
        }
        let asking = Asking { index, project: name, network };
        let address = configured::address(setting, &asking, &self.around)?;
        let url = npm::url(&address.url, name);
        let document = match asking.document(&url, Some(npm::ACCEPT), &address) {
            Err(IndexError::NoSuch { .. }) => return Ok(None),
            document => document?,
        };
        let whole = |url: &str| resolved(&document.url, url);
        let listed = text(&document).and_then(|text| ListedPackage::parse(name, text, &whole));
        let wrong = |why| IndexError::Wrong { url: without_password(&url), kind: IndexKind::Npm.as_str(), why };
        listed.map(Some).map_err(wrong)
    }

    /// Asks an index that has one document for each name.
    fn plain(&self, kind: IndexKind, setting: &IndexSetting, asking: &Asking<'_>) -> Result<Vec<Listed>, IndexError> {
        let address = configured::address(setting, asking, &self.around)?;
        if kind == IndexKind::Oci {
            return oci::list(&address, asking);
        }
        let (url, accept) = match kind {
            IndexKind::Python => (python::url(&address.url, asking.project), Some(python::ACCEPT)),
            IndexKind::Npm => (npm::url(&address.url, asking.project), Some(npm::ACCEPT)),
            IndexKind::Sums => (sums::url(&address.url, asking.project), None),
            IndexKind::Feed => (feed::url(&address.url, asking.project), None),
            _ => (page::url(&address.url, asking.project), None),
        };
        let document = asking.document(&url, accept, &address)?;
        let list = match kind {
            IndexKind::Python => python::list(asking.project, &document),
            IndexKind::Npm => npm::list(asking.project, &document),
            IndexKind::Sums => sums::list(&document),
            IndexKind::Feed => feed::list(&document),
            _ => page::list(&document),
        };
        let mut list =
            list.map_err(|why| IndexError::Wrong { url: without_password(&url), kind: kind.as_str(), why })?;
        let own = authority_of(&address.url);
        for file in list.iter_mut().filter(|file| authority_of(&file.url) == own) {
            file.authorization.clone_from(&address.authorization);
        }
        Ok(list)
    }
}

/// Who is asked for what.
struct Asking<'a> {
    index: &'a str,
    project: &'a str,
    network: &'a Network,
}

impl Asking<'_> {
    fn document(&self, url: &str, accept: Option<&str>, address: &Address) -> Result<Document, IndexError> {
        let reading = Reading { accept, most: MOST, authorization: address.authorization.as_ref() };
        self.network.read_of_index(url, reading).map_err(|error| match error {
            YardError::NotThere => {
                IndexError::NoSuch { url: without_password(&address.url), project: self.project.to_owned() }
            }
            source => IndexError::Asked { url: without_password(url), source: Box::new(source) },
        })
    }
}

/// The names that a page of a folder links to right below itself: those of folders end with a slash.
pub fn links_below(document: &Document) -> Vec<String> {
    let Ok(text) = text(document) else { return Vec::new() };
    if !html::is_page(document.kind.as_deref(), text) {
        return Vec::new();
    }
    let mut names: Vec<String> = html::links(text)
        .into_iter()
        .filter_map(|link| {
            let url = resolved(&document.url, &link.href)?;
            let rest = url.strip_prefix(document.url.as_str())?;
            let name = percent_encoding::percent_decode_str(rest).decode_utf8().ok()?.into_owned();
            let is_one = !rest.contains('?') && !name.is_empty() && !name.trim_end_matches('/').contains('/');
            is_one.then_some(name)
        })
        .collect();
    names.sort();
    names.dedup();
    names
}

/// The day of a moment, as `YYYY-MM-DD` (RFC 3339); it is written into files, so that it must be one.
fn day(moment: &str) -> Option<String> {
    let day = moment.get(..10)?;
    day.parse::<jiff::civil::Date>().ok().map(|date| date.to_string())
}

/// The bytes of a document as text.
fn text(document: &Document) -> Result<&str, String> {
    std::str::from_utf8(&document.bytes).map_err(|_| "it is no text".to_owned())
}

/// A name as it stands in an address (RFC 3986, `unreserved`), slashes among it kept.
fn segments(name: &str) -> String {
    let encode = |part: &str| percent_encoding::utf8_percent_encode(part, SEGMENT).to_string();
    name.split('/').map(encode).collect::<Vec<_>>().join("/")
}

const SEGMENT: &percent_encoding::AsciiSet =
    &percent_encoding::NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// The last part of an address's path, decoded.
fn last_segment(url: &str) -> String {
    let path = url.split(['?', '#']).next().unwrap_or_default();
    let last = path.rsplit('/').next().unwrap_or_default();
    percent_encoding::percent_decode_str(last).decode_utf8_lossy().into_owned()
}
