//! Wiring: a block of lines in the files that a person's shells read when they start, and taking it out again.
//!
//! What is about to be written is planned first, shown by the caller, and then done file by file, each in one step. Nothing
//! but the block is ever touched: [`block`] says how it is found again and what becomes of the bytes around it.

mod asked;
pub mod block;
mod files_of;
pub mod placed;
mod plan;

pub use asked::{Answered, Place, ask};
pub use files_of::{Shell, StartFile, Surroundings};
pub use plan::{Change, Obstacle, Planned, WireError, apply, is_wired, unwired, wired};
