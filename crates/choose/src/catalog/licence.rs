//! Licences: a text each.

use crate::digest::Digest;

/// A licence and its text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Licence {
    /// Its name in the catalog.
    pub id: String,
    /// What is to be accepted.
    pub text: String,
}

impl Licence {
    /// The digest of the text: what is accepted is this text and no other.
    pub fn digest(&self) -> Digest {
        Digest::of(self.text.as_bytes())
    }
}
