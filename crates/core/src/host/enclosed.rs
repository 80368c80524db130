//! A process of our own that shuts itself in before it starts what it was given: namespaces are had by a process of one
//! thread only, and this program has many.
//!
//! It is this program again, called with a word of its own and what the process may do; whoever is `kladder`'s main function hands
//! its arguments to [`answer`] first. The first of the processes makes the namespaces, the second is the first process in
//! them: it starts the command, confined as ever, and all that is left ends with it. Where what the command starts is to be written
//! down, a third becomes the command, and the second watches it. What became of it stands in a file that the command cannot
//! write.

use std::ffi::OsString;
use std::fs::{self, File, OpenOptions};
use std::io::{self, IsTerminal, Seek, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus};

use tempfile::NamedTempFile;

use serde::{Deserialize, Serialize};

use super::process::Watching;
use super::survey::scratch;
use super::{confine, rooms};
use crate::sys::{self, Cell, Confined, Kept, Network, Reads, Shown, Start};

/// The first argument of a call that is no user's.
const WORD: &str = "--in-a-cell";
/// How the second process is told that it is one.
const SECOND: &str = "--in-a-cell-of-its-own";
/// How a process is told that it is to become the command, watched.
const WATCHED: &str = "--in-a-cell-and-watched";

/// What became of the command.
#[derive(Default, Serialize, Deserialize)]
struct Report {
    /// What it is kept from.
    kept: Confined,
    /// The system's number of the error for which it could not be started.
    failed: Option<i32>,
}

/// What can start commands shut in.
#[derive(Clone, Debug)]
pub struct Encloser {
    /// A program whose main function hands its arguments to [`answer`]: `kladder` itself.
    pub kladder: PathBuf,
    /// Where it may report to; a command that is shut in cannot write there.
    pub reports: PathBuf,
}

/// How a command is started by way of an encloser.
pub(super) struct Way {
    /// The program and its arguments.
    pub(super) words: Vec<OsString>,
    report: NamedTempFile,
    /// What is started, line by line.
    starts: NamedTempFile,
}

/// How files of reports are called, so that those of killed processes are swept away with their scratch folders.
fn report_in(folder: &Path) -> io::Result<NamedTempFile> {
    tempfile::Builder::new().prefix(&scratch()).tempfile_in(folder)
}

/// What an encloser is told.
struct Order {
    /// What the command is kept to.
    cell: Cell,
    /// Programs that are not watched, where all others are.
    watched: Option<Vec<PathBuf>>,
    /// Whether those that are watched are stopped before they reach anybody.
    reach: bool,
    /// The command; empty where it is only asked what it would be kept from.
    run: Vec<OsString>,
}

impl Order {
    /// In words: the network, then how many folders may be read, and which, then the same for those that may be written, for those
    /// that are shown and where, and for programs that are not watched; whether it is seen whom they reach; the rest is the command.
    fn words(&self) -> Vec<OsString> {
        let network = match self.cell.network {
            Network::All => "all".to_owned(),
            Network::None => "none".to_owned(),
            Network::Room(process) => process.to_string(),
        };
        let mut words: Vec<OsString> = vec![network.into()];
        match &self.cell.reads {
            Reads::Everything => words.push("any".into()),
            Reads::SystemAnd(folders) => counted(folders, &mut words),
        }
        counted(&self.cell.writes, &mut words);
        let pairs = self.cell.shown.iter().flat_map(|one| [one.own.clone(), one.at.clone()]);
        counted(&pairs.collect::<Vec<_>>(), &mut words);
        match &self.watched {
            None => words.push("any".into()),
            Some(let_go) => counted(let_go, &mut words),
        }
        words.push(if self.reach { "reach" } else { "any" }.into());
        words.extend(self.run.iter().cloned());
        words
    }

    /// The reverse of [`Order::words`]; `None` where they are none.
    fn of(mut rest: impl Iterator<Item = OsString>) -> Option<Self> {
        let network = rest.next()?;
        let network = match network.to_str()? {
            "all" => Network::All,
            "none" => Network::None,
            process => Network::Room(process.parse().ok()?),
        };
        let reads = folders(&mut rest)?.map_or(Reads::Everything, Reads::SystemAnd);
        let (writes, pairs) = (folders(&mut rest)??, folders(&mut rest)??);
        let shown = pairs.chunks_exact(2).map(|pair| Shown { own: pair[0].clone(), at: pair[1].clone() }).collect();
        let watched = folders(&mut rest)?;
        let reach = rest.next()? == "reach";
        Some(Self { cell: Cell { reads, writes, network, shown }, watched, reach, run: rest.collect() })
    }
}

fn counted(folders: &[PathBuf], words: &mut Vec<OsString>) {
    words.push(folders.len().to_string().into());
    words.extend(folders.iter().map(|folder| folder.clone().into()));
}

/// Folders that were counted; `Some(None)` where there is no list.
#[expect(clippy::option_option, reason = "no list is not an empty one, and neither is a wrong one")]
fn folders(rest: &mut impl Iterator<Item = OsString>) -> Option<Option<Vec<PathBuf>>> {
    let many = rest.next()?;
    if many == "any" {
        return Some(None);
    }
    let many: usize = many.to_str()?.parse().ok()?;
    Some(Some(rest.take(many).map(PathBuf::from).collect()))
}

impl Way {
    /// The way to start `run` in `cell`. With nothing to run it is only found out what it would be kept from.
    pub(super) fn of(
        encloser: &Encloser,
        cell: &Cell,
        run: &[OsString],
        watched: Option<Watching<'_>>,
    ) -> io::Result<Self> {
        let (report, starts) = (report_in(&encloser.reports)?, report_in(&encloser.reports)?);
        let reach = watched.is_some_and(|watching| watching.reach);
        let watched = watched.map(|watching| watching.let_go.to_vec());
        let order = Order { cell: cell.clone(), watched, reach, run: run.to_vec() };
        let first = [encloser.kladder.clone().into(), WORD.into(), report.path().into(), starts.path().into()];
        Ok(Self { words: first.into_iter().chain(order.words()).collect(), report, starts })
    }

    /// What the command was kept from.
    ///
    /// # Errors
    /// Why it could not be started.
    pub(super) fn told(&self) -> io::Result<Confined> {
        let told: Report = serde_json::from_slice(&fs::read(self.report.path())?)?;
        match told.failed {
            Some(number) => Err(io::Error::from_raw_os_error(number)),
            None => Ok(told.kept),
        }
    }

    /// What it has started so far, where that is watched.
    pub(super) fn starts(&self) -> Option<Vec<Start>> {
        let bytes = fs::read(self.starts.path()).ok()?;
        Start::all(&String::from_utf8_lossy(&bytes))
    }
}

/// What a command can be kept from here.
pub(super) fn possible(encloser: &Encloser, cell: &Cell) -> io::Result<Confined> {
    let way = Way::of(encloser, cell, &[], None)?;
    Command::new(&way.words[0]).args(&way.words[1..]).env_clear().status()?;
    way.told()
}

/// Does what a call with that word asks for, and tells the exit code; `None` for every other call.
pub fn answer(arguments: impl IntoIterator<Item = OsString>) -> Option<u8> {
    let arguments: Vec<OsString> = arguments.into_iter().skip(1).collect();
    let place: fn(&Process<'_>) -> Option<u8> = match arguments.first()?.to_str()? {
        WORD => |process| process.first(),
        SECOND => |process| process.second(),
        WATCHED => |process| process.become_it(),
        rooms::WORD => return Some(rooms::keep()),
        _ => return None,
    };
    let process = || {
        let (report, starts) = (PathBuf::from(arguments.get(1)?), PathBuf::from(arguments.get(2)?));
        Some(Process { report, starts, arguments: &arguments, order: Order::of(arguments.iter().skip(3).cloned())? })
    };
    Some(process().and_then(|process| place(&process)).unwrap_or(125))
}

/// One of the processes between `kladder` and the command.
struct Process<'p> {
    report: PathBuf,
    starts: PathBuf,
    arguments: &'p [OsString],
    order: Order,
}

impl Process<'_> {
    /// Makes the namespaces, and starts the second where there are some.
    fn first(&self) -> Option<u8> {
        // A terminal is had by whoever leads a session, and what it starts has it with it.
        if io::stdin().is_terminal() {
            rustix::process::setsid().ok()?;
            rustix::process::ioctl_tiocsctty(io::stdin()).ok()?;
        }
        let cell = &self.order.cell;
        let mut kept = Confined::default();
        if let Network::Room(process) = cell.network {
            // One that is gone leaves a program with nobody to talk to, and not with everybody.
            if let Err(error) = sys::rooms::enter(process) {
                self.write(&Report { kept, failed: error.raw_os_error() })?;
                return None;
            }
            kept.0.extend([Kept::Tcp, Kept::Network]);
        }
        let ours = cell.writes.iter().chain([&self.report, &self.starts]).cloned().collect::<Vec<_>>();
        let spaces = sys::spaces::enter(&ours, &cell.shown);
        if !cell.shown.is_empty() && !spaces.shows {
            // Without them it would write where it must not.
            let failed = Some(rustix::io::Errno::PERM.raw_os_error());
            self.write(&Report { kept, failed })?;
            return None;
        }
        kept.0.extend(spaces.read_only.then_some(Kept::Attributes));
        if !spaces.processes {
            return self.start(kept);
        }
        kept.0.insert(Kept::Lingering);
        self.write(&Report { kept, failed: None })?;
        Some(code(self.again(SECOND)?.wait().ok()?))
    }

    /// What is the first process of its own.
    fn second(&self) -> Option<u8> {
        sys::spaces::settle();
        self.start(self.told()?.kept)
    }

    /// Starts the command, watched where it is to be, and waits for it.
    fn start(&self, mut kept: Confined) -> Option<u8> {
        let Order { cell, watched, run, .. } = &self.order;
        let Some((program, arguments)) = run.split_first() else {
            kept.0.extend(confine::possible_to(cell).0);
            self.write(&Report { kept, failed: None })?;
            return Some(0);
        };
        if let Some(let_go) = watched {
            self.write(&Report { kept, failed: None })?;
            let told = OpenOptions::new().append(true).open(&self.starts).ok()?;
            let mut child = self.again(WATCHED)?;
            return match sys::traces::watch(child.id(), let_go, told) {
                Some(status) => u8::try_from(status).ok(),
                None => Some(code(child.wait().ok()?)),
            };
        }
        let started = confine::spawn(cell, Command::new(program).args(arguments));
        let (mut child, confined) = match started {
            Ok(started) => started,
            Err(error) => {
                self.write(&Report { kept, failed: error.raw_os_error() })?;
                return None;
            }
        };
        kept.0.extend(confined.0);
        self.write(&Report { kept, failed: None })?;
        Some(code(child.wait().ok()?))
    }

    /// Becomes the command when it is watched, or nobody can watch it.
    fn become_it(&self) -> Option<u8> {
        let (program, arguments) = self.order.run.split_first()?;
        let mut report = self.told()?;
        // It can be written on when nothing else can.
        let mut file = OpenOptions::new().write(true).open(&self.report).ok()?;
        sys::traces::wait_to_be_watched();
        report.kept.0.extend(sys::confine::enter(&self.order.cell).0);
        if self.order.reach && !sys::reach::stop_before() {
            return None;
        }
        over(&mut file, &report)?;
        report.failed = Command::new(program).args(arguments).exec().raw_os_error();
        over(&mut file, &report)?;
        None
    }

    /// This program once more, with the same order and another word.
    fn again(&self, word: &str) -> Option<Child> {
        Command::new("/proc/self/exe").arg(word).args(&self.arguments[1..]).spawn().ok()
    }

    fn told(&self) -> Option<Report> {
        serde_json::from_slice(&fs::read(&self.report).ok()?).ok()
    }

    fn write(&self, told: &Report) -> Option<()> {
        fs::write(&self.report, serde_json::to_vec(told).ok()?).ok()
    }
}

/// Writes a report in the place of another one.
fn over(file: &mut File, told: &Report) -> Option<()> {
    file.set_len(0).ok()?;
    file.rewind().ok()?;
    file.write_all(&serde_json::to_vec(told).ok()?).ok()
}

fn code(status: ExitStatus) -> u8 {
    let code = status.code().or_else(|| status.signal().map(|signal| 128 + signal));
    code.and_then(|code| u8::try_from(code).ok()).unwrap_or(125)
}
