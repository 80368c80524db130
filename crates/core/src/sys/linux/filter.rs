//! A filter of system calls (seccomp(2)): no sockets, of whatever kind.

use std::collections::BTreeMap;

use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, TargetArch, apply_filter};

/// Calls that a confined process has no use for: sockets, the ring through which sockets could be made unseen, and those
/// that reach into other processes. Their numbers per processor (asm/unistd.h).
#[cfg(target_arch = "x86_64")]
const REFUSED: [i64; 6] = [41, 425, 101, 310, 311, 438];
#[cfg(target_arch = "aarch64")]
const REFUSED: [i64; 6] = [198, 425, 117, 270, 271, 438];
#[cfg(target_arch = "riscv64")]
const REFUSED: [i64; 6] = [198, 425, 117, 270, 271, 438];

/// Why there is no filter.
#[derive(Debug)]
pub(super) struct NoFilter;

/// Refuses sockets to the calling thread and whatever it starts: with `EACCES`, which programs take for a closed network.
#[cfg(any(target_arch = "x86_64", target_arch = "aarch64", target_arch = "riscv64"))]
pub(super) fn no_sockets() -> Result<(), NoFilter> {
    const EACCES: u32 = 13;
    let arch: TargetArch = std::env::consts::ARCH.try_into().map_err(|_| NoFilter)?;
    let rules: BTreeMap<i64, Vec<seccompiler::SeccompRule>> = REFUSED.iter().map(|&call| (call, Vec::new())).collect();
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, SeccompAction::Errno(EACCES), arch);
    let program: BpfProgram = filter.and_then(TryInto::try_into).map_err(|_| NoFilter)?;
    apply_filter(&program).map_err(|_| NoFilter)
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64", target_arch = "riscv64")))]
pub(super) fn no_sockets() -> Result<(), NoFilter> {
    Err(NoFilter)
}
