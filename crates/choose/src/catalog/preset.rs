//! Presets: starting points for a ladder.
//!
//! ```toml
//! preset = "gauge-firmware"
//! title = "Gauge firmware desk"
//! summary = "Write, build and try firmware for gauges and buoys"
//! rungs = [
//!     { tool = "skerroc", version = "1.4", series = "long-term", comment = "the compiler" },
//!     { tool = "whimbrow", question = "An editor that knows the language?", default = true },
//! ]
//! ```

use serde::Deserialize;

use super::CatalogError;
use crate::document::Source;
use crate::names::ToolName;
use crate::version::Requirement;

/// A starting point for a ladder.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Preset {
    /// Its name; the file is called after it.
    pub preset: String,
    /// The title of a ladder made from it.
    pub title: String,
    /// One line on whom it is for.
    pub summary: String,
    /// What it has, in the order of the ladder.
    pub rungs: Vec<PresetRung>,
}

/// A rung of a preset.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PresetRung {
    /// What is wished for.
    pub tool: ToolName,
    /// The versions that will do.
    #[serde(default = "Requirement::any")]
    pub version: Requirement,
    /// The series to begin with.
    pub series: Option<String>,
    /// What stands behind it in the ladder.
    pub comment: Option<String>,
    /// Makes it optional: what a person is asked.
    pub question: Option<String>,
    /// The answer when nobody is asked.
    #[serde(default = "yes")]
    pub default: bool,
}

fn yes() -> bool {
    true
}

impl Preset {
    /// Reads and checks one; `name` is what its file is called.
    ///
    /// # Errors
    /// [`CatalogError`] with the place of what is wrong.
    pub fn parse(source: &Source, name: &str) -> Result<Self, CatalogError> {
        let preset: Self = source.parse()?;
        if preset.preset != name {
            let message = format!("it holds the preset `{}`; file and name must agree", preset.preset);
            return Err(CatalogError::Wrong { path: source.path.clone(), message });
        }
        Ok(preset)
    }
}
