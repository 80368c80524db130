//! Wiring: a landing's commands and variables, put where the launcher finds them.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_launch::table::{Entry, Table};
use kladder_launch::{COMMANDS, PROGRAM, TABLE};

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

/// The launch table of some rungs.
pub fn table<'r>(rungs: impl Iterator<Item = Wired<'r>>) -> Result<Table, WireError> {
    let mut owners: BTreeMap<String, String> = BTreeMap::new();
    let mut table = Table::default();
    for Wired { definition, commands, version, folder } in rungs {
        let tool = &definition.tool;
        for (name, value) in &definition.variables {
            claim(&mut owners, format!("the variable {name}"), tool)?;
            table.variables.push((name.into(), fill(value, version, &folder)));
        }
        for (name, command) in commands {
            claim(&mut owners, format!("the command `{name}`"), tool)?;
            let program = folder.join(filled(&command.file, version));
            let arguments = command.arguments.iter().map(|text| fill(text, version, &folder)).collect();
            table.entries.push(Entry { command: name.into(), program, arguments });
        }
    }
    Ok(table)
}

fn claim(owners: &mut BTreeMap<String, String>, what: String, tool: &str) -> Result<(), WireError> {
    match owners.insert(what.clone(), tool.to_owned()) {
        None => Ok(()),
        Some(one) => Err(WireError::Twice { one, other: tool.to_owned(), what }),
    }
}

/// Fails where a command of a rung has no file behind it.
pub fn check_files(rung: &Wired<'_>) -> Result<(), WireError> {
    for (name, command) in rung.commands {
        let file = rung.folder.join(filled(&command.file, rung.version));
        if !file.is_file() {
            return Err(WireError::NoFile { tool: rung.definition.tool.clone(), command: name.clone(), file });
        }
    }
    Ok(())
}

/// Writes the table and a launcher for each of its commands into a landing's folder. `data` is on the same file system.
pub fn write(table: &Table, landing: &Path, data: &Path) -> Result<(), WireError> {
    let program = launcher(data)?;
    let commands = landing.join(COMMANDS);
    files::create_folder(&commands)?;
    for entry in &table.entries {
        let link = commands.join(&entry.command);
        match fs::hard_link(&program, &link) {
            // A file has only so many links on some file systems, and none on others.
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                fs::copy(&program, &link).map(drop).on("write", &link)?;
            }
            done => done.on("write", &link)?,
        }
    }
    files::replace(&landing.join(TABLE), &table.to_bytes())?;
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
