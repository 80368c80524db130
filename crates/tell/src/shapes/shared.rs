//! Bales and yards.

use std::path::{Path, PathBuf};

use kladder_core::base::event::chain;
use kladder_core::bring::bale::{Index, Member};
use kladder_core::share::compare::{Comparison, Difference, Weight, What};
use kladder_core::share::report::Report;
use kladder_core::share::yard::{Filled, InYard, Kept};
use schemars::JsonSchema;
use serde::Serialize;

use super::path;

/// A bale: what is in it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Bale {
    /// `kladder.bale/1`
    pub format: &'static str,
    /// Where it is.
    pub bale: String,
    /// Its volumes, where it was made just now; itself where it is one file.
    pub volumes: Vec<String>,
    /// The version of Kite Ladder that made it.
    pub kladder: String,
    /// The ladder's title.
    pub title: String,
    /// The machines that it is for.
    pub machines: Vec<String>,
    /// What is in it, in its order.
    pub files: Vec<BaleFile>,
    /// What it needs and another bale has.
    pub elsewhere: Vec<BaleFile>,
}

/// A file of a bale.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BaleFile {
    /// Its path in the bale.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: String,
    /// The rungs that need it, with their versions; null for what is the ladder's.
    pub of: Option<String>,
}

impl Bale {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.bale/1";

    /// The shape of a bale.
    pub fn of(bale: &Path, index: &Index, volumes: &[PathBuf]) -> Self {
        let file = |(name, member): (&String, &Member)| {
            let Member { size, sha256, of } = member.clone();
            BaleFile { path: name.clone(), size, sha256: sha256.to_string(), of }
        };
        Self {
            format: Self::FORMAT,
            bale: path(bale),
            volumes: volumes.iter().map(|volume| path(volume)).collect(),
            kladder: index.kladder.clone(),
            title: index.title.clone(),
            machines: index.machines.clone(),
            files: index.files.iter().map(file).collect(),
            elsewhere: index.elsewhere.iter().map(file).collect(),
        }
    }
}

/// How the files of a bale are.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BaleCheck {
    /// `kladder.bale-check/1`
    pub format: &'static str,
    /// Where it is.
    pub bale: String,
    /// How many files it has.
    pub files: usize,
    /// Those that are damaged or missing.
    pub damaged: Vec<BaleDamage>,
}

/// A file that is damaged or missing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BaleDamage {
    /// Its path in the bale.
    pub path: String,
    /// What is wrong.
    pub why: String,
}

impl BaleCheck {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.bale-check/1";

    /// The shape of what was found.
    pub fn of(bale: &Path, files: usize, damaged: &[(&str, String)]) -> Self {
        let damage = |(path, why): &(&str, String)| BaleDamage { path: (*path).to_owned(), why: why.clone() };
        Self { format: Self::FORMAT, bale: path(bale), files, damaged: damaged.iter().map(damage).collect() }
    }
}

/// A yard that was filled.
#[derive(Debug, Serialize, JsonSchema)]
pub struct YardFilled {
    /// `kladder.yard-fill/1`
    pub format: &'static str,
    /// The yard: its folder or address.
    pub yard: String,
    /// Files that are new in it.
    pub new: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Files that were there already.
    pub there: usize,
}

impl YardFilled {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.yard-fill/1";

    /// The shape of what came of it.
    pub fn of(yard: &str, filled: Filled) -> Self {
        let Filled { new, bytes, there } = filled;
        Self { format: Self::FORMAT, yard: yard.to_owned(), new, bytes, there }
    }
}

/// This machine among its neighbours.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Shared {
    /// `kladder.yard-share/1`
    pub format: &'static str,
    /// The port that they ask at.
    pub port: u16,
}

impl Shared {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.yard-share/1";
}

/// What the pins need, in a yard.
#[derive(Debug, Serialize, JsonSchema)]
pub struct YardCheck {
    /// `kladder.yard-check/1`
    pub format: &'static str,
    /// The yard.
    pub yard: String,
    /// Each file that is needed.
    pub files: Vec<YardFile>,
}

/// One of them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct YardFile {
    /// Its path in the yard.
    pub file: String,
    /// The rungs that need it, with their versions.
    pub of: Vec<String>,
    /// `whole`, `damaged` or `missing`.
    pub state: &'static str,
    /// Why it is missing; null where it is not.
    pub why: Option<String>,
}

impl YardCheck {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.yard-check/1";

    /// The shape of what was found.
    pub fn of(yard: &str, all: &[InYard]) -> Self {
        let one = |one: &InYard| {
            let (state, why) = match &one.kept {
                Kept::Whole => ("whole", None),
                Kept::Damaged => ("damaged", None),
                Kept::Missing(error) => ("missing", Some(chain(error))),
            };
            YardFile { file: one.file.to_string(), of: one.of.clone(), state, why }
        };
        Self { format: Self::FORMAT, yard: yard.to_owned(), files: all.iter().map(one).collect() }
    }
}

/// Workstations side by side.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Compare {
    /// `kladder.compare/1`
    pub format: &'static str,
    /// What they are called, in the order in which they were named.
    pub workstations: Vec<String>,
    /// Whether nothing is different but the machines themselves.
    pub same: bool,
    /// How many things were compared.
    pub compared: usize,
    /// Positions of those that are otherwise than most, the oddest first.
    pub odd: Vec<usize>,
    /// What differs, what matters most first.
    pub differences: Vec<CompareDifference>,
}

/// One difference.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CompareDifference {
    /// `check`, `rung`, `library` or `fact`.
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// The set that a library is in.
    pub set: Option<String>,
    /// `failing`, `missing`, `series`, `patch` or `host`.
    pub weight: &'static str,
    /// How it is on most; null where most do not have it.
    pub mostly: Option<String>,
    /// Those that are otherwise.
    pub otherwise: Vec<CompareOther>,
}

/// A workstation that is otherwise.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CompareOther {
    /// Its position.
    pub workstation: usize,
    /// How it is there; null where it is not there.
    pub value: Option<String>,
}

impl Compare {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.compare/1";

    /// The shape of a comparison.
    pub fn of(all: &[Report], comparison: &Comparison) -> Self {
        let difference = |one: &Difference| {
            let (kind, name, set) = match &one.what {
                What::Check(name) => ("check", name, None),
                What::Rung(name) => ("rung", name, None),
                What::Library { set, library } => ("library", library, Some(set.clone())),
                What::Fact(name) => ("fact", name, None),
            };
            let weight = match one.weight {
                Weight::Failing => "failing",
                Weight::Missing => "missing",
                Weight::Series => "series",
                Weight::Patch => "patch",
                Weight::Host => "host",
            };
            let other =
                |(at, value): (&usize, &Option<String>)| CompareOther { workstation: *at, value: value.clone() };
            let (name, mostly) = (name.clone(), one.mostly.clone());
            CompareDifference { kind, name, set, weight, mostly, otherwise: one.otherwise.iter().map(other).collect() }
        };
        Self {
            format: Self::FORMAT,
            workstations: all.iter().map(|report| report.machine.clone()).collect(),
            same: comparison.is_same(),
            compared: comparison.compared,
            odd: comparison.odd.iter().map(|(at, _)| *at).collect(),
            differences: comparison.differences.iter().map(difference).collect(),
        }
    }
}
