//! Watching what a process starts (ptrace(2)): each program that it and its descendants become is written down, and which files
//! each had mapped when it ended.
//!
//! Where it is wanted, a filter of system calls (seccomp(2), `SECCOMP_RET_TRACE`) stops whoever is about to reach somebody, and to whom
//! is read from its memory before it goes on.
//!
//! A process that is watched cannot be watched by others: debuggers are let go when they start, with all that they start.

use std::collections::{HashMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use nix::sys::ptrace::{self, Options};
use nix::sys::signal::{Signal, kill, raise};
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::Pid;
use rustix::io::Errno;
use rustix::process::{WaitOptions, wait};

use super::reach;
use crate::sys::Line;

/// More starts than this are not written down.
const MOST: usize = 50_000;
/// Children of every kind are waited for, threads too (`__WALL`, wait(2)).
const ALL: u32 = 0x4000_0000;
/// Words of a command line that are looked at for files.
const WORDS: usize = 8;

/// Waits until the parent says that it watches. For the process that is to be watched.
pub(crate) fn wait_to_be_watched() -> bool {
    raise(Signal::SIGSTOP).is_ok()
}

/// Watches a child that waits for it until it ends, and writes down what is started; tells its status as a shell would. `None` where
/// it cannot be watched: then it waits no more, and nobody watches.
pub(crate) fn watch(child: u32, let_go: &[PathBuf], told: File) -> Option<i32> {
    let child = Pid::from_raw(i32::try_from(child).ok()?);
    let stopped = waitpid(child, Some(WaitPidFlag::WUNTRACED)).ok()?;
    let is_watched = matches!(stopped, WaitStatus::Stopped(..)) && ptrace::seize(child, options()).is_ok();
    let _ = kill(child, Signal::SIGCONT);
    if !is_watched {
        return None;
    }
    let mut seen = Seen { let_go, told, starts: 0, images: HashMap::new(), early: HashSet::new(), first: child };
    loop {
        let (pid, status) = match wait(WaitOptions::from_bits_retain(ALL)) {
            Ok(Some((pid, status))) => (Pid::from_raw(pid.as_raw_nonzero().get()), status.as_raw()),
            Err(Errno::INTR) => continue,
            Ok(None) | Err(_) => return None,
        };
        match decoded(status) {
            Told::Ended(status) if pid == child => return Some(status),
            Told::Ended(_) => {}
            Told::Event(event) => seen.event(pid, event),
            // Of signals that have no name here nothing can be handed on: few programs use them among themselves.
            Told::Signal(signal) => {
                let signal = Signal::try_from(signal).ok();
                // Whoever is told to go on does so anyway.
                go_on(pid, signal.filter(|one| !matches!(one, Signal::SIGTRAP | Signal::SIGSTOP | Signal::SIGCONT)));
            }
        }
    }
}

/// What waiting for a process told.
enum Told {
    /// It ended, with this status as shells have it.
    Ended(i32),
    /// Something that is watched for happened.
    Event(i32),
    /// It is about to get a signal.
    Signal(i32),
}

/// Reads a status as wait(2) gives it; the event of a stop stands above the signal (ptrace(2)).
fn decoded(status: i32) -> Told {
    let (low, high) = (status & 0x7f, (status >> 8) & 0xff);
    match (status & 0xff, status >> 16) {
        (0x7f, 0) => Told::Signal(high),
        (0x7f, event) => Told::Event(event),
        _ if low == 0 => Told::Ended(high),
        _ => Told::Ended(128 + low),
    }
}

fn options() -> Options {
    let follow = Options::PTRACE_O_TRACEFORK | Options::PTRACE_O_TRACEVFORK | Options::PTRACE_O_TRACECLONE;
    follow | Options::PTRACE_O_TRACEEXEC | Options::PTRACE_O_TRACEEXIT | Options::PTRACE_O_TRACESECCOMP
}

fn go_on(pid: Pid, signal: Option<Signal>) {
    // One that was ended meanwhile goes on in no other way.
    let _ = ptrace::cont(pid, signal);
}

struct Seen<'s> {
    let_go: &'s [PathBuf],
    told: File,
    /// How many were written down.
    starts: usize,
    /// Which start a process is, by its number.
    images: HashMap<Pid, Option<usize>>,
    /// Processes that were seen before it was seen who made them.
    early: HashSet<Pid>,
    first: Pid,
}

impl Seen<'_> {
    fn event(&mut self, pid: Pid, event: i32) {
        let about = || ptrace::getevent(pid).ok().and_then(|number| i32::try_from(number).ok()).map(Pid::from_raw);
        match event {
            // The kernel's numbers (linux/ptrace.h): fork, vfork, clone; exec; exit; a filtered call; stop.
            1..=3 => {
                if let Some(new) = about() {
                    self.images.insert(new, self.images.get(&pid).copied().flatten());
                    if self.early.remove(&new) {
                        go_on(new, None);
                    }
                }
            }
            4 if self.started(pid) => {
                let _ = ptrace::detach(pid, None);
                return;
            }
            6 => self.ends(pid),
            7 => {
                if let Some((of, to)) = self.images.get(&pid).copied().flatten().zip(reach::whom(pid)) {
                    self.tell(&Line::Reach { of, to });
                }
            }
            // It stays where it is until it is known whose child it is.
            128 if pid != self.first && !self.images.contains_key(&pid) => {
                self.early.insert(pid);
                return;
            }
            _ => {}
        }
        go_on(pid, None);
    }

    /// Writes down what a process has become; tells whether it is to be let go.
    fn started(&mut self, pid: Pid) -> bool {
        let process = PathBuf::from(format!("/proc/{pid}"));
        let Ok(program) = fs::read_link(process.join("exe")) else { return false };
        let is_let_go = self.let_go.contains(&program);
        if self.starts < MOST {
            let files = [program].into_iter().chain(named(&process)).collect();
            let by = self.images.insert(pid, Some(self.starts)).flatten();
            self.starts += 1;
            self.tell(&Line::Start { by, files });
        }
        is_let_go
    }

    fn tell(&mut self, line: &Line) {
        // What cannot be written down was not seen, which is all that comes of it.
        let text = serde_json::to_string(line).unwrap_or_default() + "\n";
        let _ = self.told.write_all(text.as_bytes());
    }

    /// Writes down what a process had mapped.
    fn ends(&mut self, pid: Pid) {
        let Some(of) = self.images.remove(&pid).flatten() else { return };
        let mut mapped: Vec<PathBuf> = Vec::new();
        let maps = fs::read(format!("/proc/{pid}/maps")).unwrap_or_default();
        for line in maps.split(|&byte| byte == b'\n') {
            // The sixth field is the file; what the system's own libraries are is no news.
            let Some(at) = line.iter().position(|&byte| byte == b'/') else { continue };
            let file = Path::new(OsStr::from_bytes(&line[at..]));
            let is_system = ["/usr", "/lib", "/dev"].iter().any(|folder| file.starts_with(folder));
            if !is_system && !mapped.iter().any(|known| known == file) {
                mapped.push(file.to_path_buf());
            }
        }
        self.tell(&Line::End { of, mapped });
    }
}

/// The files that the first words of a command line name: a script after its interpreter, an archive of classes.
fn named(process: &Path) -> Vec<PathBuf> {
    let words = fs::read(process.join("cmdline")).unwrap_or_default();
    let Ok(folder) = fs::read_link(process.join("cwd")) else { return Vec::new() };
    let words = words.split(|&byte| byte == 0).skip(1).take(WORDS).map(OsStr::from_bytes).map(OsString::from);
    words
        .map(|word| folder.join(word))
        .filter_map(|file| fs::canonicalize(file).ok().filter(|file| file.is_file()))
        .collect()
}
