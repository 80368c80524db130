//! Which processes of ours are under way, and what they leave behind.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::sys;

/// The variable by which a process that left its group is still found.
pub(super) const MARK: &str = "KLADDER_RUN";

/// How many there are. What says nothing of itself can only be told to be left behind when nobody else could have started it.
static UNDER_WAY: Mutex<usize> = Mutex::new(0);

/// One of them, from before it starts until what it left is ended.
pub(super) struct UnderWay {
    /// A text that no other has.
    pub(super) mark: String,
}

impl UnderWay {
    pub(super) fn begin() -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        *UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner) += 1;
        let number = NEXT.fetch_add(1, Ordering::Relaxed).to_string();
        Self { mark: [std::process::id().to_string(), number].join("-") }
    }

    /// What it and those that it starts have in their environment.
    pub(super) fn variable(&self) -> String {
        [MARK, "=", &self.mark].concat()
    }

    /// Ends what it left behind, and what nobody marked where it is the only one.
    pub(super) fn end(&self) {
        sys::processes::end_descendants(&self.variable());
        let count = UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner);
        // Nobody begins as long as this is held.
        if *count == 1 {
            sys::processes::end_strays();
        }
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        *UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
    }
}

/// Whether one process alone is under way.
pub(super) fn is_alone() -> bool {
    *UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner) == 1
}
