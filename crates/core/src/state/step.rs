//! What is written down of a run: the events that someone may want to read later.

use std::path::PathBuf;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::event::Event;
use crate::verdict::Outcome;

/// A step of a run, as the journal has it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// A yard failed, and another one was tried, or the same again.
    YardFailed {
        /// Which one.
        yard: String,
        /// Why.
        reason: String,
    },
    /// An artifact was there, and its digest agreed.
    Fetched {
        /// The file's name.
        file: String,
        /// Bytes.
        size: u64,
        /// It was in the cache.
        cached: bool,
    },
    /// Work on a rung began.
    Rung {
        /// The tool.
        tool: String,
        /// Its version.
        version: String,
    },
    /// The rung is what the host has.
    OnHost {
        /// The file that answers.
        file: PathBuf,
    },
    /// A set-up command ran.
    SetUp {
        /// The tool.
        tool: String,
        /// The command's name.
        name: String,
        /// What it was kept from.
        confined: String,
        /// What it printed.
        output: String,
        /// How long it took.
        seconds: f64,
    },
    /// A version was put on the shelf.
    Shelved {
        /// The tool.
        tool: String,
        /// Files and links.
        files: usize,
        /// Where.
        folder: PathBuf,
    },
    /// A check or rehearsal ended.
    Checked {
        /// The tool or rehearsal.
        owner: String,
        /// What was claimed.
        claim: String,
        /// `passed`, `failed` or `skipped`.
        outcome: String,
        /// Why, where it did not pass.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        why: String,
        /// What it printed, where it failed.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        output: String,
        /// How long it took.
        seconds: f64,
    },
    /// Work on a rung was done.
    Climbed {
        /// The tool.
        tool: String,
    },
    /// A landing became current.
    Landed {
        /// Its number.
        number: u32,
    },
}

impl Step {
    /// The step that an event is; `None` for those that only show that something is under way.
    pub(super) fn of(event: &Event) -> Option<Self> {
        Some(match event {
            Event::YardFailed { yard, reason, .. } => Self::YardFailed { yard: yard.clone(), reason: reason.clone() },
            Event::Fetched { file, size, cached } => Self::Fetched { file: file.clone(), size: *size, cached: *cached },
            Event::Rung { rung, .. } => Self::Rung { tool: rung.tool.clone(), version: rung.version.to_string() },
            Event::OnHost { file } => Self::OnHost { file: file.clone() },
            Event::SetUp { tool, name, confined, output, took } => Self::SetUp {
                tool: tool.clone(),
                name: name.clone(),
                confined: confined.to_string(),
                output: output.clone(),
                seconds: took.as_secs_f64(),
            },
            Event::Shelved { rung, files, folder, .. } => {
                Self::Shelved { tool: rung.tool.clone(), files: *files, folder: folder.clone() }
            }
            Event::Checked(verdict) => {
                let (owner, claim) = (verdict.subject.owner().to_owned(), verdict.subject.claim());
                checked(owner, claim, &verdict.outcome, verdict.took)
            }
            Event::Climbed { rung } => Self::Climbed { tool: rung.tool.clone() },
            Event::Landed { number } => Self::Landed { number: *number },
            _ => return None,
        })
    }
}

fn checked(owner: String, claim: String, outcome: &Outcome, took: Duration) -> Step {
    let (outcome, why, output) = match outcome {
        Outcome::Passed => ("passed", String::new(), String::new()),
        Outcome::Failed { why, output } => ("failed", why.clone(), output.clone()),
        Outcome::Skipped { why } => ("skipped", why.clone(), String::new()),
    };
    Step::Checked { owner, claim, outcome: outcome.to_owned(), why, output, seconds: took.as_secs_f64() }
}
