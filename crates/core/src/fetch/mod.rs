//! Bringing artifacts in: from yards into the cache, hashed while they arrive.
//!
//! What stands in the cache under a digest had that digest when it was put there, and is hashed again before it is
//! handed on: a cache is shared and old, and a flipped bit in it must not reach the shelf.

mod yard;

pub use yard::{Yard, YardError, read_text};

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use crate::catalog::Artifact;
use crate::digest::{Digest, Hashing};
use crate::event::{Cancellable, Cancelled, Counted, Event, Observer, go_on};
use crate::files::{self, Attach, FileError};

/// Why an artifact could not be brought in.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// Neither the settings nor the catalog name a yard.
    #[error("no yard is known to fetch {file} from")]
    NoYard {
        /// The file.
        file: String,
    },
    /// Every yard failed.
    #[error("{file} could not be fetched")]
    AllFailed {
        /// The file.
        file: String,
        /// What each yard did, in the order they were tried.
        attempts: Vec<Attempt>,
    },
    /// The cache could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// One yard's failure.
#[derive(Debug)]
pub struct Attempt {
    /// The yard, as a person knows it.
    pub yard: String,
    /// What went wrong.
    pub error: YardError,
}

impl FetchError {
    /// Whether some yard gave bytes that are not the pinned ones.
    pub fn is_integrity(&self) -> bool {
        matches!(self, Self::AllFailed { attempts, .. } if attempts.iter().any(|a| a.error.is_integrity()))
    }
}

/// Artifacts by their digest.
#[derive(Clone, Debug)]
pub struct Cache {
    folder: PathBuf,
}

impl Cache {
    /// The cache in `folder`, which need not exist yet.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.join("artifacts") }
    }

    /// Where an artifact stands or would stand.
    pub fn path(&self, digest: &Digest) -> PathBuf {
        let name = digest.to_string();
        self.folder.join(&name[..2]).join(name)
    }

    /// Whether something stands there with the right size; the digest is not looked at.
    pub fn seems_to_hold(&self, artifact: &Artifact) -> bool {
        fs::metadata(self.path(&artifact.sha256)).is_ok_and(|meta| meta.len() == artifact.size)
    }

    /// The path of the artifact if it is there and its bytes agree; damaged ones are removed.
    fn verified(&self, artifact: &Artifact, observer: &dyn Observer) -> Result<Option<PathBuf>, FetchError> {
        if !self.seems_to_hold(artifact) {
            return Ok(None);
        }
        let path = self.path(&artifact.sha256);
        let file = fs::File::open(&path).on("open", &path)?;
        let mut reader = Hashing::new(Cancellable::new(file, observer));
        let copied = io::copy(&mut reader, &mut io::sink());
        go_on(observer)?;
        copied.on("read", &path)?;
        if reader.finish().0 == artifact.sha256 {
            return Ok(Some(path));
        }
        fs::remove_file(&path).on("remove the damaged", &path)?;
        Ok(None)
    }
}

/// Brings an artifact into the cache and returns its path; its digest was seen to agree just now.
pub fn fetch(
    artifact: &Artifact,
    yards: &[Yard],
    cache: &Cache,
    observer: &dyn Observer,
) -> Result<PathBuf, FetchError> {
    let file = || artifact.file.clone();
    if let Some(path) = cache.verified(artifact, observer)? {
        observer.event(&Event::Fetched { file: file(), size: artifact.size, cached: true });
        return Ok(path);
    }
    if yards.is_empty() {
        return Err(FetchError::NoYard { file: file() });
    }
    let mut attempts = Vec::new();
    for (at, yard) in yards.iter().enumerate() {
        observer.event(&Event::Fetching { file: file(), size: artifact.size, from: yard.to_string() });
        match receive(artifact, yard, cache, observer)? {
            Ok(path) => {
                observer.event(&Event::Fetched { file: file(), size: artifact.size, cached: false });
                return Ok(path);
            }
            Err(error) => {
                if let Some(next) = yards.get(at + 1) {
                    let (yard, reason, next) = (yard.to_string(), error.to_string(), next.to_string());
                    observer.event(&Event::YardFailed { yard, reason, next });
                }
                attempts.push(Attempt { yard: yard.to_string(), error });
            }
        }
    }
    Err(FetchError::AllFailed { file: file(), attempts })
}

/// The inner result is the yard's: another one may do better.
fn receive(
    artifact: &Artifact,
    yard: &Yard,
    cache: &Cache,
    observer: &dyn Observer,
) -> Result<Result<PathBuf, YardError>, FetchError> {
    go_on(observer)?;
    let path = cache.path(&artifact.sha256);
    let folder = path.parent().unwrap_or(&cache.folder);
    files::create_folder(folder)?;
    // Removed when dropped: a broken download leaves nothing behind.
    let mut partial = tempfile::Builder::new().prefix(".part-").tempfile_in(folder).on("write into", folder)?;
    let body = match yard.open(artifact) {
        Ok(body) => body,
        Err(error) => return Ok(Err(error)),
    };
    // One byte more than promised is enough to know that it is too long.
    let mut reader = Hashing::new(Counted::new(body.take(artifact.size + 1), observer));
    let copied = copy(&mut reader, partial.as_file_mut(), &path)?;
    go_on(observer)?;
    if let Err(source) = copied {
        return Ok(Err(YardError::Broke { got: reader.finish().1, expected: artifact.size, source }));
    }
    if let Err(error) = compare(artifact, reader.finish()) {
        return Ok(Err(error));
    }
    partial.as_file().sync_all().on("write", &path)?;
    partial.persist(&path).map_err(|failed| failed.error).on("write", &path)?;
    Ok(Ok(path))
}

/// Copies all; the inner error is the reader's, the outer one the writer's.
fn copy(from: &mut impl Read, to: &mut fs::File, path: &Path) -> Result<io::Result<()>, FileError> {
    let mut buffer = vec![0; 128 * 1024];
    loop {
        match from.read(&mut buffer) {
            Ok(0) => return Ok(Ok(())),
            Ok(got) => to.write_all(&buffer[..got]).on("write", path)?,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Ok(Err(error)),
        }
    }
}

fn compare(artifact: &Artifact, (digest, got): (Digest, u64)) -> Result<(), YardError> {
    if got < artifact.size {
        return Err(YardError::Short { got, expected: artifact.size });
    }
    if got > artifact.size {
        return Err(YardError::Long { expected: artifact.size });
    }
    if digest != artifact.sha256 {
        return Err(YardError::OtherDigest { got: digest, expected: artifact.sha256 });
    }
    Ok(())
}
