//! What each operating system does in its own way: the same functions in a folder a system. `docs/platforms.md` lists every
//! path and variable that is touched.

mod cell;
mod kept;
mod told;

pub(crate) use cell::Spaces;
pub use cell::{Cell, Network, Reads};
pub use kept::{Confined, Kept};
pub(crate) use told::Told;

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "linux")]
pub(crate) use linux::{confine, facts, files, libraries, ports, processes, spaces};

#[cfg(target_os = "macos")]
mod macos;
#[cfg(target_os = "macos")]
pub(crate) use macos::{confine, facts, files, libraries, ports, processes, spaces};
