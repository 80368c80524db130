//! Libraries as indexes list them.
//!
//! Several indexes are several makers: where two of a set's indexes have a library of one name, the ladder must say which
//! one is meant, so that nobody can put a library of that name before another one's. An index that does not answer is no index
//! that lacks it.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use kladder_choose::catalog::{Artifact, Catalogs};
use kladder_choose::digest::Digest;
use kladder_choose::sets::{
    Catalogue, Libraries, LibraryRelease, LibraryVersion, Metadata, OF_CATALOGS, Offered, Tag, Wheel,
};

use super::in_catalogs::{self, InCatalogsError};
use crate::base::event::Silent;
use crate::base::files;
use crate::base::side::side_by_side;
use crate::bring::fetch::{Cache, Network, Remote, Sources, UnknownError, receive};
use crate::bring::index::{Beside, IndexError, Listed};
use crate::desk::keeper::{in_archive, in_wheel};
use crate::settings::{Home, IndexKind};

/// Questions at once: a server has many clients, and waiting is most of it.
const AT_ONCE: usize = 8;

/// Why a library could not be looked up.
#[derive(Debug, thiserror::Error)]
pub enum LookupError {
    /// An index could not be asked.
    #[error("{library} cannot be looked up")]
    Index {
        /// The library.
        library: String,
        /// Why not.
        source: IndexError,
    },
    /// An index is of a kind that has no libraries.
    #[error("the index `{0}` is none of libraries")]
    Kind(String),
    /// An index is of another kind than is needed.
    #[error("the index `{index}` is none of packages")]
    OtherKind {
        /// The index.
        index: &'static str,
        /// The kind that it should be.
        kind: &'static str,
    },
    /// Several indexes have a library of that name.
    #[error("{library} is in several indexes: {}", .indexes.join(", "))]
    Several {
        /// The library.
        library: String,
        /// The indexes.
        indexes: Vec<String>,
    },
    /// The index does not list a package.
    #[error("the index lists no {0}")]
    Missing(String),
    /// What came is not what the lock file says.
    #[error("{0} has other bytes than the lock file says")]
    OtherBytes(String),
    /// A package has no digest that counts.
    #[error("{0} has no SHA-512 digest, so that nobody could tell its bytes from others")]
    NoSum(String),
    /// A catalog that should have it does not have it so that it can be taken.
    #[error(transparent)]
    InCatalogs(#[from] InCatalogsError),
    /// A file could not be had.
    #[error(transparent)]
    Receive(#[from] UnknownError),
}

type Releases = Arc<Vec<LibraryRelease>>;
type Read = Result<Arc<Metadata>, String>;

/// The indexes of a set.
pub(super) struct Lookup<'l> {
    wanted: &'l Libraries,
    catalogs: &'l Catalogs,
    sources: Sources<'l>,
    told: &'l dyn Fn(usize),
    /// What wheels say of themselves, by the digests of the wheels.
    folder: PathBuf,
    releases: RefCell<HashMap<String, Releases>>,
    files: RefCell<HashMap<Digest, Listed>>,
    /// Those that a catalog has.
    own: RefCell<HashMap<Digest, Artifact>>,
    metadata: RefCell<HashMap<Digest, Read>>,
}

/// A library's releases, and the files that its index lists.
struct Found {
    releases: Vec<LibraryRelease>,
    files: Vec<(Digest, Listed)>,
}

impl<'l> Lookup<'l> {
    pub(super) fn new(
        wanted: &'l Libraries,
        catalogs: &'l Catalogs,
        sources: Sources<'l>,
        home: &Home,
        told: &'l dyn Fn(usize),
    ) -> Self {
        let folder = home.cache.join("listed").join("metadata");
        let (releases, files, metadata) = (RefCell::default(), RefCell::default(), RefCell::default());
        Self { wanted, catalogs, sources, told, folder, releases, files, own: RefCell::default(), metadata }
    }

    fn asker(&self) -> Asker<'_> {
        Asker { wanted: self.wanted, network: self.sources.network, cache: self.sources.cache }
    }

    /// What the catalogs have of a library, where they are asked for it.
    fn in_catalogs(&self, library: &str) -> Result<Vec<Listed>, LookupError> {
        let told = self.wanted.from.get(library);
        if !told.map_or(&self.wanted.indexes[..], std::slice::from_ref).iter().any(|index| index == OF_CATALOGS) {
            return Ok(Vec::new());
        }
        let all = in_catalogs::listed(library, self.catalogs, self.sources)?;
        let mut own = self.own.borrow_mut();
        Ok(all
            .into_iter()
            .inspect(|(_, artifact)| _ = own.insert(artifact.sha256, artifact.clone()))
            .map(|(listed, _)| listed)
            .collect())
    }

    fn keep(&self, library: &str, found: Found) -> Releases {
        let releases = Arc::new(found.releases);
        self.files.borrow_mut().extend(found.files);
        self.releases.borrow_mut().insert(library.to_owned(), Arc::clone(&releases));
        (self.told)(self.releases.borrow().len());
        releases
    }

    fn listed(&self, wheel: &Digest) -> Option<Listed> {
        self.files.borrow().get(wheel).cloned()
    }

    /// What is known of a wheel without asking anybody.
    fn known(&self, library: &str, wheel: &Wheel) -> Option<Read> {
        if let Some(known) = self.metadata.borrow().get(&wheel.sha256) {
            return Some(known.clone());
        }
        let text = files::read(&self.folder.join(wheel.sha256.hex())).ok()?;
        let read = checked(library, wheel, &String::from_utf8(text).ok()?);
        self.metadata.borrow_mut().insert(wheel.sha256, read.clone());
        Some(read)
    }
}

/// What does the work of several at once.
struct Asker<'a> {
    wanted: &'a Libraries,
    network: &'a Network,
    cache: &'a Cache,
}

impl Asker<'_> {
    /// From the indexes, and what catalogs have of it.
    fn releases(&self, library: &str, in_catalogs: Vec<Listed>) -> Result<Found, LookupError> {
        let told = self.wanted.from.get(library);
        let asked = told.map_or(&self.wanted.indexes[..], std::slice::from_ref);
        let mut by_index = BTreeMap::new();
        if !in_catalogs.is_empty() {
            by_index.insert(OF_CATALOGS.to_owned(), Arc::new(in_catalogs));
        }
        for index in asked.iter().filter(|index| *index != OF_CATALOGS) {
            if self.network.kind_of_index(index).is_some_and(|kind| kind != IndexKind::Python) {
                return Err(LookupError::Kind(index.clone()));
            }
            match self.network.listed(index, library) {
                Ok(list) if list.is_empty() => {}
                Ok(list) => _ = by_index.insert(index.clone(), list),
                Err(IndexError::NoSuch { .. }) => {}
                Err(source) => return Err(LookupError::Index { library: library.to_owned(), source }),
            }
        }
        if by_index.len() > 1 {
            let indexes = by_index.into_keys().collect();
            return Err(LookupError::Several { library: library.to_owned(), indexes });
        }
        let Some((index, list)) = by_index.into_iter().next() else {
            return Ok(Found { releases: Vec::new(), files: Vec::new() });
        };
        Ok(found(&index, &list))
    }

    /// The text of a wheel's metadata: beside the wheel where its index has that (PEP 658), else out of the wheel: the one that
    /// is kept, or at its server. Only where a server sends nothing but whole files it is fetched.
    fn text(&self, listed: &Listed) -> Result<String, LookupError> {
        let is_it = |text: &String| match listed.metadata {
            Some(Beside::WithDigest(digest)) => Digest::of(text.as_bytes()) == digest,
            _ => true,
        };
        if listed.metadata.is_some()
            && let Some(text) = self.network.beside(listed, ".metadata").filter(is_it)
        {
            return Ok(text);
        }
        let kept = || in_wheel(&self.cache.path(&listed.sha256()?));
        let at_server = || in_archive(Remote::new(self.network, listed)?);
        if let Some(text) = kept().or_else(at_server) {
            return Ok(text);
        }
        let (sha256, _) = receive(listed, self.cache, self.network, &Silent)?;
        Ok(in_wheel(&self.cache.path(&sha256)).unwrap_or_default())
    }
}

impl Catalogue for Lookup<'_> {
    type Error = LookupError;

    fn releases(&self, library: &str) -> Result<Releases, LookupError> {
        if let Some(known) = self.releases.borrow().get(library) {
            return Ok(Arc::clone(known));
        }
        let found = self.asker().releases(library, self.in_catalogs(library)?)?;
        Ok(self.keep(library, found))
    }

    fn metadata(&self, library: &str, offered: &Offered) -> Result<Read, LookupError> {
        let wheel = &offered.wheel;
        if let Some(known) = self.known(library, wheel) {
            return Ok(known);
        }
        let own = self.own.borrow().get(&wheel.sha256).cloned();
        if let Some(artifact) = own {
            return Ok(self.learn(library, wheel, &in_catalogs::text(library, &artifact, self.sources)?));
        }
        let Some(listed) = self.listed(&wheel.sha256) else { return Ok(Err("no index lists it".to_owned())) };
        let text = self.asker().text(&listed)?;
        Ok(self.learn(library, wheel, &text))
    }

    fn soon(&self, libraries: &[&str]) {
        let new: Vec<&str> =
            libraries.iter().copied().filter(|library| !self.releases.borrow().contains_key(*library)).collect();
        if new.len() < 2 {
            return;
        }
        // What went wrong is told where the library is really needed.
        let new: Vec<(&str, Vec<Listed>)> =
            new.into_iter().filter_map(|library| Some((library, self.in_catalogs(library).ok()?))).collect();
        let asker = self.asker();
        let all = side_by_side(&new, AT_ONCE, |(library, own)| asker.releases(library, own.clone()));
        for ((library, _), found) in new.iter().zip(all) {
            if let Ok(found) = found {
                self.keep(library, found);
            }
        }
    }

    fn likely(&self, wheels: &[(&str, &Offered)]) {
        let new: Vec<(&str, &Wheel, Listed)> = wheels
            .iter()
            .filter(|(library, offered)| self.known(library, &offered.wheel).is_none())
            .filter_map(|(library, offered)| Some((*library, &offered.wheel, self.listed(&offered.wheel.sha256)?)))
            // A whole wheel might have to come, which is done only for what is needed.
            .filter(|(_, _, listed)| listed.metadata.is_some())
            .collect();
        if new.len() < 2 {
            return;
        }
        let asker = self.asker();
        for ((library, wheel, _), text) in
            new.iter().zip(side_by_side(&new, AT_ONCE, |(_, _, listed)| asker.text(listed)))
        {
            if let Ok(text) = text {
                let _ = self.learn(library, wheel, &text);
            }
        }
    }
}

impl Lookup<'_> {
    fn learn(&self, library: &str, wheel: &Wheel, text: &str) -> Read {
        let read = checked(library, wheel, text);
        if read.is_ok() {
            // It spares a question the next time, and nothing depends on it.
            let _ = keep(&self.folder, &wheel.sha256, text);
        }
        self.metadata.borrow_mut().insert(wheel.sha256, read.clone());
        read
    }
}

fn keep(folder: &Path, wheel: &Digest, text: &str) -> Result<(), files::FileError> {
    files::create_folder(folder)?;
    files::replace(&folder.join(wheel.hex()), text.as_bytes())
}

/// What a wheel says of itself must be what its name says.
fn checked(library: &str, wheel: &Wheel, text: &str) -> Read {
    let read = Metadata::parse(text)?;
    let version = |text: &str| text.parse::<LibraryVersion>().ok();
    let named = wheel.file.split('-').nth(1).and_then(version);
    if read.name != library || named.is_none() || version(&read.version) != named {
        return Err(format!("{} says that it is {} {}", wheel.file, read.name, read.version));
    }
    Ok(Arc::new(read))
}

/// The releases in a list of files. What has no digest, or a name that says no version, could not be told from anything else.
fn found(index: &str, list: &[Listed]) -> Found {
    let mut releases: BTreeMap<LibraryVersion, LibraryRelease> = BTreeMap::new();
    let mut known = Vec::new();
    for file in list {
        let Some(version) = file.version.as_deref().and_then(|text| text.parse::<LibraryVersion>().ok()) else {
            continue;
        };
        let release = releases.entry(version.clone()).or_insert_with(|| LibraryRelease {
            version,
            withdrawn: false,
            has_sources: false,
            wheels: Vec::new(),
        });
        release.withdrawn |= file.withdrawn;
        let Some(tag) = Tag::of(&file.file) else {
            release.has_sources = true;
            continue;
        };
        let Some(sha256) = file.sha256() else { continue };
        let origin = file.url.rsplit_once('/').map(|(folder, _)| [folder, "/"].concat());
        let origin = origin.filter(|origin| [origin.as_str(), &file.file].concat() == file.url);
        let wheel = Wheel { file: file.file.clone(), origin, size: file.size, sha256 };
        let requires_python = file.requires_python.clone();
        release.wheels.push(Offered { wheel, tag, requires_python, index: index.to_owned() });
        known.push((sha256, file.clone()));
    }
    Found { releases: releases.into_values().collect(), files: known }
}
