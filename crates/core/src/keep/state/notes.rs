//! Notes of a run that needs no right to write to the home: taken while it lasts, written down in one go at its end.

use std::path::Path;
use std::sync::{Mutex, PoisonError};

use super::{Ended, Journal, JournalError, Kind, Step};
use crate::base::event::{Event, Observer};

/// An observer that takes notes, and passes on what it hears.
pub struct Notes<'n> {
    observer: &'n dyn Observer,
    begun: jiff::Timestamp,
    steps: Mutex<Vec<(jiff::Timestamp, Step)>>,
}

impl<'n> Notes<'n> {
    /// Begins to take notes.
    pub fn begin(observer: &'n dyn Observer) -> Self {
        Self { observer, begun: jiff::Timestamp::now(), steps: Mutex::default() }
    }

    /// Writes them into the journal of the folder `data`.
    pub fn write(self, data: &Path, kind: Kind, ladder: &Path, ended: Ended) -> Result<(), JournalError> {
        let steps = self.steps.into_inner().unwrap_or_else(PoisonError::into_inner);
        Journal::open(data)?.write_whole(kind, ladder, self.begun, &steps, ended)
    }
}

impl Observer for Notes<'_> {
    fn behind(&self) -> Option<&dyn Observer> {
        Some(self.observer)
    }

    fn event(&self, event: &Event) {
        if let Some(step) = Step::of(event, None) {
            self.steps.lock().unwrap_or_else(PoisonError::into_inner).push((jiff::Timestamp::now(), step));
        }
        self.observer.event(event);
    }
}
