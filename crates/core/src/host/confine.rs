//! Keeping a process to its own folders, without network, as far as this system can.
//!
//! A restriction belongs to the thread that takes it on and to what that thread starts, so it is taken on by a thread made
//! for this.

use std::io;
use std::path::PathBuf;
use std::process::{Child, Command};
use std::thread;

use crate::base::event::{Confined, Kept};
use crate::sys;

/// What a process may read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reads {
    /// All that the caller may.
    Everything,
    /// The system's own files, and these folders.
    SystemAnd(Vec<PathBuf>),
}

/// Whether a process may use the network.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Network {
    /// It may.
    All,
    /// It may not.
    None,
}

impl Network {
    /// Whether there is none.
    pub fn is_none(self) -> bool {
        self == Self::None
    }
}

/// What a process may do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cell {
    /// What it may read and run.
    pub reads: Reads,
    /// What it may write.
    pub writes: Vec<PathBuf>,
    /// The network.
    pub network: Network,
}

impl Cell {
    /// Starts a command within.
    ///
    /// # Errors
    /// Those of starting a process. That it could not be confined is no error, and is told.
    pub fn spawn(&self, command: &mut Command) -> io::Result<(Child, Confined)> {
        // A panic of the thread goes on in the caller.
        thread::scope(|scope| {
            let started = scope.spawn(|| {
                let confined = sys::confine::enter(self);
                command.spawn().map(|child| (child, confined))
            });
            started.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        })
    }
}

/// What a set-up command can be kept from on this machine; found out by a thread that confines itself and ends.
pub fn possible_here() -> Confined {
    let cell = Cell { reads: Reads::SystemAnd(Vec::new()), writes: Vec::new(), network: Network::None };
    let tried = thread::spawn(move || sys::confine::enter(&cell)).join();
    let mut confined = tried.unwrap_or_else(|panic| std::panic::resume_unwind(panic));
    confined.0.extend(sys::processes::adopt_orphans().then_some(Kept::Lingering));
    confined
}
