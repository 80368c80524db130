//! Rehearsals: small projects that several rungs build and run together.
//!
//! ```toml
//! rehearsal = "first-light"
//! summary = "A program is compiled, linked and run"
//! tools = ["skerroc", "tidlow"]
//! files = { "src/light.sk" = "say light" }
//! steps = [
//!     { name = "compiles", run = ["skerroc", "src/light.sk", "-o", "light"] },
//!     { name = "runs", run = ["tidlow", "light"], expect = { stdout = "light" } },
//! ]
//! ```

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{CatalogError, Trial};
use crate::document::Source;
use crate::names::ToolName;
use crate::path::InnerPath;

/// A small project and what must come of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rehearsal {
    /// Its name; the file is called after it.
    pub rehearsal: String,
    /// One line on what it shows.
    pub summary: String,
    /// The tools that it proves to work together; it is run where all of them are on the ladder.
    pub tools: Vec<ToolName>,
    /// The project's files, by path.
    #[serde(default)]
    pub files: BTreeMap<InnerPath, String>,
    /// What is run in the project's folder, in order.
    pub steps: Vec<Trial>,
}

impl Rehearsal {
    /// Reads and checks one; `name` is what its file is called.
    ///
    /// # Errors
    /// [`CatalogError`] with the place of what is wrong.
    pub fn parse(source: &Source, name: &str) -> Result<Self, CatalogError> {
        let wrong = |message: String| CatalogError::Wrong { path: source.path.clone(), message };
        let rehearsal: Self = source.parse()?;
        if rehearsal.rehearsal != name {
            return Err(wrong(format!("it holds the rehearsal `{}`; file and name must agree", rehearsal.rehearsal)));
        }
        if rehearsal.steps.iter().any(|step| step.run.is_empty()) {
            return Err(wrong("a step has nothing to run: `run` is an empty list".to_owned()));
        }
        Ok(rehearsal)
    }
}
