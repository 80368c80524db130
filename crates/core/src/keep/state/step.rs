//! What is written down of a run: the events that someone may want to read later.

use std::path::PathBuf;

use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::version::Version;
use serde::{Deserialize, Serialize};

use crate::base::event::{Confined, Event, Outcome, Subject, Verdict, Work};
use crate::base::record;

/// A step of a run, as the journal has it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// A yard failed, and another one was tried, or the same again.
    YardFailed {
        /// Which one.
        yard: String,
        /// Why.
        reason: String,
        /// For which rung.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rung: Option<RungKey>,
    },
    /// An artifact is on its way.
    Fetching {
        /// The file's name.
        file: String,
        /// For which rung.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rung: Option<RungKey>,
    },
    /// An artifact was there, and its digest agreed.
    Fetched {
        /// The file's name.
        file: String,
        /// Bytes.
        size: u64,
        /// It was in the cache.
        cached: bool,
        /// The yard or origin that it came from.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        from: Option<String>,
        /// For which rung.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rung: Option<RungKey>,
    },
    /// Work on a rung began.
    Rung {
        /// Which one.
        rung: RungKey,
        /// At which version.
        version: Version,
    },
    /// The rung is what the host has.
    OnHost {
        /// The file or folder; of a package its name.
        #[serde(with = "record::path")]
        #[schemars(with = "String")]
        file: PathBuf,
    },
    /// A command of a definition ran, to set a rung up or to fit it out.
    Worked {
        /// What it was for.
        work: Work,
        /// Whose command.
        rung: RungKey,
        /// What it does.
        name: String,
        /// What it was kept from.
        confined: Confined,
        /// What it printed.
        output: String,
        /// How long it took.
        seconds: f64,
    },
    /// A version was put on the shelf.
    Shelved {
        /// Which tool.
        tool: ToolName,
        /// Files and links.
        files: usize,
        /// Where.
        #[serde(with = "record::path")]
        #[schemars(with = "String")]
        folder: PathBuf,
    },
    /// A check or rehearsal ended.
    Checked {
        /// What was looked at.
        #[serde(flatten)]
        subject: Subject,
        /// How it came out.
        #[serde(flatten)]
        outcome: Outcome,
        /// How long it took.
        seconds: f64,
    },
    /// Work on a rung was done.
    Climbed {
        /// Which one.
        rung: RungKey,
    },
    /// Work on a rung ended early.
    Stopped {
        /// Which one.
        rung: RungKey,
        /// Why, with causes.
        why: String,
    },
    /// A landing became current.
    Landed {
        /// Its number.
        number: u32,
    },
}

impl Step {
    /// The step that an event is, for a rung where that is known; `None` for those that only show that something is under way.
    pub(super) fn of(event: &Event, of: Option<&RungKey>) -> Option<Self> {
        let rung = || of.cloned();
        Some(match event {
            Event::YardFailed { yard, reason, .. } => {
                Self::YardFailed { yard: yard.clone(), reason: reason.clone(), rung: rung() }
            }
            Event::Fetching { file, .. } => Self::Fetching { file: file.clone(), rung: rung() },
            Event::Fetched { file, size, cached, from } => {
                Self::Fetched { file: file.clone(), size: *size, cached: *cached, from: from.clone(), rung: rung() }
            }
            Event::Rung { key, rung, .. } => Self::Rung { rung: key.clone(), version: rung.version.clone() },
            Event::OnHost { copy } => Self::OnHost { file: copy.path().to_path_buf() },
            Event::Worked { work, rung, name, confined, output, took } => Self::Worked {
                work: *work,
                rung: rung.clone(),
                name: name.clone(),
                confined: confined.clone(),
                output: output.clone(),
                seconds: took.as_secs_f64(),
            },
            Event::Shelved { rung, files, folder, .. } => {
                Self::Shelved { tool: rung.tool.clone(), files: *files, folder: folder.clone() }
            }
            Event::Checked(Verdict { subject, outcome, took }) => {
                Self::Checked { subject: subject.clone(), outcome: outcome.clone(), seconds: took.as_secs_f64() }
            }
            Event::Climbed { key, .. } => Self::Climbed { rung: key.clone() },
            Event::Stopped { rung, why, .. } => Self::Stopped { rung: rung.clone(), why: why.clone() },
            Event::Landed { number } => Self::Landed { number: *number },
            _ => return None,
        })
    }
}
