//! Which tools an editor, or another one of its kind, chooses for whoever works with it: it is asked, and what it says is held
//! against what the ladder has.
//!
//! It is asked as it stands for the person: with their settings and their variables for these, so that whatever they say counts.
//! It is kept from the network, and from writing anywhere but in its nook and the ladder's corners.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Asking, Chooses, CommandName, Pattern};
use kladder_choose::pins::HostCopy;

use super::{Bench, VerifyError, resolved};
use crate::base::event::{Event, Finding, Looked, Outcome, Output, Subject, Verdict, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::host::confine::{Cell, Network, Reads};
use crate::host::process::{self, Ended, Ran, Setting};
use crate::host::survey::answers;
use crate::prove::together::Owners;
use crate::tasks::launch::{Filling, filled};
use crate::tasks::{Rung, Source};
use crate::wire::chosen::{self, Outdated};
use crate::wire::links::WantedLink;

/// Variables that say where a person's settings are (XDG Base Directory Specification).
const SETTINGS: [&str; 3] = ["XDG_CONFIG_HOME", "XDG_CONFIG_DIRS", "XDG_DATA_HOME"];
/// Those that say where programs write for themselves.
const OWN: [&str; 3] = ["XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_RUNTIME_DIR"];

impl Bench<'_> {
    /// What a rung chooses, at each of the places where it does, and whether one of it runs that has read its settings before.
    /// `wired` has the commands that are put into shells.
    ///
    /// # Errors
    /// [`VerifyError`] where one could not be asked at all.
    pub fn choices(&self, rung: &Rung, wired: &Path) -> Result<Vec<Verdict>, VerifyError> {
        let Some(home) = self.host.person.as_ref().filter(|_| !self.host.is_described()) else { return Ok(Vec::new()) };
        let mut verdicts = Vec::new();
        for place in chosen::places(rung, self.rungs) {
            let Some(asking) = &place.ask else { continue };
            let (subject, started) = (Subject::Choice { rung: rung.key.clone(), place: place.name() }, Instant::now());
            self.observer.event(&Event::Checking { subject: subject.clone() });
            let outcome = self.choice(rung, place, asking, (home, wired))?;
            verdicts.push(self.conclude(subject, started, outcome));
        }
        for Outdated { rung, process } in chosen::outdated(std::slice::from_ref(rung), self.rungs, home) {
            let outcome = Outcome::failed(Finding::Outdated { process });
            verdicts.push(self.conclude(Subject::Settings { rung }, Instant::now(), outcome));
        }
        Ok(verdicts)
    }

    fn choice(
        &self,
        rung: &Rung,
        place: &Chooses,
        asking: &Asking,
        (home, wired): (&Path, &Path),
    ) -> Result<Outcome, VerifyError> {
        check_cancelled(self.observer)?;
        let nook = self.nook("choices", &[&rung.key.folder_name(), "-", &place.name().replace('/', "-")].concat())?;
        let folder = nook.join("work");
        for (path, text) in &asking.write {
            let full = path.below(&folder);
            full.parent().map(files::create_folder).transpose()?;
            files::replace(&full, text.as_bytes())?;
        }
        let variables = self.as_person(rung, home, &nook);
        let own = rung.files();
        let with = Filling { rung, folder: &own, place: &own, rungs: self.rungs, port: None };
        let run: Vec<OsString> = asking.run.iter().map(|word| filled(word, &with)).collect();
        let run = resolved(run, &variables);
        let writes = self.corners.iter().cloned().chain([nook.clone()]).collect();
        let cell = Cell { reads: Reads::Everything, writes, network: Network::None, shown: Vec::new() };
        let setting = Setting {
            run: &run,
            input: "",
            folder: &folder,
            variables: &variables,
            limit: Duration::from_secs(asking.limit),
            cell: Some(&cell),
            encloser: None,
            watched: None,
            most: None,
        };
        let ran = process::run(&setting, self.observer);
        check_cancelled(self.observer)?;
        Ok(match ran {
            Ok(ran) => {
                self.keeping.was(&ran.confined);
                let path = variables.iter().find(|(name, _)| name == "PATH").map(|(_, path)| path.clone());
                self.told_choice(&ran, &asking.like, asking.limit, &|file| {
                    self.is_ladders(
                        &place.command,
                        &folder.join(file),
                        file,
                        (&path.clone().unwrap_or_default(), wired),
                    )
                })
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                Outcome::failed(Finding::NoCommand { command: run[0].to_string_lossy().into_owned() })
            }
            Err(error) => {
                let (command, error) = (run[0].to_string_lossy().into_owned(), error.to_string());
                Outcome::failed(Finding::NotStarted { command, error })
            }
        })
    }

    /// What a program has that a person starts, but for what it would leave in their home.
    fn as_person(&self, rung: &Rung, home: &Path, nook: &Path) -> Vec<(OsString, OsString)> {
        let mut variables = self.environment(&rung.key.household, nook);
        variables.retain(|(name, _)| name != "HOME" && name != "PATH");
        variables.push(("HOME".into(), home.into()));
        variables.push(("PATH".into(), self.path(&rung.key.household)));
        let theirs = SETTINGS.iter().filter_map(|name| Some(((*name).into(), self.host.environment.get(name)?.into())));
        variables.extend(theirs.collect::<Vec<_>>());
        variables.extend(OWN.map(|name| (name.into(), nook.join("tmp").into())));
        variables
    }

    fn told_choice(&self, ran: &Ran, like: &Pattern, limit: u64, is_ladders: &dyn Fn(&str) -> bool) -> Outcome {
        let output = Output::of(&[ran.stdout.as_str(), ran.stderr.as_str()].concat());
        let failed = |finding| self.known(Outcome::Failed { finding, output: output.clone(), causes: Vec::new() });
        if matches!(ran.ended, Ended::TooLate) {
            return failed(Finding::TooLong { limit });
        }
        let regex = like.regex();
        let file =
            [&ran.stdout, &ran.stderr].into_iter().find_map(|text| Some(regex.captures(text)?["file"].to_owned()));
        match file {
            None => failed(Finding::NoMatch { looked: Looked::Outputs, pattern: like.as_str().to_owned() }),
            Some(file) if is_ladders(&file) => Outcome::Passed,
            Some(file) => Outcome::failed(Finding::OtherChosen { file }),
        }
    }

    /// Whether what was chosen is the ladder's command, or a file of the rung that brings it.
    fn is_ladders(&self, command: &CommandName, full: &Path, said: &str, (path, wired): (&OsString, &Path)) -> bool {
        let found = if said.contains('/') { Some(full.to_path_buf()) } else { answers(said, path) };
        let Some(file) = found else { return false };
        let fronts = self.wiring.fronts(&kladder_choose::names::Household::shared());
        let launchers = fronts.into_iter().map(|front| self.landing.join(front)).chain([wired.to_path_buf()]);
        let is = |one: &Path, other: &Path| one == other || (real(one) == real(other));
        if launchers.into_iter().any(|folder| is(&file, &folder.join(command.as_str()))) {
            return true;
        }
        let Some(rung) = chosen::bringer(command, self.rungs) else { return false };
        match &rung.source {
            Source::Host(HostCopy::Itself(own)) => is(&file, own),
            _ => Owners::of(std::slice::from_ref(rung)).owner(&real(&file)).is_some(),
        }
    }

    /// Lays the settings that make some tools choose those of the ladder, and what extends the host's own, into a home where they
    /// are tried.
    pub(super) fn lay_choices(&self, choosing: &[&Rung], home: &Path) -> Result<(), FileError> {
        let commands = self.wiring.fronts(&kladder_choose::names::Household::shared()).into_iter().next();
        let commands = self.landing.join(commands.unwrap_or_default());
        chosen::lay(&chosen::files(choosing.iter().copied(), self.rungs, &commands), home)?;
        for WantedLink { path, target } in chosen::links(self.rungs, home) {
            path.parent().map(files::create_folder).transpose()?;
            // It is there already where the home is a project's, which is kept.
            if fs::symlink_metadata(&path).is_err() {
                symlink(target, &path).on("write", &path)?;
            }
        }
        Ok(())
    }
}

fn real(file: &Path) -> PathBuf {
    fs::canonicalize(file).unwrap_or_else(|_| file.to_path_buf())
}
