//! Catalogs as they are found on this machine.

mod archives;
mod check;
pub mod fetched;
mod folder;
mod index;
mod starter;

pub use archives::AtHand;
pub use check::{CheckedCatalog, check};
pub use folder::Folder;
pub use starter::Starter;
