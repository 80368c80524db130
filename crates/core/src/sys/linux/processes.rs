//! Processes that were left behind: whoever loses its parent becomes a child of this process, and is ended with the others.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::time::{Duration, SystemTime};

use crate::sys::Usage;
use rustix::process::{Pid, Signal, getpid, kill_process, set_child_subreaper};

/// From now on orphans of this process's children are its own (prctl(2), `PR_SET_CHILD_SUBREAPER`); tells whether that is
/// so.
pub(crate) fn adopt_orphans() -> bool {
    set_child_subreaper(Some(getpid())).is_ok()
}

/// Ends every process that descends from this one and carries `mark` in its environment.
pub(crate) fn end_descendants(mark: &str) {
    end(|| marked(mark), true);
}

/// Ends those that have left their group and their parent with an environment that says nothing of us: whoever started them is
/// gone.
pub(crate) fn end_strays() {
    end(|| tree().1, true);
}

/// The same for whoever is not their parent, and leaves them to be waited for.
pub(crate) fn kill_descendants(mark: &str) {
    end(|| marked(mark), false);
}

fn end(left: impl Fn() -> BTreeSet<i32>, reaps: bool) {
    // A process may start another one while it is looked for; in the end there is nobody left who could.
    for _ in 0..50 {
        let left = left();
        if left.is_empty() {
            return;
        }
        for pid in left {
            if let Some(pid) = Pid::from_raw(pid) {
                // Gone already is what is wanted.
                let _ = kill_process(pid, Signal::KILL);
                if reaps {
                    let _ = rustix::process::waitpid(Some(pid), rustix::process::WaitOptions::NOHANG);
                }
            }
        }
        std::thread::sleep(std::time::Duration::from_millis(2));
    }
}

/// Ends every process that has a variable in its environment that begins so: what runs of a process that was killed left behind.
pub(crate) fn end_left_behind(beginning: &str) {
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let pid = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok());
        let is_it = |pid: &i32| {
            let environment = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
            environment.split(|&byte| byte == 0).any(|variable| variable.starts_with(beginning.as_bytes()))
        };
        // Gone already is what is wanted; whoever is called from there is not meant.
        let own = getpid().as_raw_nonzero().get();
        let _ = pid
            .filter(|pid| *pid != own && is_it(pid))
            .and_then(Pid::from_raw)
            .map(|pid| kill_process(pid, Signal::KILL));
    }
}

/// Whether any other process has a variable of this text in its environment.
pub(crate) fn any_marked(mark: &str) -> bool {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let mut numbers = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
    numbers.any(|pid| pid != getpid().as_raw_nonzero().get() && has_mark(pid, mark))
}

/// The processes whose program, or the script that it runs, is one of these, and since when each runs.
pub(crate) fn running(is_its: &dyn Fn(&Path) -> bool) -> Vec<(i32, SystemTime)> {
    // How long the system is up, in seconds (`proc_uptime(5)`).
    let text = fs::read_to_string("/proc/uptime").unwrap_or_default();
    let up = text.split_whitespace().next().and_then(|word| word.parse::<f64>().ok());
    let (now, ticks) = (SystemTime::now(), rustix::param::clock_ticks_per_second());
    let Some(up) = up.and_then(|up| now.checked_sub(Duration::try_from_secs_f64(up).ok()?)) else { return Vec::new() };
    let one = |pid: i32| {
        let program = fs::read_link(format!("/proc/{pid}/exe")).ok()?;
        let words = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
        let script = words.split(|&byte| byte == 0).nth(1).map(|word| Path::new(OsStr::from_bytes(word)));
        let script = script.filter(|script| script.is_absolute()).and_then(|script| fs::canonicalize(script).ok());
        let is_one = is_its(&program) || script.is_some_and(|script| is_its(&script));
        let since = stat_of(pid).filter(|stat| is_one && stat.state != 'Z')?.since;
        Some((pid, up + Duration::from_secs(since) / u32::try_from(ticks).ok()?))
    };
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    processes.filter_map(|entry| one(entry.file_name().to_str()?.parse().ok()?)).collect()
}

/// What all processes of this mark take together, and those that nobody marked where that is wanted.
pub(crate) fn usage(mark: &str, with_strays: bool) -> Usage {
    let mut usage = Usage::default();
    let strays = if with_strays { tree().1 } else { BTreeSet::new() };
    for pid in marked(mark).into_iter().chain(strays) {
        let resident = || {
            // The second number counts the pages that are in memory (`proc_pid_statm(5)`).
            let text = fs::read_to_string(format!("/proc/{pid}/statm")).ok()?;
            text.split_whitespace().nth(1)?.parse::<u64>().ok()
        };
        usage.processes += 1;
        usage.memory += resident().unwrap_or(0) * u64::try_from(rustix::param::page_size()).unwrap_or(0);
    }
    usage
}

/// The processes below this one that have a variable of this text in their environment.
fn marked(mark: &str) -> BTreeSet<i32> {
    let mut below = tree().0;
    below.retain(|pid| has_mark(*pid, mark));
    below
}

/// All processes below this one; and those of its children that lead a group of their own and say nothing of us.
fn tree() -> (BTreeSet<i32>, BTreeSet<i32>) {
    let mut children: BTreeMap<i32, Vec<i32>> = BTreeMap::new();
    let own = getpid().as_raw_nonzero().get();
    let own_group = stat_of(own).map_or(0, |stat| stat.group);
    let mut strays = BTreeSet::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok()) else { continue };
        if let Some(Stat { parent, group, .. }) = stat_of(pid).filter(|stat| stat.state != 'Z') {
            children.entry(parent).or_default().push(pid);
            strays.extend((parent == own && group != own_group && says_nothing(pid)).then_some(pid));
        }
    }
    let mut below = BTreeSet::new();
    let mut open = vec![own];
    while let Some(parent) = open.pop() {
        for &child in children.get(&parent).into_iter().flatten() {
            if below.insert(child) {
                open.push(child);
            }
        }
    }
    (below, strays)
}

/// What the system tells of a process (`proc_pid_stat(5)`).
struct Stat {
    state: char,
    parent: i32,
    group: i32,
    /// Ticks of the clock after the system came up.
    since: u64,
}

fn stat_of(pid: i32) -> Option<Stat> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let mut fields = text.rsplit_once(')')?.1.split_whitespace();
    let state = fields.next()?.chars().next()?;
    let (parent, group) = (fields.next()?.parse().ok()?, fields.next()?.parse().ok()?);
    // The start is the twenty-second field, and five were taken.
    Some(Stat { state, parent, group, since: fields.nth(16)?.parse().ok()? })
}

/// Whether a process has no variable of ours in its environment: all that is started here by itself has one, or is in our group.
fn says_nothing(pid: i32) -> bool {
    let environment = fs::read(format!("/proc/{pid}/environ"));
    environment.is_ok_and(|text| !text.split(|&byte| byte == 0).any(|variable| variable.starts_with(b"KLADDER_")))
}

fn has_mark(pid: i32, mark: &str) -> bool {
    let environment = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
    environment.split(|&byte| byte == 0).any(|variable| variable == mark.as_bytes())
}
