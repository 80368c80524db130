//! Keeping a process to its own folders, without network, as far as this system can.
//!
//! A restriction belongs to the thread that takes it on and to what that thread starts, so it is taken on by a thread made
//! for this.

use std::io;
use std::process::{Child, Command};
use std::thread;

use super::enclosed;
use super::survey::Host;
use crate::sys;
pub use crate::sys::{Cell, Confined, Kept, Network, Reads};

/// Starts a command in a cell.
///
/// # Errors
/// Those of starting a process. That it could not be confined is no error, and is told.
pub fn spawn(cell: &Cell, command: &mut Command) -> io::Result<(Child, Confined)> {
    // A panic of the thread goes on in the caller.
    thread::scope(|scope| {
        let started = scope.spawn(|| {
            let confined = sys::confine::enter(cell);
            command.spawn().map(|child| (child, confined))
        });
        started.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// What a process could be kept from here; found out by a thread that confines itself and ends.
pub(super) fn possible_to(cell: &Cell) -> Confined {
    thread::scope(|scope| {
        let tried = scope.spawn(|| sys::confine::enter(cell)).join();
        tried.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// What a set-up command can be kept from on this machine.
pub fn possible_here(host: &Host) -> Confined {
    let cell =
        Cell { reads: Reads::SystemAnd(Vec::new()), writes: Vec::new(), network: Network::None, shown: Vec::new() };
    // Where it cannot even be tried, nothing is promised.
    let Some(encloser) = host.encloser() else {
        let mut confined = possible_to(&cell);
        confined.0.extend(sys::processes::adopt_orphans().then_some(Kept::Lingering));
        return confined;
    };
    enclosed::possible(&encloser, &cell).unwrap_or_default()
}
