//! Licences: a text each, in `licences/ID.txt` of the catalog.

use std::fs;
use std::path::Path;

use super::{CatalogError, is_plain_name};
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
    pub(super) fn read(catalog: &Path, id: &str) -> Result<Self, CatalogError> {
        let path = catalog.join("licences").join(format!("{id}.txt"));
        let readable = is_plain_name(id).then(|| fs::read_to_string(&path).ok()).flatten();
        let text = readable.filter(|text| !text.trim().is_empty());
        let text = text.ok_or_else(|| CatalogError::NoLicence { id: id.to_owned(), path })?;
        Ok(Self { id: id.to_owned(), text })
    }

    /// The digest of the text.
    pub fn digest(&self) -> Digest {
        Digest::of(self.text.as_bytes())
    }
}
