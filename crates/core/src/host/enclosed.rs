//! A process of our own that shuts itself in before it starts what it was given: namespaces are had by a process of one
//! thread only, and this program has many.
//!
//! It is this program again, called with a word of its own and what the process may do; whoever is `kladder`'s main function hands
//! its arguments to [`answer`] first. The first of the two processes makes the namespaces, the second is the first process in
//! them: it starts the command, confined as ever, and all that is left ends with it. What became of it stands in a file
//! that the command cannot write.

use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus};

use tempfile::NamedTempFile;

use serde::{Deserialize, Serialize};

use super::confine;
use super::survey::scratch;
use crate::sys::{self, Cell, Confined, Kept, Network, Reads};

/// The first argument of a call that is no user's.
const WORD: &str = "--in-a-cell";
/// How the second process is told that it is one.
const SECOND: &str = "--in-a-cell-of-its-own";

/// What became of the command.
#[derive(Serialize, Deserialize)]
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
}

/// How files of reports are called, so that those of killed processes are swept away with their scratch folders.
fn report_in(folder: &Path) -> io::Result<NamedTempFile> {
    tempfile::Builder::new().prefix(&scratch()).tempfile_in(folder)
}

impl Way {
    /// The way to start `run` in `cell`. With nothing to run it is only found out what it would be kept from.
    pub(super) fn of(encloser: &Encloser, cell: &Cell, run: &[OsString]) -> io::Result<Self> {
        let report = report_in(&encloser.reports)?;
        let first = [encloser.kladder.clone().into(), WORD.into(), report.path().into()];
        Ok(Self { words: first.into_iter().chain(words(cell)).chain(run.iter().cloned()).collect(), report })
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
}

/// What a command can be kept from here.
pub(super) fn possible(encloser: &Encloser, cell: &Cell) -> io::Result<Confined> {
    let way = Way::of(encloser, cell, &[])?;
    Command::new(&way.words[0]).args(&way.words[1..]).env_clear().status()?;
    way.told()
}

/// What a cell is in words: the network, then how many folders may be read, and which, then the same for those that may be
/// written.
fn words(cell: &Cell) -> Vec<OsString> {
    let mut words: Vec<OsString> = vec![if cell.network.is_none() { "none" } else { "all" }.into()];
    match &cell.reads {
        Reads::Everything => words.push("everything".into()),
        Reads::SystemAnd(folders) => counted(folders, &mut words),
    }
    counted(&cell.writes, &mut words);
    words
}

fn counted(folders: &[PathBuf], words: &mut Vec<OsString>) {
    words.push(folders.len().to_string().into());
    words.extend(folders.iter().map(|folder| folder.clone().into()));
}

/// The reverse of [`words`]; `None` where they are none. What follows stays in `rest`.
fn cell_of(rest: &mut impl Iterator<Item = OsString>) -> Option<Cell> {
    let network = if rest.next()? == "none" { Network::None } else { Network::All };
    let many = rest.next()?;
    let reads = if many == "everything" { Reads::Everything } else { Reads::SystemAnd(folders(&many, rest)?) };
    let many = rest.next()?;
    Some(Cell { reads, writes: folders(&many, rest)?, network })
}

fn folders(many: &OsStr, rest: &mut impl Iterator<Item = OsString>) -> Option<Vec<PathBuf>> {
    let many: usize = many.to_str()?.parse().ok()?;
    Some(rest.take(many).map(PathBuf::from).collect())
}

/// Does what a call with that word asks for, and tells the exit code; `None` for every other call.
pub fn answer(arguments: impl IntoIterator<Item = OsString>) -> Option<u8> {
    let arguments: Vec<OsString> = arguments.into_iter().skip(1).collect();
    let is_second = match arguments.first()? {
        word if word == WORD => false,
        word if word == SECOND => true,
        _ => return None,
    };
    Some(shut_in(&arguments, is_second).unwrap_or(125))
}

fn shut_in(arguments: &[OsString], is_second: bool) -> Option<u8> {
    let mut rest = arguments.iter().skip(1).cloned();
    let report = PathBuf::from(rest.next()?);
    let cell = cell_of(&mut rest)?;
    let run: Vec<OsString> = rest.collect();
    if is_second {
        sys::spaces::settle();
        let so_far: Report = fs::read(&report).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok())?;
        return start(&report, so_far.kept, &cell, &run);
    }
    let ours = cell.writes.iter().chain([&report]).cloned().collect::<Vec<_>>();
    let spaces = sys::spaces::enter(&ours);
    let mut kept = Confined::default();
    kept.0.extend(spaces.read_only.then_some(Kept::Attributes));
    if !spaces.processes {
        return start(&report, kept, &cell, &run);
    }
    kept.0.insert(Kept::Lingering);
    write(&report, &Report { kept, failed: None })?;
    let again = Command::new("/proc/self/exe").arg(SECOND).args(&arguments[1..]).status().ok()?;
    Some(code(again))
}

/// Starts the command and waits for it.
fn start(report: &Path, mut kept: Confined, cell: &Cell, run: &[OsString]) -> Option<u8> {
    let Some((program, arguments)) = run.split_first() else {
        kept.0.extend(confine::possible_to(cell).0);
        write(report, &Report { kept, failed: None })?;
        return Some(0);
    };
    let started = confine::spawn(cell, Command::new(program).args(arguments));
    let (mut child, confined) = match started {
        Ok(started) => started,
        Err(error) => {
            write(report, &Report { kept, failed: error.raw_os_error() })?;
            return None;
        }
    };
    kept.0.extend(confined.0);
    write(report, &Report { kept, failed: None })?;
    Some(code(child.wait().ok()?))
}

fn write(report: &Path, told: &Report) -> Option<()> {
    fs::write(report, serde_json::to_vec(told).ok()?).ok()
}

fn code(status: ExitStatus) -> u8 {
    let code = status.code().or_else(|| status.signal().map(|signal| 128 + signal));
    code.and_then(|code| u8::try_from(code).ok()).unwrap_or(125)
}
