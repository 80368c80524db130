//! What a person's surroundings do to the ladder: which files answer in their shells, and variables that mislead its programs.

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;
use std::time::Instant;

use kladder_choose::catalog::{CommandName, VariableName};

use super::Site;
use super::route::Route;
use crate::base::event::{Event, Finding, Observer, Outcome, Shadow, Subject, Verdict};
use crate::host::survey;
use crate::keep::wired::Wired;
use crate::tasks::Rung;
use crate::tasks::launch::Wiring;
use crate::wire::{Answered, Place, Planned, StartFile, Surroundings, ask_shells, is_wired, wired};

/// Variables that change what every program loads, ld.so(8) and dyld(1).
const OF_LOADER: [&str; 4] = ["LD_LIBRARY_PATH", "LD_PRELOAD", "DYLD_LIBRARY_PATH", "DYLD_INSERT_LIBRARIES"];

impl Site<'_> {
    /// The ladder's commands that are put into shells.
    pub(super) fn wired_names<'r>(&self, route: &'r Route) -> Vec<&'r CommandName> {
        let commands = Wired::of(self.home).commands();
        let started = |rung: &&Rung| rung.key.household.is_shared() && rung.is_launched();
        let names: BTreeSet<&CommandName> =
            route.rungs.iter().filter(started).flat_map(|rung| rung.commands.keys()).collect();
        names.into_iter().filter(|name| commands.join(name.as_str()).exists()).collect()
    }

    /// Which file answers to each of the ladder's commands in new shells of each kind that it is put into.
    pub(super) fn shell_verdicts(&self, route: &Route, person: &Surroundings, observer: &dyn Observer) -> Vec<Verdict> {
        let home = Wired::of(self.home);
        if person.home.as_os_str().is_empty() || !is_wired(person.all(), &home) {
            return Vec::new();
        }
        let names: Vec<&str> = self.wired_names(route).into_iter().map(CommandName::as_str).collect();
        if names.is_empty() {
            return Vec::new();
        }
        let shells = survey::facts(self.host, &[]).shells;
        let since = Instant::now();
        let judged = |(place, answered): (Place, Vec<Answered>)| {
            let (shell, login) = match place {
                Place::Terminal(shell) => (shell, false),
                Place::Login(shell) => (shell, true),
                Place::Here | Place::Bare => return None,
            };
            let read = person.read_by(shell, login);
            if !is_wired(read.clone(), &home) {
                return None;
            }
            let subject = Subject::Shell { shell: shell.as_str().to_owned(), login };
            if let Some(file) = without_lines(read, &home) {
                return Some(told(subject, Outcome::failed(Finding::NotWired { file }), since, observer));
            }
            let other = |(name, answered): (&&str, &Answered)| {
                let by = match answered {
                    Answered::File(file) if *file == home.commands().join(name) => return None,
                    Answered::File(file) => Some(file.display().to_string()),
                    Answered::Other(text) if text == *name => Some("a function of the shell".to_owned()),
                    Answered::Other(text) => Some(text.clone()),
                    Answered::Nothing | Answered::Unasked => None,
                };
                Some(Shadow { command: (*name).to_owned(), by })
            };
            let is_asked = answered.iter().any(|one| *one != Answered::Unasked);
            let commands: Vec<Shadow> = names.iter().zip(&answered).filter_map(other).collect();
            let outcome = match (is_asked, commands.is_empty()) {
                (false, _) => Outcome::failed(Finding::Unasked),
                (true, true) => Outcome::Passed,
                (true, false) => Outcome::failed(Finding::Shadowed { commands }),
            };
            Some(told(subject, outcome, since, observer))
        };
        ask_shells(&names, person, &shells).into_iter().filter_map(judged).collect()
    }

    /// Whether the caller has variables that make programs of the ladder do something else. What the ladder sets itself counts
    /// more than they do.
    pub(super) fn surroundings_verdict(&self, route: &Route, wiring: &Wiring, observer: &dyn Observer) -> Verdict {
        let since = Instant::now();
        let mut variables = Vec::new();
        let is_set = |name: &str| self.host.environment.get(name).is_some_and(|value| !value.is_empty());
        for rung in &route.rungs {
            let own = &wiring.table(&rung.key.household).variables;
            let is_ours = |name: &str| own.iter().any(|(known, _): &(OsString, OsString)| known == OsStr::new(name));
            for name in rung.definition.says.misled_by.iter().map(VariableName::as_str) {
                if is_set(name) && !is_ours(name) {
                    variables.push((name.to_owned(), Some(rung.key.clone())));
                }
            }
        }
        variables.extend(OF_LOADER.iter().filter(|name| is_set(name)).map(|name| ((*name).to_owned(), None)));
        let outcome =
            if variables.is_empty() { Outcome::Passed } else { Outcome::failed(Finding::Misled { variables }) };
        told(Subject::Surroundings, outcome, since, observer)
    }
}

/// A file that lost the lines that put the ladder into a shell, where another one of the same shell has them.
fn without_lines(files: Vec<StartFile>, home: &Wired) -> Option<PathBuf> {
    let lost = |planned: Planned| matches!(planned.change, Ok(Some(_))).then_some(planned.file.path);
    wired(files, home).into_iter().find_map(lost)
}

fn told(subject: Subject, outcome: Outcome, since: Instant, observer: &dyn Observer) -> Verdict {
    let verdict = Verdict { subject, outcome, took: since.elapsed() };
    observer.event(&Event::Checked(verdict.clone()));
    verdict
}
