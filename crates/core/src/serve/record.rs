//! What is written down of a service, in a folder of its own. Its variables are not: they are the caller's too, who may keep secrets
//! in them; the process that keeps it is started with them.
//!
//! ```text
//! data/ladders/NAME-DIGEST/services/NAME/order.json    what is to be run, for the process that keeps it
//!                                        state.json    how it stands, by that process
//!                                        lock          held by that process (flock(2))
//!                                        turn          held by whoever starts or stops it
//!                                        stop          there while it is to end
//!                                        output        what the service wrote, and output.1 what it wrote before
//! ```

use std::ffi::OsString;
use std::fs::{File, TryLockError};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::base::digest::{Canonical, Digest};
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};

/// The variable by which processes of a service are found.
pub(super) const MARK: &str = "KLADDER_SERVICE";
/// What this program writes and reads.
const FORMAT: u32 = 1;

/// As much is told of what a service wrote, in bytes and lines.
const MOST_TOLD: usize = 16 << 10;
const LINES_TOLD: usize = 20;

/// A service's folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// Where it is.
    pub folder: PathBuf,
}

/// What is to be run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Order {
    format: u32,
    /// The program and its arguments.
    #[serde(with = "words")]
    pub run: Vec<OsString>,
    /// Where it runs.
    #[serde(with = "record::path")]
    pub folder: PathBuf,
    /// What tells it to end; nothing where that is the signal TERM.
    #[serde(with = "words")]
    pub stop: Vec<OsString>,
    /// Seconds that it may take to end.
    pub patience: u64,
    /// What decides what runs: the command, its own variables, and the files behind it.
    pub recipe: Digest,
}

/// Where a service runs, what of, and how long it may take to end.
pub(super) struct At<'a> {
    pub(super) folder: PathBuf,
    pub(super) of: &'a Path,
    pub(super) patience: u64,
}

impl Order {
    /// An order for what is made of the rung in `of`.
    pub(super) fn new(run: Vec<OsString>, stop: Vec<OsString>, own: &[(OsString, OsString)], at: &At<'_>) -> Self {
        let variables = own.iter().flat_map(|(name, value)| [name.as_encoded_bytes(), value.as_encoded_bytes()]);
        let digest = Canonical::new("kladder service", 1).field("of", at.of.as_os_str().as_encoded_bytes());
        let digest = digest.list("run", run.iter().map(|word| word.as_encoded_bytes()));
        let recipe = digest.list("variables", variables).finish();
        Self { format: FORMAT, run, folder: at.folder.clone(), stop, patience: at.patience, recipe }
    }
}

/// How a service stands, as whoever keeps it wrote last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    format: u32,
    /// The process of the service; none while it is not there.
    pub process: Option<u32>,
    /// Since when it runs, or since when it does not.
    pub since: jiff::Timestamp,
    /// How often it was started again.
    pub restarts: u32,
    /// How it ended the last time: a status as in shells, or why it could not be started.
    pub ended: Option<Result<i32, String>>,
    /// Until when it is left alone, after an end.
    pub again: Option<jiff::Timestamp>,
    /// What runs.
    pub recipe: Digest,
    /// How much was written before it was started last, in bytes.
    pub from: u64,
}

impl State {
    /// It runs, from now on.
    pub(super) fn running(
        process: Option<u32>,
        restarts: u32,
        ended: Option<Result<i32, String>>,
        recipe: Digest,
        from: u64,
    ) -> Self {
        let since = jiff::Timestamp::now();
        Self { format: FORMAT, process, since, restarts, ended, again: None, recipe, from }
    }

    /// It ended, and is started again.
    #[must_use]
    pub(super) fn waiting(self, again: jiff::Timestamp, ended: Result<i32, String>) -> Self {
        Self { process: None, since: jiff::Timestamp::now(), ended: Some(ended), again: Some(again), ..self }
    }
}

impl Place {
    /// The place of a service in the folder of a ladder.
    pub fn of(ladder: &Path, name: &str) -> Self {
        Self { folder: ladder.join("services").join(name) }
    }

    /// The services of a ladder that were ever started, by name.
    pub fn all(ladder: &Path) -> Vec<(String, Self)> {
        let names = files::names(&ladder.join("services")).unwrap_or_default();
        let mut names: Vec<String> = names.into_iter().filter_map(|name| name.into_string().ok()).collect();
        names.sort();
        names.into_iter().map(|name| (name.clone(), Self::of(ladder, &name))).collect()
    }

    pub(super) fn read_order(&self) -> Result<Order, RecordError> {
        record::read(&self.folder.join("order.json"), FORMAT)
    }

    pub(super) fn write_order(&self, order: &Order) -> Result<(), FileError> {
        record::write(&self.folder.join("order.json"), order)
    }

    /// How it stood last.
    pub fn state(&self) -> Option<State> {
        record::read(&self.folder.join("state.json"), FORMAT).ok()
    }

    pub(super) fn write_state(&self, state: &State) -> Result<(), FileError> {
        record::write(&self.folder.join("state.json"), state)
    }

    /// Whether some process keeps it.
    pub fn is_kept(&self) -> bool {
        let Ok(file) = File::open(self.folder.join("lock")) else { return false };
        matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock))
    }

    /// The right to keep it; `None` where another process has that.
    pub(super) fn lock(&self) -> Result<Option<File>, FileError> {
        let path = self.folder.join("lock");
        let file = File::options().create(true).truncate(false).write(true).open(&path).on("open", &path)?;
        match file.try_lock() {
            Ok(()) => Ok(Some(file)),
            Err(TryLockError::WouldBlock) => Ok(None),
            Err(TryLockError::Error(source)) => Err(source).on("lock", &path),
        }
    }

    pub(super) fn stop_file(&self) -> PathBuf {
        self.folder.join("stop")
    }

    /// Where what it writes is kept.
    pub fn output(&self) -> PathBuf {
        self.folder.join("output")
    }

    /// What marks its processes in their environments.
    pub(super) fn mark(&self) -> String {
        Digest::of(self.folder.as_os_str().as_encoded_bytes()).short()
    }

    /// The variable with that mark, as it stands in an environment.
    pub(crate) fn marked(&self) -> String {
        [MARK, "=", &self.mark()].concat()
    }

    /// The last of what it wrote.
    pub fn said(&self) -> String {
        self.said_from(0)
    }

    /// The last of what it wrote since it was started last.
    pub(super) fn said_now(&self) -> String {
        self.said_from(self.state().map_or(0, |state| state.from))
    }

    fn said_from(&self, from: u64) -> String {
        let Ok(bytes) = files::read(&self.output()) else { return String::new() };
        let bytes = &bytes[usize::try_from(from).unwrap_or(usize::MAX).min(bytes.len())..];
        let end = &bytes[bytes.len().saturating_sub(MOST_TOLD)..];
        let text = String::from_utf8_lossy(end);
        let lines: Vec<&str> = text.lines().collect();
        lines[lines.len().saturating_sub(LINES_TOLD)..].join("\n")
    }
}

/// Words of a command, in a form that keeps every byte.
mod words {
    use std::ffi::OsString;
    use std::path::Path;

    use serde::{Deserialize, Deserializer, Serializer};

    use crate::base::record::path;

    pub(super) fn serialize<S: Serializer>(words: &[OsString], serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(words.iter().map(|word| path::to_text(Path::new(word))))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<OsString>, D::Error> {
        let texts = Vec::<String>::deserialize(deserializer)?;
        Ok(texts.iter().map(|text| path::of_text(text).into_os_string()).collect())
    }
}
