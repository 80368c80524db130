//! The start: from a preset and some answers to a ladder that a person would have written so.
//!
//! Which questions there are, what their defaults are and what comes of the answers is decided here; who asks them, and
//! how, is the command line's. A file of answers and a person at a terminal end in the same [`Answers`].

mod colleague;
mod compose;

pub use colleague::{Colleague, ColleagueError};
pub use compose::compose;

use std::collections::{BTreeMap, BTreeSet};

use serde::Deserialize;

use kladder_choose::catalog::{CatalogError, Catalogs, Definition, Machine, Piece, Preset, PresetRung, Release};
use kladder_choose::names::ToolName;
use kladder_choose::near::near;
use kladder_choose::pins::{Found, OnHost};
use kladder_choose::platform::Platform;

/// What was answered; what is left out has the preset's or the host's default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Answers {
    /// The title of the ladder.
    pub title: Option<String>,
    /// The machines to pin for, by name; none for this one alone.
    pub machines: BTreeMap<String, Platform>,
    /// Optional tools, and whether they are wanted.
    pub optional: BTreeMap<ToolName, bool>,
    /// The series of a tool; an empty one for none in particular.
    pub series: BTreeMap<ToolName, String>,
    /// The pieces of a tool.
    pub pieces: BTreeMap<ToolName, Vec<String>>,
    /// What the host has, and whether to take it over.
    pub host: BTreeMap<ToolName, bool>,
    /// Who works here, for version control.
    pub identity: Identity,
}

/// Who works here, for version control.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Identity {
    /// The name.
    pub name: Option<String>,
    /// The e-mail address.
    pub email: Option<String>,
}

/// Why there is no ladder.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The catalog could not be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// There is no such preset.
    #[error("the catalog has no preset `{name}`")]
    NoPreset {
        /// The name.
        name: String,
        /// Presets that look like it, or all there are.
        near: Vec<String>,
    },
    /// An answer does not fit the preset.
    #[error("{what}")]
    Answer {
        /// What does not fit.
        what: String,
        /// What would.
        fits: Vec<String>,
    },
}

/// Something to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Question {
    /// What the ladder is called.
    Title {
        /// The default: what the preset is called.
        default: String,
    },
    /// For which machines besides this one it is to be pinned.
    Machines {
        /// The platform of this one.
        here: Platform,
        /// Those of others that the preset's tools are there for.
        others: Vec<Platform>,
    },
    /// Whether an optional tool is wanted.
    Optional {
        /// The tool.
        tool: ToolName,
        /// The question.
        text: String,
        /// The default.
        default: bool,
    },
    /// Which series of a tool.
    Series {
        /// The tool.
        tool: ToolName,
        /// The series there are; at least two.
        choices: Vec<String>,
        /// The default.
        default: Option<String>,
    },
    /// Which pieces of a tool.
    Pieces {
        /// The tool.
        tool: ToolName,
        /// Each piece with its summary and, where it is there for the host, its size in bytes.
        choices: Vec<(String, String, Option<u64>)>,
    },
    /// Whether to take over what the host has.
    Host {
        /// The tool.
        tool: ToolName,
        /// What it is to the ladder: the capability it provides, or the tool itself.
        capability: ToolName,
        /// What the host has.
        found: Found,
    },
    /// The name for version control.
    Name,
    /// The e-mail address for version control.
    Email,
}

impl Question {
    /// Whether it is still to be asked, after the answers given so far.
    pub fn applies(&self, preset: &Preset, answers: &Answers) -> bool {
        match self {
            Self::Series { tool, .. } | Self::Pieces { tool, .. } => {
                preset.rungs.iter().find(|rung| rung.tool == *tool).is_none_or(|rung| answers.wants(rung))
            }
            _ => true,
        }
    }
}

impl Answers {
    /// Whether a rung of the preset is wanted.
    pub fn wants(&self, rung: &PresetRung) -> bool {
        rung.question.is_none() || self.optional.get(&rung.tool).copied().unwrap_or(rung.default)
    }
}

/// The preset of this name, with the other names when there is none.
///
/// # Errors
/// [`StartError`] where there is none of this name, with the names there are.
pub fn preset(catalogs: &Catalogs, name: &str) -> Result<Preset, StartError> {
    let mut presets = catalogs.presets()?;
    let names: Vec<String> = presets.iter().map(|preset| preset.preset.clone()).collect();
    if let Some(at) = names.iter().position(|known| known == name) {
        return Ok(presets.swap_remove(at));
    }
    let similar = near(name, names.iter().map(String::as_str));
    Err(StartError::NoPreset { name: name.to_owned(), near: if similar.is_empty() { names } else { similar } })
}

/// Everything that can be asked about a preset on this host, in order.
///
/// # Errors
/// [`StartError`] where a tool of the preset cannot be read.
pub fn questions(
    catalogs: &Catalogs,
    preset: &Preset,
    machine: &Machine,
    host: &dyn OnHost,
) -> Result<Vec<Question>, StartError> {
    let mut questions = vec![Question::Title { default: preset.title.clone() }];
    questions.extend(machines_question(catalogs, preset, &machine.platform)?);
    for rung in &preset.rungs {
        let (tool, default) = (rung.tool.clone(), rung.default);
        questions.extend(rung.question.clone().map(|text| Question::Optional { tool, text, default }));
        let Some(definition) = catalogs.tool(&rung.tool)? else { continue };
        questions.extend(series_question(rung, &definition));
        questions.extend(pieces_question(&definition, machine));
    }
    for name in catalogs.names().cloned().collect::<Vec<_>>() {
        let Some(definition) = catalogs.tool(&name)? else { continue };
        if let Some(found) = host.find(&definition).into_iter().next() {
            let capability = definition.provides().first().unwrap_or(&definition.tool).clone();
            questions.push(Question::Host { tool: name, capability, found });
        }
    }
    questions.extend([Question::Name, Question::Email]);
    Ok(questions)
}

/// Only where there are other platforms that some tool of the preset has artifacts for.
fn machines_question(
    catalogs: &Catalogs,
    preset: &Preset,
    platform: &Platform,
) -> Result<Option<Question>, StartError> {
    let mut others: BTreeSet<Platform> = BTreeSet::new();
    for rung in &preset.rungs {
        let definition = catalogs.tool(&rung.tool)?;
        let releases = definition.iter().flat_map(|definition| &definition.releases);
        let scopes = releases.flat_map(|release| &release.artifacts).flat_map(|artifact| &artifact.scopes);
        others.extend(scopes.filter_map(|scope| scope.as_str().parse().ok()));
    }
    others.remove(platform);
    let others: Vec<Platform> = others.into_iter().collect();
    Ok((!others.is_empty()).then(|| Question::Machines { here: platform.clone(), others }))
}

/// The machines of a ladder for these platforms, each called as its platform is.
pub fn machines(platforms: &[Platform]) -> BTreeMap<String, Platform> {
    platforms.iter().map(|platform| (platform.as_str().replace('/', "-"), platform.clone())).collect()
}

/// The series that a rung's releases belong to, in the order of the newest release of each.
fn series_of(rung: &PresetRung, definition: &Definition) -> Vec<String> {
    let fits = |release: &&Release| rung.version.allows_by(definition.scheme, &release.version);
    let mut series: Vec<String> = Vec::new();
    for name in definition.releases.iter().filter(fits).flat_map(|release| &release.series) {
        if !series.contains(name) {
            series.push(name.clone());
        }
    }
    series
}

fn series_question(rung: &PresetRung, definition: &Definition) -> Option<Question> {
    let choices = series_of(rung, definition);
    let asked = choices.len() > 1;
    asked.then(|| Question::Series { tool: rung.tool.clone(), choices, default: rung.series.clone() })
}

fn pieces_question(definition: &Definition, machine: &Machine) -> Option<Question> {
    let newest = definition.releases.first()?;
    let with_pieces = definition.releases.iter().filter(|release| !release.pieces.is_empty());
    let release = with_pieces.max_by(|a, b| a.version.cmp(&b.version)).unwrap_or(newest);
    let choice = |(name, piece): (&String, &Piece)| {
        (name.clone(), piece.summary.clone(), piece.artifact(machine).and_then(|artifact| artifact.size))
    };
    let choices: Vec<_> = release.pieces.iter().map(choice).collect();
    (!choices.is_empty()).then(|| Question::Pieces { tool: definition.tool.clone(), choices })
}
