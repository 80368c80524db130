//! Terminals of our own (`pty(4)`).

use std::io;
use std::os::fd::OwnedFd;

use rustix::io::{FdFlags, fcntl_setfd};
use rustix::pty::{OpenptFlags, openpt};

/// Opens one. The system cannot do both in one step: a program that is started at that very moment has it, too.
pub(crate) fn open() -> io::Result<OwnedFd> {
    let terminal = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
    fcntl_setfd(&terminal, FdFlags::CLOEXEC)?;
    Ok(terminal)
}
