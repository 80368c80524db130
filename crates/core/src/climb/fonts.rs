//! Fonts that rungs bring: their folders are named to fontconfig in a file of the person's (fonts.conf(5)), placed and taken back
//! like settings, and the system is asked whether it knows each of them.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use super::Site;
use super::route::Route;
use crate::base::digest::Digest;
use crate::base::event::{Event, Finding, Observer, Outcome, Subject, Verdict};
use crate::host::process::{self, Setting};
use crate::host::survey::answers;
use crate::tasks::Rung;
use crate::wire::placed::{Want, Wanted};

/// The program that tells which fonts the system knows.
const LISTER: &str = "fc-list";
/// The endings of files that hold fonts.
const ENDINGS: [&str; 4] = ["ttf", "otf", "ttc", "otc"];

impl Site<'_> {
    /// The files that name the fonts of a route's rungs to the system; none where it has no such files.
    pub(super) fn fonts(&self, route: &Route) -> Vec<Wanted> {
        let Some(settings) = self.person_settings().filter(|_| self.host.platform.system() == "linux") else {
            return Vec::new();
        };
        let ladder = Digest::of(self.ladder.path.as_os_str().as_encoded_bytes()).short();
        let named = |rung: &Rung| {
            let file = format!("fontconfig/conf.d/60-kite-ladder-{ladder}-{}.conf", rung.key.tool);
            Wanted { path: settings.join(file), want: Want::Whole(text(rung).into_bytes()) }
        };
        with_fonts(route).map(named).collect()
    }

    /// Whether the system knows each font that the rungs bring; nothing where it cannot be asked.
    pub(super) fn font_verdicts(&self, route: &Route, observer: &dyn Observer) -> Vec<Verdict> {
        let Some(known) = self.known_fonts() else { return Vec::new() };
        let verdict = |rung: &Rung| {
            let started = Instant::now();
            let name = "its fonts are known to the system".to_owned();
            let missing = font_files(rung).into_iter().find(|file| !known.contains(file));
            let outcome = missing.map_or(Outcome::Passed, |file| Outcome::failed(Finding::UnknownFont { file }));
            let subject = Subject::Check { rung: rung.key.clone(), name };
            let verdict = Verdict { subject, outcome, took: started.elapsed() };
            observer.event(&Event::Checked(verdict.clone()));
            verdict
        };
        with_fonts(route).map(verdict).collect()
    }

    /// The files of all fonts that the system knows.
    fn known_fonts(&self) -> Option<BTreeSet<PathBuf>> {
        let lister = answers(LISTER, &self.host.path).filter(|_| !self.host.is_described())?;
        let run: [OsString; 2] = [lister.into(), "--format=%{file}\n".into()];
        let mut variables = vec![("PATH".into(), self.host.path.clone())];
        variables.extend(self.host.person.iter().map(|home| ("HOME".into(), home.clone().into())));
        for name in ["XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"] {
            variables.extend(self.host.environment.get(name).map(|value| (name.into(), value.to_owned())));
        }
        let setting = Setting::open(&run, Path::new("/"), &variables, Duration::from_mins(1));
        let ran = process::run(&setting, &crate::base::event::Silent).ok()?;
        let known = ran.stdout.lines().map(|line| PathBuf::from(line.trim()));
        Some(known.map(|file| file.canonicalize().unwrap_or(file)).collect())
    }

    /// Where programs of this person keep settings (XDG Base Directory Specification).
    pub(super) fn person_settings(&self) -> Option<PathBuf> {
        let named = self.host.environment.get("XDG_CONFIG_HOME").map(PathBuf::from);
        let usual = || Some(self.host.person.as_ref()?.join(".config"));
        named.filter(|path| path.is_absolute()).or_else(usual)
    }
}

fn with_fonts(route: &Route) -> impl Iterator<Item = &Rung> {
    let brings = |rung: &&Rung| {
        !rung.definition.says.fonts.is_empty() && rung.key.household.is_shared() && rung.shelved().is_some()
    };
    route.rungs.iter().filter(brings)
}

/// The files of a rung's fonts, as they are on the disk.
fn font_files(rung: &Rung) -> Vec<PathBuf> {
    let folders = rung.definition.says.fonts.iter().map(|folder| folder.below(&rung.files()));
    let all = folders.flat_map(|folder| walkdir::WalkDir::new(folder).follow_links(true).sort_by_file_name());
    let is_font = |path: &PathBuf| {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        ending.is_some_and(|ending| ENDINGS.contains(&ending.as_str()))
    };
    all.flatten()
        .map(walkdir::DirEntry::into_path)
        .filter(is_font)
        .filter_map(|file| file.canonicalize().ok())
        .collect()
}

fn text(rung: &Rung) -> String {
    let xml = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;");
    let folder = |path: PathBuf| format!("  <dir>{}</dir>\n", xml(&path.display().to_string()));
    let folders = rung.definition.says.fonts.iter().map(|path| folder(path.below(&rung.files())));
    let folders: String = folders.collect();
    format!(
        "<?xml version=\"1.0\"?>\n<!DOCTYPE fontconfig SYSTEM \"fonts.dtd\">\n<fontconfig>\n{folders}</fontconfig>\n"
    )
}
