//! Rehearsals as first projects.

use std::collections::BTreeMap;
use std::time::Duration;

use kladder_choose::catalog;
use kladder_choose::names::ToolName;
use kladder_core::base::event;
use kladder_core::prove::project::{Became, Project};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Verdict, path};

/// The rehearsals that there are.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Rehearsals {
    /// `kladder.rehearsals/1`
    pub format: &'static str,
    /// Each of them.
    pub rehearsals: Vec<Rehearsal>,
}

impl Rehearsals {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.rehearsals/1";
}

/// A rehearsal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Rehearsal {
    /// Its name.
    pub rehearsal: String,
    /// What it shows.
    pub summary: String,
    /// The tools that it proves to work together.
    pub tools: Vec<ToolName>,
    /// Those that the ladder does not have.
    pub missing: Vec<String>,
    /// How long it took here; null where it never passed.
    pub seconds: Option<f64>,
    /// What it asks, by name: the answer where nobody is asked.
    pub asks: BTreeMap<String, String>,
    /// What can be added, by name: what it adds.
    pub parts: BTreeMap<String, String>,
}

impl Rehearsal {
    /// The shape of a rehearsal.
    pub fn of(of: &catalog::Rehearsal, missing: Vec<String>, took: Option<Duration>) -> Self {
        Self {
            rehearsal: of.rehearsal.clone(),
            summary: of.summary.clone(),
            tools: of.tools.clone(),
            missing,
            seconds: took.map(|took| took.as_secs_f64()),
            asks: of.asks.iter().map(|(name, ask)| (name.clone(), ask.default.clone())).collect(),
            parts: of.parts.iter().map(|(name, part)| (name.clone(), part.summary.clone())).collect(),
        }
    }
}

/// What came of a rehearsal in a folder to keep.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Rehearsed {
    /// `kladder.rehearse/1`
    pub format: &'static str,
    /// Which one.
    pub rehearsal: String,
    /// Where the project is.
    pub folder: String,
    /// What became of each file, by path: `new`, `same`, `anew` (was as written before), `kept` (a person changed it).
    pub files: BTreeMap<String, &'static str>,
    /// What came of the steps, in order, and of what each claims.
    pub steps: Vec<RehearsedStep>,
    /// The device or service that it runs on, in words.
    pub runs_on: Option<String>,
}

/// A step of a rehearsal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RehearsedStep {
    /// The command, word by word.
    pub command: Vec<String>,
    /// What came of it.
    #[serde(flatten)]
    pub verdict: Verdict,
}

/// The command of the step that a verdict is about, or about a claim of which it is.
fn command_of(project: &Project, verdict: &event::Verdict) -> Vec<String> {
    let event::Subject::Rehearsal { step: Some(about), .. } = &verdict.subject else { return Vec::new() };
    let is_of = |step: &&catalog::Step| {
        about.strip_prefix(&step.name()).is_some_and(|claim| claim.is_empty() || claim.starts_with(": "))
    };
    let step = project.filled.steps.iter().find(is_of);
    step.iter().flat_map(|step| &step.run).map(ToString::to_string).collect()
}

impl Rehearsed {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.rehearse/1";

    /// The shape of a project and what came of its steps.
    pub fn of(rehearsal: &catalog::Rehearsal, project: &Project, verdicts: &[event::Verdict]) -> Self {
        let became = |became: &Became| match became {
            Became::New => "new",
            Became::Same => "same",
            Became::Anew => "anew",
            Became::Kept => "kept",
        };
        let step = |verdict: &event::Verdict| RehearsedStep {
            command: command_of(project, verdict),
            verdict: Verdict::of(verdict),
        };
        Self {
            format: Self::FORMAT,
            rehearsal: rehearsal.rehearsal.clone(),
            folder: path(&project.folder),
            files: project.files.iter().map(|(path, it)| (path.as_str().to_owned(), became(it))).collect(),
            steps: verdicts.iter().map(step).collect(),
            runs_on: rehearsal.runs_on.clone(),
        }
    }
}
