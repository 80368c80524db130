//! Catalogs made up for tests and benches.
//!
//! [`Made::from_lines`] reads a catalog from a few lines, so that a test shows all it is about; [`Made::generate`] grows
//! one of any size from a seed. Both are plain values, which [`Made::write`] lays out as a catalog's folder. The archives
//! that such a catalog names do not exist: it can be chosen from, not climbed.

mod generate;
mod lines;
mod write;

pub use generate::Shape;

/// A made-up catalog.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Made {
    /// Its tools, in the order in which they came up.
    pub tools: Vec<Tool>,
}

/// A tool.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tool {
    /// Its name.
    pub name: String,
    /// The capabilities it provides.
    pub provides: Vec<String>,
    /// What no release of it stands beside.
    pub excludes: Vec<Way>,
    /// How its versions are ordered, where that must be said.
    pub scheme: Option<String>,
    /// A command to find it by on the host.
    pub host: Option<String>,
    /// Its releases, newest first.
    pub releases: Vec<Release>,
}

/// A release.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Release {
    /// The version.
    pub version: String,
    /// The day it came out, as `2026-08-03`.
    pub date: Option<String>,
    /// The series it belongs to.
    pub series: Vec<String>,
    /// What must be there.
    pub needs: Vec<Need>,
    /// What must not be there.
    pub excludes: Vec<Way>,
    /// Pieces, and what each needs.
    pub pieces: Vec<(String, Vec<Need>)>,
    /// What it provides besides its tool's capabilities, and in which version.
    pub provides: Vec<(String, String)>,
    /// The platforms it has artifacts for; one that runs everywhere when empty.
    pub platforms: Vec<String>,
}

/// Something that must be there: any one of its ways.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Need {
    /// The ways.
    pub ways: Vec<Way>,
    /// Whether a tool may keep it to itself.
    pub private: bool,
    /// Where it holds; everywhere when empty.
    pub on: Vec<String>,
}

/// A tool or capability, and which versions of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Way {
    /// The tool or capability.
    pub name: String,
    /// The requirement.
    pub range: String,
    /// The pieces.
    pub pieces: Vec<String>,
}
