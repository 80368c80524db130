//! The desk: everything that a command works with, opened in one call.

pub mod catalogs;
pub mod keeper;
mod ladders;
mod open;
mod pinning;
mod repository;
mod sets;
pub mod standing;
pub mod start;
pub mod take;

pub use ladders::{FILE_NAME, find_from, read_ladder, read_pins};
pub use open::{Desk, DeskError, Surroundings};
pub use pinning::{Freshness, Pinned, Unsized};
pub use sets::{InCatalogsError, LibraryMove, LibraryThere, LookupError, Misplaced, SetProblem, WhyNoSet};
