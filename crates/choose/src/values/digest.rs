//! SHA-256 digests (FIPS 180-4), and the one way in which our own values are digested.
//!
//! ```
//! use kladder_choose::digest::{Canonical, Digest};
//!
//! assert!(Digest::of(b"abc").hex().starts_with("ba7816bf8f01cfea"));
//! // Lengths stand before names and values, so that what differs never runs together to the same bytes.
//! let one = Canonical::new("example", 1).field("a", "bc").finish();
//! let other = Canonical::new("example", 1).field("ab", "c").finish();
//! assert_ne!(one, other);
//! ```

use std::fmt;
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

    /// Bytes that are known to be a digest, of this or another function of the same length.
    pub fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// Its 32 bytes.
    pub fn bytes(&self) -> [u8; 32] {
        self.0
    }

    /// Its 64 hexadecimal digits.
    pub fn hex(&self) -> String {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let digits = self.0.iter().flat_map(|byte| [byte >> 4, byte & 15]);
        digits.map(|digit| char::from(DIGITS[usize::from(digit)])).collect()
    }

    /// The first twelve digits (48 bits), enough to tell two places of one tool apart in a folder's name.
    pub fn short(&self) -> String {
        self.hex()[..12].to_owned()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.hex())
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
        let value = |digit: u8| char::from(digit).to_digit(16);
        let byte = |[high, low]: &[u8; 2]| u8::try_from(value(*high)? << 4 | value(*low)?).ok();
        let (pairs, []) = text.as_bytes().as_chunks::<2>() else { return Err(wrong()) };
        let pairs: &[[u8; 2]; 32] = pairs.try_into().map_err(|_| wrong())?;
        let mut bytes = [0; 32];
        for (to, pair) in bytes.iter_mut().zip(pairs) {
            *to = byte(pair).ok_or_else(wrong)?;
        }
        Ok(Self(bytes))
    }
}

/// Digits where people may read it, bytes elsewhere.
impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if serializer.is_human_readable() {
            serializer.serialize_str(&self.hex())
        } else {
            self.0.serialize(serializer)
        }
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

/// A value of ours as it is digested: its kind, then fields in a fixed order.
///
/// Each is written as the length of its name (1 byte), the name, the length of its value (8 bytes, little endian), and
/// the value, so that no two different values look alike. What stands in a field never comes from `Debug` or `Display`,
/// which are for people and may change.
#[derive(Clone)]
pub struct Canonical(Hasher);

impl Canonical {
    /// Begins a value of this kind; the kind's number goes up whenever its fields change.
    pub fn new(kind: &str, number: u8) -> Self {
        Self(Hasher::default()).field("kind", kind).field("number", [number])
    }

    /// Adds a field.
    #[must_use]
    pub fn field(mut self, name: &str, value: impl AsRef<[u8]>) -> Self {
        let value = value.as_ref();
        self.0.update(&[u8::try_from(name.len()).unwrap_or(u8::MAX)]);
        self.0.update(name.as_bytes());
        self.0.update(&(value.len() as u64).to_le_bytes());
        self.0.update(value);
        self
    }

    /// Adds a field for each value of a list, with their number before them.
    #[must_use]
    pub fn list<T: AsRef<[u8]>>(self, name: &str, values: impl IntoIterator<Item = T>) -> Self {
        let values: Vec<T> = values.into_iter().collect();
        let counted = self.field(name, (values.len() as u64).to_le_bytes());
        values.iter().fold(counted, |all, value| all.field("", value))
    }

    /// The digest.
    pub fn finish(self) -> Digest {
        self.0.finish()
    }
}

/// A text with its own digest in it, between `before` and the quote that follows it there: the digest of the text without it.
pub fn sealed(text: &str, before: &str) -> String {
    text.replacen(before, &format!("{before}{}", Digest::of(text.as_bytes())), 1)
}

/// Whether a text is as it was when its own digest was put into it.
pub fn is_sealed(text: &str, before: &str) -> bool {
    let parts = text.split_once(before).and_then(|(start, rest)| Some((start, rest.split_once('"')?)));
    parts.is_some_and(|(start, (digest, end))| {
        digest == Digest::of([start, before, "\"", end].concat().as_bytes()).to_string()
    })
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

    #[test]
    fn no_two_values_are_digested_alike() {
        let of = |fields: &[(&str, &str)]| {
            fields.iter().fold(Canonical::new("gauge", 1), |all, (name, value)| all.field(name, value)).finish()
        };
        assert_ne!(of(&[("a", "bc")]), of(&[("ab", "c")]));
        assert_ne!(of(&[("a", "b"), ("c", "d")]), of(&[("a", "d"), ("c", "b")]));
        let list = |values: &[&str], after: &[&str]| Canonical::new("g", 1).list("x", values).list("y", after).finish();
        assert_ne!(list(&["a"], &["b"]), list(&["a", "b"], &[]));
    }
}
