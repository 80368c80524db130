//! What a rehearsal started: who worked with whom, and whether something of the host was started that nothing declares.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::time::Instant;

use kladder_choose::catalog::Rehearsal;

use super::Bench;
use crate::base::event::{Finding, Outcome, Subject, Undeclared, Verdict};
use crate::prove::together::{Owners, Seen};
use crate::prove::wants;
use crate::sys::Start;
use crate::tasks::Rung;

impl Bench<'_> {
    /// Writes down who worked with whom, and whether something of the host was started that nothing declares.
    pub(super) fn starts(&self, rehearsal: &Rehearsal, seen: &Seen, folder: &Path, passed: bool) -> Option<Verdict> {
        let owners = Owners::of(self.rungs);
        let named = |rung: &&Rung| rehearsal.tools.iter().any(|tool| rung.answers_to(tool));
        let named: Vec<&Rung> = self.rungs.iter().filter(named).collect();
        self.together.lock().unwrap_or_else(PoisonError::into_inner).add(seen, &named, &owners, self.rungs, passed);
        let (started, mut programs) = (Instant::now(), BTreeSet::new());
        // What was made meanwhile is nobody else's.
        let made = [folder, self.scratch.path()].map(|folder| std::fs::canonicalize(folder).unwrap_or_default());
        for starts in &seen.starts {
            let owner = |start: &Start| start.files.iter().rev().find_map(|file| owners.owner(file).cloned());
            for start in starts {
                let is_foreign = |file: &&PathBuf| {
                    !self.keeping.is_declared(file) && !made.iter().any(|made| file.starts_with(made))
                };
                // A script is started by its interpreter.
                let script = start.files.get(1).filter(|file| wants::script_interpreter(file).is_some());
                let Some(program) = start.files.first().into_iter().chain(script).find(is_foreign) else { continue };
                let above = |start: &Start| starts.get(start.by?);
                let by = std::iter::successors(above(start), |start| above(start)).take(starts.len()).find_map(owner);
                programs.insert(Undeclared { program: program.clone(), by: owner(start).or(by) });
            }
        }
        if seen.starts.is_empty() || !passed {
            return None;
        }
        let outcome = if programs.is_empty() {
            Outcome::Passed
        } else {
            Outcome::failed(Finding::Undeclared { programs: programs.into_iter().collect() })
        };
        Some(self.conclude(Subject::Starts { rehearsal: rehearsal.rehearsal.clone() }, started, outcome))
    }
}
