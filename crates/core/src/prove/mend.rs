//! What brings back what failed: one deed for each failure where there is one. Pure: a verdict comes in.

use std::path::PathBuf;

use kladder_choose::catalog::Anew;
use kladder_choose::names::ToolName;

use crate::base::event::{Cause, Finding, Outcome, Subject, Verdict};

/// A deed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mend {
    /// A climb brings it anew.
    Climb,
    /// A climb asks for the licence.
    Accept {
        /// Which one.
        licence: String,
    },
    /// A person's file is kept under another name, and a climb makes the ladder's in its place.
    Replace {
        /// Which one.
        path: PathBuf,
    },
    /// The pin on what the host has moves on.
    Move {
        /// Whose pin.
        tool: ToolName,
    },
    /// A service is started.
    Start {
        /// Its name.
        service: String,
    },
    /// What a service wrote is looked at.
    Service {
        /// Its name.
        service: String,
    },
    /// A service is stopped and started again.
    Again {
        /// Its name.
        service: String,
    },
    /// The shells are wired again.
    Wire,
    /// What a shell does when it starts is looked at.
    Shell {
        /// Its kind.
        shell: String,
        /// Whether at a login.
        login: bool,
    },
    /// Whoever answers to a command is looked at.
    Why {
        /// As it is typed.
        command: String,
    },
    /// Variables are taken out of the surroundings.
    Unset {
        /// Their names.
        variables: Vec<String>,
    },
    /// A gate is opened, as its definition says.
    Open {
        /// Its name.
        gate: String,
    },
    /// Something is started anew.
    Anew(Anew),
    /// A climb puts the ladder's settings in the place of a person's.
    Settle,
    /// A program is ended and started again.
    Reopen {
        /// Which rung's.
        tool: ToolName,
    },
    /// What nothing uses any more is removed.
    Clear,
    /// The clock is set.
    Clock,
    /// What it wrote is read in whole.
    Log,
}

/// How a deed is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// Without asking: it only makes things what they were.
    Safe,
    /// After a question: it changes what is a person's, or says something for them.
    Asks,
    /// By the person alone.
    Person,
}

impl Mend {
    /// How it is done.
    pub fn way(&self) -> Way {
        match self {
            Self::Climb | Self::Start { .. } => Way::Safe,
            Self::Accept { .. } | Self::Again { .. } | Self::Wire | Self::Replace { .. } => Way::Asks,
            Self::Move { .. }
            | Self::Service { .. }
            | Self::Clear
            | Self::Shell { .. }
            | Self::Why { .. }
            | Self::Unset { .. }
            | Self::Open { .. }
            | Self::Anew(_)
            | Self::Settle
            | Self::Reopen { .. }
            | Self::Clock
            | Self::Log => Way::Person,
        }
    }

    /// What mends a failure; `None` where nothing failed.
    pub fn of(verdict: &Verdict) -> Option<Self> {
        let Outcome::Failed { finding, causes, .. } = &verdict.outcome else { return None };
        Some(Self::of_finding(&verdict.subject, finding).or_else(|| of_causes(causes)).unwrap_or(Self::Log))
    }

    fn of_finding(subject: &Subject, finding: &Finding) -> Option<Self> {
        Some(match (subject, finding) {
            (Subject::Setting { path }, Finding::OtherKernel | Finding::Unusable { .. }) => {
                Self::Replace { path: path.clone() }
            }
            (
                Subject::Files { .. }
                | Subject::Commands
                | Subject::Wired
                | Subject::Setting { .. }
                | Subject::FitOut { .. },
                _,
            )
            | (
                _,
                Finding::OtherLauncher | Finding::NoEntry | Finding::OtherEntry { .. } | Finding::UnknownFont { .. },
            ) => Self::Climb,
            (Subject::Answer { rung, .. }, Finding::OtherAnswers { .. } | Finding::NobodyAnswers) => {
                Self::Move { tool: rung.tool.clone() }
            }
            (Subject::Service { service, .. }, Finding::NobodyKeeps) => Self::Start { service: service.clone() },
            (Subject::Service { service, .. }, Finding::NotReady { .. } | Finding::Open) => {
                Self::Again { service: service.clone() }
            }
            (Subject::Service { service, .. }, _) => Self::Service { service: service.clone() },
            (Subject::Choice { .. }, Finding::OtherChosen { .. }) => Self::Settle,
            (Subject::Settings { rung }, _) => Self::Reopen { tool: rung.tool.clone() },
            (_, Finding::NotWired { .. }) => Self::Wire,
            (Subject::Shell { shell, login }, Finding::Unasked) => Self::Shell { shell: shell.clone(), login: *login },
            (_, Finding::Shadowed { commands }) => Self::Why { command: commands.first()?.command.clone() },
            (_, Finding::Misled { variables }) => {
                Self::Unset { variables: variables.iter().map(|(name, _)| name.clone()).collect() }
            }
            (Subject::Gate { gate, .. }, _) => Self::Open { gate: gate.clone() },
            (Subject::Licence { licence }, _) => Self::Accept { licence: licence.clone() },
            (_, Finding::Due { anew }) => Self::Anew(*anew),
            (_, Finding::Behind { .. }) => Self::Clock,
            (_, Finding::Little { .. }) => Self::Clear,
            _ => return None,
        })
    }
}

fn of_causes(causes: &[Cause]) -> Option<Mend> {
    causes.iter().find_map(|cause| match cause {
        Cause::Damaged { .. } => Some(Mend::Climb),
        Cause::DiskFull => Some(Mend::Clear),
        Cause::Stopped { services } => Some(Mend::Start { service: services.first()?.clone() }),
        _ => None,
    })
}
