//! Namespaces (namespaces(7)): mounts of its own, so that what is not the process's cannot be changed in any way, and
//! processes of its own, so that nothing lives on. The rights for that come with a user namespace, where the caller has none.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use nix::sched::CloneFlags;
use rustix::mount::{MountFlags, MountPropagationFlags, mount, mount_bind_recursive, mount_change, mount_remount};
use rustix::process::{Signal, chdir, getcwd, getegid, geteuid, set_parent_process_death_signal};
use rustix::thread::{
    CapabilitySet, CapabilitySets, capabilities, clear_ambient_capability_set, configure_capability_in_ambient_set,
    set_capabilities,
};

use crate::sys::{Shown, Spaces};

/// Makes namespaces of its own for the calling process, which must have one thread, where everything but `writes` is
/// read-only, and some folders are seen in place of others. The process itself stays where it was among processes; what it starts next is the first of its own.
pub(crate) fn enter(writes: &[PathBuf], shown: &[Shown]) -> Spaces {
    end_with_parent();
    let own = CloneFlags::CLONE_NEWNS | CloneFlags::CLONE_NEWPID | CloneFlags::CLONE_NEWIPC;
    if nix::sched::unshare(own).is_err() {
        let (user, group) = (geteuid().as_raw(), getegid().as_raw());
        if nix::sched::unshare(own | CloneFlags::CLONE_NEWUSER).is_err() || stay_oneself(user, group).is_err() {
            return Spaces::default();
        }
    }
    // Needed once more, after another program was started, to show it its own processes.
    let _ = keep_the_right_to_mount();
    let shows = mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC).is_ok()
        && shown.iter().all(|one| mount_bind_recursive(&one.own, &one.at).is_ok());
    Spaces { processes: true, shows, read_only: make_read_only(writes).unwrap_or(false) }
}

/// What the first process of the new ones does: it goes when its parent does, sees its own processes, and gives up the
/// right that it was left for that.
pub(crate) fn settle() {
    end_with_parent();
    // Where /proc cannot be mounted anew, it shows numbers of processes that are not those the process knows, which few
    // programs look at.
    let flags = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    let _ = mount("proc", "/proc", "proc", flags, None);
    let _ = clear_ambient_capability_set();
}

/// A parent that was killed takes along what it started.
fn end_with_parent() {
    // Whoever ends the parent otherwise ends the whole group.
    let _ = set_parent_process_death_signal(Some(Signal::KILL));
}

/// Who one is stays the same in the new namespace (`user_namespaces(7)`).
pub(super) fn stay_oneself(user: u32, group: u32) -> io::Result<()> {
    fs::write("/proc/self/setgroups", "deny")?;
    fs::write("/proc/self/uid_map", format!("{user} {user} 1"))?;
    fs::write("/proc/self/gid_map", format!("{group} {group} 1"))
}

fn keep_the_right_to_mount() -> rustix::io::Result<()> {
    let CapabilitySets { effective, permitted, inheritable } = capabilities(None)?;
    let inheritable = inheritable | CapabilitySet::SYS_ADMIN;
    set_capabilities(None, CapabilitySets { effective, permitted, inheritable })?;
    configure_capability_in_ambient_set(CapabilitySet::SYS_ADMIN, true)
}

/// Whether everything but some folders is read-only now.
fn make_read_only(writes: &[PathBuf]) -> io::Result<bool> {
    for folder in writes {
        mount_bind_recursive(folder, folder)?;
    }
    let mut all = true;
    for (folder, flags) in mounts(&fs::read_to_string("/proc/self/mountinfo")?) {
        if writes.iter().any(|write| folder.starts_with(write)) {
            continue;
        }
        let remounted = mount_remount(&folder, MountFlags::BIND | MountFlags::RDONLY | flags, "");
        // What the process cannot reach, it cannot change either.
        all &= remounted.is_ok() || fs::symlink_metadata(&folder).is_err();
    }
    // The current folder is where it was, below what was mounted over it.
    chdir(getcwd(Vec::new())?)?;
    Ok(all)
}

/// Where something is mounted, and with which flags, which must stay as they are: the fifth and sixth field
/// (`proc_pid_mountinfo(5)`).
fn mounts(text: &str) -> impl Iterator<Item = (PathBuf, MountFlags)> {
    let read = |line: &str| {
        let mut fields = line.split(' ').skip(4);
        let (folder, options) = (fields.next()?, fields.next()?);
        let flags = options.split(',').map(flag).fold(MountFlags::empty(), MountFlags::union);
        Some((Path::new(&plain(folder)).to_path_buf(), flags))
    };
    text.lines().filter_map(read).collect::<Vec<_>>().into_iter()
}

fn flag(option: &str) -> MountFlags {
    match option {
        "nosuid" => MountFlags::NOSUID,
        "nodev" => MountFlags::NODEV,
        "noexec" => MountFlags::NOEXEC,
        "noatime" => MountFlags::NOATIME,
        "nodiratime" => MountFlags::NODIRATIME,
        "relatime" => MountFlags::RELATIME,
        _ => MountFlags::empty(),
    }
}

/// A path with its blanks, tabs, line ends and backslashes back (octal in this file).
fn plain(field: &str) -> String {
    [("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")]
        .iter()
        .fold(field.to_owned(), |field, (octal, char)| field.replace(octal, char))
}
