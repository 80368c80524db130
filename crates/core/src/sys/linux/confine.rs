//! Confinement: Landlock (Linux 5.13 and later, each newer kernel knows more of it) for files, TCP, signals and abstract
//! sockets, and a seccomp filter for the sockets that Landlock does not know.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use landlock::{
    ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, LandlockStatus, PathBeneath, PathFd, Ruleset,
    RulesetAttr, RulesetCreated, RulesetCreatedAttr, RulesetError, RulesetStatus, Scope,
};

use rustix::thread::{CapabilitySet, CapabilitySets, capabilities, set_capabilities};

use crate::sys::{Cell, Confined, Kept, Reads};

/// The newest rules that are asked for; an older kernel takes what it knows of them.
const NEWEST: ABI = ABI::V6;

/// What every program may read and run: the system's own.
const SYSTEM: [&str; 12] =
    ["/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/usr", "/etc", "/opt", "/nix", "/proc", "/sys"];

/// Devices that every program may use.
const DEVICES: [&str; 8] =
    ["/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty", "/dev/ptmx", "/dev/pts"];

/// Confines the calling thread and whatever it starts; tells from what.
pub(crate) fn enter(cell: &Cell) -> Confined {
    // What cannot be had is left out, and told.
    let mut kept = restrict(cell).unwrap_or_default();
    if give_up_rights().is_err() {
        kept.remove(&Kept::Processes);
    }
    if cell.network.is_none() && super::filter::no_sockets().is_ok() {
        kept.extend([Kept::Tcp, Kept::Network, Kept::LocalSockets]);
    }
    Confined(kept)
}

/// Gives up root's rights but those to read and write whatever files the rules allow: with them even a confined process
/// may read what others have in memory. For everybody else there is nothing to give up.
fn give_up_rights() -> rustix::io::Result<()> {
    let files = CapabilitySet::DAC_OVERRIDE | CapabilitySet::DAC_READ_SEARCH;
    let CapabilitySets { effective, permitted, .. } = capabilities(None)?;
    let inheritable = CapabilitySet::empty();
    // No new privileges are given once the rules hold, so a program that is started has no more than these.
    set_capabilities(None, CapabilitySets { effective: effective & files, permitted: permitted & files, inheritable })
}

fn restrict(cell: &Cell) -> Result<BTreeSet<Kept>, RulesetError> {
    let mut ruleset = Ruleset::default().set_compatibility(CompatLevel::BestEffort);
    let writes = AccessFs::from_write(NEWEST);
    let handled = if cell.reads == Reads::Everything { writes } else { AccessFs::from_all(NEWEST) };
    ruleset = ruleset.handle_access(handled)?.scope(Scope::from_all(NEWEST))?;
    if cell.network.is_none() {
        ruleset = ruleset.handle_access(AccessNet::from_all(NEWEST))?;
    }
    let mut created = ruleset.create()?;
    let device = AccessFs::ReadFile | AccessFs::WriteFile | AccessFs::IoctlDev;
    created = allow(created, DEVICES.iter().map(Path::new), device & handled)?;
    created = allow(created, cell.writes.iter().map(PathBuf::as_path), handled)?;
    if let Reads::SystemAnd(more) = &cell.reads {
        let system = SYSTEM.iter().map(Path::new);
        created = allow(created, system.chain(more.iter().map(PathBuf::as_path)), AccessFs::from_read(NEWEST))?;
    }
    let status = created.restrict_self()?;
    let LandlockStatus::Available { effective_abi, .. } = status.landlock else { return Ok(BTreeSet::new()) };
    let mut kept = BTreeSet::new();
    if status.ruleset != RulesetStatus::NotEnforced {
        kept.insert(Kept::Writing);
        // A confined process may not look into processes that are not confined alike (ptrace access).
        kept.insert(Kept::Processes);
        kept.extend((cell.reads != Reads::Everything).then_some(Kept::Reading));
        kept.extend((effective_abi >= ABI::V4 && cell.network.is_none()).then_some(Kept::Tcp));
        kept.extend((effective_abi >= ABI::V6).then_some(Kept::Signals));
    }
    Ok(kept)
}

/// Rules for the paths that are there.
fn allow<'p>(
    mut ruleset: RulesetCreated,
    paths: impl Iterator<Item = &'p Path>,
    access: landlock::BitFlags<AccessFs>,
) -> Result<RulesetCreated, RulesetError> {
    for path in paths {
        let Ok(handle) = PathFd::new(path) else { continue };
        let is_file = path.is_file() || !path.is_dir();
        let access = if is_file { access & AccessFs::from_file(NEWEST) } else { access };
        if !access.is_empty() {
            ruleset = ruleset.add_rule(PathBeneath::new(handle, access))?;
        }
    }
    Ok(ruleset)
}
