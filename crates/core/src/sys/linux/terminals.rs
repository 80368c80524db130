//! Terminals of our own (`pty(7)`).

use std::io;
use std::os::fd::OwnedFd;

use rustix::pty::{OpenptFlags, openpt};

/// Opens one, which no program that is started meanwhile gets hold of.
pub(crate) fn open() -> io::Result<OwnedFd> {
    Ok(openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?)
}
