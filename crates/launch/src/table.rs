//! The launch table: which program, arguments and variables stand behind a command.
//!
//! Format, version 1: the line `kladder launch table 1`, then fields that each end with a NUL byte (no path, argument
//! or variable can hold one). First the variables of all commands, then one record a command:
//!
//! ```text
//! COUNT ( NAME VALUE )*                       variables
//! ( COMMAND PROGRAM COUNT ( ARGUMENT )* )*    commands, sorted by name
//! ```
//!
//! Counts are decimal digits. A reader walks the fields once and allocates only what it returns.

use std::ffi::{OsStr, OsString};
use std::fmt;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

const HEADER: &[u8] = b"kladder launch table 1\n";

/// What one command starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The command's name, as typed.
    pub command: OsString,
    /// The file to run.
    pub program: PathBuf,
    /// Arguments that stand before the caller's own.
    pub arguments: Vec<OsString>,
}

/// Everything that the commands of one landing start with.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// Environment variables of every command.
    pub variables: Vec<(OsString, OsString)>,
    /// The commands.
    pub entries: Vec<Entry>,
}

/// What the launcher needs for one command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Environment variables to set.
    pub variables: Vec<(OsString, OsString)>,
    /// The command's entry.
    pub entry: Entry,
}

/// Why a table could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableError {
    /// It starts with something else: no table, or one of another format version.
    UnknownFormat,
    /// It ends in the middle of a record, or a count is no number.
    Damaged,
}

impl fmt::Display for TableError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::UnknownFormat => "it is not a launch table of format 1",
            Self::Damaged => "it ends in the middle of a record",
        })
    }
}

impl std::error::Error for TableError {}

impl Table {
    /// The table in the format above; entries are sorted by command.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = HEADER.to_vec();
        let count = |n: usize| OsString::from(n.to_string());
        field(&mut out, &count(self.variables.len()));
        for (name, value) in &self.variables {
            field(&mut out, name);
            field(&mut out, value);
        }
        let mut sorted: Vec<&Entry> = self.entries.iter().collect();
        sorted.sort_by(|a, b| a.command.cmp(&b.command));
        for entry in sorted {
            field(&mut out, &entry.command);
            field(&mut out, entry.program.as_os_str());
            field(&mut out, &count(entry.arguments.len()));
            entry.arguments.iter().for_each(|argument| field(&mut out, argument));
        }
        out
    }
}

/// Looks `command` up in the bytes of a table; `Ok(None)` when no record has that name.
///
/// # Errors
/// [`TableError`] when the bytes are no readable table.
pub fn find(bytes: &[u8], command: &OsStr) -> Result<Option<Found>, TableError> {
    let mut fields = Fields(bytes.strip_prefix(HEADER).ok_or(TableError::UnknownFormat)?);
    let variables: Vec<_> =
        (0..fields.count()?).map(|_| Ok((owned(fields.next()?), owned(fields.next()?)))).collect::<Result<_, _>>()?;
    while !fields.0.is_empty() {
        let name = fields.next()?;
        let program = fields.next()?;
        let count = fields.count()?;
        if name == command.as_bytes() {
            let arguments = (0..count).map(|_| fields.next().map(owned)).collect::<Result<_, _>>()?;
            let program = Path::new(OsStr::from_bytes(program)).to_path_buf();
            return Ok(Some(Found { variables, entry: Entry { command: command.into(), program, arguments } }));
        }
        for _ in 0..count {
            fields.next()?;
        }
    }
    Ok(None)
}

/// The variables of a table.
///
/// # Errors
/// [`TableError`] when the bytes are no readable table.
pub fn variables(bytes: &[u8]) -> Result<Vec<(OsString, OsString)>, TableError> {
    Ok(open(bytes)?.0)
}

/// The variables, and the fields that follow them.
fn open(bytes: &[u8]) -> Result<(Vec<(OsString, OsString)>, Fields<'_>), TableError> {
    let mut fields = Fields(bytes.strip_prefix(HEADER).ok_or(TableError::UnknownFormat)?);
    let pairs = (0..fields.count()?).map(|_| Ok((owned(fields.next()?), owned(fields.next()?))));
    let variables = pairs.collect::<Result<_, TableError>>()?;
    Ok((variables, fields))
}

fn field(out: &mut Vec<u8>, value: &OsStr) {
    out.extend_from_slice(value.as_bytes());
    out.push(0);
}

fn owned(bytes: &[u8]) -> OsString {
    OsString::from_vec(bytes.to_vec())
}

struct Fields<'a>(&'a [u8]);

impl<'a> Fields<'a> {
    fn next(&mut self) -> Result<&'a [u8], TableError> {
        let end = self.0.iter().position(|&byte| byte == 0).ok_or(TableError::Damaged)?;
        let (value, rest) = self.0.split_at(end);
        self.0 = &rest[1..];
        Ok(value)
    }

    fn count(&mut self) -> Result<usize, TableError> {
        std::str::from_utf8(self.next()?).ok().and_then(|text| text.parse().ok()).ok_or(TableError::Damaged)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(command: &str, program: &str, arguments: &[&str]) -> Entry {
        Entry {
            command: command.into(),
            program: program.into(),
            arguments: arguments.iter().map(Into::into).collect(),
        }
    }

    fn table() -> Table {
        Table {
            variables: vec![("SKERROW_ROOT".into(), "/a shelf/skerroc\nwith a line".into())],
            entries: vec![entry("tidlow", "/s/tidlow", &[]), entry("scc", "/s/skerroc", &["--as", "c c"])],
        }
    }

    #[test]
    fn what_is_written_is_found_again_whatever_its_characters() {
        let bytes = table().to_bytes();
        for entry in table().entries {
            let found = find(&bytes, &entry.command).unwrap().unwrap();
            assert_eq!(found, Found { variables: table().variables, entry });
        }
        assert_eq!(find(&bytes, OsStr::new("tid")).unwrap(), None);
    }

    #[test]
    fn a_cut_table_is_never_taken_for_a_whole_one() {
        let bytes = table().to_bytes();
        assert_eq!(find(b"kladder launch table 2\n", OsStr::new("scc")), Err(TableError::UnknownFormat));
        for cut in HEADER.len()..bytes.len() - 1 {
            let got = find(&bytes[..cut], OsStr::new("no such command"));
            let at_record_end = got == Ok(None);
            assert!(at_record_end || got == Err(TableError::Damaged), "cut at {cut}: {got:?}");
        }
    }
}
