//! A network of its own for several processes (`network_namespaces(7)`), in which there is nothing but the loopback.
//!
//! The right to make one comes with a user namespace, where the caller has none; whoever enters the one enters the other.

use std::io;

use nix::sched::{CloneFlags, setns, unshare};
use rustix::io::Errno;
use rustix::net::{AddressFamily, SendFlags, SocketFlags, SocketType, send, socket_with};
use rustix::process::{Pid, PidfdFlags, getegid, geteuid, pidfd_open};

use super::spaces;

/// Gives the calling process, which must have one thread, a network with a loopback that is up.
pub(crate) fn make() -> io::Result<()> {
    if unshare(CloneFlags::CLONE_NEWNET).is_err() {
        let (user, group) = (geteuid().as_raw(), getegid().as_raw());
        unshare(CloneFlags::CLONE_NEWNET | CloneFlags::CLONE_NEWUSER)?;
        spaces::stay_oneself(user, group)?;
    }
    Ok(raise_loopback()?)
}

/// Brings the calling process, which must have one thread, into the network of another process of the same user.
pub(crate) fn enter(process: u32) -> io::Result<()> {
    let pid = i32::try_from(process).ok().and_then(Pid::from_raw).ok_or(Errno::SRCH)?;
    let process = pidfd_open(pid, PidfdFlags::empty())?;
    // One's own user namespace cannot be entered once more.
    let both = setns(&process, CloneFlags::CLONE_NEWUSER | CloneFlags::CLONE_NEWNET);
    Ok(both.or_else(|_| setns(&process, CloneFlags::CLONE_NEWNET))?)
}

/// Asks the kernel to raise the first interface, which is the loopback (rtnetlink(7), `RTM_NEWLINK`).
fn raise_loopback() -> rustix::io::Result<()> {
    const NEW_LINK: u16 = 16;
    const REQUEST: u16 = 1;
    const UP: u32 = 1;
    const LOOPBACK: i32 = 1;
    let mut message = Vec::new();
    // struct nlmsghdr: length, type, flags, sequence number, port.
    message.extend(32_u32.to_ne_bytes());
    message.extend(NEW_LINK.to_ne_bytes());
    message.extend(REQUEST.to_ne_bytes());
    message.extend([0; 8]);
    // struct ifinfomsg: family and kind, index, flags, which of them change.
    message.extend([0; 4]);
    message.extend(LOOPBACK.to_ne_bytes());
    message.extend(UP.to_ne_bytes());
    message.extend(UP.to_ne_bytes());
    let kernel = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, None)?;
    send(&kernel, &message, SendFlags::empty()).map(drop)
}
