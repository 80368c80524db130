//! What checks and rehearsals are kept to: what they may read, which commands of the host they find, what network they have.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use kladder_choose::catalog::{CommandName, Demand, HostPath, Trial};
use kladder_choose::pins::HostCopy;

use crate::base::event::Confined;
use crate::host::confine::{Cell, Network, Reads};
use crate::host::enclosed::Encloser;
use crate::host::process::Most;
use crate::host::rooms::Room;
use crate::host::survey::{self, Host, answers};
use crate::tasks::{Rung, Source};

/// The utilities that every system of this kind has, and that nobody has to declare: those of POSIX (XCU, "Utilities") but for
/// compilers, editors and mail, and those that come with them everywhere.
const PLAIN: &str = "[ arch awk base64 basename bc cat chgrp chmod chown cksum cmp comm cp csplit cut date dd df diff dirname du \
    echo egrep env expand expr factor false fgrep file find fold getconf getopt grep groups head hostname id install join kill \
    ldd link ln locale logger login logname ls md5sum mkdir mkfifo mknod mktemp mv nice nl nohup nproc numfmt od paste patch \
    pathchk pgrep pkill pr printenv printf ps pwd readlink realpath renice rm rmdir sed seq setsid sh sha1sum sha256sum \
    sha512sum shuf sleep sort split stat stdbuf stty sum sync tac tail tee test time timeout touch tput tr true truncate tsort \
    tty uname unexpand uniq unlink users wait wc which who whoami xargs yes";

/// Where a system's own answer to names is, for programs that may use the network.
const RESOLVER: [&str; 2] = ["/run/systemd/resolve", "/run/resolvconf"];

/// Where systems have what programs are made of, and nobody calls by name.
const PARTS: [&str; 6] = ["/lib", "/lib32", "/lib64", "/usr/lib", "/usr/lib64", "/usr/libexec"];

/// More processes than this at one time are more than a check should need.
const PROCESSES: usize = 2000;

/// How programs of a bench are kept in.
pub(super) struct Keeping {
    /// Folders that all may read: the shelf, the ladder's own, and what was declared.
    reads: Vec<PathBuf>,
    /// Those of them that are the ladder's.
    ours: Vec<PathBuf>,
    /// The folder with links to the host's commands that may be found.
    commands: PathBuf,
    /// The files behind those links.
    declared: Mutex<BTreeSet<PathBuf>>,
    /// Programs of rungs that cannot be watched, since they watch others.
    let_go: Vec<PathBuf>,
    most: Most,
    encloser: Option<Encloser>,
    /// This program.
    itself: Option<PathBuf>,
    seen: Mutex<Option<Confined>>,
}

impl Keeping {
    /// What is kept from programs of these rungs; `ladder` is the ladder's folder.
    pub(super) fn of(rungs: &[Rung], ladder: &Path, scratch: &Path, host: &Host) -> Self {
        let home = host.person.as_deref();
        let (mut reads, mut declared_reads) = (vec![ladder.to_path_buf()], Vec::new());
        for rung in rungs {
            match &rung.source {
                Source::Shelf(shelved) => reads.push(shelved.place.folder.clone()),
                Source::Host(HostCopy::Laid { folder }) => reads.push(folder.clone()),
                Source::Host(copy) => reads.extend(around(copy.path())),
            }
            reads.extend(rung.berth.iter().map(|berth| berth.folder.clone()));
            declared_reads.extend(rung.definition.says.reads.iter().filter_map(|path| path.of(home)));
        }
        let ours: Vec<PathBuf> = reads.iter().filter_map(|path| fs::canonicalize(path).ok()).collect();
        reads.append(&mut declared_reads);
        reads.extend(reads.clone().iter().filter_map(|path| fs::canonicalize(path).ok()));
        reads.sort();
        reads.dedup();
        let commands = scratch.join("host");
        let keeping = Self {
            reads,
            ours,
            commands,
            declared: Mutex::default(),
            let_go: attaching(rungs),
            most: Most { processes: PROCESSES, memory: memory(host) },
            encloser: host.encloser(),
            itself: host.kladder.as_ref().and_then(|kladder| fs::canonicalize(kladder).ok()),
            seen: Mutex::default(),
        };
        for (name, file) in declared(rungs, &host.path) {
            keeping.link(&name, &file);
        }
        keeping
    }

    /// Where the rungs are: on the shelf, in berths, on the host.
    pub(super) fn of_rungs(&self) -> &[PathBuf] {
        &self.ours
    }

    /// The folder in which the host's commands that may be started are found.
    pub(super) fn commands(&self) -> &Path {
        &self.commands
    }

    /// Lets further commands of the host be found, where the host has them.
    pub(super) fn also(&self, commands: &[CommandName], path: &OsString) {
        for command in commands {
            if let Some(file) = answers(command.as_str(), path) {
                self.link(command.as_str(), &file);
            }
        }
    }

    /// Programs that are not watched.
    pub(super) fn let_go(&self) -> &[PathBuf] {
        &self.let_go
    }

    /// Whether a program may be started without being declared: one of the ladder's, a declared one, or a part of the system that
    /// others are made of.
    pub(super) fn is_declared(&self, program: &Path) -> bool {
        let is_part = || PARTS.iter().any(|folder| program.starts_with(folder));
        let is_ours = || self.ours.iter().any(|folder| program.starts_with(folder));
        let is_self = || self.itself.as_deref() == Some(program);
        let is_known = || self.declared.lock().unwrap_or_else(PoisonError::into_inner).contains(program);
        is_ours() || is_known() || is_part() || is_self()
    }

    fn link(&self, name: &str, file: &Path) {
        self.declared.lock().unwrap_or_else(PoisonError::into_inner).extend(fs::canonicalize(file));
        // Without it the command is not found, which is told where it is missed.
        let _ = fs::create_dir_all(&self.commands);
        let _ = std::os::unix::fs::symlink(file, self.commands.join(name));
    }

    /// A cell in which something may be written, and read what the rungs may.
    pub(super) fn cell(&self, writes: Vec<PathBuf>, network: Network, more: &[PathBuf]) -> Cell {
        let resolver = RESOLVER.iter().filter(|_| network == Network::All).map(PathBuf::from);
        let reads = self.reads.iter().chain(more).chain([&self.commands]).cloned().chain(resolver).collect();
        Cell { reads: Reads::SystemAnd(reads), writes, network, shown: Vec::new() }
    }

    /// The network of a rehearsal, in which its steps reach one another; without one, there is the loopback of the host, and
    /// that it was not kept from more is told.
    pub(super) fn room(&self) -> Option<Room> {
        Room::open(self.encloser.as_ref()?)
    }

    pub(super) fn encloser(&self) -> Option<&Encloser> {
        self.encloser.as_ref()
    }

    /// What a command may take of the machine.
    pub(super) fn most(&self, trial: &Trial) -> Most {
        Most {
            processes: trial.processes.unwrap_or(self.most.processes),
            memory: trial.memory.unwrap_or(self.most.memory),
        }
    }

    /// Remembers what one was kept from: what is told in the end is what all were.
    pub(super) fn was(&self, confined: &Confined) {
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let both = match seen.as_ref() {
            None => confined.clone(),
            Some(seen) => Confined(seen.0.intersection(&confined.0).copied().collect()),
        };
        *seen = Some(both);
    }

    /// What all that were run were kept from; `None` where nothing was.
    pub(super) fn seen(&self) -> Option<Confined> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Paths of the host as this person has them.
pub(super) fn paths(paths: &[HostPath], host: &Host) -> Vec<PathBuf> {
    paths.iter().filter_map(|path| path.of(host.person.as_deref())).collect()
}

/// What lies around a program of the host, so that it finds its own files: the folder above the one it is in. Those of the
/// system may be read anyway.
fn around(file: &Path) -> Option<PathBuf> {
    let real = fs::canonicalize(file).ok()?;
    let folder = real.parent()?.parent()?;
    (folder.components().count() > 2).then(|| folder.to_path_buf())
}

/// The host's commands that programs of these rungs may start, and the files behind them.
fn declared(rungs: &[Rung], path: &OsString) -> Vec<(String, PathBuf)> {
    let mut names: BTreeSet<String> = PLAIN.split_whitespace().map(str::to_owned).collect();
    let mut declared = Vec::new();
    for rung in rungs {
        names.extend(rung.definition.says.calls.iter().map(ToString::to_string));
        names.extend(rung.definition.says.gates.iter().filter_map(|gate| match &gate.demand {
            Demand::Command(command) => Some(command.name.clone()),
            _ => None,
        }));
        let probed = rung.definition.host.as_ref().and_then(|probe| probe.command.as_ref());
        if let (Source::Host(HostCopy::Itself(file)), Some(command)) = (&rung.source, probed) {
            declared.push((command.to_string(), file.clone()));
        }
    }
    declared.extend(names.into_iter().filter_map(|name| answers(&name, path).map(|file| (name, file))));
    declared
}

/// The programs of rungs that attach themselves to others.
fn attaching(rungs: &[Rung]) -> Vec<PathBuf> {
    let of_rung = |rung: &Rung| {
        let attaching: Vec<_> = rung.commands.values().filter(|command| command.attaches).collect();
        let files = attaching.into_iter().map(|command| rung.file_of(command).below(&rung.files()));
        files.filter_map(|file| fs::canonicalize(file).ok()).collect::<Vec<_>>()
    };
    rungs.iter().flat_map(of_rung).collect()
}

/// Memory that programs may use together, in bytes: three quarters of what there is.
fn memory(host: &Host) -> u64 {
    survey::memory(host).map_or(u64::MAX, |total| total / 4 * 3)
}
