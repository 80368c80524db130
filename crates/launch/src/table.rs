//! The launch table: which program, arguments and variables stand behind a command.
//!
//! Format, version 4: the line `kladder launch table 4`, then fields that each end with a NUL byte (no path, argument
//! or variable can hold one). First what all commands have in common, then one record a command:
//!
//! ```text
//! UP                                          folders between the landing's and the table's
//! COUNT ( NAME VALUE )*                       variables of all commands, as `variables` has them
//! ( COMMAND PROGRAM CALLED COUNT ( ARGUMENT )* commands, sorted by name
//!   COUNT ( NAME VALUE )*                     variables of this command alone
//!   COUNT ( FOLDER )* )*                      folders for the front of PATH, below the landing's
//! ```
//!
//! Counts are decimal digits. A reader walks the fields once and allocates only what it returns.

use std::ffi::{OsStr, OsString};
use std::fmt;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

const HEADER: &[u8] = b"kladder launch table 4\n";

/// What one command starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The command's name, as typed.
    pub command: OsString,
    /// The file to run.
    pub program: PathBuf,
    /// The first argument that the program sees (`argv[0]`); as the command was called where it is `None`.
    pub called: Option<PathBuf>,
    /// Arguments that stand before the caller's own.
    pub arguments: Vec<OsString>,
    /// Environment variables of this command alone.
    pub variables: Vec<(OsString, OsString)>,
    /// Folders for the front of PATH, relative to the landing's.
    pub fronts: Vec<PathBuf>,
}

/// Everything that the commands of one landing start with.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// How many folders above the table's own the landing's is.
    pub up: usize,
    /// Environment variables of every command.
    pub variables: Vec<(OsString, OsString)>,
    /// The commands.
    pub entries: Vec<Entry>,
}

/// What the launcher needs for one command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// How many folders above the table's own the landing's is.
    pub up: usize,
    /// Environment variables to set, those of the command last.
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
            Self::UnknownFormat => "it is not a launch table of format 4",
            Self::Damaged => "it ends in the middle of a record",
        })
    }
}

impl std::error::Error for TableError {}

impl Table {
    /// The table in the format above; entries are sorted by command.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = HEADER.to_vec();
        field(&mut out, &number(self.up));
        pairs(&mut out, &self.variables);
        let mut sorted: Vec<&Entry> = self.entries.iter().collect();
        sorted.sort_by(|a, b| a.command.cmp(&b.command));
        for entry in sorted {
            field(&mut out, &entry.command);
            field(&mut out, entry.program.as_os_str());
            field(&mut out, entry.called.as_deref().unwrap_or(Path::new("")).as_os_str());
            field(&mut out, &number(entry.arguments.len()));
            entry.arguments.iter().for_each(|argument| field(&mut out, argument));
            pairs(&mut out, &entry.variables);
            field(&mut out, &number(entry.fronts.len()));
            entry.fronts.iter().for_each(|front| field(&mut out, front.as_os_str()));
        }
        out
    }
}

/// Looks `command` up in the bytes of a table; `Ok(None)` when no record has that name.
///
/// # Errors
/// [`TableError`] when the bytes are no readable table.
pub fn find(bytes: &[u8], command: &OsStr) -> Result<Option<Found>, TableError> {
    let (up, mut variables, mut fields) = open(bytes)?;
    while !fields.0.is_empty() {
        let name = fields.next()?;
        let program = fields.next()?;
        let called = Some(fields.next()?).filter(|called| !called.is_empty());
        if name != command.as_bytes() {
            fields.skip_lists()?;
            continue;
        }
        let program = Path::new(OsStr::from_bytes(program)).to_path_buf();
        let called = called.map(|called| Path::new(OsStr::from_bytes(called)).to_path_buf());
        let arguments = fields.list()?;
        let own = fields.pairs()?;
        let fronts = fields.list()?.into_iter().map(PathBuf::from).collect();
        variables.extend(own.iter().cloned());
        let entry = Entry { command: command.into(), program, called, arguments, variables: own, fronts };
        return Ok(Some(Found { up, variables, entry }));
    }
    Ok(None)
}

/// The names of a table's commands.
///
/// # Errors
/// [`TableError`] when the bytes are no readable table.
pub fn commands(bytes: &[u8]) -> Result<Vec<OsString>, TableError> {
    let (_, _, mut fields) = open(bytes)?;
    let mut names = Vec::new();
    while !fields.0.is_empty() {
        names.push(owned(fields.next()?));
        fields.next()?;
        fields.next()?;
        fields.skip_lists()?;
    }
    Ok(names)
}

/// The variables of a table.
///
/// # Errors
/// [`TableError`] when the bytes are no readable table.
pub fn variables(bytes: &[u8]) -> Result<Vec<(OsString, OsString)>, TableError> {
    Ok(open(bytes)?.1)
}

/// What all commands have in common, and the fields that follow.
type Opened<'a> = (usize, Vec<(OsString, OsString)>, Fields<'a>);

fn open(bytes: &[u8]) -> Result<Opened<'_>, TableError> {
    let mut fields = Fields(bytes.strip_prefix(HEADER).ok_or(TableError::UnknownFormat)?);
    let up = fields.count()?;
    let variables = fields.pairs()?;
    Ok((up, variables, fields))
}

fn number(count: usize) -> OsString {
    count.to_string().into()
}

fn pairs(out: &mut Vec<u8>, variables: &[(OsString, OsString)]) {
    field(out, &number(variables.len()));
    for (name, value) in variables {
        field(out, name);
        field(out, value);
    }
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

    fn list(&mut self) -> Result<Vec<OsString>, TableError> {
        (0..self.count()?).map(|_| self.next().map(owned)).collect()
    }

    fn pairs(&mut self) -> Result<Vec<(OsString, OsString)>, TableError> {
        (0..self.count()?).map(|_| Ok((owned(self.next()?), owned(self.next()?)))).collect()
    }

    /// Past the arguments, variables and folders of a command.
    fn skip_lists(&mut self) -> Result<(), TableError> {
        for width in [1, 2, 1] {
            for _ in 0..width * self.count()? {
                self.next()?;
            }
        }
        Ok(())
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
            called: None,
            arguments: arguments.iter().map(Into::into).collect(),
            variables: vec![("OWN".into(), command.into())],
            fronts: vec!["private/tidlow/commands".into(), "commands".into()],
        }
    }

    fn table() -> Table {
        Table {
            up: 2,
            variables: vec![("SKERROW_ROOT".into(), "/a shelf/skerroc\nwith a line".into())],
            entries: vec![entry("tidlow", "/s/tidlow", &[]), entry("scc", "/s/skerroc", &["--as", "c c"])],
        }
    }

    #[test]
    fn what_is_written_is_found_again_whatever_its_characters() {
        let bytes = table().to_bytes();
        for entry in table().entries {
            let found = find(&bytes, &entry.command).unwrap().unwrap();
            let variables = [table().variables, entry.variables.clone()].concat();
            assert_eq!(found, Found { up: 2, variables, entry });
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
