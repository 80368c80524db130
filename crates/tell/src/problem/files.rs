//! Files, documents, records, the journal.

use std::io;

use kladder_choose::catalog::CatalogError;
use kladder_choose::document::DocumentError;
use kladder_choose::pins::PinsFileError;
use kladder_core::base::files::FileError;
use kladder_core::base::record::RecordError;
use kladder_core::keep::landing::LandingError;
use kladder_core::keep::state::{JournalError, StateError};
use kladder_core::wire::WireError;

use super::{Code, Problem};
use crate::text::{quoted, shell_word};

impl From<FileError> for Problem {
    fn from(error: FileError) -> Self {
        Self::file(&error)
    }
}

/// Keys that people write at the top of a file, and the table that they belong in.
const IN_TABLES: [(&str, &[&str]); 2] =
    [("ladder", &["title", "catalog", "login-shell"]), ("catalog", &["name", "title", "format", "yards"])];

impl Problem {
    /// A file that could not be read or written.
    #[must_use]
    pub fn file(error: &FileError) -> Self {
        Self::io(error.source.kind(), error)
    }

    /// By what the operating system says of it.
    pub(super) fn io(kind: io::ErrorKind, error: &dyn std::error::Error) -> Self {
        let problem = |code| Self::of(code, error);
        match kind {
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => problem(Code::NoPermission)
                .next("check who owns the folder; kladder never asks for more rights than you have")
                .next("or set KLADDER_HOME to a folder that you may write to"),
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded | io::ErrorKind::FileTooLarge => {
                problem(Code::DiskFull).next("make room, then run the same command again: nothing half-done is left")
            }
            io::ErrorKind::InvalidFilename => problem(Code::BadFile).next("use a shorter name"),
            io::ErrorKind::IsADirectory => {
                problem(Code::Damaged).next("move that folder away: a file of kladder's belongs in its place")
            }
            _ => problem(Code::Failed),
        }
    }
}

impl From<WireError> for Problem {
    fn from(error: WireError) -> Self {
        match error {
            WireError::Changed(_) => Self::of(Code::Failed, &error)
                .why("nothing was written to it")
                .next("run it again; the difference is shown anew"),
            WireError::File(error) => error.into(),
        }
    }
}

impl From<StateError> for Problem {
    fn from(error: StateError) -> Self {
        Self::state(&error)
    }
}

impl From<JournalError> for Problem {
    fn from(error: JournalError) -> Self {
        Self::state(&StateError::Journal(error))
    }
}

impl Problem {
    /// Why a home could not be written to.
    #[must_use]
    pub fn state(error: &StateError) -> Self {
        match error {
            StateError::Busy { .. } => {
                Self::of(Code::Busy, error).next("wait for it, or give it more time with `--wait SECONDS`")
            }
            StateError::Journal(journal) => match journal.io_kind() {
                Some(kind) => Self::io(kind, journal),
                None if matches!(journal, JournalError::Newer { .. }) => newer(journal),
                None => Self::of(Code::Damaged, journal).next("move it away: only the log is lost"),
            },
            StateError::File(error) => Self::file(error),
            StateError::Cancelled(_) => Self::interrupted(),
        }
    }

    /// The person asked for an end.
    #[must_use]
    pub fn interrupted() -> Self {
        Self::new(Code::Interrupted, "interrupted")
            .why("nothing half-done is left, and the landing that was current still is")
            .next("`kladder climb` goes on; what was fetched whole is kept")
    }
}

impl From<DocumentError> for Problem {
    fn from(error: DocumentError) -> Self {
        Self::document(&error)
    }
}

impl Problem {
    /// A file that people write.
    #[must_use]
    pub fn document(error: &DocumentError) -> Self {
        match error {
            DocumentError::File(file) if file.source.kind() == io::ErrorKind::NotFound => {
                Self::file(file).with_code(Code::BadFile).next("check the path")
            }
            DocumentError::File(file) if file.source.kind() == io::ErrorKind::InvalidData => {
                Self::file(file).with_code(Code::BadFile).next("save it as plain UTF-8 text")
            }
            DocumentError::File(file) => Self::file(file),
            DocumentError::Invalid { place, message } => {
                let mut lines = message.lines();
                let what = lines.next().unwrap_or("the file cannot be understood");
                let problem = Self::new(Code::BadFile, what).at_place(place);
                lines.fold(problem, Self::why)
            }
            DocumentError::UnknownKey { place, key, near, known } => {
                let problem = Self::new(Code::BadFile, error.to_string()).at_place(place);
                let table = IN_TABLES
                    .iter()
                    .find(|(table, keys)| known.iter().any(|known| known == table) && keys.contains(&key.as_str()));
                if let Some((table, _)) = table {
                    return problem.next(format!("write it in the table `[{table}]`"));
                }
                match near.first() {
                    Some(near) => problem.next(format!("did you mean `{near}`?")),
                    None if known.is_empty() => problem.next(format!("leave `{key}` out")),
                    None => problem.why(format!("what can stand here: {}", quoted(known).join(", "))),
                }
            }
            DocumentError::UnknownWord { place, near, known, .. } => {
                let problem = Self::new(Code::BadFile, error.to_string()).at_place(place);
                match near.first() {
                    Some(near) => problem.next(format!("did you mean `{near}`?")),
                    None => problem.why(format!("what can: {}", quoted(known).join(", "))),
                }
            }
            DocumentError::MissingKey { place, key } => {
                let problem = Self::new(Code::BadFile, error.to_string()).at_place(place);
                match key.as_str() {
                    "catalog" => problem.next("begin it with `[catalog]`, and `format` and `name` below"),
                    _ => problem.next(format!("write `{key} = …` in this table")),
                }
            }
        }
    }

    pub(super) fn with_code(mut self, code: Code) -> Self {
        self.code = code;
        self
    }
}

impl From<CatalogError> for Problem {
    fn from(error: CatalogError) -> Self {
        Self::catalog(&error)
    }
}

impl Problem {
    /// A catalog that could not be used.
    #[must_use]
    pub fn catalog(error: &CatalogError) -> Self {
        match error {
            CatalogError::Missing(_) => Self::of(Code::BadFile, error)
                .why("a catalog is a folder with a catalog.toml in it")
                .next("check `--catalog`, or `catalog` in the ladder or config.toml"),
            CatalogError::Document(error) => Self::document(error),
            CatalogError::File(error) => Self::file(error),
            CatalogError::Newer { .. } => newer(error),
            CatalogError::NoLicence { id, .. } => Self::of(Code::BadFile, error)
                .why(format!("it would stand in licences/{id}.txt"))
                .next("tell those who keep the catalog"),
            CatalogError::SameName { .. } => {
                Self::of(Code::BadFile, error).next("name only one of them under `catalog` in the ladder")
            }
            CatalogError::Wrong { path, message } => {
                Self::new(Code::BadFile, "the catalog has a mistake").at(path).why(message)
            }
        }
    }
}

pub(super) fn newer(error: &dyn std::error::Error) -> Problem {
    Problem::of(Code::BadFile, error).next("use a newer kladder")
}

impl From<PinsFileError> for Problem {
    fn from(error: PinsFileError) -> Self {
        Self::pins_file(&error)
    }
}

impl Problem {
    /// A file of pins that could not be used.
    #[must_use]
    pub fn pins_file(error: &PinsFileError) -> Self {
        match error {
            PinsFileError::Document(error) => {
                Self::document(error).next("restore it, or delete it and run `kladder pin`")
            }
            PinsFileError::Unmerged { path, .. } => Self::of(Code::BadFile, error)
                .next("finish the merge of the ladder, then delete the pins' file and run `kladder pin`")
                .next(format!("the pins' file is {}", path.display())),
            PinsFileError::Newer { .. } => newer(error),
        }
    }

    /// A record of our own; `cure` says what helps when it is damaged.
    pub(super) fn record(error: &RecordError, cure: &str) -> Self {
        match error {
            RecordError::File(error) => Self::file(error),
            RecordError::Newer { .. } => newer(error),
            RecordError::Damaged { path, source } => Self::new(Code::Damaged, error.to_string())
                .at(path)
                .why(format!("it makes no sense at line {}, column {}", source.line(), source.column()))
                .next(cure),
        }
    }
}

impl From<RecordError> for Problem {
    fn from(error: RecordError) -> Self {
        Self::memory(&error)
    }
}

impl From<LandingError> for Problem {
    fn from(error: LandingError) -> Self {
        Self::landing(&error)
    }
}

impl Problem {
    /// A record of what was accepted or is due could not be read: nobody but the user can say that it may be forgotten.
    pub(super) fn memory(error: &RecordError) -> Self {
        let path = match error {
            RecordError::Damaged { path, .. }
            | RecordError::Newer { path, .. }
            | RecordError::File(FileError { path, .. }) => path,
        };
        let lost = match path.file_name().and_then(|name| name.to_str()) {
            Some("chores.json") => {
                "what you said is done is asked for again, and a restart that a chore wants is not known"
            }
            Some("terms.json") => "licences are asked for again",
            _ => "a restart that was due is not known",
        };
        Self::record(error, &format!("`rm {}` forgets it: {lost}", shell_word(path)))
    }

    /// A landing that could not be used.
    #[must_use]
    pub fn landing(error: &LandingError) -> Self {
        const CURE: &str = "`kladder climb` makes another one from the pins and the shelf";
        match error {
            LandingError::Record(RecordError::File(error)) if error.source.kind() == io::ErrorKind::NotFound => {
                Self::of(Code::Damaged, error).next(CURE)
            }
            LandingError::Record(error) => Self::record(error, CURE),
            LandingError::File(error) => Self::file(error).with_code(Code::Damaged).next(CURE),
            LandingError::NoneCurrent(_) | LandingError::Table { .. } => Self::of(Code::Damaged, error).next(CURE),
        }
    }
}
