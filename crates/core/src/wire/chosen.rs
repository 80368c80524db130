//! Tools that editors and others of their kind choose for a person: the settings that make them choose the ladder's.
//!
//! What tools say about one file is put together: whole texts one after the other, values side by side.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use kladder_choose::catalog::{Chooses, CommandName, SettingsRead, fill_words};
use kladder_choose::names::RungKey;
use kladder_choose::pins::HostCopy;
use kladder_choose::setting::{Content, Setting};
use serde_json::Value;

use super::links::WantedLink;
use super::placed::{self, Want};
use crate::base::files::{self, FileError};
use crate::sys;
use crate::tasks::{Rung, Source, word_of};

/// What is wanted of files in a home, by their paths as they were written.
pub type Files = BTreeMap<String, Want>;

/// The rung of a ladder that brings a command, or answers to it as the host's own.
pub fn bringer<'r>(command: &CommandName, rungs: &'r [Rung]) -> Option<&'r Rung> {
    let is_own = |rung: &Rung| {
        let probe = rung.definition.host.as_ref().and_then(|probe| probe.command.as_ref());
        matches!(rung.source, Source::Host(HostCopy::Itself(_))) && probe == Some(command)
    };
    let brings = |rung: &&Rung| rung.commands.contains_key(command) || is_own(rung);
    rungs.iter().filter(|rung| rung.key.household.is_shared()).find(brings)
}

/// The places where a rung chooses a command that the ladder has.
pub fn places<'r>(rung: &'r Rung, rungs: &'r [Rung]) -> impl Iterator<Item = &'r Chooses> {
    let places = rung.definition.says.chooses.iter().filter(|_| rung.key.household.is_shared());
    places.filter(|place| bringer(&place.command, rungs).is_some())
}

/// The settings that make some rungs of a ladder choose its tools, whose launchers are in the folder `commands`.
pub fn files<'r>(choosing: impl Iterator<Item = &'r Rung>, rungs: &'r [Rung], commands: &Path) -> Files {
    let mut all = Files::new();
    for place in choosing.flat_map(|rung| places(rung, rungs)) {
        let path = match bringer(&place.command, rungs).map(|rung| &rung.source) {
            Some(Source::Host(HostCopy::Itself(file))) => file.clone(),
            _ => commands.join(place.command.as_str()),
        };
        let Some(path) = path.to_str().map(str::to_owned) else { continue };
        let known = |word: &str| {
            let (tool, what) = match word {
                "command" => return Some(path.clone()),
                _ => word.rsplit_once('.')?,
            };
            word_of(rungs, tool, what)
        };
        // A text has the path between whatever marks its language wants: one that could end them is not put there, and is missed.
        let is_plain = !path.contains(|char: char| "'\"\\`$".contains(char) || char.is_control());
        let can_hold = |setting: &&Setting| is_plain || matches!(setting.content, Content::Keys { .. });
        place.settings.iter().filter(can_hold).for_each(|setting| add(&mut all, setting, &known));
    }
    all
}

fn add(all: &mut Files, setting: &Setting, known: &dyn Fn(&str) -> Option<String>) {
    let want = of_content(&setting.content, known);
    match (all.get_mut(&setting.file), want) {
        // Two tools may be kin, and say the same.
        (Some(Want::Whole(text)), Want::Whole(more)) if text.windows(more.len().max(1)).any(|part| part == more) => {}
        (Some(Want::Whole(text)), Want::Whole(more)) => text.extend(more),
        (Some(Want::Keys { keys, .. }), Want::Keys { keys: more, .. }) => keys.extend(more),
        (Some(_), _) => {}
        (None, want) => {
            all.insert(setting.file.clone(), want);
        }
    }
}

/// What a text or values come to, with words filled in.
pub(crate) fn of_content(content: &Content, known: &dyn Fn(&str) -> Option<String>) -> Want {
    match content {
        // A file beside a ladder is read by who knows the ladder; a tool has none.
        Content::From { .. } => Want::Whole(Vec::new()),
        Content::Text { text, fill: false } => Want::Whole(text.clone().into_bytes()),
        Content::Text { text, fill: true } => Want::Whole(fill_words(text, known).into_bytes()),
        Content::Keys { form, keys } => {
            let keys = keys.iter().map(|(key, value)| (key.clone(), filled(value, known))).collect();
            Want::Keys { form: *form, keys }
        }
    }
}

fn filled(value: &Value, known: &dyn Fn(&str) -> Option<String>) -> Value {
    match value {
        Value::String(text) => Value::String(fill_words(text, known)),
        Value::Array(all) => all.iter().map(|value| filled(value, known)).collect(),
        Value::Object(all) => all.iter().map(|(key, value)| (key.clone(), filled(value, known))).collect(),
        other => other.clone(),
    }
}

/// Writes settings into a home that is nobody's yet.
///
/// # Errors
/// [`FileError`] where one cannot be written.
pub fn lay(wanted: &Files, home: &Path) -> Result<(), FileError> {
    for (file, want) in wanted {
        let path = home.join(file.trim_start_matches("~/"));
        path.parent().map(files::create_folder).transpose()?;
        // What cannot be written in a form is missed by whoever looks for what comes of it.
        let bytes = placed::bytes_of(want).unwrap_or_default();
        files::replace(&path, &bytes)?;
    }
    Ok(())
}

/// The links through which tools that the host has see what extends them.
pub fn links(rungs: &[Rung], home: &Path) -> Vec<WantedLink> {
    let mut all = Vec::new();
    for rung in rungs.iter().filter(|rung| matches!(rung.source, Source::Host(_))) {
        let own = rung.definition.says.extensions.as_ref().and_then(|extensions| extensions.own.as_ref());
        let Some(folder) = own.map(|own| home.join(own.trim_start_matches("~/"))) else { continue };
        for extension in rungs.iter().filter(|other| rung.extended_by(other).is_some()) {
            let path = folder.join(extension.key.tool.as_str());
            all.push(WantedLink { path, target: extension.files() });
        }
    }
    all
}

/// A tool that runs and has read its settings before they were what they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outdated {
    /// Which one.
    pub rung: RungKey,
    /// The number of its process.
    pub process: i32,
}

/// Those of the tools that are asked about that read their settings when they start only, and run since before these were changed.
pub fn outdated(asked: &[Rung], rungs: &[Rung], home: &Path) -> Vec<Outdated> {
    let mut all = Vec::new();
    for rung in asked {
        let once = places(rung, rungs).filter(|place| place.read == SettingsRead::AtStart);
        let files =
            once.flat_map(|place| &place.settings).map(|setting| home.join(setting.file.trim_start_matches("~/")));
        let Some(changed) = files.filter_map(|file| fs::metadata(file).ok()?.modified().ok()).max() else { continue };
        // What extends another tool is read by that one.
        let readers = rungs.iter().filter(|other| other.key == rung.key || other.extended_by(rung).is_some());
        let programs: Vec<PathBuf> = readers.flat_map(programs).collect();
        let is_its = |file: &Path| programs.iter().any(|program| program == file);
        let before = |(process, since): (i32, SystemTime)| (since < changed).then_some(process);
        let running = sys::processes::running(&is_its).into_iter().filter_map(before);
        all.extend(running.map(|process| Outdated { rung: rung.key.clone(), process }));
    }
    all
}

/// The files behind the commands of a rung, with links followed.
fn programs(rung: &Rung) -> Vec<PathBuf> {
    let own = match &rung.source {
        Source::Host(HostCopy::Itself(file) | HostCopy::Aside { file }) => Some(file.clone()),
        _ => None,
    };
    let all = rung.commands.values().map(|command| rung.file_of(command).below(&rung.files())).chain(own);
    all.filter_map(|file| fs::canonicalize(file).ok()).collect()
}
