//! A colleague's ladder, taken over with its pins and the catalogs that lie with it.

use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::{Ladder, STARTER, address_of};
use kladder_choose::sets::LibrarySet;
use toml_edit::{DocumentMut, Value};

use crate::base::event::Silent;
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{Network, YardError, read_text};
use crate::desk::{FILE_NAME, Surroundings, repository};

/// Where a colleague's ladder is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Colleague {
    /// A file of this machine.
    File(PathBuf),
    /// An `http` or `https` address of the file.
    Address(String),
    /// A repository of version control, with the ladder at its top.
    Repository(String),
}

/// Why a ladder could not be taken over. Nothing was written.
#[derive(Debug, thiserror::Error)]
pub enum ColleagueError {
    /// There is nothing of the kind.
    #[error("there is no such ladder")]
    NoSuch(PathBuf),
    /// There is no ladder at the top of it.
    #[error("there is no {FILE_NAME} at the top of {0}")]
    NoLadder(String),
    /// Version control could not copy the repository.
    #[error("the repository {repository} cannot be copied")]
    Repository {
        /// Which one.
        repository: String,
        /// What was said.
        why: String,
    },
    /// The address could not be read.
    #[error("{address} cannot be read")]
    Address {
        /// Which one.
        address: String,
        /// Why not.
        source: YardError,
    },
    /// The ladder's catalog does not come along.
    #[error("its catalog `{}` does not come along", catalog.display())]
    Catalog {
        /// As the ladder names it.
        catalog: PathBuf,
    },
    /// Something stands where the catalog would go.
    #[error("there is something at {} already, where its catalog would go", .0.display())]
    InTheWay(PathBuf),
    /// The ladder is wrong.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

impl Colleague {
    /// What a text names: a file or folder that is there, an address, or a repository.
    ///
    /// # Errors
    /// [`ColleagueError::NoSuch`] for a text that is none of these.
    pub fn of(text: &str, folder: &Path) -> Result<Self, ColleagueError> {
        let local = folder.join(text);
        if local.is_file() {
            return Ok(Self::File(local));
        }
        let is_git = text.trim_end_matches('/').rsplit_once('.').is_some_and(|(_, end)| end == "git");
        if local.join(".git").exists() || is_git || text.starts_with("ssh://") {
            return Ok(Self::Repository(if local.exists() {
                local.to_string_lossy().into_owned()
            } else {
                text.to_owned()
            }));
        }
        if local.is_dir() {
            let file = local.join(FILE_NAME);
            return if file.is_file() { Ok(Self::File(file)) } else { Err(ColleagueError::NoLadder(text.to_owned())) };
        }
        if text.starts_with("http://") || text.starts_with("https://") {
            return Ok(Self::Address(text.to_owned()));
        }
        Err(ColleagueError::NoSuch(local))
    }

    /// Puts the ladder at `path`, with its pins and the catalogs that lie with it. Catalogs of a file stay where they are and
    /// are named from the new place; those of a repository are copied beside the ladder.
    ///
    /// # Errors
    /// [`ColleagueError`]; nothing is written where the ladder is wrong or its catalog does not come along.
    pub fn take(&self, around: &Surroundings, network: &Network, path: &Path) -> Result<(), ColleagueError> {
        let work = tempfile::tempdir_in(&around.host.temporary).on("make a folder in", &around.host.temporary)?;
        let file = self.bring(around, network, work.path())?;
        let source = files::source(&file).map_err(DocumentError::from)?;
        // It must make sense before it is taken.
        let ladder = Ladder::parse(&source)?;
        let into = path.parent().unwrap_or(Path::new("."));
        let catalogs = named_catalogs(&source)?;
        let mut moved = Vec::new();
        for (named, folder) in catalogs.iter().zip(&ladder.catalogs) {
            moved.push(self.place_of(named, folder, &file, into)?);
        }
        let locks = locks_of(&ladder, into)?;
        files::create_folder(into)?;
        for (to, bytes) in locks {
            files::create_folder(to.parent().unwrap_or(into))?;
            files::replace(&to, &bytes)?;
        }
        for (folder, Moved { copy, .. }) in ladder.catalogs.iter().zip(&moved) {
            if let Some(to) = copy {
                copy_tree(folder, to)?;
            }
        }
        let text = rewritten(&source, &moved)?;
        if let Ok(pins) = files::read(&ladder.pins_path()) {
            files::replace(&path.with_file_name("ladder.pinned.toml"), &pins)?;
        }
        Ok(files::replace(path, text.as_bytes())?)
    }

    fn bring(&self, around: &Surroundings, network: &Network, work: &Path) -> Result<PathBuf, ColleagueError> {
        match self {
            Self::File(file) => Ok(file.canonicalize().on("read", file)?),
            Self::Address(address) => {
                let text = read_text(address, network)
                    .map_err(|source| ColleagueError::Address { address: address.clone(), source })?;
                let file = work.join(FILE_NAME);
                fs::write(&file, text).on("write", &file)?;
                Ok(file)
            }
            Self::Repository(repository) => copied(repository, around, work),
        }
    }

    /// Where a catalog will be, and how the ladder names it there.
    fn place_of(&self, named: &Path, folder: &Path, file: &Path, into: &Path) -> Result<Moved, ColleagueError> {
        let lost = || ColleagueError::Catalog { catalog: named.to_path_buf() };
        let is_anywhere = named == Path::new(STARTER) || address_of(named).is_some();
        if named.is_absolute() || is_anywhere {
            return Ok(Moved { named: named.to_path_buf(), copy: None });
        }
        match self {
            Self::Address(_) => Err(lost()),
            Self::File(_) => {
                let real = folder.canonicalize().map_err(|_| lost())?;
                let from = into.canonicalize().unwrap_or_else(|_| into.to_path_buf());
                Ok(Moved { named: relative(&real, &from), copy: None })
            }
            Self::Repository(_) => {
                let top = file.parent().unwrap_or(file);
                let real = folder.canonicalize().map_err(|_| lost())?;
                let inside = top.canonicalize().ok().and_then(|top| Some(real.strip_prefix(top).ok()?.to_path_buf()));
                let inside = inside.filter(|inside| !inside.as_os_str().is_empty()).ok_or_else(lost)?;
                let to = into.join(&inside);
                if fs::symlink_metadata(&to).is_ok() {
                    return Err(ColleagueError::InTheWay(to));
                }
                Ok(Moved { named: inside, copy: Some(to) })
            }
        }
    }
}

/// The lock files of a ladder's sets, and where they go.
fn locks_of(ladder: &Ladder, into: &Path) -> Result<Vec<(PathBuf, Vec<u8>)>, ColleagueError> {
    let from = ladder.path.parent().unwrap_or(Path::new("."));
    let mut all = Vec::new();
    for lock in ladder.sets.iter().flat_map(LibrarySet::files) {
        // One that is not there is made by whoever pins, or missed by whoever needs it.
        let Ok(bytes) = files::read(&lock.below(from)) else { continue };
        let to = lock.below(into);
        match files::read(&to) {
            Ok(there) if there == bytes => {}
            Ok(_) => return Err(ColleagueError::InTheWay(to)),
            Err(_) => all.push((to, bytes)),
        }
    }
    Ok(all)
}

/// Where a catalog goes.
struct Moved {
    /// As the ladder names it then.
    named: PathBuf,
    /// Where it is copied to.
    copy: Option<PathBuf>,
}

/// The catalogs as the ladder names them.
fn named_catalogs(source: &Source) -> Result<Vec<PathBuf>, DocumentError> {
    let document = parsed(source)?;
    let catalog = document.get("ladder").and_then(|ladder| ladder.get("catalog")).and_then(|item| item.as_value());
    Ok(match catalog {
        Some(Value::String(one)) => vec![one.value().into()],
        Some(Value::Array(several)) => several.iter().filter_map(|one| one.as_str().map(PathBuf::from)).collect(),
        _ => Vec::new(),
    })
}

fn parsed(source: &Source) -> Result<DocumentMut, DocumentError> {
    source
        .text
        .parse()
        .map_err(|error: toml_edit::TomlError| source.invalid(error.span().unwrap_or(0..0), error.message()))
}

/// The ladder with its catalogs named from its new place; everything else in it stays.
fn rewritten(source: &Source, moved: &[Moved]) -> Result<String, DocumentError> {
    let mut document = parsed(source)?;
    let catalog = document.get_mut("ladder").and_then(|ladder| ladder.get_mut("catalog"));
    match catalog.and_then(|item| item.as_value_mut()) {
        Some(Value::Array(several)) => {
            for (at, Moved { named, .. }) in moved.iter().enumerate() {
                several.replace(at, named.to_string_lossy().as_ref());
            }
        }
        Some(one) => {
            if let Some(Moved { named, .. }) = moved.first() {
                let decor = one.decor().clone();
                *one = named.to_string_lossy().as_ref().into();
                *one.decor_mut() = decor;
            }
        }
        None => {}
    }
    Ok(document.to_string())
}

/// A path from one absolute folder to another.
fn relative(to: &Path, from: &Path) -> PathBuf {
    let common = to.components().zip(from.components()).take_while(|(one, other)| one == other).count();
    let up = from.components().skip(common).map(|_| Component::ParentDir);
    let path: PathBuf = up.chain(to.components().skip(common)).collect();
    if path.as_os_str().is_empty() { ".".into() } else { path }
}

/// A shallow copy of a repository; the ladder stands at its top.
fn copied(repository: &str, around: &Surroundings, work: &Path) -> Result<PathBuf, ColleagueError> {
    let folder = work.join("repository");
    let failed = |why: String| ColleagueError::Repository { repository: repository.to_owned(), why };
    repository::copy(repository, None, &folder, around, &Silent).map_err(failed)?;
    let file = folder.join(FILE_NAME);
    if file.is_file() { Ok(file) } else { Err(ColleagueError::NoLadder(repository.to_owned())) }
}

/// Copies files and folders; links are left out, since they may lead anywhere.
fn copy_tree(from: &Path, to: &Path) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(from) {
        let entry = entry.map_err(io::Error::from).on("read the folder", from)?;
        let full = to.join(entry.path().strip_prefix(from).unwrap_or(entry.path()));
        if entry.file_type().is_dir() {
            files::create_folder(&full)?;
        } else if entry.file_type().is_file() {
            fs::copy(entry.path(), &full).on("write", &full)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_from_one_folder_to_another_is_as_short_as_can_be() {
        let path = |to: &str, from: &str| relative(Path::new(to), Path::new(from)).to_string_lossy().into_owned();
        assert_eq!(path("/a/catalog", "/a/desk"), "../catalog");
        assert_eq!(path("/a/desk/catalog", "/a/desk"), "catalog");
        assert_eq!(path("/a", "/a"), ".");
        assert_eq!(path("/b/c", "/a/desk"), "../../b/c");
    }

    #[test]
    fn only_the_catalog_of_a_ladder_is_rewritten() {
        let source =
            Source::new("ladder.toml", "# ours\n[ladder]\ncatalog = \"../catalog\" # here\n[rungs]\na = \"1\"\n");
        let moved = [Moved { named: "../../x".into(), copy: None }];
        assert_eq!(rewritten(&source, &moved).unwrap(), source.text.replace("../catalog", "../../x"));
        assert_eq!(named_catalogs(&source).unwrap(), [PathBuf::from("../catalog")]);
    }
}
