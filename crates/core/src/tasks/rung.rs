//! A rung of the route, as its tasks see it.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use kladder_choose::catalog::{Artifact, Command, CommandName, Definition, Way};
use kladder_choose::names::RungKey;
use kladder_choose::path::InnerPath;
use kladder_choose::pins::HostCopy;
use kladder_choose::version::Version;

use super::berth::MakeBerth;
use super::bring::{SetUp, Shelve, Unpack};
use super::check::Check;
use super::fit_out::FitOuts;
use super::launch::Launch;
use super::{Task, Would};
use crate::base::event::RungName;
use crate::bring::shelf::Place;
use crate::keep::berth::Berth;
use crate::keep::landing::{LandedRung, Recipes};
use crate::keep::state::TaskName;

/// Why a rung is on the route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Because {
    /// The ladder wishes for it, at this line.
    Wished {
        /// Line of the ladder, from 1.
        line: usize,
    },
    /// Another rung needs it.
    NeededBy {
        /// That one.
        rung: RungKey,
    },
}

/// Where a rung comes from.
#[derive(Clone, Debug)]
pub enum Source {
    /// Artifacts, unpacked onto the shelf.
    Shelf(Shelved),
    /// What the host has.
    Host(HostCopy),
}

/// Artifacts and their place on the shelf.
#[derive(Clone, Debug)]
pub struct Shelved {
    /// The artifacts for the host, with digests from the pins: the release's own, then its pieces'.
    pub artifacts: Vec<Artifact>,
    /// Where they stand together.
    pub place: Place,
}

/// Where a service listens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Listening {
    /// The port.
    pub port: u16,
    /// Whether other machines may reach it.
    pub reachable: bool,
}

impl Listening {
    /// The address at which it does (RFC 1122, section 3.2.1.3).
    pub fn address(self) -> Ipv4Addr {
        if self.reachable { Ipv4Addr::UNSPECIFIED } else { Ipv4Addr::LOCALHOST }
    }
}

/// One rung of the route.
#[derive(Clone, Debug)]
pub struct Rung {
    /// What tells it from all others.
    pub key: RungKey,
    /// At which it stands.
    pub version: Version,
    /// What the catalog says of its tool.
    pub definition: Arc<Definition>,
    /// The host's own, or where it is fetched to.
    pub source: Source,
    /// Who wants it.
    pub because: Vec<Because>,
    /// The rungs that it needs itself.
    pub needs: Vec<RungKey>,
    /// Its own folder for this ladder, where others lend it files or it has writable corners.
    pub berth: Option<Berth>,
    /// Its commands, those of its pieces included.
    pub commands: BTreeMap<CommandName, Command>,
    /// Its pieces, and who asks for each.
    pub pieces: Vec<(String, Vec<Because>)>,
    /// The files for its first start, by their paths below its folder.
    pub first_start: BTreeMap<InnerPath, String>,
    /// Where its services listen, by their names.
    pub ports: Vec<(String, Listening)>,
    /// Where it is remembered what was made of it for this ladder.
    pub fitted: PathBuf,
    /// What is left to do, in order.
    pub todo: Vec<TaskName>,
    /// Some of its artifacts are not in the cache, so that something is to be fetched.
    pub to_fetch: bool,
}

impl Rung {
    /// The tool at its version, for messages.
    pub fn name(&self) -> RungName {
        RungName { tool: self.key.tool.clone(), version: self.version.clone() }
    }

    /// Its artifacts and place; `None` for what the host has.
    pub fn shelved(&self) -> Option<&Shelved> {
        if let Source::Shelf(shelved) = &self.source { Some(shelved) } else { None }
    }

    /// Whether its commands are found with help only: all but what of the host answers by itself.
    pub fn is_launched(&self) -> bool {
        match &self.source {
            Source::Shelf(_) => true,
            Source::Host(copy) => copy.is_launched(),
        }
    }

    /// Whether its files are to be brought to the shelf.
    pub fn is_to_bring(&self) -> bool {
        self.todo.contains(&TaskName::Unpack)
    }

    /// Bytes of its artifacts; 0 for what the host has.
    pub fn size(&self) -> u64 {
        self.shelved().map_or(0, |shelved| shelved.artifacts.iter().map(|artifact| artifact.size).sum())
    }

    /// What tells it from others in a landing: its folder on the shelf, or the host's file, folder or package.
    pub fn folder(&self) -> &Path {
        match &self.source {
            Source::Shelf(shelved) => &shelved.place.folder,
            Source::Host(copy) => copy.path(),
        }
    }

    /// The folder of its files as whoever runs it sees them: its berth, its place on the shelf, the host's folder, or where the
    /// host's file lies.
    pub fn files(&self) -> PathBuf {
        match (&self.source, &self.berth) {
            (Source::Shelf(_), Some(berth)) => berth.folder.clone(),
            (Source::Shelf(shelved), None) => shelved.place.files(),
            (Source::Host(HostCopy::Laid { folder }), _) => folder.clone(),
            (Source::Host(HostCopy::Package { .. }), _) => "/usr".into(),
            (Source::Host(HostCopy::Itself(file) | HostCopy::Aside { file }), _) => {
                file.parent().unwrap_or(file).to_path_buf()
            }
        }
    }

    /// The file behind a command, below the rung's folder.
    pub fn file_of(&self, command: &Command) -> InnerPath {
        command.file.at(&self.version)
    }

    /// Whether a need for this name is met by it.
    pub fn answers_to(&self, name: &str) -> bool {
        self.definition.answers_to(name)
    }

    /// Where another rung lies in it that extends it; `None` for one that does not, or not this version.
    pub fn extended_by(&self, other: &Self) -> Option<InnerPath> {
        let at = &self.definition.says.extensions.as_ref()?.at;
        let means = |way: &Way| self.definition.meets(&way.name, &way.version, &self.version);
        let is_it = other.shelved().is_some() && other.key.household == self.key.household;
        (is_it && other.definition.says.extends.iter().any(means)).then(|| at.of(&other.key.tool))
    }

    /// The folders, or the file, that are its own, with links followed.
    pub fn own_places(&self) -> Vec<PathBuf> {
        let own = self.shelved().map(|shelved| shelved.place.files());
        let berth = self.berth.as_ref().map(|berth| berth.folder.clone());
        // Of what the host has it is the file alone.
        let file = self.shelved().is_none().then(|| self.folder().to_path_buf());
        let all = own.into_iter().chain(berth).chain(file);
        all.map(|place| std::fs::canonicalize(&place).unwrap_or(place)).collect()
    }

    /// Its tasks, in order.
    pub fn tasks(&self) -> Vec<Box<dyn Task + '_>> {
        let mut tasks: Vec<Box<dyn Task + '_>> = Vec::new();
        if let Some(shelved) = self.shelved() {
            tasks.push(Box::new(Unpack { rung: self, shelved }));
            if !self.definition.says.set_up.is_empty() {
                tasks.push(Box::new(SetUp { rung: self, shelved }));
            }
            tasks.push(Box::new(Shelve { rung: self, shelved }));
            if let Some(berth) = &self.berth {
                tasks.push(Box::new(MakeBerth { berth }));
            }
            tasks.push(Box::new(Launch { rung: self }));
            if !self.definition.says.fit_outs.is_empty() || !self.first_start.is_empty() {
                tasks.push(Box::new(FitOuts { rung: self, fitted: self.fitted.clone() }));
            }
        }
        if self.shelved().is_none() && self.is_launched() {
            tasks.push(Box::new(Launch { rung: self }));
        }
        tasks.push(Box::new(Check { rung: self }));
        tasks
    }

    /// What its tasks are made from, as a landing remembers it.
    pub fn recipes(&self) -> Recipes {
        self.tasks().iter().map(|task| (task.name(), task.recipe())).collect()
    }

    /// The tasks that are left, held against what a landing has of the rung: those that were made from something else, whose
    /// work is not there, or that follow one of these.
    pub fn left(&self, landed: Option<&LandedRung>) -> Vec<TaskName> {
        let mut left: Vec<TaskName> = Vec::new();
        let landed = landed.filter(|landed| landed.version == self.version && landed.folder == self.folder());
        // What is on the shelf is one thing, looked at once: unpacking, set-up and shelving make it together.
        let mut on_shelf: Option<bool> = None;
        for task in self.tasks() {
            let name = task.name();
            let mut is_there = || match name {
                TaskName::Unpack | TaskName::SetUp | TaskName::Shelve => {
                    *on_shelf.get_or_insert_with(|| task.is_there())
                }
                _ => task.is_there(),
            };
            let made_so = landed.is_some_and(|landed| landed.recipes.get(&name) == Some(&task.recipe()));
            // What stands outside of landings is as it should be whenever it is there: its path follows from its recipe.
            let stands_outside = matches!(
                name,
                TaskName::Unpack | TaskName::SetUp | TaskName::Shelve | TaskName::Berth | TaskName::FitOut
            );
            let follows = task.after().iter().any(|before| left.contains(before));
            if follows || !is_there() || !(made_so || stands_outside) {
                left.push(name);
            }
        }
        left
    }

    /// What a person should know of the tasks that are left.
    pub fn would(&self) -> Vec<Would> {
        let tasks = self.tasks();
        tasks.iter().filter(|task| self.todo.contains(&task.name())).flat_map(|task| task.would()).collect()
    }

    /// The rung as a landing records it.
    pub fn landed(&self) -> LandedRung {
        LandedRung {
            key: self.key.clone(),
            version: self.version.clone(),
            folder: self.folder().to_path_buf(),
            berth: self.berth.as_ref().map(|berth| berth.folder.clone()),
            recipes: self.recipes(),
        }
    }
}

/// What `@TOOL.folder@` and `@TOOL.version@` stand for.
pub(crate) fn word_of(rungs: &[Rung], tool: &str, what: &str) -> Option<String> {
    let rung = rungs.iter().find(|rung| rung.key.household.is_shared() && rung.answers_to(tool))?;
    match what {
        "folder" => rung.files().to_str().map(str::to_owned),
        "version" => Some(rung.version.to_string()),
        _ => None,
    }
}
