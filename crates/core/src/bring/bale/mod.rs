//! Bales: everything that a ladder needs, in one file.
//!
//! A bale is a tar archive (POSIX ustar) whose first member says what follows, with sizes and digests, so that where each file
//! begins is known without reading on. Nothing is compressed again: almost all of it are archives of their makers. Unpacked, it is a
//! folder with a ladder and a yard. The same contents are the same bytes.
//!
//! ```text
//! index.toml                what is in it
//! begin                     a plain shell script for a machine that has no Kite Ladder yet
//! guide.md                  how to do it by hand
//! kladder/linux-x86_64      the program itself, where it comes along
//! ladder/                   the ladder, its pins, lock files of its sets, its catalogs
//! yard/                     artifacts, by their paths in a yard
//! ```

mod index;
mod volumes;

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;
use std::thread;
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::document::Source;
use kladder_choose::path::InnerPath;

pub use self::index::{FORMAT, INDEX, Index, IndexProblem, LADDER, Member, YARD, is_path};
pub use self::volumes::volume_path;
use self::volumes::{Volumes, Writing};
use crate::base::digest::{Digest, Hasher, Hashing};
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::FileError;
use crate::bring::fetch::{Offer, Yard, YardError};

/// Bytes of a block (POSIX, ustar).
const BLOCK: u64 = ZEROS.len() as u64;
/// An empty one.
const ZEROS: [u8; 512] = [0; 512];
/// Bytes of the largest index: a hundred thousand files have a quarter of it.
const MOST: u64 = 64 << 20;
/// Bytes that are read, written and hashed in one go, and how many of these may wait to be hashed.
const PIECE: u64 = 1 << 20;
/// Likewise.
const WAITING: usize = 4;
/// Bytes at once: a wish to end is heard between them.
const AT_ONCE: u64 = 4 << 20;

/// Why a bale cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum BaleError {
    /// It cannot be read.
    #[error("the bale cannot be read")]
    Read {
        /// The file.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// It is something else.
    #[error("this is no bale")]
    NoBale(PathBuf),
    /// Its index cannot be used.
    #[error("the bale cannot be used")]
    Index {
        /// The bale.
        path: PathBuf,
        /// Why not.
        source: IndexProblem,
    },
    /// A file in it is not what it should be.
    #[error("{member} is damaged")]
    Damaged {
        /// The file that it is in.
        path: PathBuf,
        /// Which one.
        member: String,
    },
    /// It could not be written.
    #[error("the bale cannot be written")]
    Write {
        /// The bale.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// What should go into it has other bytes than it is pinned with.
    #[error("{} has other bytes than it should", .0.display())]
    OtherBytes(PathBuf),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// Where the bundle of a repository stands, by its address.
pub fn bundle_path(address: &str) -> String {
    format!("{YARD}/code/{}.bundle", &Digest::of(address.as_bytes()).hex()[..16])
}

/// A bale that is there.
#[derive(Clone, Debug)]
pub struct Bale {
    path: PathBuf,
    volumes: Volumes,
    /// What is in it.
    pub index: Index,
    /// Where the first file after the index begins.
    first: u64,
}

/// How a file of a bale is.
#[derive(Debug)]
pub enum Whole {
    /// As it should be.
    Yes,
    /// It is damaged, or cannot be read.
    No(BaleError),
}

impl Bale {
    /// Opens one, or the volumes of one.
    ///
    /// # Errors
    /// [`BaleError`].
    pub fn open(path: &Path) -> Result<Self, BaleError> {
        let mut volumes = Volumes::of(path);
        let read = |source| BaleError::Read { path: path.to_path_buf(), source };
        let mut header = tar::Header::new_ustar();
        volumes.reader(0, BLOCK).read_exact(header.as_mut_bytes()).map_err(|error| match error.kind() {
            io::ErrorKind::UnexpectedEof => BaleError::NoBale(path.to_path_buf()),
            _ => read(error),
        })?;
        let no_bale = || BaleError::NoBale(path.to_path_buf());
        let is_index =
            header.path_bytes().as_ref() == INDEX.as_bytes() && header.cksum().is_ok_and(|sum| sum == sum_of(&header));
        let size = header.entry_size().ok().filter(|size| is_index && *size <= MOST).ok_or_else(no_bale)?;
        let mut text = String::new();
        volumes.reader(BLOCK, size).read_to_string(&mut text).map_err(read)?;
        let wrong = |source| BaleError::Index { path: path.to_path_buf(), source };
        let index = Index::parse(&Source::new(path.join(INDEX), text)).map_err(wrong)?;
        if volumes.each.is_some() {
            volumes.each = index.volume.or(volumes.each);
        }
        Ok(Self { path: path.to_path_buf(), volumes, index, first: BLOCK + padded(size) })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Where the bytes of a file begin.
    fn place(&self, path: &str) -> Option<(u64, &Member)> {
        let mut at = self.first;
        for (name, member) in &self.index.files {
            if name == path {
                return Some((at + BLOCK, member));
            }
            at += BLOCK + padded(member.size);
        }
        None
    }

    /// A file that is small; its digest was seen to agree.
    ///
    /// # Errors
    /// [`BaleError`].
    pub fn read(&self, path: &str) -> Result<Vec<u8>, BaleError> {
        let place = self.place(path).filter(|(_, member)| member.size <= MOST);
        let (at, member) = place.ok_or_else(|| self.damaged(0, path))?;
        let mut bytes = Vec::new();
        let read = self.volumes.reader(at, member.size).read_to_end(&mut bytes);
        read.map_err(|source| BaleError::Read { path: self.path.clone(), source })?;
        if Digest::of(&bytes) == member.sha256 { Ok(bytes) } else { Err(self.damaged(at, path)) }
    }

    fn damaged(&self, at: u64, member: &str) -> BaleError {
        BaleError::Damaged { path: self.volumes.file(at), member: member.to_owned() }
    }

    /// How each file in it is, in their order.
    ///
    /// # Errors
    /// [`Cancelled`].
    pub fn check(&self, observer: &dyn Observer) -> Result<Vec<(&str, Whole)>, Cancelled> {
        let mut all = Vec::new();
        let mut at = self.first;
        for (path, member) in &self.index.files {
            let whole = match self.agrees(at, path, member, observer) {
                Ok(true) => Whole::Yes,
                Ok(false) => Whole::No(self.damaged(at, path)),
                Err(BaleError::Cancelled(cancelled)) => return Err(cancelled),
                Err(error) => Whole::No(error),
            };
            all.push((path.as_str(), whole));
            at += BLOCK + padded(member.size);
        }
        Ok(all)
    }

    fn agrees(&self, at: u64, path: &str, member: &Member, observer: &dyn Observer) -> Result<bool, BaleError> {
        let read = |source| BaleError::Read { path: self.path.clone(), source };
        let mut header = tar::Header::new_ustar();
        self.volumes.reader(at, BLOCK).read_exact(header.as_mut_bytes()).map_err(read)?;
        let is_it = header.path_bytes().as_ref() == path.as_bytes()
            && header.entry_size().is_ok_and(|size| size == member.size);
        let mut hashing = Hashing::new(self.volumes.reader(at + BLOCK, member.size));
        while io::copy(&mut (&mut hashing).take(AT_ONCE), &mut io::sink()).map_err(read)? > 0 {
            check_cancelled(observer)?;
        }
        Ok(hashing.finish() == (member.sha256, member.size) && is_it)
    }
}

fn padded(size: u64) -> u64 {
    size.div_ceil(BLOCK) * BLOCK
}

/// The sum of a header's bytes, its own field as blanks (POSIX, ustar).
fn sum_of(header: &tar::Header) -> u32 {
    let mut header = header.clone();
    header.set_cksum();
    header.cksum().unwrap_or_default()
}

impl Yard for Bale {
    fn shown(&self) -> String {
        self.path.display().to_string()
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let is_it =
            |(path, member): &(&String, &Member)| member.sha256 == artifact.sha256 && Path::new(path).starts_with(YARD);
        let (path, member) = self.index.files.iter().find(is_it).ok_or(YardError::NotThere)?;
        if member.size != artifact.size {
            return Err(YardError::OtherSize { offered: member.size, expected: artifact.size });
        }
        let (at, _) = self.place(path).ok_or(YardError::NotThere)?;
        let body = self.volumes.reader(at + from.min(member.size), member.size - from.min(member.size));
        // A volume that is not here is told at once.
        let mut first = [0];
        if from < member.size {
            let source = |source| YardError::Unreachable { source };
            self.volumes.reader(at + from, 1).read_exact(&mut first).map_err(source)?;
        }
        Ok(Offer { from, body: Box::new(body) })
    }

    fn has_at_hand(&self, artifact: &Artifact) -> bool {
        self.index.files.values().any(|member| member.sha256 == artifact.sha256)
    }

    fn bundle(&self, address: &str) -> Option<(Digest, u64)> {
        let member = self.index.files.get(&bundle_path(address))?;
        Some((member.sha256, member.size))
    }

    fn size(&self, file: &InnerPath) -> Result<Option<u64>, YardError> {
        let path = [YARD, "/", file.as_str()].concat();
        self.index.files.get(&path).map(|member| Some(member.size)).ok_or(YardError::NotThere)
    }

    fn is_here(&self) -> bool {
        true
    }

    fn answers(&self, _: Duration) -> bool {
        self.volumes.file(0).is_file()
    }
}

/// A file that goes into a bale.
#[derive(Clone, Debug)]
pub enum Content {
    /// These bytes.
    Bytes(Vec<u8>),
    /// Those of a file.
    File(PathBuf),
}

/// What a bale is made from: by path, what the index says of a file, and its bytes. Those in `begin` and `kladder/` can be run.
pub type Contents = Vec<(String, Member, Content)>;

/// Writes a bale; returns its files. Nothing stands in its place before it is whole.
///
/// # Errors
/// [`BaleError`].
pub fn write(
    path: &Path,
    index: &Index,
    contents: &Contents,
    observer: &dyn Observer,
) -> Result<Vec<PathBuf>, BaleError> {
    let failed = |source| BaleError::Write { path: path.to_path_buf(), source };
    let mut out = Writing::new(path, index.volume);
    let text = index.to_toml();
    let _ = put(&mut out, INDEX, text.len() as u64, 0o644, &mut text.as_bytes()).map_err(failed)?;
    for (name, member, content) in contents {
        let is_run = name == "begin" || Path::new(name).starts_with("kladder");
        let mode = if is_run { 0o755 } else { 0o644 };
        let (bytes, file): (&[u8], Option<fs::File>) = match content {
            Content::Bytes(bytes) => (bytes, None),
            Content::File(path) => (&[], Some(crate::base::files::open(path)?)),
        };
        let source: Box<dyn Read + '_> = match file {
            Some(file) => Box::new(file),
            None => Box::new(bytes),
        };
        let mut source = Cancelling { inner: source.take(member.size), observer, since: 0 };
        let sha256 =
            put(&mut out, name, member.size, mode, &mut source).map_err(|error| match check_cancelled(observer) {
                Err(cancelled) => BaleError::Cancelled(cancelled),
                Ok(()) => failed(error),
            })?;
        if sha256 != member.sha256 {
            let path = if let Content::File(path) = content { path.clone() } else { PathBuf::from(name) };
            return Err(BaleError::OtherBytes(path));
        }
    }
    out.write_all(&[ZEROS, ZEROS].concat()).map_err(failed)?;
    Ok(out.finish()?)
}

/// One member, padded to whole blocks; returns the digest of what went in. It is hashed on a thread of its own, which takes longer than
/// writing on many machines.
fn put(out: &mut Writing, name: &str, size: u64, mode: u32, from: &mut dyn Read) -> io::Result<Digest> {
    let mut header = tar::Header::new_ustar();
    header.set_path(name)?;
    header.set_size(size);
    header.set_mode(mode);
    header.set_mtime(0);
    header.set_entry_type(tar::EntryType::Regular);
    header.set_cksum();
    out.write_all(header.as_bytes())?;
    let (sender, receiver) = sync_channel::<Vec<u8>>(WAITING);
    let sha256 = thread::scope(|scope| {
        let hashed = scope.spawn(move || {
            let mut hasher = Hasher::default();
            for bytes in receiver {
                hasher.update(&bytes);
            }
            hasher.finish()
        });
        let mut left = size;
        while left > 0 {
            let mut buffer = vec![0; usize::try_from(left.min(PIECE)).unwrap_or_default()];
            from.read_exact(&mut buffer)?;
            out.write_all(&buffer)?;
            left -= buffer.len() as u64;
            // Its end is told by what it comes to.
            let _ = sender.send(buffer);
        }
        drop(sender);
        hashed.join().map_err(|_| io::Error::other("what was written could not be hashed"))
    })?;
    let rest = usize::try_from(padded(size) - size).unwrap_or_default();
    out.write_all(&ZEROS[..rest])?;
    Ok(sha256)
}

/// A reader that ends where the person asks for it.
struct Cancelling<'c, R> {
    inner: R,
    observer: &'c dyn Observer,
    since: u64,
}

impl<R: Read> Read for Cancelling<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.since >= AT_ONCE {
            self.since = 0;
            check_cancelled(self.observer).map_err(|_| io::Error::other("an end was asked for"))?;
        }
        let read = self.inner.read(buffer)?;
        self.since += read as u64;
        Ok(read)
    }
}
