//! An observer that writes down what it hears, and passes it on.

use std::path::Path;

use kladder_choose::names::RungKey;

use super::{Ended, Intent, Journal, JournalError, Kind, Step};
use crate::base::event::{Event, Observer, chain};

/// One run, from its beginning to its end. One that is dropped without an end counts as killed.
pub struct Recorder<'r> {
    journal: &'r Journal,
    observer: &'r dyn Observer,
    run: i64,
}

impl<'r> Recorder<'r> {
    /// Begins a run.
    ///
    /// # Errors
    /// [`JournalError`]; the work must not begin then.
    pub fn begin(
        journal: &'r Journal,
        kind: Kind,
        ladder: &Path,
        observer: &'r dyn Observer,
    ) -> Result<Self, JournalError> {
        Ok(Self { run: journal.begin(kind, ladder)?, journal, observer })
    }

    /// Writes down what is about to happen.
    ///
    /// # Errors
    /// [`JournalError`]; what was intended must not be done then.
    pub fn intend(&self, intent: &Intent) -> Result<(), JournalError> {
        self.journal.intend(self.run, intent)
    }

    /// Ends the run that stopped although nothing failed.
    ///
    /// # Errors
    /// [`JournalError`]; the run then counts as killed, and the next writer looks after it.
    pub fn stop(self) -> Result<(), JournalError> {
        self.journal.end(self.run, Ended::Stopped, "")
    }

    /// Ends the run as `result` says.
    ///
    /// # Errors
    /// [`JournalError`]; the run then counts as killed, and the next writer looks after it.
    pub fn end<T, E: std::error::Error>(self, result: &Result<T, E>) -> Result<(), JournalError> {
        match result {
            Ok(_) => self.journal.end(self.run, Ended::Done, ""),
            Err(error) => self.journal.end(self.run, Ended::Failed, &chain(error)),
        }
    }
}

impl Recorder<'_> {
    fn note(&self, event: &Event, rung: Option<&RungKey>) {
        if let Some(step) = Step::of(event, rung) {
            // A step that cannot be written down is still told; a full disk is noticed by the work itself.
            let _ = self.journal.step(self.run, &step);
        }
    }
}

impl Observer for Recorder<'_> {
    fn behind(&self) -> Option<&dyn Observer> {
        Some(self.observer)
    }

    fn event(&self, event: &Event) {
        self.note(event, None);
        self.observer.event(event);
    }

    fn event_of(&self, rung: &RungKey, event: &Event) {
        self.note(event, Some(rung));
        self.observer.event_of(rung, event);
    }
}
