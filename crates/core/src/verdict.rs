//! What came of a check.

use std::time::Duration;

/// What was looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Subject {
    /// A rung's files on the shelf, against their manifest.
    Files {
        /// The tool.
        tool: String,
    },
    /// The file that answers to a command.
    Answer {
        /// The tool.
        tool: String,
        /// The command.
        command: String,
    },
    /// A check of one rung.
    Check {
        /// The tool.
        tool: String,
        /// The check's name.
        name: String,
    },
    /// A set-up command of one rung.
    SetUp {
        /// The tool.
        tool: String,
        /// The command's name.
        name: String,
    },
    /// A step of a rehearsal.
    Rehearsal {
        /// The rehearsal.
        rehearsal: String,
        /// The step's name.
        step: String,
    },
}

impl Subject {
    /// The tool or rehearsal that it belongs to.
    pub fn owner(&self) -> &str {
        match self {
            Self::Files { tool } | Self::Answer { tool, .. } | Self::Check { tool, .. } | Self::SetUp { tool, .. } => {
                tool
            }
            Self::Rehearsal { rehearsal, .. } => rehearsal,
        }
    }

    /// What is claimed, in words.
    pub fn claim(&self) -> String {
        match self {
            Self::Files { .. } => "its files are as they were unpacked".into(),
            Self::Answer { command, .. } => format!("`{command}` answers from the shelf"),
            Self::Check { name, .. } | Self::SetUp { name, .. } => name.clone(),
            Self::Rehearsal { step, .. } => step.clone(),
        }
    }
}

/// How it came out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It holds.
    Passed,
    /// It does not.
    Failed {
        /// What was seen instead, in one sentence.
        why: String,
        /// What the command wrote, shortened.
        output: String,
    },
    /// It was not looked at, since something before it failed or a tool is not on the ladder.
    Skipped {
        /// Why not.
        why: String,
    },
}

/// What came of one check.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// What was looked at.
    pub subject: Subject,
    /// How it came out.
    pub outcome: Outcome,
    /// How long it took.
    pub took: Duration,
}

impl Verdict {
    /// Whether it failed.
    pub fn failed(&self) -> bool {
        matches!(self.outcome, Outcome::Failed { .. })
    }
}
