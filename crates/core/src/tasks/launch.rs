//! The launch table: a landing's commands and variables, put where the launcher finds them.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Brings, Command, CommandName, LinesFor};
use kladder_choose::names::{Household, ToolName};
use kladder_choose::template::{Hole, Template};
use kladder_choose::version::Version;
use kladder_launch::table::{Entry, Table};
use kladder_launch::{COMMANDS, PRIVATE, TABLE};

use super::{Hands, Rung, Task, TaskError};
use crate::base::digest::{Canonical, Digest};
use crate::base::event::{Difference, How};
use crate::base::files::{self, FileError};
use crate::keep::launchers::{self, launcher_differs};
use crate::keep::state::TaskName;
use crate::keep::wired::lines_file;

/// Why rungs could not be wired.
#[derive(Debug, thiserror::Error)]
pub enum LaunchError {
    /// Two rungs of one household have the same command, or set the same variable.
    #[error("{one} and {other} both bring {what}")]
    Twice {
        /// One tool.
        one: ToolName,
        /// The other.
        other: ToolName,
        /// What both bring.
        what: Brings,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// A text of a definition with its holes filled: for a rung at `version` that is seen in `folder`, and will be at `place`.
pub fn filled(template: &Template, version: &Version, folder: &Path, place: &Path) -> OsString {
    template.fill(|hole| match hole {
        Hole::Folder => folder.as_os_str(),
        Hole::Version => OsStr::new(version.as_str()),
        Hole::Place => place.as_os_str(),
    })
}

/// A rung's commands and variables stand in the launch table, which is written when the landing is begun.
pub(super) struct Launch<'r> {
    pub(super) rung: &'r Rung,
}

impl Task for Launch<'_> {
    fn name(&self) -> TaskName {
        TaskName::Launch
    }

    fn recipe(&self) -> Digest {
        let folder = self.rung.files();
        let mut digest = Canonical::new("kladder launch", 1).field("folder", folder.as_os_str().as_encoded_bytes());
        for (name, Command { file, arguments }) in &self.rung.commands {
            digest = digest.field("command", name.as_str()).field("file", file.as_written());
            digest = digest.list("arguments", arguments.iter().map(Template::as_written));
        }
        for (shell, lines) in &self.rung.definition.says.lines {
            digest = digest.field("lines", shell.as_str()).field("text", lines.as_written());
        }
        for (name, value) in &self.rung.definition.says.variables {
            digest = digest.field("variable", name.as_str()).field("value", value.as_written());
        }
        digest.finish()
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Shelve, TaskName::Berth]
    }

    fn perform(&self, _hands: &mut dyn Hands) -> Result<(), TaskError> {
        let folder = self.rung.files();
        for (name, command) in &self.rung.commands {
            check_file(name, &self.rung.file_of(command).below(&folder), &folder)?;
        }
        Ok(())
    }
}

/// Fails where a command has no file behind it that may be run, with the files that could be meant.
fn check_file(name: &CommandName, file: &Path, folder: &Path) -> Result<(), TaskError> {
    let runs = |meta: &fs::Metadata| meta.permissions().mode() & 0o111 != 0;
    let meta = fs::metadata(file).ok().filter(fs::Metadata::is_file);
    if meta.as_ref().is_some_and(runs) {
        return Ok(());
    }
    let below = |path: &Path| path.strip_prefix(folder).unwrap_or(path).to_path_buf();
    let near = if meta.is_some() { Vec::new() } else { near_files(folder, file) };
    let (command, file) = (name.to_string(), below(file));
    Err(TaskError::NoFile { command, file, near, not_executable: meta.is_some() })
}

/// Files of the same name elsewhere in a folder; else those that may be run and look alike. Three at most.
fn near_files(folder: &Path, wanted: &Path) -> Vec<PathBuf> {
    let name = wanted.file_name().unwrap_or_default();
    let all = walkdir::WalkDir::new(folder).follow_links(false).into_iter().filter_map(Result::ok).take(200_000);
    let plain = all.filter(|entry| !entry.file_type().is_dir());
    let (mut same, mut alike) = (Vec::new(), Vec::new());
    for entry in plain {
        let below = entry.path().strip_prefix(folder).unwrap_or(entry.path()).to_path_buf();
        let stem = |name: &OsStr| Path::new(name).file_stem().unwrap_or_default().to_ascii_lowercase();
        if entry.file_name() == name {
            same.push(below);
        } else if stem(entry.file_name()) == stem(name) {
            alike.push(below);
        }
    }
    same.sort_by_key(|path| path.components().count());
    alike.sort_by_key(|path| path.components().count());
    same.into_iter().chain(alike).take(3).collect()
}

/// The launch tables of a landing.
#[derive(Clone, Debug)]
pub struct Wiring {
    /// By household; the ladder's own is always there.
    tables: BTreeMap<Household, Table>,
    /// By shell: what interactive ones read when they start, of the ladder's own rungs.
    lines: BTreeMap<LinesFor, Vec<u8>>,
}

/// That of a ladder without rungs.
impl Default for Wiring {
    fn default() -> Self {
        Self { tables: BTreeMap::from([(Household::shared(), Table::default())]), lines: BTreeMap::new() }
    }
}

/// The folder of a household's commands and table, relative to the landing's.
fn folder_of(household: &Household) -> PathBuf {
    if household.is_shared() { PathBuf::new() } else { Path::new(PRIVATE).join(household.folder_name()) }
}

impl Wiring {
    /// The tables of some rungs. Where the ladder says which tool answers to a command or sets a variable, the others are
    /// left out.
    ///
    /// # Errors
    /// [`LaunchError`] where two rungs have a command or a variable of the same name.
    pub fn of(rungs: &[Rung], answers: &BTreeMap<String, ToolName>) -> Result<Self, LaunchError> {
        let wired: Vec<&Rung> = rungs.iter().filter(|rung| rung.shelved().is_some()).collect();
        let mut owners: BTreeMap<(Household, Brings), ToolName> = BTreeMap::new();
        let mut wiring = Self::default();
        for rung in &wired {
            let household = &rung.key.household;
            let mut claim = |what: Brings| claim(&mut owners, household, what, &rung.key.tool);
            let table = wiring.tables.entry(household.clone()).or_default();
            for (name, value) in &rung.definition.says.variables {
                if !is_left_out(answers, name.as_str(), rung) {
                    claim(Brings::Variable(name.to_string()))?;
                    let folder = rung.files();
                    table.variables.push((name.as_str().into(), filled(value, &rung.version, &folder, &folder)));
                }
            }
            for name in rung.commands.keys().filter(|name| !is_left_out(answers, name.as_str(), rung)) {
                claim(Brings::Command(name.to_string()))?;
            }
        }
        for rung in wired.iter().filter(|rung| rung.key.household.is_shared()) {
            let folder = rung.files();
            for (shell, lines) in &rung.definition.says.lines {
                let text = filled(lines, &rung.version, &folder, &folder).into_encoded_bytes();
                let all = wiring.lines.entry(*shell).or_default();
                all.extend(["# ", rung.key.tool.as_str(), "\n"].concat().into_bytes());
                all.extend(text);
                all.push(b'\n');
            }
        }
        wiring.inherit();
        for rung in wired {
            let entries = wiring.entries(rung, answers);
            wiring.tables.entry(rung.key.household.clone()).or_default().entries.extend(entries);
        }
        Ok(wiring)
    }

    /// The table that a household's commands are found in.
    pub fn table(&self, household: &Household) -> &Table {
        // The ladder's own is always there.
        let nearest = household.around().find_map(|household| self.tables.get(&household));
        nearest.unwrap_or_else(|| &self.tables[&Household::shared()])
    }

    /// The folders of commands that a household sees, nearest first, relative to the landing's.
    pub fn fronts(&self, household: &Household) -> Vec<PathBuf> {
        let seen = household.around().filter(|household| self.tables.contains_key(household));
        seen.map(|household| folder_of(&household).join(COMMANDS)).collect()
    }

    /// The launch table of a household, relative to the landing's folder.
    pub fn table_file(&self, household: &Household) -> PathBuf {
        folder_of(household).join(TABLE)
    }

    /// Puts the variables of outer households, and the ladder's, before a household's own.
    fn inherit(&mut self) {
        let own = self.tables.clone();
        for (household, table) in self.tables.iter_mut().filter(|(household, _)| !household.is_shared()) {
            let levels: Vec<&Table> = household.around().filter_map(|household| own.get(&household)).collect();
            let all = levels.into_iter().rev().flat_map(|table| table.variables.clone());
            // The last of a name is the nearest.
            let all: BTreeMap<OsString, OsString> = all.collect();
            table.variables = all.into_iter().collect();
            table.up = folder_of(household).components().count();
        }
    }

    fn entries(&self, rung: &Rung, answers: &BTreeMap<String, ToolName>) -> Vec<Entry> {
        let inside = rung.key.keeps();
        let keeps = self.tables.get(&inside);
        let household = if keeps.is_some() { &inside } else { &rung.key.household };
        let folder = rung.files();
        let entry = |(name, command): (&CommandName, &Command)| Entry {
            command: name.as_str().into(),
            program: rung.file_of(command).below(&folder),
            arguments: command.arguments.iter().map(|text| filled(text, &rung.version, &folder, &folder)).collect(),
            variables: keeps.map(|table| table.variables.clone()).unwrap_or_default(),
            fronts: self.fronts(household),
        };
        let own = rung.commands.iter().filter(|(name, _)| !is_left_out(answers, name.as_str(), rung));
        own.map(entry).collect()
    }

    /// What of a landing's tables, launchers and folders of commands is not as it was written; `thoroughly` by the
    /// launchers' bytes, otherwise by their sizes and modes.
    ///
    /// # Errors
    /// [`FileError`] where a folder of commands cannot be listed.
    pub fn differences(&self, landing: &Path, thoroughly: bool) -> Result<Vec<Difference>, FileError> {
        let mut found = Vec::new();
        for (shell, lines) in &self.lines {
            let path = landing.join(lines_file(*shell));
            match fs::read(&path) {
                Ok(bytes) if bytes == *lines => {}
                Ok(_) => found.push(Difference { path, how: How::Changed }),
                Err(_) => found.push(Difference { path, how: How::Missing }),
            }
        }
        for (household, table) in &self.tables {
            let folder = landing.join(folder_of(household));
            let file = folder.join(TABLE);
            match fs::read(&file) {
                Ok(bytes) if bytes == table.to_bytes() => {}
                Ok(_) => found.push(Difference { path: file, how: How::Changed }),
                Err(_) => found.push(Difference { path: file, how: How::Missing }),
            }
            let expected: BTreeSet<&OsString> = table.entries.iter().map(|entry| &entry.command).collect();
            let commands = folder.join(COMMANDS);
            for name in files::names(&commands)?.iter().filter(|name| !expected.contains(name)) {
                found.push(Difference { path: commands.join(name), how: How::Extra });
            }
            for name in expected {
                let path = commands.join(name);
                found.extend(launcher_differs(&path, thoroughly).map(|how| Difference { path, how }));
            }
        }
        Ok(found)
    }
}

/// Whether the ladder says that another tool answers to a command or sets a variable.
fn is_left_out(answers: &BTreeMap<String, ToolName>, name: &str, rung: &Rung) -> bool {
    rung.key.household.is_shared() && answers.get(name).is_some_and(|tool| !rung.answers_to(tool))
}

fn claim(
    owners: &mut BTreeMap<(Household, Brings), ToolName>,
    household: &Household,
    what: Brings,
    tool: &ToolName,
) -> Result<(), LaunchError> {
    match owners.insert((household.clone(), what.clone()), tool.clone()) {
        None => Ok(()),
        Some(one) => Err(LaunchError::Twice { one, other: tool.clone(), what }),
    }
}

/// Writes the tables and a launcher for each of their commands into a landing's folder. `data` is on the same file
/// system.
///
/// # Errors
/// [`FileError`] where a table or a launcher cannot be written.
pub fn write(wiring: &Wiring, landing: &Path, data: &Path) -> Result<(), FileError> {
    let program = launchers::at(data)?;
    for (shell, lines) in &wiring.lines {
        files::replace(&landing.join(lines_file(*shell)), lines)?;
    }
    let mut tables = wiring.tables.iter();
    tables.try_for_each(|(household, table)| write_table(table, &landing.join(folder_of(household)), &program))
}

fn write_table(table: &Table, folder: &Path, program: &Path) -> Result<(), FileError> {
    let commands = folder.join(COMMANDS);
    files::create_folder(&commands)?;
    for entry in &table.entries {
        launchers::put(program, &commands.join(&entry.command))?;
    }
    files::replace(&folder.join(TABLE), &table.to_bytes())
}
