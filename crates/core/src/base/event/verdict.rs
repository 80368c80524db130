//! What came of a check: facts, which become sentences elsewhere.

use std::path::PathBuf;
use std::time::Duration;

use kladder_choose::names::{RungKey, ToolName};
use serde::{Deserialize, Serialize};

use super::{Cause, Finding};

/// What was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Subject {
    /// A rung's files on the shelf, against their manifest, and its berth against its plan.
    Files {
        /// Whose files.
        rung: RungKey,
    },
    /// The file that answers to a command.
    Answer {
        /// Who brings the command.
        rung: RungKey,
        /// As it is typed.
        command: String,
    },
    /// Whether a command's file could be started at all.
    Start {
        /// Who brings the command.
        rung: RungKey,
        /// As it is typed.
        command: String,
    },
    /// A check of one rung.
    Check {
        /// Whose check.
        rung: RungKey,
        /// What it shows.
        name: String,
    },
    /// A set-up command of one rung.
    SetUp {
        /// Whose command.
        rung: RungKey,
        /// What it does.
        name: String,
    },
    /// What was made for a ladder, or is to be.
    FitOut {
        /// Whose fit-out.
        rung: RungKey,
        /// What is there afterwards.
        name: String,
    },
    /// A service of one rung.
    Service {
        /// Whose service.
        rung: RungKey,
        /// Its name.
        service: String,
    },
    /// A step of a rehearsal.
    Rehearsal {
        /// By its name in the catalog.
        rehearsal: String,
        /// What it shows; `None` where the rehearsal as a whole is meant.
        step: Option<String>,
    },
    /// What a rehearsal started.
    Starts {
        /// By its name in the catalog.
        rehearsal: String,
    },
    /// Every program and library of a rung.
    Loads {
        /// Whose files.
        rung: RungKey,
    },
    /// A new shell into which the ladder is put.
    Shell {
        /// Its kind.
        shell: String,
        /// Whether it is that of a login.
        login: bool,
    },
    /// The folder that is put into shells.
    Wired,
    /// Where this was called from: the commands that answer there.
    Terminal,
    /// The caller's variables.
    Surroundings,
    /// What a rung demands of the host.
    Gate {
        /// Whose gate.
        rung: RungKey,
        /// Its name.
        gate: String,
    },
    /// A licence of rungs that stand.
    Licence {
        /// By its name.
        licence: String,
    },
    /// Whether what a rung wants to be started anew was.
    Restart {
        /// Which rung.
        rung: RungKey,
    },
    /// A file that the ladder brings into the home.
    Setting {
        /// The file.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        path: PathBuf,
    },
    /// What a rung chooses for whoever works with it.
    Choice {
        /// Which rung.
        rung: RungKey,
        /// What is chosen, and for what.
        place: String,
    },
    /// Whether what runs of a rung has read its settings since they were changed.
    Settings {
        /// Which rung.
        rung: RungKey,
    },
    /// The machine's clock.
    Clock,
    /// The disk on which everything is kept.
    Room,
    /// The folder of the ladder's commands: nothing else may stand in it.
    Commands,
}

impl Subject {
    /// The same about one claim of several.
    #[must_use]
    pub fn claiming(&self, claim: &str) -> Self {
        let both = |name: &str| [name, ": ", claim].concat();
        match self {
            Self::Check { rung, name } => Self::Check { rung: rung.clone(), name: both(name) },
            Self::Rehearsal { rehearsal, step } => {
                Self::Rehearsal { rehearsal: rehearsal.clone(), step: step.as_deref().map(both) }
            }
            other => other.clone(),
        }
    }

    /// The rung that it belongs to; `None` for what belongs to several.
    pub fn rung(&self) -> Option<&RungKey> {
        match self {
            Self::Files { rung }
            | Self::Answer { rung, .. }
            | Self::Start { rung, .. }
            | Self::Check { rung, .. }
            | Self::SetUp { rung, .. }
            | Self::FitOut { rung, .. }
            | Self::Loads { rung }
            | Self::Gate { rung, .. }
            | Self::Restart { rung }
            | Self::Choice { rung, .. }
            | Self::Settings { rung }
            | Self::Service { rung, .. } => Some(rung),
            Self::Rehearsal { .. }
            | Self::Starts { .. }
            | Self::Shell { .. }
            | Self::Wired
            | Self::Terminal
            | Self::Surroundings
            | Self::Licence { .. }
            | Self::Setting { .. }
            | Self::Clock
            | Self::Room
            | Self::Commands => None,
        }
    }
}

/// What a command wrote on one of its streams, shortened in the middle.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Output {
    /// The first lines.
    pub first: String,
    /// Lines that are left out between.
    #[serde(default)]
    pub left_out: usize,
    /// The last lines, where some were left out.
    #[serde(default)]
    pub last: String,
}

/// Lines that are kept of the beginning of an output, and of its end.
const KEPT: usize = 10;
/// Characters that are kept of a line.
const WIDE: usize = 400;

impl Output {
    /// Shortens a text.
    pub fn of(text: &str) -> Self {
        let lines: Vec<String> = text.trim_end().lines().map(cut).collect();
        if lines.len() <= 2 * KEPT {
            return Self { first: lines.join("\n"), ..Self::default() };
        }
        let (first, last) = (lines[..KEPT].join("\n"), lines[lines.len() - KEPT..].join("\n"));
        Self { first, left_out: lines.len() - 2 * KEPT, last }
    }

    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.first.is_empty() && self.left_out == 0
    }
}

fn cut(line: &str) -> String {
    match line.char_indices().nth(WIDE) {
        None => line.to_owned(),
        Some((end, _)) => format!("{}…", &line[..end]),
    }
}

/// Standard output or standard error.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Stream {
    /// Standard output.
    Output,
    /// Standard error.
    Error,
}

/// Why something was not looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "because", rename_all = "kebab-case")]
pub enum Skipped {
    /// Tools that it needs are not on the ladder.
    NotOnLadder {
        /// Those tools.
        tools: Vec<ToolName>,
    },
    /// Something before it failed.
    EarlierFailed,
    /// The definition says that it does not count here.
    PassedOver {
        /// Why.
        reason: String,
    },
}

/// How it came out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "outcome", rename_all = "kebab-case")]
pub enum Outcome {
    /// It holds.
    Passed,
    /// It does not.
    Failed {
        /// What was seen instead.
        finding: Finding,
        /// What the command wrote.
        #[serde(default, skip_serializing_if = "Output::is_empty")]
        output: Output,
        /// What it probably comes from.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        causes: Vec<Cause>,
    },
    /// It was not looked at.
    Skipped(Skipped),
}

impl Outcome {
    /// A failure without output.
    pub fn failed(finding: Finding) -> Self {
        Self::Failed { finding, output: Output::default(), causes: Vec::new() }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_output_keeps_its_ends_and_says_what_was_cut() {
        let long: String = (0..100).map(|line| format!("line {line}\n")).collect();
        let output = Output::of(&long);
        assert!(output.first.starts_with("line 0\n") && output.last.ends_with("line 99"));
        assert_eq!(output.left_out, 80);
        assert_eq!(Output::of("a\nb\n"), Output { first: "a\nb".into(), ..Output::default() });
        assert_eq!(Output::of(&"x".repeat(1000)).first.chars().count(), WIDE + 1);
    }
}
