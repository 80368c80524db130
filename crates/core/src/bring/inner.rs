//! Archives that come out of archives.
//!
//! Threat model: as for archives. Each is unpacked by itself into a folder of its own, under the same guard, and what came of it is
//! put beside the rest: nothing takes the place of something else, and nothing goes through a link, since a link that stays inside
//! from where it stood may lead out from where another link puts it.

use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use crate::bring::shelf::Twins;
use crate::bring::unpack::{Content, UnpackError, unpack};

/// Why an archive inside an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum InnerError {
    /// It is not there.
    #[error("there is no archive {path} in {archive}")]
    Missing {
        /// Where it should be.
        path: InnerPath,
        /// The archive around it.
        archive: InnerPath,
    },
    /// It was not unpacked.
    #[error("{path}, which came out of another archive, was not unpacked")]
    Unpack {
        /// The inner archive.
        path: InnerPath,
        /// Why not.
        source: UnpackError,
    },
    /// Something is there already, or a link is on the way.
    #[error("{} of an archive inside is in the way of what is there already", path.display())]
    InTheWay {
        /// Where.
        path: PathBuf,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Unpacks the archives inside what was unpacked into a folder, at its top; they are gone then. Tells whether there were any.
///
/// # Errors
/// [`InnerError`]; what was made so far is the caller's to throw away.
pub(super) fn unpack_inner(artifacts: &[Artifact], into: &Path, observer: &dyn Observer) -> Result<bool, InnerError> {
    let mut any = false;
    for outer in artifacts.iter().filter(|artifact| !artifact.unpack.inner.is_empty()) {
        files::make_writable(into)?;
        for path in outer.unpack.inner.keys() {
            unpack_one(outer, path, into, observer)?;
            any = true;
        }
    }
    Ok(any)
}

fn unpack_one(outer: &Artifact, path: &InnerPath, into: &Path, observer: &dyn Observer) -> Result<(), InnerError> {
    let file = path.below(into);
    let Some(size) = fs::symlink_metadata(&file).ok().filter(fs::Metadata::is_file).map(|meta| meta.len()) else {
        return Err(InnerError::Missing { path: path.clone(), archive: outer.file.clone() });
    };
    let (packed, beside) = (into.with_added_extension("packed"), into.with_added_extension("inner"));
    fs::rename(&file, &packed).on("move", &file)?;
    files::create_folder(&beside)?;
    let mut unpacking = outer.unpack.inner[path].clone();
    unpacking.executable.extend(outer.unpack.executable.iter().cloned());
    let inner = Artifact {
        file: path.clone(),
        size,
        sha256: outer.sha256,
        unpacked: outer.unpacked,
        unpack: unpacking,
        origins: Vec::new(),
        by_person: None,
    };
    let content = Content::Whole(files::open(&packed)?);
    unpack([(content, &inner)], &beside, &Twins::default(), observer)
        .map_err(|source| InnerError::Unpack { path: path.clone(), source })?;
    unpack_inner(std::slice::from_ref(&inner), &beside, observer)?;
    files::make_writable(&beside)?;
    put_beside(&beside, into, Path::new(""))?;
    files::remove_tree(&beside)?;
    Ok(fs::remove_file(&packed).on("remove", &packed)?)
}

/// Moves what is in a folder to the same places of another one.
fn put_beside(from: &Path, into: &Path, below: &Path) -> Result<(), InnerError> {
    for name in files::names(&from.join(below))? {
        let path = below.join(name);
        let (old, new) = (from.join(&path), into.join(&path));
        let there = fs::symlink_metadata(&new).ok();
        let is_folder = fs::symlink_metadata(&old).is_ok_and(|meta| meta.is_dir());
        match there {
            Some(meta) if meta.is_dir() && is_folder => put_beside(from, into, &path)?,
            Some(_) => return Err(InnerError::InTheWay { path }),
            None => fs::rename(&old, &new).on("move", &old)?,
        }
    }
    Ok(())
}
