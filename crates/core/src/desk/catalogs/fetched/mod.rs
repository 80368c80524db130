//! Catalogs from elsewhere: an archive at an address or in a yard, a folder of a web server, or a repository. Each is fetched once and kept among what can be fetched
//! again, and is what is used until it is fetched anew.
//!
//! ```text
//! cache/catalogs-fetched/DIGEST-OF-ITS-ADDRESS/files/       what came, with catalog.toml at its top
//!                                              source.json  from where, when
//! ```

mod folder;

pub use folder::FolderError;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::address::{YardAddress, without_password};
use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_choose::digest::Digest;
use kladder_choose::ladder::YARD;
use kladder_choose::path::InnerPath;
use serde::{Deserialize, Serialize};

use crate::base::digest::of_file;
use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};
use crate::bring::fetch::{Cache, Network, UnknownError, receive_from};
use crate::bring::intake::{IntakeError, unpack_files};
use crate::desk::{Surroundings, repository};

const FORMAT: u32 = 1;
/// How the names of folders begin in which a catalog is fetched.
const WORK: &str = "work-";
/// No fetch takes as long.
const STALE: Duration = Duration::from_hours(1);
/// More is no catalog.
const MOST_UNPACKED: u64 = 256 << 20;

/// Why a catalog could not be had.
#[derive(Debug, thiserror::Error)]
pub enum FetchedError {
    /// It was never fetched, and nothing may be.
    #[error("the catalog at {0} was not fetched yet, and nothing may be fetched")]
    Offline(String),
    /// It could not be fetched.
    #[error("the catalog at {address} could not be fetched")]
    Receive {
        /// Its address.
        address: String,
        /// Why not.
        source: Box<UnknownError>,
    },
    /// What is said to be in a yard is no path there.
    #[error("`{0}` is no path in a yard")]
    NoPath(String),
    /// It is in a yard, and no yard is named.
    #[error("the catalog {0} is in a yard, and the settings name none")]
    NoYard(String),
    /// No yard has it.
    #[error("no yard has the catalog {address}")]
    NotInYards {
        /// Its address.
        address: String,
        /// What the last yard that was asked said.
        source: Box<YardFailed>,
    },
    /// The folder could not be brought.
    #[error("the catalog at {address} could not be fetched")]
    Folder {
        /// Its address.
        address: String,
        /// Why not.
        source: Box<FolderError>,
    },
    /// The repository could not be copied.
    #[error("the catalog at {address} could not be fetched")]
    Repository {
        /// Its address.
        address: String,
        /// What version control said.
        why: String,
    },
    /// It could not be unpacked.
    #[error("what came from {address} could not be unpacked")]
    Unpack {
        /// Its address.
        address: String,
        /// Why not.
        source: Box<IntakeError>,
    },
    /// It is no catalog.
    #[error("what came from {0} has no catalog.toml at its top")]
    NoCatalog(String),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// What is kept of it cannot be read.
    #[error(transparent)]
    Record(#[from] RecordError),
}

/// From where a catalog came, and when; JSON, format 1.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fetched {
    format: u32,
    /// Its address, without a password.
    pub address: String,
    /// When.
    pub at: jiff::Timestamp,
    /// The digest of its archive; the files of a repository have none.
    pub sha256: Option<Digest>,
}

/// Where a fetched catalog is kept.
struct Place {
    folder: PathBuf,
}

impl Place {
    fn of(address: &str, around: &Surroundings) -> Self {
        Self { folder: around.home.cache.join("catalogs-fetched").join(Digest::of(address.as_bytes()).hex()) }
    }

    fn files(&self) -> PathBuf {
        self.folder.join("files")
    }
}

/// The folder of a catalog from elsewhere; fetched where it never was.
///
/// # Errors
/// [`FetchedError`].
pub fn folder_of(
    address: &str,
    around: &Surroundings,
    network: &Network,
    observer: &dyn Observer,
) -> Result<PathBuf, FetchedError> {
    let place = Place::of(address, around);
    if !place.files().join("catalog.toml").is_file() {
        fetch(address, around, network, observer)?;
    }
    Ok(place.files())
}

/// Where the files of a catalog from elsewhere are, once it was fetched.
pub fn kept(address: &str, around: &Surroundings) -> PathBuf {
    Place::of(address, around).files()
}

/// What is known of a catalog that was fetched; `None` where it was not.
pub fn known(address: &str, around: &Surroundings) -> Option<Fetched> {
    record::read(&Place::of(address, around).folder.join("source.json"), FORMAT).ok()
}

/// Fetches a catalog, in the place of what was fetched before.
///
/// # Errors
/// [`FetchedError`]; what was there before stays.
pub fn fetch(
    address: &str,
    around: &Surroundings,
    network: &Network,
    observer: &dyn Observer,
) -> Result<Fetched, FetchedError> {
    if around.offline {
        return Err(FetchedError::Offline(without_password(address)));
    }
    let place = Place::of(address, around);
    let above = place.folder.parent().unwrap_or(Path::new("/"));
    files::create_folder(above)?;
    sweep(above);
    let work = tempfile::Builder::new().prefix(WORK).tempdir_in(above).on("make a folder in", above)?;
    let raw = work.path().join("raw");
    let sha256 = if let Some(path) = address.strip_prefix(YARD) {
        Some(of_yards(address, path, &raw, around, network, observer)?)
    } else if is_archive(address) {
        Some(unpacked(address, &raw, around, network, observer)?)
    } else if address.starts_with("http") && address.ends_with('/') {
        let shown = without_password(address);
        let failed = |source: FolderError| FetchedError::Folder { address: shown, source: Box::new(source) };
        folder::bring(address, &raw, network, observer).map_err(failed)?;
        None
    } else {
        let (repository, at) = address.split_once('#').map_or((address, None), |(front, at)| (front, Some(at)));
        let shown = without_password(address);
        // Version control may name the address with all that is in it.
        let failed =
            |why: String| FetchedError::Repository { why: why.replace(repository, &shown), address: shown.clone() };
        repository::copy(repository, at, &raw, around, observer).map_err(failed)?;
        None
    };
    let top = top_of(&raw).ok_or_else(|| FetchedError::NoCatalog(without_password(address)))?;
    files::make_writable(&raw)?;
    let new = work.path().join("new");
    files::create_folder(&new)?;
    files::make_writable(&top)?;
    fs::rename(&top, new.join("files")).on("move", &top)?;
    let fetched = Fetched { format: FORMAT, address: without_password(address), at: jiff::Timestamp::now(), sha256 };
    record::write(&new.join("source.json"), &fetched)?;
    if place.folder.exists() {
        files::exchange(&new, &place.folder)?;
    } else {
        fs::rename(&new, &place.folder).on("put in place", &place.folder)?;
    }
    // What was unpacked may be read-only.
    files::remove_tree(work.path())?;
    Ok(fetched)
}

/// Removes what a kill left of an earlier fetch.
fn sweep(above: &Path) {
    for name in files::names(above).unwrap_or_default() {
        let path = above.join(&name);
        let is_work = name.to_string_lossy().starts_with(WORK);
        let idle = fs::metadata(&path).and_then(|meta| meta.modified()).ok().and_then(|then| then.elapsed().ok());
        if is_work && idle.is_some_and(|idle| idle > STALE) {
            // What cannot be removed is in nobody's way.
            let _ = files::remove_tree(&path);
        }
    }
}

fn is_archive(address: &str) -> bool {
    let path = address.split(['?', '#']).next().unwrap_or_default();
    [".tar.gz", ".tgz", ".tar.xz", ".tar.zst", ".tar.bz2", ".zip"].iter().any(|ending| path.ends_with(ending))
}

fn unpacked(
    address: &str,
    into: &Path,
    around: &Surroundings,
    network: &Network,
    observer: &dyn Observer,
) -> Result<Digest, FetchedError> {
    let path = address.split(['?', '#']).next().unwrap_or_default();
    let name = path.rsplit('/').next().unwrap_or("catalog.tar.gz").to_owned();
    let failed =
        |source: UnknownError| FetchedError::Receive { address: without_password(address), source: Box::new(source) };
    let cache = Cache::new(&around.home.artifacts);
    let (sha256, size) = receive_from(address, &name, &cache, network, observer).map_err(failed)?;
    unpack(address, &cache.path(&sha256), &name, (sha256, size), into, observer)?;
    Ok(sha256)
}

fn unpack(
    address: &str,
    path: &Path,
    name: &str,
    (sha256, size): (Digest, u64),
    into: &Path,
    observer: &dyn Observer,
) -> Result<(), FetchedError> {
    let file = InnerPath::new(name).map_err(|_| FetchedError::NoCatalog(without_password(address)))?;
    let unpack = Unpacking { layout: Some(kladder_choose::catalog::Layout::AsItIs), ..Unpacking::default() };
    let (unpacked, origins, by_person) = (Some(MOST_UNPACKED / 2), Vec::new(), None);
    let artifact = Artifact { file, size, sha256, unpacked, unpack, origins, by_person };
    unpack_files(&[path.to_path_buf()], &[artifact], into, observer)
        .map_err(|source| FetchedError::Unpack { address: without_password(address), source: Box::new(source) })
}

/// Why a yard did not give a catalog.
#[derive(Debug, thiserror::Error)]
pub enum YardFailed {
    /// It is one that gives artifacts by their digests alone.
    #[error("catalogs are read out of folders and servers, and {0} is neither")]
    Unread(String),
    /// It is a server.
    #[error(transparent)]
    Server(UnknownError),
    /// It is a folder.
    #[error(transparent)]
    Folder(FileError),
}

/// Unpacks an archive that the first yard has which has it: those of the command, else those of the settings.
fn of_yards(
    address: &str,
    path: &str,
    into: &Path,
    around: &Surroundings,
    network: &Network,
    observer: &dyn Observer,
) -> Result<Digest, FetchedError> {
    let wrong = || FetchedError::NoPath(path.to_owned());
    let file = InnerPath::new(path).ok().filter(|file| !file.as_str().is_empty()).ok_or_else(wrong)?;
    let name = path.rsplit('/').next().unwrap_or(path);
    let cache = Cache::new(&around.home.artifacts);
    let mut last = None;
    for yard in around.named_yards().unwrap_or_default() {
        let found = match &yard {
            YardAddress::Folder(folder) => {
                let path = folder.join(file.as_str());
                let digest = of_file(&path).on("read", &path).map_err(YardFailed::Folder);
                digest.map(|(sha256, size)| (path, sha256, size))
            }
            YardAddress::Server(url) => {
                let url = format!("{}/{file}", url.trim_end_matches('/'));
                let received = receive_from(&url, name, &cache, network, observer).map_err(YardFailed::Server);
                received.map(|(sha256, size)| (cache.path(&sha256), sha256, size))
            }
            YardAddress::Store(_) | YardAddress::Registry(_) => Err(YardFailed::Unread(yard.to_string())),
        };
        match found {
            Ok((path, sha256, size)) => {
                unpack(address, &path, name, (sha256, size), into, observer)?;
                return Ok(sha256);
            }
            Err(error) => last = Some(error),
        }
    }
    let address = address.to_owned();
    Err(match last {
        None => FetchedError::NoYard(address),
        Some(source) => FetchedError::NotInYards { address, source: Box::new(source) },
    })
}

/// The folder with the catalog: what was unpacked, or the one folder in it.
fn top_of(raw: &Path) -> Option<PathBuf> {
    let has = |folder: &Path| folder.join("catalog.toml").is_file();
    if has(raw) {
        return Some(raw.to_path_buf());
    }
    let mut inside = files::names(raw).ok()?.into_iter().map(|name| raw.join(name));
    match (inside.next(), inside.next()) {
        (Some(one), None) if has(&one) => Some(one),
        _ => None,
    }
}
