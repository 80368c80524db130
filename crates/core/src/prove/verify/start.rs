//! Whether the commands of a rung could be started at all, which is seen before anything of it is run.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::Instant;

use kladder_choose::names::RungKey;

use super::{Bench, VerifyError};
use crate::base::event::{Cause, Finding, Outcome, Output, Subject, Verdict, check_cancelled};
use crate::host::survey::answers;
use crate::prove::causes;
use crate::prove::wants::Around;
use crate::tasks::Rung;

impl Bench<'_> {
    /// A verdict for each command of a rung that the system would refuse to start; of the others nothing is said.
    pub(super) fn not_startable(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        let Some(around) = rung.shelved().and_then(|_| Around::of(self.folders(rung))) else { return Ok(Vec::new()) };
        let path = self.path(&rung.key.household);
        let mut verdicts = Vec::new();
        // What another command runs is none of the loader's business.
        for (name, command) in rung.commands.iter().filter(|(_, command)| command.by.is_none()) {
            check_cancelled(self.observer)?;
            let started = Instant::now();
            let file = rung.file_of(command).below(&rung.files());
            let causes = around.causes(&file, |command| answers(command, &path).is_some());
            if !causes.is_empty() {
                let subject = Subject::Start { rung: rung.key.clone(), command: name.to_string() };
                let failed =
                    Outcome::Failed { finding: Finding::CannotStart { file }, output: Output::default(), causes };
                verdicts.push(self.conclude(subject, started, self.known(failed)));
            }
        }
        Ok(verdicts)
    }

    /// The folders of a rung, and of all that it stands on.
    pub(super) fn folders(&self, rung: &Rung) -> Vec<PathBuf> {
        let mut seen: BTreeSet<&RungKey> = BTreeSet::new();
        let mut left: Vec<&RungKey> = rung.needs.iter().collect();
        let mut folders = vec![rung.files()];
        while let Some(key) = left.pop().filter(|key| seen.insert(key)) {
            if let Some(below) = self.rungs.iter().find(|rung| rung.key == *key) {
                folders.push(below.files());
                left.extend(&below.needs);
            }
        }
        folders.iter().filter_map(|folder| std::fs::canonicalize(folder).ok()).collect()
    }

    /// Adds to the causes of a failure who in the catalog would help.
    pub(super) fn known(&self, mut outcome: Outcome) -> Outcome {
        if let Outcome::Failed { finding, output, causes } = &mut outcome {
            let said = match finding {
                Finding::NoCommand { command } => vec![command.clone()],
                _ => causes::commands_not_found(&[output.first.as_str(), "\n", &output.last].concat()),
            };
            for command in said {
                // What is there and may be found was missed for another reason.
                let there = answers(&command, &self.host.path);
                let hidden =
                    there.filter(|file| std::fs::canonicalize(file).is_ok_and(|file| !self.keeping.is_declared(&file)));
                causes
                    .extend(hidden.map(|file| Cause::UndeclaredCommand { command, file: file.display().to_string() }));
            }
            for cause in causes {
                if let Cause::NoLibrary { library, by } = cause {
                    // A catalog that cannot be listed helps nobody, and is told elsewhere.
                    *by = self.catalogs.providers(library).unwrap_or_default().to_vec();
                }
            }
        }
        outcome
    }
}
