//! What a watched process started.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// A program that a process became.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Start {
    /// Which start it was that did it, by its place in the list; `None` for the first.
    pub by: Option<usize>,
    /// The program, and the files that the first words after it name; links are followed.
    pub files: Vec<PathBuf>,
    /// Other files than the system's that it had mapped when it ended.
    pub mapped: Vec<PathBuf>,
    /// Whom it tried to reach beyond this machine, as address and port, where that was to be seen.
    pub reached: Vec<String>,
}

/// What is written down of starts while they happen, a line each, so that nothing is lost when whoever writes is ended.
#[derive(Serialize, Deserialize)]
pub(crate) enum Line {
    /// A process became a program.
    Start {
        /// Which start did it.
        by: Option<usize>,
        /// As in [`Start`].
        files: Vec<PathBuf>,
    },
    /// A process ended.
    End {
        /// Which start it was.
        of: usize,
        /// As in [`Start`].
        mapped: Vec<PathBuf>,
    },
    /// A process tried to reach another machine.
    Reach {
        /// Which start it was.
        of: usize,
        /// As in [`Start`].
        to: String,
    },
}

impl Start {
    /// Puts lines together; `None` where there are none, since what is watched starts at least itself.
    pub(crate) fn all(text: &str) -> Option<Vec<Self>> {
        let mut starts: Vec<Self> = Vec::new();
        // The last line may be cut short.
        for line in text.lines().filter_map(|line| serde_json::from_str(line).ok()) {
            match line {
                Line::Start { by, files } => starts.push(Self { by, files, mapped: Vec::new(), reached: Vec::new() }),
                Line::End { of, mapped } => {
                    if let Some(start) = starts.get_mut(of) {
                        start.mapped.extend(mapped);
                    }
                }
                Line::Reach { of, to } => {
                    if let Some(start) = starts.get_mut(of).filter(|start| !start.reached.contains(&to)) {
                        start.reached.push(to);
                    }
                }
            }
        }
        (!starts.is_empty()).then_some(starts)
    }
}
