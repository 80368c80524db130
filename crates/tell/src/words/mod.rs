//! Facts into sentences.

mod chores;
pub mod clash;
mod code;
mod confined;
mod fault;
mod finding;
mod gate;
pub mod host;
mod index;
mod mend;
mod reason;
mod service;
mod setting;
mod verdict;
mod visit;

pub use chores::{admin_script, admin_script_for, chore, lasts, who};
pub use clash::wished;
pub use code::{code, code_missing};
pub use confined::confined;
pub use fault::fault;
pub use finding::finding;
pub use gate::{demanded, found, needed};
pub use index::to_name;
pub use mend::{closed, mend, mend_command};
pub use reason::{asked, beside, met, moves, reason};
pub use service::{ended, standing};
pub use setting::{setting, setting_ahead};
pub use verdict::{cause, claim, difference, outcome, output, owner, skipped, unloadable};
pub use visit::to_visit;

use kladder_choose::catalog::Anew;
use kladder_core::base::event::Work;
use kladder_core::keep::state::TaskName;

/// What must happen before a rung counts.
pub fn anew(anew: Anew) -> &'static str {
    match anew {
        Anew::Restart => "the machine must be restarted",
        Anew::Session => "you must log in anew",
    }
}

/// What a person does about it.
pub fn anew_do(anew: Anew) -> &'static str {
    match anew {
        Anew::Restart => "restart the machine",
        Anew::Session => "log out and in again",
    }
}

/// What a task does, as a verb.
pub fn task(task: TaskName) -> &'static str {
    match task {
        TaskName::Unpack => "unpack",
        TaskName::SetUp => "set up",
        TaskName::Shelve => "shelve",
        TaskName::Berth => "berth",
        TaskName::Launch => "wire",
        TaskName::FitOut => "fit out",
        TaskName::Check => "check",
    }
}

/// What a command was run for, in front of whose it is.
pub fn work(work: Work) -> &'static str {
    match work {
        Work::SetUp => "set-up of",
        Work::FitOut => "fit-out of",
        Work::Undo => "undone for",
    }
}
