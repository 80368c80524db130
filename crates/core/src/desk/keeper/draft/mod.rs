//! A first definition of a tool, out of what its maker publishes: the archive is unpacked and looked into, and its programs are asked,
//! shut in, for their versions. What is guessed says so.

mod looked;
mod menu;
mod written;

use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Layout, Unpacking};
use kladder_choose::names::ToolName;
use kladder_choose::path::InnerPath;
use regex::Regex;

use self::looked::{Looked, programs};
use self::written::written;
use super::names::{fit, is_preview};
use super::{Source, version_of};
use crate::base::digest::Digest;
use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{Cache, Network, UnknownError, receive, receive_from};
use crate::bring::index::{IndexError, Listed};
use crate::bring::intake::{IntakeError, unpack_files};
use crate::host::survey::{Host, scratch};

/// How large an archive may get when it is looked into.
const MOST: u64 = 16 << 30;

/// What a draft is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Draftable {
    /// A file on this machine.
    File(PathBuf),
    /// An address.
    Address(String),
    /// What an index calls it.
    Listed {
        /// The index.
        index: String,
        /// The name.
        project: String,
    },
}

/// Why no draft was made.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// An index could not be asked.
    #[error(transparent)]
    Index(#[from] IndexError),
    /// A file could not be received.
    #[error(transparent)]
    Receive(#[from] UnknownError),
    /// There is no file for this machine.
    #[error("the index {index} has no file of {project} for this machine")]
    NoFile {
        /// The index.
        index: String,
        /// The name.
        project: String,
    },
    /// It could not be unpacked.
    #[error("{file} could not be looked into")]
    Unpack {
        /// The file.
        file: String,
        /// Why not.
        source: Box<IntakeError>,
    },
    /// Nothing in it can be run.
    #[error("nothing in {file} can be run")]
    NothingRuns {
        /// The file.
        file: String,
        /// What stands at its top.
        top: Vec<String>,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// A definition, not yet in a catalog.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drafted {
    /// What it is called.
    pub tool: ToolName,
    /// Its version, where that was found out.
    pub version: Option<String>,
    /// The text, with a comment at each guess.
    pub text: String,
}

/// With what a draft is made.
#[derive(Clone, Copy)]
pub struct Drafting<'d> {
    /// The machine; programs are asked on it.
    pub host: &'d Host,
    /// The way to indexes and makers.
    pub network: &'d Network,
    /// Where files are kept.
    pub cache: &'d Cache,
    /// Who looks on.
    pub observer: &'d dyn Observer,
}

/// Makes a draft.
///
/// # Errors
/// [`DraftError`]; nothing is written then.
pub fn draft(what: &Draftable, drafting: Drafting<'_>) -> Result<Drafted, DraftError> {
    let found = drafting.found(what)?;
    let work = tempfile::Builder::new()
        .prefix(&scratch())
        .tempdir_in(&drafting.host.temporary)
        .on("make a folder in", &drafting.host.temporary)?;
    let folder = work.path().join("files");
    let unpack = drafting.unpacked(&found, &folder)?;
    let programs = programs(&folder);
    if programs.is_empty() {
        let mut top: Vec<String> =
            files::names(&folder)?.iter().map(|name| name.to_string_lossy().into_owned()).take(8).collect();
        top.sort();
        files::remove_tree(work.path())?;
        return Err(DraftError::NothingRuns { file: found.file, top });
    }
    let looked = Looked::into(&folder, &programs, drafting.host);
    let drafted = written(&found, &unpack, &programs, &looked.cleaned());
    // What was unpacked may be read-only.
    files::remove_tree(work.path())?;
    Ok(drafted)
}

/// A file in the cache, and from where it came.
struct Found {
    file: String,
    path: PathBuf,
    sha256: Digest,
    size: u64,
    scope: String,
    version: Option<String>,
    date: Option<String>,
    origin: Option<String>,
    /// What it is called, where an index says so.
    name: Option<String>,
}

impl Drafting<'_> {
    fn found(&self, what: &Draftable) -> Result<Found, DraftError> {
        let scope = |file: &str| fit(file).map_or_else(|| "any".to_owned(), |fit| fit.scope);
        match what {
            Draftable::File(path) => {
                let file = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
                let (sha256, size) = crate::base::digest::of_file(path).on("read", path)?;
                let (scope, version) = (scope(&file), in_name(&file));
                let (date, origin, name) = (None, None, None);
                Ok(Found { path: path.clone(), scope, version, file, sha256, size, date, origin, name })
            }
            Draftable::Address(address) => {
                let plain = address.split(['?', '#']).next().unwrap_or_default();
                let file = plain.rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or("file").to_owned();
                let (sha256, size) = receive_from(address, &file, self.cache, self.network, self.observer)?;
                let version = in_name(&file).or_else(|| in_name(plain));
                let above = address.strip_suffix(&["/", &file].concat()).unwrap_or(address);
                let origin =
                    Some(version.as_ref().map_or_else(|| above.to_owned(), |it| above.replace(it, "{version}")));
                let path = self.cache.path(&sha256);
                Ok(Found { scope: scope(&file), path, file, sha256, size, version, date: None, origin, name: None })
            }
            Draftable::Listed { index, project } => {
                let source = Source { index: index.clone(), project: project.clone(), scopes: Vec::new() };
                let best = self.best(&source.listed(self.network)?);
                let none = || DraftError::NoFile { index: index.clone(), project: project.clone() };
                let (listed, scope) = best.ok_or_else(none)?;
                let (sha256, size) = receive(&listed, self.cache, self.network, self.observer)?;
                Ok(Found {
                    path: self.cache.path(&sha256),
                    sha256,
                    size,
                    scope,
                    version: version_of(&listed).map(|version| version.to_string()),
                    date: listed.date,
                    file: listed.file,
                    origin: Some(format!("index:{index}/{project}")),
                    name: project.rsplit('/').next().map(str::to_owned),
                })
            }
        }
    }

    /// The newest file for this machine that is no preview.
    fn best(&self, listed: &[Listed]) -> Option<(Listed, String)> {
        let here = &self.host.platform;
        let fits = |file: &&Listed| !file.withdrawn && version_of(file).is_none_or(|version| !is_preview(&version));
        let scoped = listed.iter().filter(fits).filter_map(|file| Some((file, fit(&file.file)?)));
        let mine = scoped.filter(|(_, fit)| {
            let scope = fit.scope.parse::<kladder_choose::platform::Scope>();
            scope.is_ok_and(|scope| scope.holds_on(here))
        });
        let scheme = kladder_choose::version::Scheme::default();
        let newest = mine.reduce(|best, one| {
            let order = version_of(one.0).zip(version_of(best.0)).map(|(one, best)| scheme.compare(&one, &best));
            match order {
                Some(std::cmp::Ordering::Greater) => one,
                Some(std::cmp::Ordering::Equal) | None if one.1.rank < best.1.rank => one,
                _ => best,
            }
        });
        newest.map(|(file, fit)| (file.clone(), fit.scope))
    }

    /// Unpacks it as it probably should be; says how.
    fn unpacked(&self, found: &Found, into: &Path) -> Result<Unpacking, DraftError> {
        let mut unpack = Unpacking::default();
        if found.file.to_ascii_lowercase().ends_with(".deb") {
            unpack.layout = Some(Layout::Debian);
            unpack.absolute_links = kladder_choose::catalog::AbsoluteLinks::LeaveOut;
        }
        let file = InnerPath::new(&found.file.replace('/', "-")).unwrap_or_default();
        let failed = |source: IntakeError| DraftError::Unpack { file: found.file.clone(), source: Box::new(source) };
        let artifact = |unpack: &Unpacking| Artifact {
            file: file.clone(),
            size: found.size,
            sha256: found.sha256,
            unpacked: Some(MOST / 2),
            unpack: unpack.clone(),
            origins: Vec::new(),
            by_person: None,
        };
        let bring = |unpack: &Unpacking| {
            unpack_files(std::slice::from_ref(&found.path), &[artifact(unpack)], into, self.observer).map_err(failed)
        };
        bring(&unpack)?;
        let top = files::names(into)?;
        let is_one_folder = matches!(top.as_slice(), [one] if into.join(one).is_dir());
        if is_one_folder && artifact(&unpack).layout() == Layout::AsItIs {
            files::remove_tree(into)?;
            unpack.strip = 1;
            bring(&unpack)?;
        }
        Ok(unpack)
    }
}

/// A version in a name: digits with dots between them.
fn in_name(text: &str) -> Option<String> {
    let pattern = Regex::new(r"(?:^|[-_/v])(\d+(?:\.\d+)+(?:[-.]?(?:rc|alpha|beta)\.?\d+)?)").ok()?;
    pattern.captures(text).map(|captures| captures[1].to_owned())
}
