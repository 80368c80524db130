//! One process, bounded in time and output, that takes its children with it when it has to go.
//!
//! The process leads a group of its own, which is ended with it; what left the group is found by a mark in its environment
//! (`KLADDER_RUN`) and by being handed to this process when its parent dies (`PR_SET_CHILD_SUBREAPER`, prctl(2)). The status is
//! that of a shell: the exit status, or 128 and the number of the signal. Of each stream a mebibyte is kept.

use std::ffi::OsString;
use std::io::{self, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

use crate::base::event::{Confined, Kept, Much, Observer};
use crate::host::confine::{self, Cell};
use crate::host::enclosed::{Encloser, Way};
use crate::sys::{self, Start};

mod guard;
mod terminal;
mod under_way;

use guard::Guard;
pub use guard::Most;
use under_way::{MARK, UnderWay};

/// More output than this, in bytes, is read and forgotten.
const MOST_OUTPUT: u64 = 1 << 20;
/// How often a running process is looked at.
const GLANCE: Duration = Duration::from_millis(4);
/// How long the output of children that outlive their parent is waited for.
const AFTERMATH: Duration = Duration::from_secs(2);

/// What a process is run with.
pub struct Setting<'s> {
    /// The program and its arguments.
    pub run: &'s [OsString],
    /// What it reads from standard input.
    pub input: &'s str,
    /// Where it runs.
    pub folder: &'s Path,
    /// All variables it has.
    pub variables: &'s [(OsString, OsString)],
    /// How long it may take.
    pub limit: Duration,
    /// What it is kept to.
    pub cell: Option<&'s Cell>,
    /// What can keep it to that more strictly than a thread of this process.
    pub encloser: Option<&'s Encloser>,
    /// How everything that it starts is written down, where it is to be.
    pub watched: Option<Watching<'s>>,
    /// What it may take together with what it starts, where it is kept to a cell.
    pub most: Option<Most>,
}

/// How what a process starts is written down.
#[derive(Clone, Copy, Debug)]
pub struct Watching<'s> {
    /// Programs that are let go, with what they start.
    pub let_go: &'s [PathBuf],
    /// Whether it is written down, too, whom they try to reach beyond this machine.
    pub reach: bool,
}

impl<'s> Setting<'s> {
    /// For a program of the host's that does something for us: kept to nothing but time.
    pub fn open(run: &'s [OsString], folder: &'s Path, variables: &'s [(OsString, OsString)], limit: Duration) -> Self {
        Self { run, input: "", folder, variables, limit, cell: None, encloser: None, watched: None, most: None }
    }
}

/// What came of it.
pub struct Ran {
    /// How it ended.
    pub ended: Ended,
    /// The beginning of its output, with what is no UTF-8 replaced.
    pub stdout: String,
    /// The same of its error output.
    pub stderr: String,
    /// What it was kept from.
    pub confined: Confined,
    /// What it started, where that was to be written down and could be.
    pub starts: Option<Vec<Start>>,
}

/// How a process ended.
pub enum Ended {
    /// With this status; a signal counts as 128 plus its number, as in shells.
    Status(i32),
    /// It took longer than its limit.
    TooLate,
    /// It took too much of something.
    TooMuch(Much),
    /// The user asked for an end.
    Cancelled,
}

/// Runs a process to its end.
///
/// # Errors
/// Those of starting the process and reading what it prints. How it ended, by its time limit too, is part of the result.
pub fn run(setting: &Setting<'_>, observer: &dyn Observer) -> io::Result<Ran> {
    let under_way = UnderWay::begin();
    let Started { mut child, mut confined, way } = start(setting, &under_way.mark)?;
    let (stdout, stderr) = (collect(child.stdout.take()), collect(child.stderr.take()));
    let (input, stdin) = (setting.input.to_owned(), child.stdin.take());
    // A process that does not read its input breaks the pipe, which is its right.
    thread::spawn(move || stdin.map(|mut stdin| stdin.write_all(input.as_bytes())));
    let guard = setting.most.filter(|_| setting.cell.is_some());
    let guard = guard.map(|most| Guard::over(under_way.variable(), most));
    let mut ended = wait(&mut child, setting.limit, observer)?;
    if let Some(too_much) = guard.and_then(Guard::end) {
        ended = Ended::TooMuch(too_much);
    }
    // Children left behind would hold the pipes open, and must not outlive the check either.
    kill_group(&child);
    if setting.cell.is_some() {
        under_way.end();
    }
    match way.as_ref().map(Way::told) {
        Some(Ok(told)) => confined.0.extend(told.0),
        // One that was ended early had no time to tell.
        Some(Err(error)) if matches!(ended, Ended::Status(_)) => return Err(error),
        _ => {}
    }
    Ok(Ran {
        ended,
        stdout: gathered(&stdout),
        stderr: gathered(&stderr),
        confined,
        starts: way.and_then(|way| way.starts()),
    })
}

/// A process that runs on while others do; it is ended when it is dropped.
pub struct Lasting {
    child: Child,
    stdout: Shared,
    stderr: Shared,
    way: Option<Way>,
    under_way: UnderWay,
}

/// What came of a stream so far.
type Shared = Arc<Mutex<Vec<u8>>>;

impl Lasting {
    /// Starts a process in its cell; its limit is the caller's business.
    ///
    /// # Errors
    /// Those of starting it.
    pub fn start(setting: &Setting<'_>) -> io::Result<Self> {
        let under_way = UnderWay::begin();
        let Started { mut child, way, .. } = start(setting, &under_way.mark)?;
        let (stdout, stderr) = (gather(child.stdout.take(), MOST_OUTPUT), gather(child.stderr.take(), MOST_OUTPUT));
        let (input, stdin) = (setting.input.to_owned(), child.stdin.take());
        thread::spawn(move || stdin.map(|mut stdin| stdin.write_all(input.as_bytes())));
        Ok(Self { child, stdout, stderr, way, under_way })
    }

    /// The same with a hold on its standard input, and with as much of its output as it likes.
    ///
    /// # Errors
    /// Those of starting it.
    pub fn talking(setting: &Setting<'_>) -> io::Result<(Self, ChildStdin)> {
        let under_way = UnderWay::begin();
        let Started { mut child, way, .. } = start(setting, &under_way.mark)?;
        let (stdout, stderr) = (gather(child.stdout.take(), u64::MAX), gather(child.stderr.take(), MOST_OUTPUT));
        let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
        let input = child.stdin.take().ok_or_else(gone)?;
        Ok((Self { child, stdout, stderr, way, under_way }, input))
    }

    /// What it has written to its standard output the last time, which is forgotten here.
    pub fn take(&self) -> Vec<u8> {
        std::mem::take(&mut *self.stdout.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What it has written so far: to its standard output, and to its standard error.
    pub fn said(&self) -> (String, String) {
        let text = |shared: &Shared| {
            let bytes = shared.lock().unwrap_or_else(PoisonError::into_inner);
            String::from_utf8_lossy(&bytes).into_owned()
        };
        (text(&self.stdout), text(&self.stderr))
    }

    /// What it has started so far, where that is written down.
    pub fn starts(&self) -> Option<Vec<Start>> {
        self.way.as_ref()?.starts()
    }

    /// The status it ended with, where it did.
    ///
    /// # Errors
    /// Where the system does not tell.
    pub fn ended(&mut self) -> io::Result<Option<i32>> {
        Ok(self.child.try_wait()?.map(code))
    }
}

impl Drop for Lasting {
    fn drop(&mut self) {
        kill_group(&self.child);
        // What is over needs no waiting; its children are found by their mark.
        let _ = self.child.wait();
        self.under_way.end();
    }
}

/// Collects a stream for whoever looks meanwhile.
fn gather(pipe: Option<impl Read + Send + 'static>, most: u64) -> Shared {
    let shared = Shared::default();
    let kept = Arc::clone(&shared);
    thread::spawn(move || {
        let Some(mut pipe) = pipe else { return };
        let mut block = [0; 4096];
        while let Ok(count @ 1..) = pipe.read(&mut block) {
            let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
            let room = usize::try_from(most).unwrap_or(usize::MAX).saturating_sub(kept.len());
            kept.extend_from_slice(&block[..count.min(room)]);
        }
    });
    shared
}

/// A process under way.
struct Started {
    child: Child,
    confined: Confined,
    way: Option<Way>,
}

/// Starts the process in its cell: by the encloser, and where that cannot be had, by a thread of this one.
fn start(setting: &Setting<'_>, mark: &str) -> io::Result<Started> {
    let mut command = piped(setting.run, setting)?;
    let Some(cell) = setting.cell else {
        return Ok(Started { child: command.env(MARK, mark).spawn()?, confined: Confined::default(), way: None });
    };
    let adopts = sys::processes::adopt_orphans();
    let lingering = adopts.then_some(Kept::Lingering);
    let enclosed = setting.encloser.and_then(|encloser| {
        let way = Way::of(encloser, cell, setting.run, setting.watched).ok()?;
        let child = piped(&way.words, setting).ok()?.env(MARK, mark).spawn().ok()?;
        Some(Started { child, confined: Confined(lingering.into_iter().collect()), way: Some(way) })
    });
    if let Some(started) = enclosed {
        return Ok(started);
    }
    let (child, mut confined) = confine::spawn(cell, command.env(MARK, mark))?;
    confined.0.extend(lingering);
    Ok(Started { child, confined, way: None })
}

/// The command leading a group, with pipes for its streams.
fn piped(run: &[OsString], setting: &Setting<'_>) -> io::Result<Command> {
    let mut command = bare(run, setting)?;
    command.process_group(0).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    Ok(command)
}

/// The command with what every process here gets.
fn bare(run: &[OsString], setting: &Setting<'_>) -> io::Result<Command> {
    let Some((program, arguments)) = run.split_first() else {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "there is no command"));
    };
    let mut command = Command::new(program);
    command
        .args(arguments)
        .current_dir(setting.folder)
        .env_clear()
        .envs(setting.variables.iter().map(|(key, value)| (key, value)));
    Ok(command)
}

/// Ends what runs of a process of this number left behind, which was killed.
pub(crate) fn end_left_behind(process: i32) {
    sys::processes::end_left_behind(&format!("{MARK}={process}-"));
}

fn wait(child: &mut Child, limit: Duration, observer: &dyn Observer) -> io::Result<Ended> {
    let started = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Ended::Status(code(status)));
        }
        let late = started.elapsed() > limit;
        if late || observer.cancelled() {
            kill_group(child);
            child.wait()?;
            return Ok(if late { Ended::TooLate } else { Ended::Cancelled });
        }
        thread::sleep(GLANCE);
    }
}

fn code(status: ExitStatus) -> i32 {
    status.code().or_else(|| status.signal().map(|signal| 128 + signal)).unwrap_or(-1)
}

fn kill_group(child: &Child) {
    let group = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
    // The group is gone when nothing of it is left, which is what is wanted.
    let _ = group.map(|group| kill_process_group(group, Signal::KILL));
}

type Gathering = std::sync::mpsc::Receiver<Vec<u8>>;

fn collect(pipe: Option<impl Read + Send + 'static>) -> Gathering {
    let (send, receive) = std::sync::mpsc::channel();
    thread::spawn(move || {
        let Some(mut pipe) = pipe else { return };
        let mut bytes = Vec::new();
        // What could be read until the pipe broke is still worth showing.
        let _ = pipe.by_ref().take(MOST_OUTPUT).read_to_end(&mut bytes);
        let _ = io::copy(&mut pipe, &mut io::sink());
        let _ = send.send(bytes);
    });
    receive
}

fn gathered(output: &Gathering) -> String {
    let bytes = output.recv_timeout(AFTERMATH).unwrap_or_default();
    String::from_utf8_lossy(&bytes).into_owned()
}
