//! Wiring: a landing's commands and variables, put where the launcher finds them.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_launch::table::{Entry, Table};
use kladder_launch::{COMMANDS, PRIVATE, PROGRAM, TABLE};

use crate::catalog::{Command, Definition};
use crate::digest::Digest;
use crate::files::{self, Attach, FileError};
use crate::shelf::filled;
use crate::version::Version;

/// Why rungs could not be wired.
#[derive(Debug, thiserror::Error)]
pub enum WireError {
    /// Two rungs have the same command, or set the same variable.
    #[error("{one} and {other} both bring {what}")]
    Twice {
        /// One tool.
        one: String,
        /// The other.
        other: String,
        /// Which command or variable, in words.
        what: String,
    },
    /// A command's file is not on the shelf.
    #[error("{tool} should bring the command `{command}`, but has no file {}", file.display())]
    NoFile {
        /// The tool.
        tool: String,
        /// The command.
        command: String,
        /// Where the definition has it.
        file: PathBuf,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What is wired of a rung.
#[derive(Clone, Debug)]
pub struct Wired<'r> {
    /// Its definition, for its variables.
    pub definition: &'r Definition,
    /// Its commands.
    pub commands: &'r BTreeMap<String, Command>,
    /// Its version.
    pub version: &'r Version,
    /// The folder of its files.
    pub folder: PathBuf,
    /// The household that it lives in; `None` for the ladder's.
    pub kept_by: Option<&'r str>,
}

/// The launch tables of a landing.
#[derive(Clone, Debug, Default)]
pub struct Wiring {
    /// What everybody finds.
    pub shared: Table,
    /// What tools keep to themselves, by household.
    pub private: BTreeMap<String, Table>,
}

/// The households around one, itself first: `a/b`, `a`.
fn around(household: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(household), |inner| inner.rsplit_once('/').map(|(outer, _)| outer))
}

/// The folder of a household, relative to the landing's.
pub fn household_folder(household: &str) -> PathBuf {
    Path::new(PRIVATE).join(household.replace('/', "~"))
}

impl Wiring {
    /// The table that a household's commands are found in.
    pub fn table(&self, household: Option<&str>) -> &Table {
        household.and_then(|household| self.private.get(household)).unwrap_or(&self.shared)
    }

    /// The folders of commands that a household sees, nearest first, relative to the landing's.
    pub fn fronts(&self, household: Option<&str>) -> Vec<PathBuf> {
        let inner = household.into_iter().flat_map(around).filter(|household| self.private.contains_key(*household));
        inner.map(|household| household_folder(household).join(COMMANDS)).chain([COMMANDS.into()]).collect()
    }
}

/// Fills `{folder}` and `{version}` into a text of a definition.
pub fn fill(text: &str, version: &Version, folder: &Path) -> OsString {
    let mut out = OsString::new();
    for (at, part) in filled(text, version).split("{folder}").enumerate() {
        if at > 0 {
            out.push(folder);
        }
        out.push(part);
    }
    out
}

/// The launch tables of some rungs.
///
/// # Errors
/// [`WireError`] where two rungs have a command or a variable of the same name.
pub fn wiring<'r>(rungs: impl Iterator<Item = Wired<'r>>) -> Result<Wiring, WireError> {
    let mut owners: BTreeMap<(Option<&str>, String), String> = BTreeMap::new();
    let mut wiring = Wiring::default();
    let rungs: Vec<Wired<'r>> = rungs.collect();
    for rung in &rungs {
        let (tool, household) = (&rung.definition.tool, rung.kept_by);
        let table = match household {
            None => &mut wiring.shared,
            Some(household) => wiring.private.entry(household.to_owned()).or_default(),
        };
        for (name, value) in &rung.definition.variables {
            claim(&mut owners, (household, format!("the variable {name}")), tool)?;
            table.variables.push((name.into(), fill(value, rung.version, &rung.folder)));
        }
        for name in rung.commands.keys() {
            claim(&mut owners, (household, format!("the command `{name}`")), tool)?;
        }
    }
    inherit(&mut wiring);
    for rung in &rungs {
        let entries = entries(rung, &wiring);
        match rung.kept_by.and_then(|household| wiring.private.get_mut(household)) {
            Some(table) => table.entries.extend(entries),
            None => wiring.shared.entries.extend(entries),
        }
    }
    Ok(wiring)
}

/// Puts the variables of outer households, and the ladder's, before a household's own.
fn inherit(wiring: &mut Wiring) {
    let own = wiring.private.clone();
    for (household, table) in &mut wiring.private {
        let outer = around(household).skip(1).filter_map(|outer| own.get(outer));
        let mut levels: Vec<_> = outer.map(|table| table.variables.clone()).collect();
        levels.push(wiring.shared.variables.clone());
        let all = levels.into_iter().rev().flatten().chain(std::mem::take(&mut table.variables));
        // The last of a name is the nearest.
        let all: BTreeMap<OsString, OsString> = all.collect();
        table.variables = all.into_iter().collect();
        table.up = household_folder(household).components().count();
    }
}

fn entries(rung: &Wired<'_>, wiring: &Wiring) -> Vec<Entry> {
    let tool = &rung.definition.tool;
    let inside = rung.kept_by.map_or_else(|| tool.clone(), |household| format!("{household}/{tool}"));
    let keeps = wiring.private.get(&inside);
    let household = if keeps.is_some() { Some(inside.as_str()) } else { rung.kept_by };
    let entry = |(name, command): (&String, &Command)| Entry {
        command: name.into(),
        program: rung.folder.join(filled(&command.file, rung.version)),
        arguments: command.arguments.iter().map(|text| fill(text, rung.version, &rung.folder)).collect(),
        variables: keeps.map(|table| table.variables.clone()).unwrap_or_default(),
        fronts: wiring.fronts(household),
    };
    rung.commands.iter().map(entry).collect()
}

fn claim<'r>(
    owners: &mut BTreeMap<(Option<&'r str>, String), String>,
    what: (Option<&'r str>, String),
    tool: &str,
) -> Result<(), WireError> {
    match owners.insert(what.clone(), tool.to_owned()) {
        None => Ok(()),
        Some(one) => Err(WireError::Twice { one, other: tool.to_owned(), what: what.1 }),
    }
}

/// Fails where a command of a rung has no file behind it.
///
/// # Errors
/// [`WireError`] with the command and the path.
pub fn check_files(rung: &Wired<'_>) -> Result<(), WireError> {
    for (name, command) in rung.commands {
        let file = rung.folder.join(filled(&command.file, rung.version));
        if !file.is_file() {
            return Err(WireError::NoFile { tool: rung.definition.tool.clone(), command: name.clone(), file });
        }
    }
    Ok(())
}

/// Writes the tables and a launcher for each of their commands into a landing's folder. `data` is on the same file
/// system.
///
/// # Errors
/// [`WireError`] where a table or a launcher cannot be written.
pub fn write(wiring: &Wiring, landing: &Path, data: &Path) -> Result<(), WireError> {
    let program = launcher(data)?;
    write_table(&wiring.shared, landing, &program)?;
    for (household, table) in &wiring.private {
        write_table(table, &landing.join(household_folder(household)), &program)?;
    }
    Ok(())
}

fn write_table(table: &Table, folder: &Path, program: &Path) -> Result<(), WireError> {
    let commands = folder.join(COMMANDS);
    files::create_folder(&commands)?;
    for entry in &table.entries {
        let link = commands.join(&entry.command);
        match fs::hard_link(program, &link) {
            // A file has only so many links on some file systems, and none on others.
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                fs::copy(program, &link).map(drop).on("write", &link)?;
            }
            done => done.on("write", &link)?,
        }
    }
    files::replace(&folder.join(TABLE), &table.to_bytes())?;
    Ok(())
}

/// The launcher in this home, under a name that changes with its bytes.
fn launcher(data: &Path) -> Result<PathBuf, FileError> {
    let folder = data.join("launchers");
    let path = folder.join(Digest::of(PROGRAM).short());
    if !path.is_file() {
        files::create_folder(&folder)?;
        let mut new = tempfile::Builder::new().prefix(".new-").tempfile_in(&folder).on("write", &path)?;
        io::Write::write_all(&mut new, PROGRAM).on("write", &path)?;
        new.as_file().set_permissions(fs::Permissions::from_mode(0o555)).on("write", &path)?;
        // The handle must be closed before anyone runs the file.
        new.into_temp_path().persist(&path).map_err(|failed| failed.error).on("write", &path)?;
    }
    Ok(path)
}
