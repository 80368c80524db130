//! Files and values that a ladder puts into a person's home, and taking them back.
//!
//! Of each file three states are remembered as bytes: as it was before, as the ladder wanted it, and as it was left. What the
//! file is now is held against them, so that a person's own change is told from what was put there:
//!
//! | the file is now | and the ladder wants | then |
//! |---|---|---|
//! | not there, and never was put there | anything | it is made |
//! | a person's own | something else | the person is asked; without an answer it stays |
//! | as it was left | something else | it becomes that |
//! | changed since | what it wanted before | it stays |
//! | changed since | something new | both changes are merged line by line (three-way); where they clash it stays |
//!
//! ```
//! use std::fs;
//! use kladder_core::wire::placed::{Placed, State, Want, Wanted, apply, plan};
//!
//! let root = tempfile::tempdir()?;
//! let (file, backups) = (root.path().join("keys.toml"), root.path().join("backups"));
//! let mut placed = Placed::read(&root.path().join("record"))?;
//! let want = |text: &str| Wanted { path: file.clone(), want: Want::Whole(text.into()) };
//!
//! // The file is not there yet: it is made.
//! let first = plan(&[want("save = \"s\"\nquit = \"q\"\n")], &placed).remove(0);
//! assert_eq!((first.state.clone(), apply(&first, &mut placed, &backups)?), (State::ToWrite, true));
//! // A person goes on with it, and later the ladder wants more: both are kept.
//! fs::write(&file, "# mine\nsave = \"s\"\nquit = \"q\"\n")?;
//! let more = plan(&[want("save = \"s\"\nquit = \"q\"\nfind = \"f\"\n")], &placed).remove(0);
//! apply(&more, &mut placed, &backups)?;
//! assert_eq!(fs::read_to_string(&file)?, "# mine\nsave = \"s\"\nquit = \"q\"\nfind = \"f\"\n");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Values are treated in the same way one by one, and the rest of their file keeps its bytes. The record is written before and
//! after each file, so that whoever is killed between them leaves nothing that would be taken for a person's change.

mod ini;
mod json;
pub mod keys;
mod no_keys;
mod record;
mod toml;
mod yaml;

pub use no_keys::NoKeys;
pub use record::Placed;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kladder_choose::setting::{Form, Step};
use serde_json::Value;

use self::no_keys::plain;
use self::record::{Entry, Key};
use super::files_of::{Shell, StartFile};
use super::plan::{self, Change, Obstacle, WireError};
use crate::base::files::FileError;
use crate::base::record::RecordError;

/// A file as a ladder wants it.
#[derive(Clone, Debug, PartialEq)]
pub struct Wanted {
    /// Where it is.
    pub path: PathBuf,
    /// What it should be.
    pub want: Want,
}

/// What a file should be.
#[derive(Clone, Debug, PartialEq)]
pub enum Want {
    /// These bytes, also where somebody removed the file since.
    Always(Vec<u8>),
    /// These bytes.
    Whole(Vec<u8>),
    /// These values at ways that [`Step`] reads.
    Keys {
        /// How the file is written.
        form: Form,
        /// By path.
        keys: BTreeMap<String, Value>,
    },
}

/// How a file stands to what a ladder wants of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// It is as wanted.
    Stands,
    /// It is to be made, or changed from what was put there before.
    ToWrite,
    /// It is a person's own and would have to change: they are asked.
    Differs,
    /// A person changed what was put there, which stays.
    Yours,
    /// A person and the ladder both changed it, in one place.
    Clash,
    /// The ladder does not want it any more; it becomes what it was before.
    ToUndo,
    /// It cannot be read or changed; why.
    Left(String),
}

/// What would become of a file.
#[derive(Clone, Debug)]
pub struct Placing {
    /// The file.
    pub path: PathBuf,
    /// How it stands.
    pub state: State,
    /// What it becomes; for [`State::Differs`] once the person agrees.
    pub change: Option<Change>,
    /// Whether it is to be remembered for the first time.
    pub is_new: bool,
    entry: Option<Entry>,
}

impl Placing {
    /// That of a link, which is made elsewhere.
    pub(super) fn of_link(path: &Path, state: State) -> Self {
        Self { path: path.to_path_buf(), state, change: None, is_new: false, entry: None }
    }
}

/// Why settings could not be placed.
#[derive(Debug, thiserror::Error)]
pub enum PlaceError {
    /// The record cannot be used.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A file could not be changed.
    #[error(transparent)]
    Wire(#[from] WireError),
}

impl From<crate::base::files::FileError> for PlaceError {
    fn from(error: crate::base::files::FileError) -> Self {
        Self::Wire(error.into())
    }
}

/// What would become of the files that a ladder wants, and of those that it wanted before.
pub fn plan(wanted: &[Wanted], placed: &Placed) -> Vec<Placing> {
    let mut all: Vec<Placing> = wanted.iter().map(|wanted| plan_one(wanted, placed)).collect();
    for path in placed.paths() {
        if !wanted.iter().any(|wanted| wanted.path == path) {
            all.push(undo_one(&path, placed));
        }
    }
    all
}

fn read(path: &Path) -> Result<Option<Vec<u8>>, String> {
    match plan::now(path) {
        Ok(bytes) => Ok(bytes),
        Err(Obstacle::Nowhere) => Err("it is a link to nothing".to_owned()),
        Err(Obstacle::NotAFile) => Err("it is no file".to_owned()),
        Err(Obstacle::Unreadable(error)) => Err(error.to_string()),
        Err(_) => Err("it cannot be read".to_owned()),
    }
}

fn left(path: &Path, why: String) -> Placing {
    Placing { path: path.to_path_buf(), state: State::Left(why), change: None, is_new: false, entry: None }
}

/// A placing that changes a file, with what is remembered of it from then on.
fn placing(path: &Path, state: State, now: Option<&[u8]>, after: Option<Vec<u8>>, entry: Option<Entry>) -> Placing {
    let file = StartFile { path: path.to_path_buf(), shell: Shell::Session };
    match plan::change_of(&file, now.map(<[u8]>::to_vec), after) {
        Ok(change) => {
            let is_new = entry.as_ref().is_some_and(Entry::is_new);
            Placing { path: path.to_path_buf(), state, change, is_new, entry }
        }
        Err(Obstacle::ReadOnly) => left(path, "it is read-only".to_owned()),
        Err(_) => left(path, "it cannot be changed".to_owned()),
    }
}

fn plan_one(wanted: &Wanted, placed: &Placed) -> Placing {
    let path = &wanted.path;
    let now = match read(path) {
        Ok(now) => now,
        Err(why) => return left(path, why),
    };
    let before = placed.entry(path, now.as_deref());
    match &wanted.want {
        Want::Always(bytes) => whole(path, now.as_deref(), bytes, before.filter(|_| now.is_some()), placed),
        Want::Whole(bytes) => whole(path, now.as_deref(), bytes, before, placed),
        Want::Keys { form, keys } => match with_keys(path, now.as_deref(), *form, keys, before) {
            Ok(placing) => placing,
            Err(why) => left(path, why),
        },
    }
}

fn whole(path: &Path, now: Option<&[u8]>, bytes: &[u8], before: Option<&Entry>, placed: &Placed) -> Placing {
    let becomes = |state, after: &[u8]| {
        let entry = Entry::of(before, now).wanting(bytes);
        placing(path, state, now, Some(after.to_vec()), Some(entry))
    };
    let stays = |state| Placing { path: path.to_path_buf(), state, change: None, is_new: false, entry: None };
    if now == Some(bytes) {
        return becomes(State::Stands, bytes);
    }
    let Some(entry) = before else {
        return becomes(if now.is_none() { State::ToWrite } else { State::Differs }, bytes);
    };
    // What was merged holds a person's lines: only what is wholly the ladder's is replaced.
    let base = placed.bytes(entry.wanted.as_ref());
    if now == base.as_deref() {
        return becomes(State::ToWrite, bytes);
    }
    match (now, base) {
        (Some(now), Some(base)) if base != bytes => match diffy::merge_bytes(&base, now, bytes) {
            Ok(merged) => becomes(State::ToWrite, &merged),
            Err(_) => stays(State::Clash),
        },
        _ => stays(State::Yours),
    }
}

/// A file that nobody has yet, as it is wanted.
///
/// # Errors
/// What cannot be written in its form.
pub(crate) fn bytes_of(want: &Want) -> Result<Vec<u8>, String> {
    match want {
        Want::Always(bytes) | Want::Whole(bytes) => Ok(bytes.clone()),
        Want::Keys { form, keys } => {
            let set = |text: String, (key, value): (&String, &Value)| {
                keys::set(*form, &text, &Step::all_of(key), value).map_err(|error| error.to_string())
            };
            keys.iter().try_fold(String::new(), set).map(String::into_bytes)
        }
    }
}

/// What one value's state makes of the file's.
fn worse(one: State, other: State) -> State {
    let rank = |state: &State| match state {
        State::Stands => 0,
        State::Yours => 1,
        State::ToWrite | State::ToUndo => 2,
        State::Clash => 3,
        State::Differs => 4,
        State::Left(_) => 5,
    };
    if rank(&other) > rank(&one) { other } else { one }
}

fn with_keys(
    path: &Path,
    now: Option<&[u8]>,
    form: Form,
    wanted: &BTreeMap<String, Value>,
    before: Option<&Entry>,
) -> Result<Placing, String> {
    let told = |error: NoKeys| error.to_string();
    let text = std::str::from_utf8(now.unwrap_or_default()).map_err(|_| "it is not UTF-8".to_owned())?;
    let mut entry = Entry::of(before, now);
    entry.form = Some(form);
    let (mut after, mut state) = (text.to_owned(), State::Stands);
    let gone: Vec<String> = entry.keys.keys().filter(|key| !wanted.contains_key(*key)).cloned().collect();
    for key in gone {
        if let Some(known) = entry.keys.remove(&key) {
            after = put_back(form, &after, &key, &known).map_err(told)?;
        }
    }
    for (key, value) in wanted {
        let way = Step::all_of(key);
        let there = keys::get(form, &after, &way).map_err(told)?;
        let known = entry.keys.get(key);
        let is_there = same(form, there.as_ref(), value);
        let own = match known {
            _ if is_there => State::Stands,
            None if there.is_none() => State::ToWrite,
            None => State::Differs,
            Some(known) if there.as_ref().is_some_and(|there| same(form, Some(there), &known.placed)) => State::ToWrite,
            Some(known) if known.placed == *value => State::Yours,
            Some(_) => State::Clash,
        };
        if matches!(own, State::ToWrite | State::Differs) {
            after = keys::set(form, &after, &way, value).map_err(told)?;
        }
        if !matches!(own, State::Yours | State::Clash) {
            let before = known.map_or(there, |known| known.before.clone());
            entry.keys.insert(key.clone(), Key { before, placed: value.clone() });
        }
        state = worse(state, own);
    }
    if after != text && state == State::Stands {
        state = State::ToWrite;
    }
    let after = if now.is_none() && after.is_empty() { None } else { Some(after.into_bytes()) };
    Ok(placing(path, state, now, after, Some(entry)))
}

/// Whether a value is the wanted one; a file without types has only texts.
fn same(form: Form, there: Option<&Value>, wanted: &Value) -> bool {
    match (form, there) {
        (Form::Ini, Some(Value::String(there))) => *there == plain(wanted),
        (_, there) => there == Some(wanted),
    }
}

/// The text with a value as it was before, where nobody changed it since.
fn put_back(form: Form, text: &str, key: &str, known: &Key) -> Result<String, NoKeys> {
    let way = Step::all_of(key);
    let there = keys::get(form, text, &way)?;
    match &known.before {
        _ if !same(form, there.as_ref(), &known.placed) => Ok(text.to_owned()),
        Some(before) => keys::set(form, text, &way, before),
        None => keys::remove(form, text, &way),
    }
}

fn undo_one(path: &Path, placed: &Placed) -> Placing {
    let now = match read(path) {
        Ok(now) => now,
        Err(why) => return left(path, why),
    };
    let Some(entry) = placed.entry(path, now.as_deref()) else {
        return placing(path, State::ToUndo, now.as_deref(), now.clone(), None);
    };
    let before = placed.bytes(entry.before.as_ref());
    if entry.is_as_left(now.as_deref()) && !entry.touched {
        return placing(path, State::ToUndo, now.as_deref(), before, None);
    }
    // A person removed it, or went on with it.
    let Some(bytes) = now else { return placing(path, State::ToUndo, None, None, None) };
    if let Some(form) = entry.form {
        let text = String::from_utf8(bytes.clone()).map_err(|_| "it is not UTF-8".to_owned());
        let undone = text.and_then(|text| {
            let all = entry.keys.iter().try_fold(text, |text, (key, known)| put_back(form, &text, key, known));
            all.map_err(|error| error.to_string())
        });
        return match undone {
            Ok(text) => placing(path, State::ToUndo, Some(&bytes), Some(text.into_bytes()), None),
            // What nobody can read values from has none of the ladder's any more.
            Err(_) => {
                Placing { path: path.to_path_buf(), state: State::Clash, change: None, is_new: false, entry: None }
            }
        };
    }
    let base = placed.bytes(entry.wanted.as_ref()).unwrap_or_default();
    match diffy::merge_bytes(&base, &bytes, before.as_deref().unwrap_or_default()) {
        Ok(merged) if merged.is_empty() && before.is_none() => placing(path, State::ToUndo, Some(&bytes), None, None),
        Ok(merged) => placing(path, State::ToUndo, Some(&bytes), Some(merged), None),
        Err(_) => Placing { path: path.to_path_buf(), state: State::Clash, change: None, is_new: false, entry: None },
    }
}

/// The same with what was there before other ladders put something there, too, where this one comes to a file that they have.
///
/// # Errors
/// [`FileError`] where that cannot be kept.
pub fn beside(mut placing: Placing, placed: &Placed, others: &[Placed]) -> Result<Placing, FileError> {
    let path = placing.path.clone();
    if let Some(entry) = placing.entry.as_mut().filter(|entry| entry.is_new()) {
        let now = read(&path).unwrap_or_default();
        others.iter().try_for_each(|other| placed.before_both(entry, &path, now.as_deref(), other))?;
    }
    Ok(placing)
}

/// Makes a file what was planned, and remembers it; `backups` gets what was there. Tells whether the file changed.
///
/// # Errors
/// [`PlaceError`]; the file is as it was then.
pub fn apply(placing: &Placing, placed: &mut Placed, backups: &Path) -> Result<bool, PlaceError> {
    let now = placing.change.as_ref().map(|change| (change.before.clone(), change.after.clone()));
    if let Some(entry) = &placing.entry {
        let (before, after) = now.unwrap_or_else(|| (plan::now(&placing.path).ok().flatten(), None));
        let after = if placing.change.is_some() { after } else { before.clone() };
        placed.remember(&placing.path, entry.clone(), before.as_deref(), after.as_deref())?;
    }
    if let Some(change) = &placing.change {
        plan::apply(change, backups)?;
    }
    match (&placing.entry, &placing.state) {
        (Some(_), _) => placed.settle(&placing.path)?,
        // What a person and the ladder both changed stays, and is theirs from now on.
        (None, State::ToUndo | State::Clash) => placed.forget(&placing.path)?,
        _ => {}
    }
    Ok(placing.change.is_some())
}

#[cfg(test)]
mod tests;
