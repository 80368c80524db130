//! The settings that a ladder brings along: placed after the landing, taken back when the ladder does not want them any more.
//!
//! Three kinds of things go into a home in this way, and all are remembered beside the ladder's landings:
//!
//! 1. What `[settings]` in the ladder says, with words like `@skerroc.folder@` filled in from the rungs as they stand.
//! 2. Menu entries and types of files of graphical rungs, and a terminal with the ladder on (`desktop`).
//! 3. Who works here, for version control, where the ladder brings it or wants code with it.
//!
//! A landing does not depend on them: what fails here is told, and the landing stands. The way back places what the ladder of
//! that landing wanted, as its text is kept with the landing.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::fill_words;
use kladder_choose::ladder::Code;
use kladder_choose::pins::VERSION_CONTROL;
use kladder_choose::sets::LibrarySet;
use kladder_choose::setting::{Content, Form, Setting};
use kladder_launch::SETS;
use serde_json::Value;

use super::route::{Route, RouteError};
use super::{ClimbError, Site};
use crate::base::event::Observer;
use crate::base::files::{self, FileError};
use crate::keep::landing::Landings;
use crate::keep::state::Writer;
use crate::keep::whose::Whose;
use crate::keep::wired::Wired;
use crate::settings::Home;
use crate::tasks::sets::MODULES;
use crate::tasks::word_of;
use crate::wire::chosen::{self, Outdated};
use crate::wire::links::{Links, WantedLink};
use crate::wire::placed::{self, PlaceError, Placed, Placing, State, Want, Wanted};

/// Why settings could not be placed.
#[derive(Debug, thiserror::Error)]
pub enum SettingsError {
    /// A file that the ladder brings along cannot be read.
    #[error(transparent)]
    From(FileError),
    /// The person's home folder is not known.
    #[error("your home folder cannot be told")]
    NoHome,
    /// There is no route, so that nothing can be filled in.
    #[error(transparent)]
    Route(#[from] RouteError),
    /// What was placed cannot be told, or a file could not be changed.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// Another process writes, or the user asked for an end.
    #[error(transparent)]
    Climb(#[from] ClimbError),
}

/// What a ladder wants in a home.
#[derive(Clone, Debug, Default)]
pub struct WantedThere {
    /// Files, whole or some values of them.
    pub files: Vec<Wanted>,
    /// Links to what stands on the shelf or in landings.
    pub links: Vec<WantedLink>,
}

/// Whether the ladder's may take the place of what is a person's.
#[derive(Clone, Copy)]
pub enum Consent<'c> {
    /// Never.
    Never,
    /// They are asked about what stood there before the ladder wanted it otherwise; what they changed since stays.
    Asked(&'c dyn Fn(&Placing) -> bool),
    /// Always, whatever they changed.
    Always,
}

impl Consent<'_> {
    fn allows(self, placing: &Placing) -> bool {
        match self {
            Self::Never => false,
            Self::Asked(ask) => ask(placing),
            Self::Always => true,
        }
    }
}

/// What became of one file.
#[derive(Clone, Debug)]
pub struct SettingPlaced {
    /// The file.
    pub path: PathBuf,
    /// How it stood.
    pub state: State,
    /// Whether it was changed.
    pub changed: bool,
}

/// Where what a ladder placed is remembered.
fn record_of(landings: &Landings) -> PathBuf {
    landings.folder().join("placed")
}

impl Site<'_> {
    /// What would become of the files that the ladder has settings for, or had.
    ///
    /// # Errors
    /// [`SettingsError`] where a file that it brings cannot be read, or what was placed cannot be told.
    pub fn settings(&self) -> Result<Vec<Placing>, SettingsError> {
        // A described machine has no home of anybody's.
        if self.host.is_described() {
            return Ok(Vec::new());
        }
        let landings = self.landings();
        let placed = Placed::read(&record_of(&landings)).map_err(PlaceError::from)?;
        let links = Links::read(landings.folder()).map_err(PlaceError::from)?;
        let wanted = self.wanted()?;
        let others = others(self.home, &landings)?;
        let mut all = placed::plan(&wanted.files, &placed);
        all.retain(|placing| !stays_with_others(placing, &others));
        all.extend(links.plan(&wanted.links, &self.home.data));
        Ok(all)
    }

    /// The environments of sets that should be seen in the project's folder, and extensions that the host's own tools should see.
    fn links_on(&self, route: &Route) -> Vec<WantedLink> {
        let (beside, current) = (self.ladder.path.parent().unwrap_or(Path::new("/")), self.landings().current_link());
        let link = |set: &LibrarySet| {
            let environment = current.join(SETS).join(set.name.as_str());
            // A project of Node looks for the folder of packages itself.
            let target = if set.packages.is_some() { environment.join(MODULES) } else { environment };
            Some(WantedLink { path: set.folder.as_ref()?.below(beside), target })
        };
        let person = self.host.person.as_deref();
        let extensions = person.map(|home| chosen::links(&route.rungs, home)).unwrap_or_default();
        self.ladder.sets.iter().filter_map(link).chain(extensions).collect()
    }

    fn wanted(&self) -> Result<WantedThere, SettingsError> {
        match self.wanted.get() {
            Some(wanted) => Ok(wanted.clone()),
            None => self.wanted_on(&self.route()?),
        }
    }

    /// What the ladder wants in the home, and the rungs of a route on the desktop.
    pub(super) fn wanted_on(&self, route: &Route) -> Result<WantedThere, SettingsError> {
        let own: Result<Vec<_>, SettingsError> =
            self.ladder.settings.iter().map(|setting| self.wanted_of(setting, route)).collect();
        let mut all = own?;
        self.chosen(route, &mut all);
        all.extend(self.desktop(route));
        all.extend(self.units(route));
        all.extend(self.fonts(route));
        all.extend(self.kernels());
        all.extend(self.identity(route).filter(|identity| !all.iter().any(|one| one.path == identity.path)));
        Ok(WantedThere { files: all, links: self.links_on(route) })
    }

    /// Adds what makes the tools of a route choose those of the ladder; what the ladder itself says comes before that.
    fn chosen(&self, route: &Route, all: &mut Vec<Wanted>) {
        let Some(home) = &self.host.person else { return };
        // Through the folder of all ladders' commands the one answers that counts where it is asked for.
        let commands = Wired::of(self.home).commands();
        for (file, want) in chosen::files(route.rungs.iter(), &route.rungs, &commands) {
            let path = home.join(file.trim_start_matches("~/"));
            match (all.iter_mut().find(|one| one.path == path).map(|one| &mut one.want), want) {
                (None, want) => all.push(Wanted { path, want }),
                (Some(Want::Keys { keys, .. }), Want::Keys { keys: more, .. }) => {
                    for (key, value) in more {
                        keys.entry(key).or_insert(value);
                    }
                }
                (Some(_), _) => {}
            }
        }
    }

    /// The tools of a route that run and read their settings before these were what they are.
    ///
    /// # Errors
    /// [`SettingsError`] where there is no route.
    pub fn outdated(&self) -> Result<Vec<Outdated>, SettingsError> {
        match &self.host.person {
            Some(home) if !self.host.is_described() => {
                let route = self.route()?;
                Ok(chosen::outdated(&route.rungs, &route.rungs, home))
            }
            _ => Ok(Vec::new()),
        }
    }

    /// Who works here, told to version control where the ladder brings it or wants code with it. Whatever stands in its own
    /// settings already is a person's.
    fn identity(&self, route: &Route) -> Option<Wanted> {
        let brings_it = route.rungs.iter().any(|rung| rung.commands.contains_key(VERSION_CONTROL));
        let wants_it = self.ladder.code.as_ref().is_some_and(Code::wants_version_control);
        let home = self.host.person.as_ref().filter(|_| brings_it || wants_it)?;
        // Settings that cannot be read are told of by whoever needs them.
        let known = self.home.settings().ok()?.identity;
        let keys: BTreeMap<String, Value> = ["name", "email"]
            .into_iter()
            .filter_map(|key| Some((["user/", key].concat(), Value::String(known.get(key)?.clone()))))
            .collect();
        // The place that some keep it in instead of the usual file.
        let elsewhere = fs::read_to_string(home.join(".config/git/config")).unwrap_or_default();
        let is_told = elsewhere.lines().any(|line| line.trim().eq_ignore_ascii_case("[user]"));
        let want = Want::Keys { form: Form::Ini, keys };
        let is_empty = matches!(&want, Want::Keys { keys, .. } if keys.is_empty());
        (!is_empty && !is_told).then(|| Wanted { path: home.join(".gitconfig"), want })
    }

    fn wanted_of(&self, setting: &Setting, route: &Route) -> Result<Wanted, SettingsError> {
        let known = |word: &str| {
            let (tool, what) = word.rsplit_once('.')?;
            word_of(&route.rungs, tool, what)
        };
        let filled = |bytes: Vec<u8>, fill: bool| match String::from_utf8(bytes) {
            Ok(text) if fill => fill_words(&text, &known).into_bytes(),
            Ok(text) => text.into_bytes(),
            Err(error) => error.into_bytes(),
        };
        let beside = self.ladder.path.parent().unwrap_or(Path::new("/"));
        let want = match &setting.content {
            Content::From { path, fill } => {
                let bytes = files::read(&beside.join(path)).map_err(SettingsError::From)?;
                Want::Whole(filled(bytes, *fill))
            }
            content => chosen::of_content(content, &known),
        };
        let home = self.host.person.as_ref().ok_or(SettingsError::NoHome)?;
        Ok(Wanted { path: home.join(setting.file.trim_start_matches("~/")), want })
    }

    /// Places the settings; `consent` is asked for each file of a person that would have to change.
    ///
    /// # Errors
    /// [`SettingsError`] for the first file that could not be changed; those before it are.
    pub fn place_settings(
        &self,
        consent: Consent<'_>,
        wait: Option<std::time::Duration>,
        observer: &dyn Observer,
    ) -> Result<Vec<SettingPlaced>, SettingsError> {
        if self.host.is_described() {
            return Ok(Vec::new());
        }
        let WantedThere { files, links } = self.wanted()?;
        let placed = place(self.home, &self.landings(), (&files, &links), consent, wait, observer)?;
        self.tell_desktop(&placed);
        self.tell_session(&placed);
        Ok(placed)
    }
}

/// Whose settings are taken back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Of {
    /// Those of every ladder.
    All,
    /// Those of ladders whose file is gone, so that no climb will ever do it.
    Gone,
}

/// Takes back what ladders of a home placed.
///
/// # Errors
/// [`SettingsError`] for the first file that could not be changed.
pub fn take_back(
    home: &Home,
    of: Of,
    wait: Option<std::time::Duration>,
    observer: &dyn Observer,
) -> Result<Vec<SettingPlaced>, SettingsError> {
    let mut all = Vec::new();
    let is_meant = |landings: &Landings| {
        of == Of::All || Whose::read(landings.folder()).is_some_and(|whose| !whose.ladder.exists())
    };
    for landings in Landings::everywhere(&home.ladders()).map_err(PlaceError::from)?.into_iter().filter(is_meant) {
        all.extend(place(home, &landings, (&[], &[]), Consent::Never, wait, observer)?);
    }
    Ok(all)
}

/// What taking back all that every ladder of a home placed would change.
///
/// # Errors
/// [`SettingsError`] where a record cannot be used.
pub fn to_take_back(home: &Home) -> Result<Vec<Placing>, SettingsError> {
    let mut all = Vec::new();
    for landings in Landings::everywhere(&home.ladders()).map_err(PlaceError::from)? {
        let placed = Placed::read(&record_of(&landings)).map_err(PlaceError::from)?;
        all.extend(placed::plan(&[], &placed));
        all.extend(Links::read(landings.folder()).map_err(PlaceError::from)?.plan(&[], &home.data));
    }
    Ok(all)
}

fn place(
    home: &Home,
    landings: &Landings,
    (wanted, links): (&[Wanted], &[WantedLink]),
    consent: Consent<'_>,
    wait: Option<std::time::Duration>,
    observer: &dyn Observer,
) -> Result<Vec<SettingPlaced>, SettingsError> {
    let record = record_of(landings);
    let placed = Placed::read(&record).map_err(PlaceError::from)?;
    let mut planned = placed::plan(wanted, &placed);
    let known = Links::read(landings.folder()).map_err(PlaceError::from)?;
    planned.extend(known.plan(links, &home.data));
    let is_still = |placing: &Placing| placing.state == State::Stands && placing.change.is_none() && !placing.is_new;
    if planned.iter().all(is_still) {
        return Ok(planned.into_iter().map(told).collect());
    }
    let _writer = Writer::enter(home, wait, observer).map_err(ClimbError::from)?;
    // Somebody else may have placed them meanwhile.
    let mut placed = Placed::read(&record).map_err(PlaceError::from)?;
    let backups = home.data.join("wired/before");
    let others = others(home, landings)?;
    let mut all = Vec::new();
    if matches!(consent, Consent::Always) {
        let is_yours = |placing: &Placing| matches!(placing.state, State::Yours | State::Clash);
        for placing in placed::plan(wanted, &placed).into_iter().filter(is_yours) {
            // As if it were seen for the first time: what they have is what was there before.
            placed.forget(&placing.path).map_err(PlaceError::from)?;
        }
    }
    for placing in placed::plan(wanted, &placed) {
        if stays_with_others(&placing, &others) {
            placed.forget(&placing.path).map_err(PlaceError::from)?;
            continue;
        }
        let placing = placed::beside(placing, &placed, &others).map_err(PlaceError::from)?;
        let goes = placing.state != State::Differs || consent.allows(&placing);
        let changed = goes && placed::apply(&placing, &mut placed, &backups)?;
        all.push(SettingPlaced { changed, ..told(placing) });
    }
    let mut known = Links::read(landings.folder()).map_err(PlaceError::from)?;
    for (path, state) in known.place(links, &home.data, landings.folder()).map_err(PlaceError::from)? {
        let changed = matches!(state, State::ToWrite | State::ToUndo);
        all.push(SettingPlaced { path, state, changed });
    }
    Ok(all)
}

/// What the other ladders of a home placed; one whose record cannot be read tells so itself.
fn others(home: &Home, landings: &Landings) -> Result<Vec<Placed>, SettingsError> {
    let all = Landings::everywhere(&home.ladders()).map_err(PlaceError::from)?.into_iter();
    let others = all.filter(|other| other.folder() != landings.folder());
    Ok(others.filter_map(|other| Placed::read(&record_of(&other)).ok()).filter(|placed| !placed.is_empty()).collect())
}

/// Whether a file that is not wanted any more is another ladder's, too.
fn stays_with_others(placing: &Placing, others: &[Placed]) -> bool {
    placing.state == State::ToUndo && others.iter().any(|other| other.has(&placing.path))
}

fn told(placing: Placing) -> SettingPlaced {
    SettingPlaced { path: placing.path, state: placing.state, changed: false }
}
