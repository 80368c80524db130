//! Whom a process is about to reach: a filter that stops it before it does (seccomp(2)), and reading the address that it names.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::unix::fs::FileExt;

use nix::unistd::Pid;
use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, TargetArch, apply_filter};

/// `connect`, `sendto`, `sendmsg`, `sendmmsg`: their numbers per processor (asm/unistd.h).
#[cfg(target_arch = "x86_64")]
const CALLS: [i64; 4] = [42, 44, 46, 307];
#[cfg(not(target_arch = "x86_64"))]
const CALLS: [i64; 4] = [203, 206, 211, 269];
/// Families of addresses (socket(2)).
const INET: u16 = 2;
const INET6: u16 = 10;
/// Where names of hosts are asked for, whoever listens: what is asked of a server on this machine goes beyond it.
const NAMES: u16 = 53;

/// Has the calling thread, and whatever it starts, stopped before it reaches anybody; whoever is not watched cannot reach anybody
/// from then on. Tells whether that is so.
pub(crate) fn stop_before() -> bool {
    let rules: BTreeMap<i64, Vec<seccompiler::SeccompRule>> = CALLS.iter().map(|&call| (call, Vec::new())).collect();
    let Ok(arch) = TargetArch::try_from(std::env::consts::ARCH) else { return false };
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, SeccompAction::Trace(0), arch);
    let program: Option<BpfProgram> = filter.ok().and_then(|filter| filter.try_into().ok());
    program.is_some_and(|program| apply_filter(&program).is_ok())
}

/// Whom a process that was stopped is about to reach beyond this machine, as address and port.
pub(super) fn whom(pid: Pid) -> Option<String> {
    // The number of the call and its arguments (proc_pid_syscall(5)).
    let text = fs::read_to_string(format!("/proc/{pid}/syscall")).ok()?;
    let mut words = text.split_whitespace();
    let call: i64 = words.next()?.parse().ok()?;
    let number = |word: &str| u64::from_str_radix(word.trim_start_matches("0x"), 16).ok();
    let arguments: Vec<u64> = words.map_while(number).collect();
    let memory = File::open(format!("/proc/{pid}/mem")).ok()?;
    let word_at = |at: u64| {
        let mut bytes = [0; 8];
        memory.read_exact_at(&mut bytes, at).ok()?;
        Some(u64::from_ne_bytes(bytes))
    };
    let (at, length) = match CALLS.iter().position(|one| *one == call)? {
        0 => (*arguments.get(1)?, *arguments.get(2)?),
        1 => (*arguments.get(4)?, *arguments.get(5)?),
        // The address stands first in a message (`struct msghdr`), and its length after it.
        _ => (word_at(*arguments.get(1)?)?, word_at(arguments.get(1)?.checked_add(8)?)? & 0xffff_ffff),
    };
    let mut address = [0; 28];
    let length = usize::try_from(length).ok()?.min(address.len());
    memory.read_exact_at(&mut address[..length], at).ok()?;
    beyond(&address[..length])
}

/// An address as the kernel takes it (`struct sockaddr_in`, `struct sockaddr_in6`), in words; `None` for those of this machine.
fn beyond(address: &[u8]) -> Option<String> {
    let family = u16::from_ne_bytes([*address.first()?, *address.get(1)?]);
    let port = u16::from_be_bytes([*address.get(2)?, *address.get(3)?]);
    let ip = match family {
        INET => IpAddr::V4(Ipv4Addr::from(<[u8; 4]>::try_from(address.get(4..8)?).ok()?)),
        INET6 => IpAddr::V6(Ipv6Addr::from(<[u8; 16]>::try_from(address.get(8..24)?).ok()?)).to_canonical(),
        _ => return None,
    };
    let is_here = ip.is_loopback() || ip.is_unspecified();
    // A datagram without a use is how some find out which address they have: the port is no service's.
    (port != 0 && (!is_here || port == NAMES)).then(|| std::net::SocketAddr::new(ip, port).to_string())
}

#[cfg(test)]
mod tests {
    use super::beyond;

    #[test]
    fn an_address_beyond_this_machine_is_told() {
        let v4 = |port: u16, ip: [u8; 4]| [&2u16.to_ne_bytes()[..], &port.to_be_bytes(), &ip, &[0; 8]].concat();
        assert_eq!(beyond(&v4(443, [192, 0, 2, 7])).as_deref(), Some("192.0.2.7:443"));
        assert_eq!(beyond(&v4(443, [127, 0, 0, 1])), None);
        assert_eq!(beyond(&v4(53, [127, 0, 0, 53])).as_deref(), Some("127.0.0.53:53"));
        let mut v6 = [&10u16.to_ne_bytes()[..], &80u16.to_be_bytes(), &[0; 4]].concat();
        v6.extend([0x20, 1, 0xd, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 9]);
        v6.extend([0; 4]);
        assert_eq!(beyond(&v6).as_deref(), Some("[2001:db8::9]:80"));
        for cut in 0..8 {
            assert_eq!(beyond(&v4(443, [192, 0, 2, 7])[..cut]), None);
        }
        assert_eq!(beyond(b"\x01\0/run/socket"), None);
    }
}
