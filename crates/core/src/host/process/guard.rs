//! Seeing to it that a process and what it starts take no more of the machine than they may.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use super::under_way::is_alone;
use crate::base::event::Much;
use crate::sys;

/// How often it is looked.
const GLANCE: Duration = Duration::from_millis(100);

/// What a process and all that it starts may take together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Most {
    /// Processes at one time.
    pub processes: usize,
    /// Bytes of memory that they have in use.
    pub memory: u64,
}

/// Looks at processes of one mark until it is asked what came of it.
pub(super) struct Guard {
    done: Sender<()>,
    thread: JoinHandle<Option<Much>>,
}

impl Guard {
    /// Begins to look; when there is too much, all of them are ended.
    pub(super) fn over(mark: String, most: Most) -> Self {
        let (done, is_done) = channel();
        let thread = thread::spawn(move || {
            while is_done.recv_timeout(GLANCE) == Err(RecvTimeoutError::Timeout) {
                let usage = sys::processes::usage(&mark, is_alone());
                let too_much = (usage.processes > most.processes).then_some(Much::Processes);
                let too_much = too_much.or((usage.memory > most.memory).then_some(Much::Memory));
                if too_much.is_some() {
                    sys::processes::kill_descendants(&mark);
                    return too_much;
                }
            }
            None
        });
        Self { done, thread }
    }

    /// What there was too much of.
    pub(super) fn end(self) -> Option<Much> {
        drop(self.done);
        // A guard that broke has seen nothing.
        self.thread.join().ok().flatten()
    }
}
