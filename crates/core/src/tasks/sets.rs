//! Sets in a landing: an environment of its runtime for each, as PEP 405 has it.
//!
//! ```text
//! LANDING/sets/NAME/pyvenv.cfg                         where the runtime is, and which version
//! LANDING/sets/NAME/bin/                               launchers: the runtime's commands, and those of the libraries
//! LANDING/sets/NAME/launch.table                       what they start
//! LANDING/sets/NAME/lib/pythonX.Y/site-packages        a link to the libraries on the shelf
//! LANDING/entered.table                                what is started where the ladder counts: of sets that are wired
//! ```
//!
//! The libraries themselves are not touched, so that an environment costs some links, whatever is in it. Its runtime sees them, what
//! `.pth` files among them say, and nothing of a person's or the system's.

use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use kladder_choose::ladder::Ladder;
use kladder_choose::sets::LibrarySet;
use kladder_launch::table::{Entry, Table};
use kladder_launch::variables::name_of;
use kladder_launch::{COMMANDS, ENTERED, SETS, TABLE};

use super::Rung;
use super::launch::Wiring;
use crate::base::event::{Difference, How};
use crate::base::files::{self, Attach, FileError};
use crate::keep::landing::WORKED_IN;
use crate::keep::launchers::{self, launcher_differs};
use kladder_choose::names::Household;

/// The folder of an environment's commands.
pub const BIN: &str = "bin";
/// The file that makes a folder an environment (PEP 405).
const CONFIG: &str = "pyvenv.cfg";
/// How an interpreter that a loader starts is told its name.
const NAMED: &str = "--argv0";
/// It would lead away from the environment.
const MISLEADING: &str = "PYTHONHOME";
/// The folder of packages in an environment of Node, and the variable that leads there.
pub const MODULES: &str = "node_modules";
const SEARCHED: &str = "NODE_PATH";
/// Bytes that tell a script from a program.
const LOOKED_AT: usize = 256;

/// The environments of a ladder's sets.
#[derive(Clone, Debug, Default)]
pub struct Environments(Vec<SetEnvironment>);

#[derive(Clone, Debug)]
struct SetEnvironment {
    name: OsString,
    table: Table,
    /// What makes it an environment, where its runtime wants to be told so.
    config: Option<String>,
    /// Links below its folder, and where they lead.
    links: Vec<(PathBuf, PathBuf)>,
    is_wired: bool,
}

impl Environments {
    /// Those of rungs that stand. `current` leads to the landing that they are made for once it is current.
    pub fn of(rungs: &[Rung], wiring: &Wiring, ladder: &Ladder, current: &Path) -> Self {
        let only = |set: &LibrarySet| ladder.sets.iter().filter(|other| other.of == set.of).count() == 1;
        let environment = |set: &LibrarySet| {
            let shared = |rung: &&Rung| rung.key.household.is_shared();
            let libraries = rungs.iter().filter(shared).find(|rung| rung.key.tool == set.name)?;
            let runtime = rungs.iter().filter(shared).find(|rung| rung.answers_to(&set.of))?;
            let is_wired = set.wired.unwrap_or_else(|| only(set));
            SetEnvironment::of(set, libraries, runtime, wiring, current, is_wired)
        };
        Self(ladder.sets.iter().filter_map(environment).collect())
    }

    /// Writes them into a landing's folder. `data` is on the same file system.
    ///
    /// # Errors
    /// [`FileError`] where something cannot be written.
    pub fn write(&self, landing: &Path, data: &Path) -> Result<(), FileError> {
        for set in &self.0 {
            set.write(&landing.join(SETS).join(&set.name), &launchers::at(data)?)?;
        }
        match self.entered() {
            None => Ok(()),
            Some(table) => files::replace(&landing.join(ENTERED), &table.to_bytes()),
        }
    }

    /// What of them in a landing is not as it was written; `thoroughly` by the launchers' bytes.
    ///
    /// # Errors
    /// [`FileError`] where a folder cannot be listed.
    pub fn differences(&self, landing: &Path, thoroughly: bool) -> Result<Vec<Difference>, FileError> {
        let mut found = Vec::new();
        for set in &self.0 {
            set.differences(&landing.join(SETS).join(&set.name), thoroughly, &mut found)?;
        }
        let path = landing.join(ENTERED);
        let expected = self.entered().map(|table| table.to_bytes());
        found.extend(bytes_differ(&path, expected.as_deref()).map(|how| Difference { path, how }));
        Ok(found)
    }

    /// What is started where the ladder counts: the first set that has a command is asked.
    fn entered(&self) -> Option<Table> {
        let wired: Vec<&SetEnvironment> = self.0.iter().filter(|set| set.is_wired).collect();
        let first = wired.first()?;
        let mut table = Table { up: 0, variables: first.table.variables.clone(), entries: Vec::new() };
        for set in wired {
            let new = |entry: &&Entry| !table.entries.iter().any(|known| known.command == entry.command);
            let entries: Vec<Entry> = set.table.entries.iter().filter(new).cloned().collect();
            table.entries.extend(entries);
        }
        Some(table)
    }
}

impl SetEnvironment {
    fn of(
        set: &LibrarySet,
        libraries: &Rung,
        runtime: &Rung,
        wiring: &Wiring,
        current: &Path,
        is_wired: bool,
    ) -> Option<Self> {
        let name = OsString::from(set.name.as_str());
        let place = current.join(SETS).join(&name);
        let own = wiring.table(&Household::shared());
        let mut entries = of_runtime(set, runtime, own, &place.join(BIN));
        let interpreter = entries.iter().find(|entry| entry.command == set.of.as_str()).or(entries.first())?.clone();
        let (files, modules) = (libraries.files(), libraries.files().join(MODULES));
        let of_packages = set.packages.is_some();
        let bin = if of_packages { modules.join(".bin") } else { files.join(BIN) };
        entries.extend(commands(&bin, &interpreter, &entries, set.of.as_str()));
        for entry in &mut entries {
            entry.fronts = vec![Path::new(SETS).join(&name).join(BIN), COMMANDS.into()];
            if of_packages {
                entry.called = None;
                entry.variables.push((SEARCHED.into(), modules.clone().into()));
            } else {
                entry.variables.push((WORKED_IN.into(), place.clone().into()));
            }
        }
        let table = Table { up: 2, variables: own.variables.clone(), entries };
        let (config, links) = if of_packages {
            (None, vec![(MODULES.into(), modules)])
        } else {
            (Some(config(set, runtime, &interpreter)?), links(&files, runtime))
        };
        Some(Self { name, table, config, links, is_wired })
    }

    fn write(&self, folder: &Path, program: &Path) -> Result<(), FileError> {
        let bin = folder.join(BIN);
        files::create_folder(&bin)?;
        for entry in &self.table.entries {
            launchers::put(program, &bin.join(&entry.command))?;
        }
        for (link, target) in &self.links {
            let link = folder.join(link);
            files::create_folder(link.parent().unwrap_or(folder))?;
            symlink(target, &link).on("write", &link)?;
        }
        if let Some(config) = &self.config {
            files::replace(&folder.join(CONFIG), config.as_bytes())?;
        }
        files::replace(&folder.join(TABLE), &self.table.to_bytes())
    }

    fn differences(&self, folder: &Path, thoroughly: bool, found: &mut Vec<Difference>) -> Result<(), FileError> {
        let config = self.config.as_ref().map(|config| config.clone().into_bytes());
        for (name, expected) in [(TABLE, Some(self.table.to_bytes())), (CONFIG, config)] {
            let path = folder.join(name);
            found.extend(bytes_differ(&path, expected.as_deref()).map(|how| Difference { path, how }));
        }
        for (link, target) in &self.links {
            let path = folder.join(link);
            match fs::read_link(&path) {
                Ok(there) if there == *target => {}
                Ok(_) => found.push(Difference { path, how: How::Changed }),
                Err(_) => found.push(Difference { path, how: How::Missing }),
            }
        }
        let bin = folder.join(BIN);
        for name in files::names(&bin)? {
            if !self.table.entries.iter().any(|entry| entry.command == name) {
                found.push(Difference { path: bin.join(name), how: How::Extra });
            }
        }
        for entry in &self.table.entries {
            let path = bin.join(&entry.command);
            found.extend(launcher_differs(&path, thoroughly).map(|how| Difference { path, how }));
        }
        Ok(())
    }
}

/// The commands of a set's runtime, which take themselves for those in `bin`.
fn of_runtime(set: &LibrarySet, runtime: &Rung, own: &Table, bin: &Path) -> Vec<Entry> {
    if runtime.is_launched() {
        let is_its = |entry: &&Entry| entry.command.to_str().is_some_and(|name| runtime.commands.contains_key(name));
        return own.entries.iter().filter(is_its).map(|entry| within(entry, bin)).collect();
    }
    let program = runtime.folder();
    let names = [program.file_name().map(OsStr::to_owned), Some(set.of.as_str().into())];
    let plain = |command: OsString| Entry {
        called: Some(bin.join(&command)),
        command,
        program: program.to_path_buf(),
        arguments: Vec::new(),
        variables: Vec::new(),
        fronts: Vec::new(),
    };
    let mut all: Vec<Entry> = names.into_iter().flatten().map(plain).collect();
    all.dedup_by(|one, other| one.command == other.command);
    all
}

/// What tells a runtime that it is in an environment (PEP 405).
fn config(set: &LibrarySet, runtime: &Rung, interpreter: &Entry) -> Option<String> {
    let (home, version) = (binary(interpreter).parent()?.display(), &runtime.version);
    let (name, alone) = (&set.name, "include-system-site-packages = false");
    Some(format!("home = {home}\n{alone}\nversion = {version}\nprompt = {name}\n"))
}

/// Where the runtime of an environment looks for libraries, and what else they bring.
fn links(files: &Path, runtime: &Rung) -> Vec<(PathBuf, PathBuf)> {
    let minor: Vec<&str> = runtime.version.as_str().split(['.', '-', '+']).take(2).collect();
    let site = Path::new("lib").join(format!("python{}", minor.join("."))).join("site-packages");
    let others = files::names(files).unwrap_or_default().into_iter();
    let others = others.filter(|name| name != BIN && name != "site" && name != "lib");
    let others = others.map(|name| (PathBuf::from(&name), files.join(name)));
    std::iter::once((site, files.join("site"))).chain(others).collect()
}

/// How a file is not what it should be; where it should not be, whether it is there.
fn bytes_differ(path: &Path, expected: Option<&[u8]>) -> Option<How> {
    match (fs::read(path), expected) {
        (Ok(bytes), Some(expected)) if bytes == expected => None,
        (Ok(_), Some(_)) => Some(How::Changed),
        (Ok(_), None) => Some(How::Extra),
        (Err(_), Some(_)) => Some(How::Missing),
        (Err(_), None) => None,
    }
}

/// A command of the runtime, that takes itself for the one in `bin`: from there it finds its environment.
fn within(entry: &Entry, bin: &Path) -> Entry {
    let own = bin.join(&entry.command);
    let mut arguments = entry.arguments.clone();
    for at in 1..arguments.len() {
        if arguments[at - 1] == NAMED {
            arguments[at] = own.clone().into();
        }
    }
    let leads = |(name, _): &(OsString, OsString)| name_of(name) != MISLEADING;
    let variables = entry.variables.iter().filter(|one| leads(one)).cloned().collect();
    Entry { called: Some(own), arguments, variables, ..entry.clone() }
}

/// The interpreter's own file: what a loader starts stands last among its arguments.
fn binary(entry: &Entry) -> &Path {
    let last = entry.arguments.last().map(Path::new).filter(|last| last.is_absolute());
    last.unwrap_or(&entry.program)
}

/// The commands of the libraries; scripts are run by the set's runtime.
fn commands(bin: &Path, interpreter: &Entry, known: &[Entry], runtime: &str) -> Vec<Entry> {
    let names = files::names(bin).unwrap_or_default();
    let new = names.into_iter().filter(|name| !known.iter().any(|entry| entry.command == *name));
    let entry = |command: OsString| {
        let file = bin.join(&command);
        if !is_script(&file, runtime) {
            let plain = Entry { called: None, arguments: Vec::new(), variables: Vec::new(), ..interpreter.clone() };
            return Entry { command, program: file, ..plain };
        }
        let mut arguments = interpreter.arguments.clone();
        arguments.push(file.into());
        Entry { command, arguments, ..interpreter.clone() }
    };
    new.map(entry).collect()
}

/// Whether a file names Python, or the runtime of its set, as what it is run by.
fn is_script(file: &Path, runtime: &str) -> bool {
    let Ok(bytes) = files::read_start(file, LOOKED_AT) else { return false };
    let first = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let names = |word: &str| first.windows(word.len().max(1)).any(|some| some == word.as_bytes());
    first.starts_with(b"#!") && ["python", runtime].into_iter().any(names)
}
