//! A rehearsal as a project in a folder to keep: laid out once, added to later, linked anew to what the ladder has by then.
//!
//! What was written stands in a record in the folder, with digests: a file that is still as it was written may be written
//! anew, one that a person changed never is.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Content, Filled, Laid, NotFilled, Rehearsal};
use kladder_choose::path::InnerPath;
use serde::{Deserialize, Serialize};

use crate::base::digest::Digest;
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};
use crate::tasks::{Rung, word_of};

const FORMAT: u32 = 1;
/// The record's name in a project's folder.
const RECORD: &str = ".rehearsed.json";

/// Why a project could not be laid out.
#[derive(Debug, thiserror::Error)]
pub enum ProjectError {
    /// The folder has something in it, and is no project of this kind.
    #[error("{} is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// It is a project from another rehearsal.
    #[error("{} is a project from the rehearsal {other}", folder.display())]
    Other {
        /// The folder.
        folder: PathBuf,
        /// That rehearsal.
        other: String,
    },
    /// An answer or part is wrong.
    #[error(transparent)]
    NotFilled(#[from] NotFilled),
    /// Its record cannot be used.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Recorded {
    format: u32,
    rehearsal: String,
    answers: BTreeMap<String, String>,
    parts: Vec<String>,
    /// What was written, by path.
    files: BTreeMap<String, Digest>,
}

impl Recorded {
    /// That of a project of which nothing is written yet.
    fn of(rehearsal: &Rehearsal) -> Self {
        let (answers, parts, files) = (BTreeMap::new(), Vec::new(), BTreeMap::new());
        Self { format: FORMAT, rehearsal: rehearsal.rehearsal.clone(), answers, parts, files }
    }
}

/// What became of one file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Became {
    /// It is new.
    New,
    /// It was as it should be.
    Same,
    /// It was as it had been written, and is written anew.
    Anew,
    /// A person changed it, and it stays.
    Kept,
}

/// A project in a folder, before it is written.
#[derive(Debug)]
pub struct Project {
    /// Where it is.
    pub folder: PathBuf,
    /// Its files and steps.
    pub filled: Filled,
    /// What becomes of each file.
    pub files: BTreeMap<InnerPath, Became>,
    record: Recorded,
}

/// The answers that a project in a folder was made with; `None` where there is none.
///
/// # Errors
/// [`ProjectError`] where its record cannot be used, or it is from another rehearsal.
pub fn answers_of(folder: &Path, rehearsal: &Rehearsal) -> Result<Option<BTreeMap<String, String>>, ProjectError> {
    Ok(recorded(folder, rehearsal)?.map(|record| record.answers))
}

fn recorded(folder: &Path, rehearsal: &Rehearsal) -> Result<Option<Recorded>, ProjectError> {
    let path = folder.join(RECORD);
    if fs::symlink_metadata(&path).is_err() {
        return Ok(None);
    }
    let record: Recorded = record::read(&path, FORMAT)?;
    if record.rehearsal == rehearsal.rehearsal {
        return Ok(Some(record));
    }
    Err(ProjectError::Other { folder: folder.to_path_buf(), other: record.rehearsal })
}

impl Project {
    /// What a rehearsal with answers and parts makes of a folder that is empty, not there, or such a project already: then its
    /// parts stay, and so do its answers where there are no others.
    ///
    /// # Errors
    /// [`ProjectError`]; nothing was written.
    pub fn plan(
        rehearsal: &Rehearsal,
        folder: &Path,
        answers: &BTreeMap<String, String>,
        parts: &[String],
        rungs: &[Rung],
    ) -> Result<Self, ProjectError> {
        let before = recorded(folder, rehearsal)?;
        if before.is_none() && files::names(folder).is_ok_and(|names| !names.is_empty()) {
            return Err(ProjectError::NotEmpty(folder.to_path_buf()));
        }
        let mut record = before.unwrap_or_else(|| Recorded::of(rehearsal));
        record.answers.extend(answers.clone());
        let new = parts.iter().filter(|part| !record.parts.contains(part)).cloned().collect::<Vec<_>>();
        record.parts.extend(new);
        let filled = rehearsal.filled(&record.answers, &record.parts, &|tool, what| word_of(rungs, tool, what))?;
        let mut all = BTreeMap::new();
        for (path, file) in &filled.files {
            let bytes = bytes_of(file)?;
            all.insert(path.clone(), becomes(&path.below(folder), &bytes, record.files.get(path.as_str()))?);
        }
        Ok(Self { folder: folder.to_path_buf(), filled, files: all, record })
    }

    /// The steps over code that is there already; nothing is laid out.
    ///
    /// # Errors
    /// [`ProjectError`] for an answer or part that is wrong.
    pub fn of_code(
        rehearsal: &Rehearsal,
        folder: &Path,
        answers: &BTreeMap<String, String>,
        parts: &[String],
        rungs: &[Rung],
    ) -> Result<Self, ProjectError> {
        let filled = rehearsal.filled(answers, parts, &|tool, what| word_of(rungs, tool, what))?;
        Ok(Self { folder: folder.to_path_buf(), filled, files: BTreeMap::new(), record: Recorded::of(rehearsal) })
    }

    /// Writes the project, file by file, and last of all the record.
    ///
    /// # Errors
    /// [`ProjectError`]; what was written by then is written over by another try.
    pub fn write(&mut self) -> Result<(), ProjectError> {
        files::create_folder(&self.folder)?;
        // The record first without what follows, so that a try that is cut short can be repeated.
        record::write(&self.folder.join(RECORD), &self.record).map_err(ProjectError::File)?;
        for (path, laid) in &self.filled.files {
            let file = path.below(&self.folder);
            if matches!(self.files.get(path), Some(Became::New | Became::Anew)) {
                let bytes = bytes_of(laid)?;
                put(&file, &bytes, laid.executable)?;
                self.record.files.insert(path.as_str().to_owned(), Digest::of(&bytes));
            }
        }
        Ok(record::write(&self.folder.join(RECORD), &self.record)?)
    }
}

/// What is in a file of a project, of at most 64 MiB.
pub(crate) fn bytes_of(laid: &Laid) -> Result<Vec<u8>, FileError> {
    const MOST: u64 = 64 << 20;
    match &laid.content {
        Content::Text(text) => Ok(text.clone().into_bytes()),
        Content::From(path) => {
            let file = files::open(path)?;
            if file.metadata().on("read", path)?.len() > MOST {
                let large = std::io::Error::new(std::io::ErrorKind::FileTooLarge, "it has more than 64 MiB");
                return Err(large).on("read", path);
            }
            files::read(path)
        }
    }
}

/// Writes a file of a project whole, and the folders that it lies in.
pub(crate) fn put(file: &Path, bytes: &[u8], executable: bool) -> Result<(), FileError> {
    files::create_folder(file.parent().unwrap_or(file))?;
    files::replace(file, bytes)?;
    if executable {
        fs::set_permissions(file, fs::Permissions::from_mode(0o755)).on("make executable", file)?;
    }
    Ok(())
}

fn becomes(file: &Path, text: &[u8], written: Option<&Digest>) -> Result<Became, FileError> {
    if fs::symlink_metadata(file).is_err() {
        return Ok(Became::New);
    }
    let there = files::read(file)?;
    Ok(if there == text {
        Became::Same
    } else if written == Some(&Digest::of(&there)) {
        Became::Anew
    } else {
        Became::Kept
    })
}
