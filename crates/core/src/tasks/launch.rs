//! The launch table: a landing's commands and variables, put where the launcher finds them.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{self, Brings, Command, CommandName, Demand, LinesFor, Variable, VariableName, Whose};
use kladder_choose::ladder::Ladder;
use kladder_choose::names::{Household, ToolName};
use kladder_choose::near::near;
use kladder_choose::template::{Hole, Template};
use kladder_launch::table::{Entry, Table};
use kladder_launch::variables::{self, signed};
use kladder_launch::{COMMANDS, PRIVATE, TABLE};

use super::sets::Environments;
use super::{Hands, Listening, Rung, Task, TaskError};
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
    /// A command is run by another one, which no rung that is seen has.
    #[error("`{command}` of {tool} is run by `{by}`, and no other rung has that program")]
    NoRunner {
        /// Whose command it is.
        tool: ToolName,
        /// The command.
        command: String,
        /// What runs it.
        by: String,
    },
    /// The ladder gives a name to a command that no rung brings.
    #[error("`{name}` in the ladder names the command `{of}`, which no rung brings")]
    NoSuchCommand {
        /// The name.
        name: String,
        /// The command.
        of: String,
        /// Commands that are called like it.
        near: Vec<String>,
    },
    /// A name that the ladder gives is a command of a rung already.
    #[error("`{name}` in the ladder is a command that a rung brings already")]
    NameTaken {
        /// The name.
        name: String,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What texts of a rung's definition are filled with.
#[derive(Clone, Copy)]
pub struct Filling<'f> {
    /// The rung.
    pub rung: &'f Rung,
    /// Where it is seen.
    pub folder: &'f Path,
    /// Where it will be.
    pub place: &'f Path,
    /// All rungs, among them those that it names.
    pub rungs: &'f [Rung],
    /// Where the service listens whose text it is; for all other texts that of the rung's first one.
    pub port: Option<Listening>,
}

/// A text of a definition with its holes filled. What names a rung that is not there stays as it is written.
pub fn filled(template: &Template, with: &Filling<'_>) -> OsString {
    template.fill(|hole| filled_hole(hole, with))
}

/// What stands for a hole.
pub fn filled_hole(hole: &Hole, with: &Filling<'_>) -> OsString {
    let other = |tool: &ToolName| nearest(with.rungs, with.rung, |other| other.answers_to(tool));
    let written = |hole: &Hole| OsString::from(hole.as_written());
    match hole {
        Hole::Folder => with.folder.into(),
        Hole::Version => with.rung.version.as_str().into(),
        Hole::Place => with.place.into(),
        Hole::FolderOf(tool) => other(tool).map_or_else(|| written(hole), |other| other.files().into()),
        Hole::VersionOf(tool) => other(tool).map_or_else(|| written(hole), |other| other.version.as_str().into()),
        Hole::Port => with.port.or_else(|| port_of(with.rung)).map_or_else(|| written(hole), text_of_port),
        Hole::Address => {
            let at = with.port.or_else(|| port_of(with.rung));
            at.map_or_else(|| written(hole), |at| at.address().to_string().into())
        }
        Hole::PortOf(tool) => other(tool).and_then(port_of).map_or_else(|| written(hole), text_of_port),
    }
}

/// Where the first service of a rung listens.
fn port_of(rung: &Rung) -> Option<Listening> {
    rung.ports.first().map(|(_, port)| *port)
}

fn text_of_port(at: Listening) -> OsString {
    at.port.to_string().into()
}

/// The rung that one sees nearest: of those that it keeps to itself, then of those beside it, and of those around.
fn nearest<'r>(rungs: &'r [Rung], of: &Rung, is_it: impl Fn(&Rung) -> bool) -> Option<&'r Rung> {
    let keeps = of.key.keeps();
    let mut around = keeps.around();
    around.find_map(|household| rungs.iter().find(|rung| rung.key.household == household && is_it(rung)))
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
        for (name, Command { file, arguments, by, variables, .. }) in &self.rung.commands {
            digest = digest.field("command", name.as_str()).field("file", file.as_written());
            digest = digest.list("arguments", arguments.iter().map(Template::as_written));
            digest = by.iter().fold(digest, |digest, by| digest.field("by", by.as_str()));
            for (name, value) in variables {
                digest = digest.field("its variable", name.as_str()).field("value", value.as_written());
            }
        }
        for gate in &self.rung.definition.says.gates {
            if let Demand::HostName(name) = &gate.demand {
                digest = digest.field("host name", name);
            }
        }
        for (service, at) in &self.rung.ports {
            digest = digest.field("service", service).field("port", at.port.to_string());
            digest = if at.reachable { digest.field("reachable", b"") } else { digest };
        }
        for (shell, lines) in &self.rung.definition.says.lines {
            digest = digest.field("lines", shell.as_str()).field("text", lines.as_written());
        }
        for (name, value) in &self.rung.definition.says.variables {
            digest = digest.field("variable", name.as_str()).field("value", value.as_text());
        }
        digest.finish()
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Shelve, TaskName::Berth]
    }

    fn perform(&self, _hands: &mut dyn Hands) -> Result<(), TaskError> {
        let folder = self.rung.files();
        for (name, command) in &self.rung.commands {
            check_file(name, &self.rung.file_of(command).below(&folder), &folder, command.by.is_some())?;
        }
        Ok(())
    }
}

/// Fails where a command has no file behind it that may be run, with the files that could be meant.
pub(crate) fn check_file(
    name: &CommandName,
    file: &Path,
    folder: &Path,
    is_run_by_another: bool,
) -> Result<(), TaskError> {
    let runs = |meta: &fs::Metadata| meta.permissions().mode() & 0o111 != 0;
    let meta = fs::metadata(file).ok().filter(fs::Metadata::is_file);
    if meta.as_ref().is_some_and(|meta| is_run_by_another || runs(meta)) {
        return Ok(());
    }
    let below = |path: &Path| path.strip_prefix(folder).unwrap_or(path).to_path_buf();
    let near = if meta.is_some() { Vec::new() } else { near_files(folder, file) };
    let (command, file) = (name.to_string(), below(file));
    Err(TaskError::NoFile { command, file, near, not_executable: meta.is_some() })
}

/// Files of the same name elsewhere in a folder, then those that are called alike. Three at most.
fn near_files(folder: &Path, wanted: &Path) -> Vec<PathBuf> {
    let name = wanted.file_name().unwrap_or_default();
    let all = walkdir::WalkDir::new(folder).follow_links(false).into_iter().filter_map(Result::ok).take(200_000);
    let plain = all.filter(|entry| !entry.file_type().is_dir());
    let (mut same, mut alike, mut others) = (Vec::new(), Vec::new(), Vec::new());
    for entry in plain {
        let below = entry.path().strip_prefix(folder).unwrap_or(entry.path()).to_path_buf();
        let stem = |name: &OsStr| Path::new(name).file_stem().unwrap_or_default().to_ascii_lowercase();
        if entry.file_name() == name {
            same.push(below);
        } else if stem(entry.file_name()) == stem(name) {
            alike.push(below);
        } else if let Some(name) = entry.file_name().to_str() {
            others.push((name.to_owned(), below));
        }
    }
    same.sort_by_key(|path| path.components().count());
    alike.sort_by_key(|path| path.components().count());
    let typed = near(&name.to_string_lossy(), others.iter().map(|(name, _)| name.as_str()));
    let mistyped = typed.iter().flat_map(|typed| others.iter().filter(move |(name, _)| name == typed));
    let mistyped = mistyped.map(|(_, path)| path.clone());
    same.into_iter().chain(alike).chain(mistyped).take(3).collect()
}

/// The launch tables of a landing.
#[derive(Clone, Debug)]
pub struct Wiring {
    /// By household; the ladder's own is always there.
    tables: BTreeMap<Household, Table>,
    /// By shell: what interactive ones read when they start, of the ladder's own rungs.
    lines: BTreeMap<LinesFor, Vec<u8>>,
    /// Those of sets, once the rungs stand.
    environments: Environments,
}

/// That of a ladder without rungs.
impl Default for Wiring {
    fn default() -> Self {
        let tables = BTreeMap::from([(Household::shared(), Table::default())]);
        Self { tables, lines: BTreeMap::new(), environments: Environments::default() }
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
    pub fn of(rungs: &[Rung], ladder: &Ladder) -> Result<Self, LaunchError> {
        let answers = &ladder.answers;
        let wired: Vec<&Rung> = rungs.iter().filter(|rung| rung.is_launched()).collect();
        let mut owners: BTreeMap<(Household, Brings), ToolName> = BTreeMap::new();
        let mut wiring = Self::default();
        for rung in &wired {
            let household = &rung.key.household;
            let mut claim = |what: Brings| claim(&mut owners, household, what, &rung.key.tool);
            let table = wiring.tables.entry(household.clone()).or_default();
            for (name, value) in &rung.definition.says.variables {
                if value.of != Whose::All || is_left_out(answers, name.as_str(), rung) {
                    continue;
                }
                if value.is_alone() {
                    claim(Brings::Variable(name.to_string()))?;
                }
                table.variables.push(variable(name, value, rung, rungs));
            }
            for name in rung.commands.keys().filter(|name| !is_left_out(answers, name.as_str(), rung)) {
                claim(Brings::Command(name.to_string()))?;
            }
        }
        for rung in wired.iter().filter(|rung| rung.key.household.is_shared()) {
            let folder = rung.files();
            for (shell, lines) in &rung.definition.says.lines {
                let with = Filling { rung, folder: &folder, place: &folder, rungs, port: None };
                let text = filled(lines, &with).into_encoded_bytes();
                let all = wiring.lines.entry(*shell).or_default();
                all.extend(["# ", rung.key.tool.as_str(), "\n"].concat().into_bytes());
                all.extend(text);
                all.push(b'\n');
            }
        }
        let own = wiring.tables.entry(Household::shared()).or_default();
        own.variables.extend(ladder.variables.iter().map(|(name, value)| of_ladder(name, value, ladder, rungs)));
        wiring.inherit();
        for rung in wired {
            let entries = wiring.entries(rung, rungs, answers)?;
            wiring.tables.entry(rung.key.household.clone()).or_default().entries.extend(entries);
        }
        wiring.name(&ladder.names)?;
        wiring.has_login_shell(ladder)?;
        Ok(wiring)
    }

    /// With the environments of the ladder's sets, whose rungs stand; `current` leads to the landing that is current.
    #[must_use]
    pub fn with_sets(mut self, rungs: &[Rung], ladder: &Ladder, current: &Path) -> Self {
        self.environments = Environments::of(rungs, &self, ladder, current);
        self
    }

    /// Gives commands of the ladder's own the further names that it wants.
    fn name(&mut self, names: &BTreeMap<CommandName, CommandName>) -> Result<(), LaunchError> {
        let own = self.tables.entry(Household::shared()).or_default();
        let mut named = Vec::new();
        for (name, of) in names {
            let (name, of) = (name.as_str(), of.as_str());
            if own.entries.iter().any(|entry| entry.command == name) {
                return Err(LaunchError::NameTaken { name: name.to_owned() });
            }
            let Some(entry) = own.entries.iter().find(|entry| entry.command == of) else {
                let all = own.entries.iter().filter_map(|entry| entry.command.to_str());
                return Err(LaunchError::NoSuchCommand {
                    name: name.to_owned(),
                    of: of.to_owned(),
                    near: near(of, all),
                });
            };
            named.push(Entry { command: name.into(), ..entry.clone() });
        }
        own.entries.extend(named);
        Ok(())
    }

    /// Sees that the shell to log in with is a command that some rung brings.
    fn has_login_shell(&self, ladder: &Ladder) -> Result<(), LaunchError> {
        let Some(of) = ladder.login_shell.as_ref().map(CommandName::as_str) else { return Ok(()) };
        let own = &self.table(&Household::shared()).entries;
        if own.iter().any(|entry| entry.command == of) {
            return Ok(());
        }
        let near = near(of, own.iter().filter_map(|entry| entry.command.to_str()));
        Err(LaunchError::NoSuchCommand { name: "login-shell".to_owned(), of: of.to_owned(), near })
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
            table.variables = all.collect();
            table.up = folder_of(household).components().count();
        }
    }

    fn entries(
        &self,
        rung: &Rung,
        rungs: &[Rung],
        answers: &BTreeMap<String, ToolName>,
    ) -> Result<Vec<Entry>, LaunchError> {
        let inside = rung.key.keeps();
        let keeps = self.tables.get(&inside);
        let household = if keeps.is_some() { &inside } else { &rung.key.household };
        let folder = rung.files();
        let with = Filling { rung, folder: &folder, place: &folder, rungs, port: None };
        let entry = |(name, command): (&CommandName, &Command)| {
            let (program, mut arguments) = started(command, name, &with, DEEPEST)?;
            arguments.extend(command.arguments.iter().map(|text| filled(text, &with)));
            let mut variables = keeps.map(|table| table.variables.clone()).unwrap_or_default();
            variables.extend(of_users(rung, rungs));
            let own = command.variables.iter();
            variables.extend(own.map(|(name, value)| (OsString::from(name.as_str()), filled(value, &with))));
            let (command, fronts) = (name.as_str().into(), self.fronts(household));
            Ok(Entry { command, program, called: None, arguments, variables, fronts })
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
        found.extend(self.environments.differences(landing, thoroughly)?);
        Ok(found)
    }
}

/// A command is run by others in turn no further than this: what goes on for longer goes round in a circle.
const DEEPEST: usize = 8;

/// The program behind a command, and the arguments that come with it: a file of the rung, or another rung's command with it, which
/// may be run by a third one's.
fn started(
    command: &Command,
    name: &CommandName,
    with: &Filling<'_>,
    depth: usize,
) -> Result<(PathBuf, Vec<OsString>), LaunchError> {
    let rung = with.rung;
    let file = rung.file_of(command).below(with.folder);
    let Some(by) = &command.by else { return Ok((file, Vec::new())) };
    let runs = |other: &Rung| other.key != rung.key && (other.commands.contains_key(by) || is_on_host(other, by));
    let missing =
        || LaunchError::NoRunner { tool: rung.key.tool.clone(), command: name.to_string(), by: by.to_string() };
    let runner = nearest(with.rungs, rung, runs).ok_or_else(missing)?;
    let folder = runner.files();
    let Some(own) = runner.commands.get(by).filter(|_| runner.is_launched()) else {
        return Ok((runner.folder().to_path_buf(), vec![file.into()]));
    };
    if depth == 0 {
        return Err(missing());
    }
    let its = Filling { rung: runner, folder: &folder, place: &folder, rungs: with.rungs, port: None };
    let (program, mut arguments) = started(own, by, &its, depth - 1).map_err(|_| missing())?;
    arguments.extend(own.arguments.iter().map(|text| filled(text, &its)));
    arguments.push(file.into());
    Ok((program, arguments))
}

/// Whether a rung is the host's own and answers to this command.
fn is_on_host(rung: &Rung, command: &CommandName) -> bool {
    !rung.is_launched() && rung.folder().file_name().is_some_and(|name| name == command.as_str())
}

/// A variable of a rung, as tables have it.
fn variable(name: &VariableName, value: &Variable, rung: &Rung, rungs: &[Rung]) -> (OsString, OsString) {
    let folder = rung.files();
    let with = Filling { rung, folder: &folder, place: &folder, rungs, port: None };
    (signed(how(value.how), OsStr::new(name.as_str())), filled(&value.value, &with))
}

fn how(how: catalog::How) -> variables::How {
    match how {
        catalog::How::Set => variables::How::Set,
        catalog::How::Front => variables::How::Front,
        catalog::How::Behind => variables::How::Behind,
        catalog::How::UnlessSet => variables::How::UnlessSet,
    }
}

/// The variables that only some commands get: the rung's own, and those of what it needs that are for its users.
fn of_users(rung: &Rung, rungs: &[Rung]) -> Vec<(OsString, OsString)> {
    let needed = rungs.iter().filter(|other| rung.needs.contains(&other.key));
    let for_users = needed.flat_map(|other| other.definition.says.variables.iter().map(move |(n, v)| (other, n, v)));
    let for_users = for_users.filter(|(_, _, value)| value.of == Whose::Users);
    let own = rung.definition.says.variables.iter().map(|(name, value)| (rung, name, value));
    let own = own.filter(|(_, _, value)| value.of != Whose::All);
    for_users.chain(own).map(|(of, name, value)| variable(name, value, of, rungs)).collect()
}

/// A variable of the ladder itself, whose folder is where its file lies.
fn of_ladder(name: &VariableName, value: &Variable, ladder: &Ladder, rungs: &[Rung]) -> (OsString, OsString) {
    let folder = ladder.path.parent().unwrap_or(Path::new("/"));
    let shared = |tool: &ToolName| rungs.iter().find(|rung| rung.key.household.is_shared() && rung.answers_to(tool));
    let text = value.value.fill(|hole| match hole {
        Hole::Folder | Hole::Place => folder.into(),
        Hole::FolderOf(tool) => shared(tool).map_or_else(|| hole.as_written().into(), |rung| rung.files().into()),
        Hole::VersionOf(tool) => {
            shared(tool).map_or_else(|| hole.as_written().into(), |rung| rung.version.as_str().into())
        }
        Hole::PortOf(tool) => shared(tool).and_then(port_of).map_or_else(|| hole.as_written().into(), text_of_port),
        Hole::Version | Hole::Port | Hole::Address => hole.as_written().into(),
    });
    (signed(how(value.how), OsStr::new(name.as_str())), text)
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
