//! A rung's own folder for this ladder.

use super::{Hands, Task, TaskError, Would};
use crate::base::digest::Digest;
use crate::keep::berth::Berth;
use crate::keep::state::{TaskName, Trace};

pub(super) struct MakeBerth<'r> {
    pub(super) berth: &'r Berth,
}

impl Task for MakeBerth<'_> {
    fn name(&self) -> TaskName {
        TaskName::Berth
    }

    fn recipe(&self) -> Digest {
        self.berth.recipe()
    }

    fn is_there(&self) -> bool {
        self.berth.is_there()
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Shelve]
    }

    fn traces(&self) -> Vec<Trace> {
        vec![Trace::Unfinished { path: self.berth.folder.with_added_extension("making") }]
    }

    fn would(&self) -> Vec<Would> {
        let lenders: Vec<_> = self.berth.lenders().into_iter().cloned().collect();
        let borrows = (!lenders.is_empty()).then_some(Would::Borrow { from: lenders });
        borrows.into_iter().chain(self.berth.corners().map(Would::Corner)).collect()
    }

    fn perform(&self, _hands: &mut dyn Hands) -> Result<(), TaskError> {
        Ok(self.berth.make()?)
    }
}
