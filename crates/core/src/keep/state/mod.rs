//! Who may write to a home, what was done to it, and how what was left half-done is mended.

mod intent;
mod journal;
mod notes;
mod recorder;
mod recover;
mod step;
mod writer;

pub use intent::{Intent, TaskName, Trace};
pub use journal::{Ended, Journal, JournalError, Kind, Run};
pub use notes::Notes;
pub use recorder::Recorder;
pub use step::Step;
pub use writer::Writer;

use crate::base::event::Cancelled;
use crate::base::files::FileError;

/// Why a home could not be written to.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// Somebody else writes to it, and was waited for long enough.
    #[error("{} works on this home", process.map_or_else(|| "another process".to_owned(), |process| format!("process {process}")))]
    Busy {
        /// The process, where it said so.
        process: Option<u32>,
    },
    /// The journal could not be used.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}
