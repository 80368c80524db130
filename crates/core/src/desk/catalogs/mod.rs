//! Catalogs as they are found on this machine.

mod folder;
mod index;

pub use folder::Folder;
