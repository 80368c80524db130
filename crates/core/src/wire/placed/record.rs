//! What is remembered of the files that a ladder put into a home.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::setting::Form;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::base::digest::Digest;
use crate::base::files::{self, FileError};
use crate::base::record::{self, RecordError};

const FORMAT: u32 = 1;

/// What a ladder put into a home, and what was there before: a record, and the bytes of files by their digests.
#[derive(Debug)]
pub struct Placed {
    folder: PathBuf,
    record: Record,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Record {
    format: u32,
    /// By path, as records have paths.
    files: BTreeMap<String, Entry>,
}

/// What is remembered of one file; digests are of bytes that are kept beside the record, `None` where there was no file.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Entry {
    /// As it was before it was first touched.
    pub(super) before: Option<Digest>,
    /// As the ladder wanted it, where it wants all of it.
    #[serde(default)]
    pub(super) wanted: Option<Digest>,
    /// As it was left.
    pub(super) left: Option<Digest>,
    /// A person changed it at some time after it was first touched, so that its bytes hold more than the ladder put there.
    #[serde(default)]
    pub(super) touched: bool,
    /// What is about to be remembered instead. Whoever finds the file so was killed before that could be done.
    #[serde(default)]
    pending: Option<Box<Entry>>,
    /// How it is written, where values are put into it.
    #[serde(default)]
    pub(super) form: Option<Form>,
    /// The values, by path.
    #[serde(default)]
    pub(super) keys: BTreeMap<String, Key>,
    #[serde(skip)]
    new: Option<Vec<u8>>,
    #[serde(skip)]
    is_fresh: bool,
}

/// What is remembered of one value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Key {
    /// As it was before; none where there was none.
    pub(super) before: Option<Value>,
    /// As it was put there.
    pub(super) placed: Value,
}

impl Entry {
    /// What is remembered so far, or, where that is nothing, of a file as it is now.
    pub(super) fn of(before: Option<&Self>, now: Option<&[u8]>) -> Self {
        let fresh = || {
            let now = now.map(Digest::of);
            Self { before: now, left: now, is_fresh: true, ..Self::default() }
        };
        let mut entry = before.cloned().unwrap_or_else(fresh);
        entry.touched |= !entry.is_as_left(now);
        entry
    }

    pub(super) fn wanting(mut self, bytes: &[u8]) -> Self {
        self.wanted = Some(Digest::of(bytes));
        self.new = Some(bytes.to_vec());
        self
    }

    /// Whether nothing was remembered before.
    pub(super) fn is_new(&self) -> bool {
        self.is_fresh
    }

    /// Whether a file is as it was left.
    pub(super) fn is_as_left(&self, now: Option<&[u8]>) -> bool {
        now.map(Digest::of) == self.left
    }

    /// What holds of the file as it is: this, or what was about to be remembered; `None` where nothing was put there yet.
    fn holding(&self, now: Option<&[u8]>) -> Option<&Self> {
        let pending = self.pending.as_deref().filter(|pending| pending.is_as_left(now) && !self.is_as_left(now));
        Some(pending.unwrap_or(self)).filter(|entry| entry.wanted.is_some() || entry.form.is_some())
    }
}

impl Placed {
    /// Reads the record in a folder.
    ///
    /// # Errors
    /// [`RecordError`] where it is damaged or newer than this program.
    pub fn read(folder: &Path) -> Result<Self, RecordError> {
        let path = folder.join("placed.json");
        let is_there = fs::symlink_metadata(&path).is_ok();
        let record =
            if is_there { record::read(&path, FORMAT)? } else { Record { format: FORMAT, ..Record::default() } };
        Ok(Self { folder: folder.to_path_buf(), record })
    }

    /// Whether nothing was placed.
    pub fn is_empty(&self) -> bool {
        self.record.files.is_empty()
    }

    /// What is remembered of a file that is so now.
    pub(super) fn entry(&self, path: &Path, now: Option<&[u8]>) -> Option<&Entry> {
        self.record.files.get(&record::path::to_text(path))?.holding(now)
    }

    /// Whether something is remembered of a file.
    pub fn has(&self, path: &Path) -> bool {
        self.record.files.contains_key(&record::path::to_text(path))
    }

    /// The files of which something is remembered.
    pub(super) fn paths(&self) -> Vec<PathBuf> {
        self.record.files.keys().map(|path| record::path::of_text(path)).collect()
    }

    /// Bytes that were kept.
    pub(super) fn bytes(&self, digest: Option<&Digest>) -> Option<Vec<u8>> {
        fs::read(self.folder.join(digest?.hex())).ok()
    }

    fn keep(&self, bytes: Option<&[u8]>) -> Result<Option<Digest>, FileError> {
        let Some(bytes) = bytes else { return Ok(None) };
        let digest = Digest::of(bytes);
        let path = self.folder.join(digest.hex());
        if !path.exists() {
            files::replace(&path, bytes)?;
        }
        Ok(Some(digest))
    }

    /// What another ladder remembers of a file that is so now, and as it left it: what was there before the two of them.
    pub(super) fn before_both(
        &self,
        entry: &mut Entry,
        path: &Path,
        now: Option<&[u8]>,
        other: &Self,
    ) -> Result<(), FileError> {
        let Some(known) = other.entry(path, now).filter(|known| known.is_as_left(now)) else { return Ok(()) };
        files::create_folder(&self.folder)?;
        entry.before = self.keep(other.bytes(known.before.as_ref()).as_deref())?;
        for (key, own) in &mut entry.keys {
            if let Some(theirs) = known.keys.get(key).filter(|theirs| own.before.as_ref() == Some(&theirs.placed)) {
                own.before.clone_from(&theirs.before);
            }
        }
        Ok(())
    }

    fn write(&self) -> Result<(), FileError> {
        record::write(&self.folder.join("placed.json"), &self.record)
    }

    /// Before a file is changed: what it is and what it becomes, and what is to be remembered then.
    pub(super) fn remember(
        &mut self,
        path: &Path,
        mut entry: Entry,
        before: Option<&[u8]>,
        after: Option<&[u8]>,
    ) -> Result<(), FileError> {
        files::create_folder(&self.folder)?;
        self.keep(before)?;
        self.keep(entry.new.take().as_deref())?;
        entry.left = self.keep(after)?;
        entry.pending = None;
        entry.is_fresh = false;
        let path = record::path::to_text(path);
        let fresh = || Entry { before: before.map(Digest::of), left: before.map(Digest::of), ..Entry::default() };
        let known = self.record.files.get(&path).and_then(|known| known.holding(before)).cloned();
        let known = known.unwrap_or_else(fresh);
        self.record.files.insert(path, Entry { pending: Some(Box::new(entry)), ..known });
        self.write()
    }

    /// After a file was changed.
    pub(super) fn settle(&mut self, path: &Path) -> Result<(), FileError> {
        let entry = self.record.files.get_mut(&record::path::to_text(path));
        if let Some((pending, entry)) = entry.and_then(|entry| Some((entry.pending.take()?, entry))) {
            *entry = *pending;
        }
        self.sweep();
        self.write()
    }

    /// After a file is a person's alone again.
    pub(crate) fn forget(&mut self, path: &Path) -> Result<(), FileError> {
        self.record.files.remove(&record::path::to_text(path));
        self.sweep();
        self.write()
    }

    /// Bytes that no entry has any more need not be kept; where they cannot be removed, they stay.
    fn sweep(&self) {
        let entries = self.record.files.values().flat_map(|entry| [Some(entry), entry.pending.as_deref()]).flatten();
        let used = entries.flat_map(|entry| [entry.before, entry.wanted, entry.left]).flatten();
        let used: Vec<String> = used.map(|digest| digest.hex()).collect();
        for name in files::names(&self.folder).unwrap_or_default() {
            let is_bytes = name.len() == 64;
            if is_bytes && !used.iter().any(|used| name == used.as_str()) {
                let _ = fs::remove_file(self.folder.join(name));
            }
        }
    }
}
