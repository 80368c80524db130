//! The journal: what every run did, step by step, and what one that was killed had in mind.
//!
//! `data/journal.db`, `SQLite` (version 2 by `user_version`), write-ahead: who reads never waits. Intents and ends are
//! written through to the disk before anything follows from them; steps survive a killed process, and of a power cut all
//! but the last ones.
//!
//! Two tables, `runs` (kind, ladder, process, begun, ended, outcome, why, intent) and `steps` (run, milliseconds since 1970, what
//! happened as JSON); `PRAGMA user_version` is the format. It tells what happened and what was about to; what is there is
//! told by the folders themselves.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, params};
use serde::{Deserialize, Serialize};

use super::intent::Intent;
use super::step::Step;
use crate::base::database;
use crate::base::record::path as path_text;

const VERSION: i64 = 2;
const SCHEMA: &str = "
    CREATE TABLE runs (
        id       INTEGER PRIMARY KEY AUTOINCREMENT,
        kind     TEXT NOT NULL,
        ladder   TEXT NOT NULL,
        process  INTEGER NOT NULL,
        begun    INTEGER NOT NULL,
        ended    INTEGER,
        outcome  TEXT,
        why      TEXT NOT NULL DEFAULT '',
        intent   TEXT NOT NULL
    );
    CREATE TABLE steps (
        run   INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
        at    INTEGER NOT NULL,
        step  TEXT NOT NULL
    );
    CREATE INDEX steps_of_run ON steps (run);
";
/// Runs that are remembered.
const REMEMBERED: i64 = 200;
/// How long another one's write is waited for: those are short.
const PATIENCE: Duration = Duration::from_secs(10);

/// Why the journal could not be used.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// `SQLite` failed.
    #[error("the journal {} cannot be used", path.display())]
    Sqlite {
        /// The file.
        path: PathBuf,
        /// What it said.
        source: rusqlite::Error,
    },
    /// Something else stands in its place: a folder, a pipe.
    #[error("the journal {} is not a plain file", .0.display())]
    NotAFile(PathBuf),
    /// It is written by a newer version of this program.
    #[error("the journal {} has version {version}, and this kladder knows up to {VERSION}", path.display())]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its version.
        version: i64,
    },
}

/// The library would wait for a pipe.
fn check_plain(path: &Path) -> Result<(), JournalError> {
    let is_else = std::fs::metadata(path).is_ok_and(|meta| !meta.is_file());
    if is_else { Err(JournalError::NotAFile(path.to_path_buf())) } else { Ok(()) }
}

impl JournalError {
    /// Whether the disk is full or not to be written to, in the terms of the file system.
    pub fn io_kind(&self) -> Option<std::io::ErrorKind> {
        use rusqlite::ErrorCode;
        let Self::Sqlite { source, .. } = self else { return None };
        match source.sqlite_error_code()? {
            ErrorCode::DiskFull => Some(std::io::ErrorKind::StorageFull),
            ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied => {
                Some(std::io::ErrorKind::PermissionDenied)
            }
            _ => None,
        }
    }
}

/// What kind of run it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A climb.
    Climb,
    /// A return to an earlier landing.
    Back,
    /// A verification.
    Verify,
}

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ended {
    /// It did what it was to do.
    Done,
    /// It failed, and said why.
    Failed,
    /// It stopped before anything was done, or for a restart: nothing failed.
    Stopped,
    /// It was killed; what it had begun was finished by another one.
    Finished,
    /// It was killed; what it had begun was undone by another one.
    Undone,
}

/// A run as it is remembered.
#[derive(Clone, Debug, PartialEq)]
pub struct Run {
    /// Its number.
    pub id: i64,
    /// What kind.
    pub kind: Kind,
    /// The ladder's file.
    pub ladder: PathBuf,
    /// The process.
    pub process: u32,
    /// When it began.
    pub begun: jiff::Timestamp,
    /// How long it took; `None` for one that is under way or was killed.
    pub took: Option<Duration>,
    /// How it ended; `None` while it is under way, or was killed and nobody wrote since.
    pub ended: Option<Ended>,
    /// Why it failed.
    pub why: String,
    pub(super) intent: Intent,
}

/// The journal of a home.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    connection: Mutex<Connection>,
}

fn text<T: Serialize>(value: &T) -> String {
    // Plain enums always have a form.
    serde_json::to_string(value).unwrap_or_default()
}

impl Journal {
    fn at(data: &Path) -> PathBuf {
        data.join("journal.db")
    }

    /// Opens the journal of the folder `data` for writing; makes it where there is none.
    ///
    /// # Errors
    /// [`JournalError`] where it is damaged, newer than this program, or cannot be written; it is left as it is.
    pub fn open(data: &Path) -> Result<Self, JournalError> {
        let path = Self::at(data);
        check_plain(&path)?;
        let wrong = |source| JournalError::Sqlite { path: path.clone(), source };
        let mut connection = Connection::open(&path).map_err(wrong)?;
        connection.busy_timeout(PATIENCE).map_err(wrong)?;
        connection.pragma_update(None, "journal_mode", "WAL").map_err(wrong)?;
        connection.pragma_update(None, "foreign_keys", true).map_err(wrong)?;
        let transaction =
            connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(wrong)?;
        let version: i64 = transaction.pragma_query_value(None, "user_version", |row| row.get(0)).map_err(wrong)?;
        match version {
            0 => {
                transaction.execute_batch(SCHEMA).map_err(wrong)?;
                transaction.pragma_update(None, "user_version", VERSION).map_err(wrong)?;
            }
            VERSION => {}
            _ => return Err(JournalError::Newer { path: path.clone(), version }),
        }
        transaction.commit().map_err(wrong)?;
        Ok(Self { path, connection: Mutex::new(connection) })
    }

    /// Opens it for reading; `None` where there is none yet. Works in a home that cannot be written to.
    ///
    /// # Errors
    /// [`JournalError`] where it is damaged or newer than this program.
    pub fn read(data: &Path) -> Result<Option<Self>, JournalError> {
        let path = Self::at(data);
        if !path.exists() {
            return Ok(None);
        }
        check_plain(&path)?;
        let wrong = |source| JournalError::Sqlite { path: path.clone(), source };
        let open = |uri: &str| {
            let connection =
                Connection::open_with_flags(uri, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI)?;
            connection.busy_timeout(PATIENCE)?;
            connection
                .pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0))
                .map(|version| (connection, version))
        };
        // Without the right to make the file that readers share, the journal is read as it stands.
        let opened = open(&database::uri(&path)).or_else(|_| open(&database::as_it_stands(&path)));
        let (connection, version) = opened.map_err(wrong)?;
        if version > VERSION {
            return Err(JournalError::Newer { path: path.clone(), version });
        }
        Ok(Some(Self { path, connection: Mutex::new(connection) }))
    }

    fn connection(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn told<T>(&self, result: rusqlite::Result<T>) -> Result<T, JournalError> {
        result.map_err(|source| JournalError::Sqlite { path: self.path.clone(), source })
    }

    /// Begins a run; returns its number. Runs of long ago are forgotten.
    ///
    /// # Errors
    /// [`JournalError`]; then there is no such run.
    pub fn begin(&self, kind: Kind, ladder: &Path) -> Result<i64, JournalError> {
        let connection = self.connection();
        let begin = || {
            connection.execute("DELETE FROM runs WHERE id <= (SELECT max(id) FROM runs) - ?1", [REMEMBERED])?;
            connection.execute(
                "INSERT INTO runs (kind, ladder, process, begun, intent) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![text(&kind), path_text::to_text(ladder), std::process::id(), now(), text(&Intent::Prepare)],
            )?;
            Ok(connection.last_insert_rowid())
        };
        self.told(begin())
    }

    /// Writes a run down that has ended.
    pub(super) fn write_whole(
        &self,
        kind: Kind,
        ladder: &Path,
        begun: jiff::Timestamp,
        steps: &[(jiff::Timestamp, Step)],
        ended: Ended,
    ) -> Result<(), JournalError> {
        let mut connection = self.connection();
        let mut write = || {
            let transaction = connection.transaction()?;
            transaction.execute(
                "INSERT INTO runs (kind, ladder, process, begun, ended, outcome, intent) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![
                    text(&kind),
                    path_text::to_text(ladder),
                    std::process::id(),
                    begun.as_millisecond(),
                    now(),
                    text(&ended),
                    text(&Intent::Prepare)
                ],
            )?;
            let run = transaction.last_insert_rowid();
            for (at, step) in steps {
                transaction
                    .prepare_cached("INSERT INTO steps (run, at, step) VALUES (?1, ?2, ?3)")?
                    .execute(params![run, at.as_millisecond(), text(step)])?;
            }
            transaction.commit()
        };
        let written = write();
        drop(connection);
        self.told(written)
    }

    /// Writes down what is about to happen, before it happens.
    ///
    /// # Errors
    /// [`JournalError`]; what was intended must not be done then, since nobody could finish it.
    pub fn intend(&self, run: i64, intent: &Intent) -> Result<(), JournalError> {
        let connection = self.connection();
        let write = || {
            // What a task is about to do must outlive the process; a landing must outlive the power.
            let durable = if matches!(intent, Intent::Land { .. }) { "FULL" } else { "NORMAL" };
            connection.pragma_update(None, "synchronous", durable)?;
            let written = connection.execute("UPDATE runs SET intent = ?2 WHERE id = ?1", params![run, text(intent)]);
            connection.pragma_update(None, "synchronous", "FULL")?;
            written
        };
        self.told(write())?;
        Ok(())
    }

    /// Writes a step down.
    ///
    /// # Errors
    /// [`JournalError`]; a full disk, mostly.
    pub fn step(&self, run: i64, step: &Step) -> Result<(), JournalError> {
        let connection = self.connection();
        let write = || {
            connection.pragma_update(None, "synchronous", "NORMAL")?;
            let written = connection
                .prepare_cached("INSERT INTO steps (run, at, step) VALUES (?1, ?2, ?3)")?
                .execute(params![run, now(), text(step)]);
            connection.pragma_update(None, "synchronous", "FULL")?;
            written
        };
        self.told(write())?;
        Ok(())
    }

    /// Ends a run.
    ///
    /// # Errors
    /// [`JournalError`]; the run then counts as killed, and the next writer looks after it.
    pub fn end(&self, run: i64, ended: Ended, why: &str) -> Result<(), JournalError> {
        let written = self.connection().execute(
            "UPDATE runs SET ended = ?2, outcome = ?3, why = ?4 WHERE id = ?1",
            params![run, now(), text(&ended), why],
        );
        self.told(written)?;
        Ok(())
    }

    /// The last runs, newest first; those of one ladder only, where one is named.
    pub fn runs(&self, ladder: Option<&Path>) -> Result<Vec<Run>, JournalError> {
        let ladder = ladder.map(path_text::to_text);
        self.select("WHERE ?1 IS NULL OR ladder = ?1", params![ladder])
    }

    /// A run by its number.
    pub fn run(&self, id: i64) -> Result<Option<Run>, JournalError> {
        Ok(self.select("WHERE id = ?1", params![id])?.pop())
    }

    /// Runs that nobody ended.
    pub(super) fn open_runs(&self) -> Result<Vec<Run>, JournalError> {
        self.select("WHERE outcome IS NULL", params![])
    }

    fn select(&self, which: &str, params: impl rusqlite::Params) -> Result<Vec<Run>, JournalError> {
        let connection = self.connection();
        let select = || {
            let columns = "id, kind, ladder, process, begun, ended, outcome, why, intent";
            let mut statement = connection.prepare(&format!("SELECT {columns} FROM runs {which} ORDER BY id DESC"))?;
            // A row that a newer program wrote, or that is damaged, is nobody's obstacle: it is left out.
            let rows = statement.query_map(params, run)?;
            Ok(rows.filter_map(Result::ok).collect())
        };
        self.told(select())
    }

    /// The steps of a run, each with the time since the run began.
    pub fn steps(&self, run: &Run) -> Result<Vec<(Duration, Step)>, JournalError> {
        let connection = self.connection();
        let select = || {
            let mut statement = connection.prepare("SELECT at, step FROM steps WHERE run = ?1 ORDER BY rowid")?;
            let begun = run.begun.as_millisecond();
            let step = |row: &rusqlite::Row<'_>| Ok((since(begun, row.get(0)?), json(row, 1)?));
            let rows = statement.query_map([run.id], step)?;
            Ok(rows.filter_map(Result::ok).collect())
        };
        self.told(select())
    }
}

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A clock that was put back gives no time at all.
fn since(begun: i64, at: i64) -> Duration {
    Duration::from_millis(u64::try_from(at.saturating_sub(begun)).unwrap_or(0))
}

fn json<T: serde::de::DeserializeOwned>(row: &rusqlite::Row<'_>, column: usize) -> rusqlite::Result<T> {
    let text: String = row.get(column)?;
    serde_json::from_str(&text).map_err(|error| {
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(error))
    })
}

fn run(row: &rusqlite::Row<'_>) -> rusqlite::Result<Run> {
    let (begun, ended): (i64, Option<i64>) = (row.get(4)?, row.get(5)?);
    let outcome: Option<String> = row.get(6)?;
    Ok(Run {
        id: row.get(0)?,
        kind: json(row, 1)?,
        ladder: path_text::of_text(&row.get::<_, String>(2)?),
        process: row.get(3)?,
        begun: jiff::Timestamp::from_millisecond(begun).unwrap_or_default(),
        took: ended.map(|ended| since(begun, ended)),
        ended: if outcome.is_some() { Some(json(row, 6)?) } else { None },
        why: row.get(7)?,
        intent: json(row, 8)?,
    })
}
