//! Digests of files: SHA-256 of artifacts, which their makers publish; BLAKE3 of the files on the shelf, which is many
//! times as fast and nobody's business but ours.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

pub use kladder_choose::digest::{Canonical, Digest, Hasher, is_sealed, sealed};
use serde::{Deserialize, Serialize};

/// The SHA-256 digest and the length in bytes of a file.
///
/// # Errors
/// Those of reading it.
pub fn of_file(path: &Path) -> io::Result<(Digest, u64)> {
    let mut reader = Hashing::new(File::open(path)?);
    io::copy(&mut reader, &mut io::sink())?;
    Ok(reader.finish())
}

/// A BLAKE3 digest; written as 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Fingerprint(Digest);

impl Fingerprint {
    /// The fingerprint of some bytes.
    pub fn of(bytes: &[u8]) -> Self {
        Self(Digest::from_bytes(blake3::hash(bytes).into()))
    }

    /// The fingerprint of a file.
    pub fn of_file(path: &Path) -> io::Result<Self> {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(File::open(path)?)?;
        Ok(hasher.into())
    }
}

impl From<blake3::Hasher> for Fingerprint {
    fn from(hasher: blake3::Hasher) -> Self {
        Self(Digest::from_bytes(hasher.finalize().into()))
    }
}

/// A reader that digests and counts what passes through.
pub struct Hashing<R> {
    inner: R,
    hasher: Hasher,
    count: u64,
}

impl<R> Hashing<R> {
    /// Wraps a reader.
    pub fn new(inner: R) -> Self {
        Self { inner, hasher: Hasher::default(), count: 0 }
    }

    /// The digest and the number of bytes that passed.
    pub fn finish(self) -> (Digest, u64) {
        (self.hasher.finish(), self.count)
    }
}

impl<R: Read> Read for Hashing<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..got]);
        self.count += got as u64;
        Ok(got)
    }
}
