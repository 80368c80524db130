//! Networks of one's own: there are none.

use std::io;

/// Never had here.
pub(crate) fn make() -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Never had here.
pub(crate) fn enter(_process: u32) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}
