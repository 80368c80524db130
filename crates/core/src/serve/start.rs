//! Starting services, those first that others stand on, and stopping them in the reverse order.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs::{self, File, TryLockError};
use std::io;
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Trial;
use kladder_choose::names::RungKey;
use kladder_choose::template::Template;

use super::record::{At, MARK, Order};
use super::watcher;
use super::{Holder, Place, Served, Serving, Standing};
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::prove::verify::{VerifyError, resolved};
use crate::sys;
use crate::tasks::Listening;
use crate::tasks::launch::{Filling, filled};

/// How often it is looked whether a service has come up or gone.
const GLANCE: Duration = Duration::from_millis(60);
/// How much longer than a service's own patience its watcher may take.
const MORE: Duration = Duration::from_secs(5);
/// As often it may end by itself before it is said not to come up.
const TRIES: u32 = 2;

/// Why services were not started or stopped.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The ladder has no such service.
    #[error("the ladder has no service `{name}`")]
    NoSuch {
        /// The name.
        name: String,
        /// Those that there are.
        there: Vec<String>,
    },
    /// Somebody else listens on its port.
    #[error("{name} cannot listen on port {port}: it is taken")]
    Taken {
        /// The service.
        name: String,
        /// The port.
        port: u16,
        /// Who has it, where that is told.
        holder: Option<Holder>,
    },
    /// It ended by itself, again and again.
    #[error("{name} ends as soon as it is started")]
    Ends {
        /// The service.
        name: String,
        /// Its status, or why it could not be started.
        ended: Option<Result<i32, String>>,
        /// What it wrote last.
        output: String,
    },
    /// It runs, and does not get ready.
    #[error("{name} runs, and was not ready after {patience} s")]
    NotReady {
        /// The service.
        name: String,
        /// Seconds.
        patience: u64,
        /// What it wrote last.
        output: String,
    },
    /// The process that keeps it could not be started, or did not begin.
    #[error("what keeps {name} running could not be started")]
    Watcher {
        /// The service.
        name: String,
        /// What the system said.
        source: io::Error,
    },
    /// It could not be asked.
    #[error(transparent)]
    Verify(#[from] VerifyError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// What came of starting one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Started {
    /// The service.
    pub name: String,
    /// It ran already, and as it should.
    pub ran: bool,
    /// How long it took until it was ready.
    pub took: Duration,
}

impl Serving<'_> {
    /// The service of a name.
    ///
    /// # Errors
    /// [`ServeError::NoSuch`].
    pub fn named(&self, name: &str) -> Result<&Served<'_>, ServeError> {
        let there = || self.all.iter().map(|served| served.service.name.clone()).collect();
        let found = self.all.iter().find(|served| served.service.name == name);
        found.ok_or_else(|| ServeError::NoSuch { name: name.to_owned(), there: there() })
    }

    /// Starts services, each after those of the rungs that its own needs; what runs as it should is left alone, what runs as it
    /// was before the ladder changed is started anew.
    ///
    /// # Errors
    /// [`ServeError`]; those that were started before run on.
    pub fn start(&self, names: &[String], observer: &dyn Observer) -> Result<Vec<Started>, ServeError> {
        let mut wanted: BTreeSet<&RungKey> = BTreeSet::new();
        let mut open: Vec<&RungKey> = Vec::new();
        for name in names {
            open.push(&self.named(name)?.rung.key);
        }
        while let Some(key) = open.pop() {
            let rung = self.rungs.iter().find(|rung| rung.key == *key);
            if wanted.insert(key) {
                open.extend(rung.into_iter().flat_map(|rung| &rung.needs));
            }
        }
        // Of a rung that was named only the services that were; of what it stands on all.
        let is_wanted = |served: &&Served<'_>| {
            let is_named = names.contains(&served.service.name);
            let is_of_named =
                names.iter().any(|name| self.named(name).is_ok_and(|named| named.rung.key == served.rung.key));
            is_named || (!is_of_named && wanted.contains(&served.rung.key))
        };
        self.all.iter().filter(is_wanted).map(|served| self.start_one(served, observer)).collect()
    }

    fn start_one(&self, served: &Served<'_>, observer: &dyn Observer) -> Result<Started, ServeError> {
        check_cancelled(observer)?;
        let _turn = served.place.turn(observer)?;
        let since = Instant::now();
        let name = served.service.name.clone();
        match self.standing(served)? {
            Standing::Ready if !served.is_old(self) => return Ok(Started { name, ran: true, took: Duration::ZERO }),
            Standing::Stopped => {}
            _ => served.stop(observer)?,
        }
        if let Some(Listening { port, .. }) = served.port.filter(|_| served.answers() || served.holder().is_some()) {
            return Err(ServeError::Taken { name, port, holder: served.holder() });
        }
        self.keep(served).map_err(|source| ServeError::Watcher { name: name.clone(), source })?;
        let patience = Duration::from_secs(served.service.patience);
        while since.elapsed() < patience {
            check_cancelled(observer)?;
            match self.standing(served)? {
                Standing::Ready => return Ok(Started { name, ran: false, took: since.elapsed() }),
                Standing::Failing if served.place.state().is_some_and(|state| state.restarts + 1 >= TRIES) => {
                    let ended = served.place.state().and_then(|state| state.ended);
                    let output = served.place.said_now();
                    served.stop(observer)?;
                    return Err(ServeError::Ends { name, ended, output });
                }
                Standing::Stopped => {
                    let source = io::Error::other("it ended, and says nothing of why");
                    return Err(ServeError::Watcher { name, source });
                }
                _ => thread::sleep(GLANCE),
            }
        }
        Err(ServeError::NotReady { name, patience: served.service.patience, output: served.place.said_now() })
    }

    /// Starts the process that keeps it, which is on its own from then on.
    fn keep(&self, served: &Served<'_>) -> io::Result<()> {
        let place = &served.place;
        fs::create_dir_all(&place.folder)?;
        place.put_in_order().and_then(|()| place.write_order(&self.order(served))).map_err(io::Error::other)?;
        let none = || io::Error::new(io::ErrorKind::NotFound, "it is not known which program this is");
        let kladder = self.host.kladder.as_ref().or(self.host.installed.as_ref()).ok_or_else(none)?;
        let mut command = Command::new(kladder);
        command
            .args([OsString::from(watcher::WORD), place.folder.clone().into()])
            .current_dir("/")
            .env_clear()
            .envs(self.variables_of(served))
            .env(MARK, place.mark())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut child = command.spawn()?;
        let since = Instant::now();
        // It has begun once it holds its lock.
        while !place.is_kept() {
            if let Some(status) = child.try_wait()? {
                return Err(io::Error::other(format!("it ended with status {}", status.code().unwrap_or(-1))));
            }
            if since.elapsed() > MORE {
                return Err(io::ErrorKind::TimedOut.into());
            }
            thread::sleep(Duration::from_millis(5));
        }
        Ok(())
    }

    /// The variables of a service: all that the ladder's programs have, and its own.
    fn variables_of(&self, served: &Served<'_>) -> Vec<(OsString, OsString)> {
        self.variables.iter().cloned().chain(self.own_of(served)).collect()
    }

    fn own_of(&self, served: &Served<'_>) -> Vec<(OsString, OsString)> {
        let own = served.service.variables.iter();
        own.map(|(name, value)| (OsString::from(name.as_str()), self.text(value, served))).collect()
    }

    fn text(&self, text: &Template, served: &Served<'_>) -> OsString {
        let (rung, folder) = (served.rung, served.rung.files());
        filled(text, &Filling { rung, folder: &folder, place: &folder, rungs: self.rungs, port: served.port })
    }

    /// What is to be run for a service.
    pub(super) fn order(&self, served: &Served<'_>) -> Order {
        let words =
            |run: &[Template]| resolved(run.iter().map(|word| self.text(word, served)).collect(), self.variables);
        let stop = |trial: &Trial| words(&trial.run);
        let service = served.service;
        let at = At { folder: served.rung.files(), of: served.rung.folder(), patience: service.patience };
        let stop = service.stop.as_ref().map(stop).unwrap_or_default();
        Order::new(words(&service.run), stop, &self.own_of(served), &at)
    }

    /// Stops services, the upper ones first.
    ///
    /// # Errors
    /// [`ServeError`].
    pub fn stop(&self, names: &[String], observer: &dyn Observer) -> Result<Vec<String>, ServeError> {
        for name in names {
            self.named(name)?;
        }
        let mut stopped = Vec::new();
        for served in self.all.iter().rev().filter(|served| names.contains(&served.service.name)) {
            let _turn = served.place.turn(observer)?;
            let ran = self.standing(served)? != Standing::Stopped;
            // What is in the way of one that does not run is put away too.
            served.stop(observer)?;
            stopped.extend(ran.then(|| served.service.name.clone()));
        }
        Ok(stopped)
    }
}

impl Served<'_> {
    fn stop(&self, observer: &dyn Observer) -> Result<(), StopError> {
        self.place.stop(Duration::from_secs(self.service.patience), observer)
    }
}

impl Place {
    /// Leaves nothing of an earlier run in the way of the next one. What it wrote stays.
    fn put_in_order(&self) -> Result<(), FileError> {
        for name in ["state.json", "order.json", "stop"] {
            remove(&self.folder.join(name))?;
        }
        for path in [self.folder.join("lock"), self.output()] {
            if fs::symlink_metadata(&path).is_ok_and(|meta| !meta.is_file()) {
                remove(&path)?;
            }
        }
        Ok(())
    }

    /// Waits for the turn to start or stop it: one at a time does. It ends with the file.
    pub(super) fn turn(&self, observer: &dyn Observer) -> Result<File, StopError> {
        let path = self.folder.join("turn");
        files::create_folder(&self.folder)?;
        if fs::symlink_metadata(&path).is_ok_and(|meta| !meta.is_file()) {
            remove(&path)?;
        }
        let file = File::options().create(true).truncate(false).write(true).open(&path).on("open", &path)?;
        loop {
            match file.try_lock() {
                Ok(()) => return Ok(file),
                Err(TryLockError::Error(source)) => return Err(source).on("lock", &path)?,
                Err(TryLockError::WouldBlock) => check_cancelled(observer)?,
            }
            thread::sleep(GLANCE);
        }
    }

    /// Stops what runs here, whoever keeps it, or nobody. Whoever calls this has the turn.
    ///
    /// # Errors
    /// [`FileError`]; or that the person asked for an end.
    fn stop(&self, patience: Duration, observer: &dyn Observer) -> Result<(), StopError> {
        if self.is_kept() {
            files::replace(&self.stop_file(), b"")?;
            let since = Instant::now();
            while self.is_kept() && since.elapsed() < patience.saturating_add(MORE) {
                check_cancelled(observer)?;
                thread::sleep(Duration::from_millis(10));
            }
        }
        // What a killed watcher left, or one that does not listen.
        let since = Instant::now();
        while sys::processes::any_marked(&self.marked()) && since.elapsed() < MORE {
            sys::processes::end_left_behind(&self.marked());
            thread::sleep(Duration::from_millis(10));
        }
        Ok(self.put_in_order()?)
    }
}

impl Place {
    /// Stops what runs here, once it is its turn.
    ///
    /// # Errors
    /// [`StopError`].
    pub fn end(&self, patience: Duration, observer: &dyn Observer) -> Result<(), StopError> {
        let _turn = self.turn(observer)?;
        self.stop(patience, observer)
    }
}

fn remove(path: &Path) -> Result<(), FileError> {
    match fs::symlink_metadata(path) {
        Ok(meta) if meta.is_dir() => files::remove_tree(path),
        Ok(_) => fs::remove_file(path).on("remove", path),
        Err(_) => Ok(()),
    }
}

/// Stops all services of the ladders that keep their things in some folders of `ladders`.
///
/// # Errors
/// [`StopError`].
pub fn stop_all(ladders: &Path, leaves: impl Fn(&Path) -> bool, observer: &dyn Observer) -> Result<(), StopError> {
    for name in files::names(ladders)? {
        let folder = ladders.join(name);
        for (_, place) in Place::all(&folder).into_iter().filter(|_| leaves(&folder)) {
            let patience = place.read_order().map_or(MORE, |order| Duration::from_secs(order.patience));
            place.end(patience, observer)?;
        }
    }
    Ok(())
}

/// Why a service was not stopped.
#[derive(Debug, thiserror::Error)]
pub enum StopError {
    /// A file could not be written or removed.
    #[error(transparent)]
    File(#[from] FileError),
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

impl From<StopError> for ServeError {
    fn from(error: StopError) -> Self {
        match error {
            StopError::File(error) => Self::File(error),
            StopError::Cancelled(error) => Self::Cancelled(error),
        }
    }
}
