//! Catalogs as they are found on this machine.

mod check;
mod folder;
mod index;

pub use check::{CheckedCatalog, check};
pub use folder::Folder;
