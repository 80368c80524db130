//! Rehearsals: small projects that several rungs build and run together.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Deserialize;

use super::{CatalogError, Trial, stays_inside};
use crate::document::Source;

/// A small project and what must come of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rehearsal {
    /// Its name; the file is called after it.
    pub rehearsal: String,
    /// One line on what it shows.
    pub summary: String,
    /// The tools that it proves to work together; it is run where all of them are on the ladder.
    pub tools: Vec<String>,
    /// The project's files, by path.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
    /// What is run in the project's folder, in order.
    pub steps: Vec<Trial>,
}

impl Rehearsal {
    /// Reads and checks one.
    pub(crate) fn read(name: &str, path: &Path) -> Result<Self, CatalogError> {
        let wrong = |message: String| CatalogError::Wrong { path: path.to_path_buf(), message };
        let rehearsal: Self = Source::read(path)?.parse()?;
        if rehearsal.rehearsal != name {
            return Err(wrong(format!("it holds the rehearsal `{}`; file and name must agree", rehearsal.rehearsal)));
        }
        if let Some(outside) = rehearsal.files.keys().find(|file| !stays_inside(file)) {
            return Err(wrong(format!("the file `{outside}` does not stay inside the project's folder")));
        }
        Ok(rehearsal)
    }
}
