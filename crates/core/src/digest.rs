//! Digests: SHA-256 (FIPS 180-4) of artifacts, which their makers publish; BLAKE3 of the files on the shelf, which is many
//! times as fast and nobody's business but ours.

use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A SHA-256 digest; written as 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest([u8; 32]);

/// A text that is no digest.
#[derive(Debug, thiserror::Error)]
#[error("`{0}` is not a SHA-256 digest: 64 hexadecimal digits are")]
pub struct NotADigest(String);

impl Digest {
    /// The digest of some bytes.
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = Hasher::default();
        hasher.update(bytes);
        hasher.finish()
    }

    /// The digest and length in bytes of a file.
    pub fn of_file(path: &Path) -> io::Result<(Self, u64)> {
        let mut reader = Hashing::new(File::open(path)?);
        io::copy(&mut reader, &mut io::sink())?;
        Ok(reader.finish())
    }

    /// Its bytes.
    pub fn bytes(&self) -> [u8; 32] {
        self.0
    }

    /// The first twelve digits, enough to tell two releases apart in a folder's name.
    pub fn short(&self) -> String {
        self.to_string()[..12].to_owned()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Digest({self})")
    }
}

impl FromStr for Digest {
    type Err = NotADigest;

    fn from_str(text: &str) -> Result<Self, NotADigest> {
        let wrong = || NotADigest(text.to_owned());
        if text.len() != 64 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(wrong());
        }
        let mut bytes = [0; 32];
        for (at, byte) in bytes.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).map_err(|_| wrong())?;
        }
        Ok(Self(bytes))
    }
}

/// Digits where people may read it, bytes elsewhere.
impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if serializer.is_human_readable() { serializer.collect_str(self) } else { self.0.serialize(serializer) }
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        if deserializer.is_human_readable() {
            String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
        } else {
            <[u8; 32]>::deserialize(deserializer).map(Self)
        }
    }
}

/// A BLAKE3 digest; written as 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Fingerprint(Digest);

impl Fingerprint {
    /// The fingerprint of some bytes.
    pub fn of(bytes: &[u8]) -> Self {
        Self(Digest(blake3::hash(bytes).into()))
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
        Self(Digest(hasher.finalize().into()))
    }
}

/// Digests what it is given, piece by piece.
#[derive(Clone)]
pub struct Hasher(ring::digest::Context);

impl Default for Hasher {
    fn default() -> Self {
        Self(ring::digest::Context::new(&ring::digest::SHA256))
    }
}

impl Hasher {
    /// Takes in the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all bytes taken in.
    pub fn finish(self) -> Digest {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(self.0.finish().as_ref());
        Digest(bytes)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_digest_is_that_of_the_standard_and_round_trips() {
        // FIPS 180-4, example "abc".
        let abc = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(Digest::of(b"abc").to_string(), abc);
        assert_eq!(abc.to_uppercase().parse::<Digest>().unwrap(), Digest::of(b"abc"));
        for bad in ["", "ba78", &abc[1..], &abc.replace('b', "g"), &abc.replacen("ba", "ü", 1)] {
            assert!(bad.parse::<Digest>().is_err(), "{bad}");
        }
    }
}
