//! What each operating system does in its own way: the same functions in a folder a system. `docs/platforms.md` lists every
//! path and variable that is touched.

mod cell;
mod kept;
mod start;
mod told;

pub use cell::{Cell, Network, Reads, Shown};
pub(crate) use cell::{Spaces, Usage};
pub use kept::{Confined, Kept};
#[cfg(target_os = "linux")]
pub(crate) use start::Line;
pub use start::Start;
pub(crate) use told::Told;

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "linux")]
pub(crate) use linux::{confine, facts, files, libraries, ports, processes, reach, rooms, spaces, terminals, traces};

#[cfg(target_os = "macos")]
mod macos;
#[cfg(target_os = "macos")]
pub(crate) use macos::{confine, facts, files, libraries, ports, processes, reach, rooms, spaces, terminals, traces};
