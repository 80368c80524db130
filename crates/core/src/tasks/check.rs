//! The checks of a rung.

use kladder_choose::catalog::Trial;
use kladder_choose::template::Template;

use super::{Hands, Rung, Task, TaskError};
use crate::base::digest::{Canonical, Digest};
use crate::base::event::Verdict;
use crate::keep::state::TaskName;

pub(super) struct Check<'r> {
    pub(super) rung: &'r Rung,
}

impl Task for Check<'_> {
    fn name(&self) -> TaskName {
        TaskName::Check
    }

    fn recipe(&self) -> Digest {
        self.rung.definition.says.checks.iter().fold(Canonical::new("kladder checks", 1), trial).finish()
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Shelve, TaskName::Berth, TaskName::Launch, TaskName::FitOut]
    }

    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError> {
        let failed: Vec<Verdict> = hands.check()?.into_iter().filter(Verdict::failed).collect();
        if failed.is_empty() { Ok(()) } else { Err(TaskError::Checks(failed)) }
    }
}

/// All of a check that decides about its outcome.
fn trial(digest: Canonical, trial: &Trial) -> Canonical {
    let expect = &trial.expect;
    let pattern = |pattern: &Option<kladder_choose::catalog::Pattern>| {
        pattern.as_ref().map(|pattern| pattern.as_str().to_owned()).unwrap_or_default()
    };
    digest
        .field("name", trial.name())
        .list("run", trial.run.iter().map(Template::as_written))
        .field("input", &trial.input)
        .field("folder", trial.folder.as_str())
        .list(
            "variables",
            trial.variables.iter().map(|(name, value)| [name.as_str(), "=", &value.as_written()].concat()),
        )
        .list("status", expect.status.iter().map(|status| status.to_le_bytes()))
        .field("stdout", pattern(&expect.stdout))
        .field("stderr", pattern(&expect.stderr))
        .field("never", pattern(&expect.never))
        .list("harmless", trial.harmless.iter().map(|(pattern, _)| pattern.as_str()))
        .list("claims", trial.claims.iter().map(kladder_choose::catalog::Claim::as_text))
        .field("limit", trial.limit.to_le_bytes())
}
