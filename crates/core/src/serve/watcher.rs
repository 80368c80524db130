//! The process that keeps a service running: this program again, called with a word of its own and the service's folder.
//!
//! It leaves the caller's session, so that it outlives the terminal (setsid(2)), starts the service, writes down how it stands, and
//! starts it again when it ends, after pauses that double up to a minute. It ends with the service once `stop` is there, or
//! when it is told to (SIGTERM). Whoever kills it leaves the service behind, which the next start or stop ends by its mark.

use std::ffi::OsString;
use std::fs::{self, File};
use std::io;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group, setsid};

use super::record::{MARK, Order, Place, State};
use crate::base::files::{Attach, FileError};
use crate::sys;

/// The first argument of a call that is no user's.
pub(super) const WORD: &str = "--watch-a-service";
/// How often a service is looked at.
const GLANCE: Duration = Duration::from_millis(50);
/// The first pause before it is started again, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_mins(1));
/// Who ran for so long is started again without a pause that grew.
const WELL: Duration = Duration::from_mins(2);
/// So much of what it writes is kept, in bytes, and as much of what it wrote before.
const MOST_OUTPUT: u64 = 4 << 20;

/// The folder that a call with that word names; `None` for every other call.
pub fn asked(arguments: impl IntoIterator<Item = OsString>) -> Option<PathBuf> {
    let mut arguments = arguments.into_iter().skip(1);
    let is_it = arguments.next().is_some_and(|word| word == WORD);
    arguments.next().filter(|_| is_it).map(PathBuf::from)
}

/// Keeps the service in a folder, which has these variables, until it is to end, or `ends`. Whether it was kept: nobody keeps what another process does.
pub fn keep(folder: &Path, variables: Vec<(OsString, OsString)>, ends: &AtomicBool) -> bool {
    // Whoever leads a group has a session of its own already, or gets none.
    let _ = setsid();
    let place = Place { folder: folder.to_path_buf() };
    let Some(lock) = locked(&place) else { return false };
    let Ok(order) = place.read_order() else { return false };
    let kept = Watcher { place, order, variables, ends }.keep();
    drop(lock);
    kept.is_ok()
}

/// The right to keep it. Whoever looks whether it is kept has the lock for a moment.
fn locked(place: &Place) -> Option<File> {
    let since = Instant::now();
    while since.elapsed() < PAUSES.0 {
        match place.lock() {
            Ok(Some(lock)) => return Some(lock),
            Ok(None) => thread::sleep(GLANCE / 5),
            Err(_) => return None,
        }
    }
    None
}

struct Watcher<'k> {
    place: Place,
    order: Order,
    variables: Vec<(OsString, OsString)>,
    ends: &'k AtomicBool,
}

impl Watcher<'_> {
    fn is_to_end(&self) -> bool {
        self.ends.load(Ordering::Relaxed) || self.place.stop_file().exists()
    }

    fn keep(&self) -> Result<(), FileError> {
        let recipe = self.order.recipe;
        let (mut restarts, mut pause, mut ended) = (0, PAUSES.0, None);
        while !self.is_to_end() {
            let started = Instant::now();
            let from = fs::metadata(self.place.output()).map_or(0, |meta| meta.len());
            let mut state = State::running(None, restarts, ended.take(), recipe, from);
            let outcome = match self.start() {
                Err(error) => Err(error.to_string()),
                Ok(mut child) => {
                    state.process = Some(child.id());
                    // What nobody could know of must not run.
                    self.place.write_state(&state).inspect_err(|_| self.end(&mut child))?;
                    match self.watch(&mut child) {
                        Some(status) => Ok(code(status)),
                        None => break,
                    }
                }
            };
            if started.elapsed() > WELL {
                pause = PAUSES.0;
            }
            let again = jiff::Timestamp::now() + pause;
            self.place.write_state(&state.waiting(again, outcome.clone()))?;
            self.rest(pause);
            (restarts, pause, ended) = (restarts + 1, (pause * 2).min(PAUSES.1), Some(outcome));
        }
        for name in ["state.json", "stop"] {
            let path = self.place.folder.join(name);
            fs::remove_file(&path).or_else(none_is_fine).on("remove", &path)?;
        }
        Ok(())
    }

    fn start(&self) -> io::Result<Child> {
        let Some((program, arguments)) = self.order.run.split_first() else {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "there is no command"));
        };
        let output = self.output()?;
        sys::processes::adopt_orphans();
        self.command(program, arguments).stdout(output.try_clone()?).stderr(output).spawn()
    }

    fn command(&self, program: &OsString, arguments: &[OsString]) -> Command {
        let mut command = Command::new(program);
        command
            .args(arguments)
            .current_dir(&self.order.folder)
            .env_clear()
            .envs(self.variables.iter().map(|(name, value)| (name, value)))
            .env(MARK, self.place.mark())
            .process_group(0)
            .stdin(Stdio::null());
        command
    }

    /// Where it writes; what was written before is put aside once it is much.
    fn output(&self) -> io::Result<File> {
        let path = self.place.output();
        if fs::metadata(&path).is_ok_and(|meta| meta.len() > MOST_OUTPUT) {
            fs::rename(&path, path.with_extension("1"))?;
        }
        File::options().create(true).append(true).open(path)
    }

    /// Waits until it ends by itself; `None` once it was ended.
    fn watch(&self, child: &mut Child) -> Option<ExitStatus> {
        loop {
            if let Ok(Some(status)) = child.try_wait() {
                // What it left behind would hold its port.
                self.end_all(child);
                return Some(status);
            }
            if self.is_to_end() {
                self.end(child);
                return None;
            }
            self.keep_output_small();
            thread::sleep(GLANCE);
        }
    }

    /// A file that is appended to can be cut while it is written; what it had is put aside.
    fn keep_output_small(&self) {
        let path = self.place.output();
        if fs::metadata(&path).is_ok_and(|meta| meta.len() > MOST_OUTPUT) {
            // Where there is no room for a copy, what was written is lost, and the disk is not.
            let _ = fs::copy(&path, path.with_extension("1"));
            let _ = File::options().write(true).open(&path).and_then(|file| file.set_len(0));
        }
    }

    /// Tells it to end, and ends it where it does not.
    fn end(&self, child: &mut Child) {
        let patience = Duration::from_secs(self.order.patience);
        let told = match self.order.stop.split_first() {
            Some((program, arguments)) => self.tell(program, arguments, patience),
            None => group(child).is_some_and(|group| kill_process_group(group, Signal::TERM).is_ok()),
        };
        let since = Instant::now();
        while told && since.elapsed() < patience && matches!(child.try_wait(), Ok(None)) {
            thread::sleep(GLANCE);
        }
        self.end_all(child);
    }

    /// Runs what tells it to end; whether that went well.
    fn tell(&self, program: &OsString, arguments: &[OsString], patience: Duration) -> bool {
        let mut command = self.command(program, arguments);
        let Ok(mut teller) = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn() else { return false };
        let since = Instant::now();
        loop {
            match teller.try_wait() {
                Ok(Some(status)) => return status.success(),
                Ok(None) if since.elapsed() < patience => thread::sleep(GLANCE),
                _ => {
                    let _ = teller.kill();
                    let _ = teller.wait();
                    return false;
                }
            }
        }
    }

    fn end_all(&self, child: &mut Child) {
        // Gone already is what is wanted.
        let _ = group(child).map(|group| kill_process_group(group, Signal::KILL));
        let _ = child.wait();
        sys::processes::end_descendants(&[MARK, "=", &self.place.mark()].concat());
        sys::processes::end_strays();
    }

    fn rest(&self, pause: Duration) {
        let since = Instant::now();
        while since.elapsed() < pause && !self.is_to_end() {
            thread::sleep(GLANCE);
        }
    }
}

fn none_is_fine(error: io::Error) -> io::Result<()> {
    if error.kind() == io::ErrorKind::NotFound { Ok(()) } else { Err(error) }
}

fn group(child: &Child) -> Option<Pid> {
    i32::try_from(child.id()).ok().and_then(Pid::from_raw)
}

fn code(status: ExitStatus) -> i32 {
    status.code().or_else(|| status.signal().map(|signal| 128 + signal)).unwrap_or(-1)
}
