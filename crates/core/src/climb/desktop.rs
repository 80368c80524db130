//! Menu entries, icons and types of files of graphical rungs, by the Desktop Entry Specification 1.5 and the Shared MIME-info
//! Specification 0.21, and a terminal with the ladder on. They are files in the person's data folder, placed and taken back like
//! settings.

use std::ffi::OsString;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::catalog::{DesktopEntry, Word};

use super::Site;
use super::route::Route;
use super::settings::SettingPlaced;
use crate::base::digest::Digest;
use crate::base::event::Silent;
use crate::base::files;
use crate::host::process::{self, Setting};
use crate::host::survey::answers;
use crate::tasks::Rung;
use crate::wire::placed::{Want, Wanted};

impl Site<'_> {
    /// The files that the rungs of a route want on the desktop; none where no rung has an entry.
    pub(super) fn desktop(&self, route: &Route) -> Vec<Wanted> {
        let graphical = |rung: &&Rung| {
            !rung.definition.says.desktop.is_empty() && rung.key.household.is_shared() && rung.shelved().is_some()
        };
        let rungs: Vec<&Rung> = route.rungs.iter().filter(graphical).collect();
        let Some(data) = self.person_data().filter(|_| !rungs.is_empty()) else { return Vec::new() };
        // Two ladders may have the same tool, and each its own entry.
        let ladder = Digest::of(self.ladder.path.as_os_str().as_encoded_bytes()).short();
        let named = |folder: &str, what: &str, ending: &str| {
            data.join(folder).join(format!("kite-ladder-{ladder}-{what}.{ending}"))
        };
        let whole = |path: PathBuf, text: String| Wanted { path, want: Want::Whole(text.into_bytes()) };
        let mut all = Vec::new();
        for rung in rungs {
            for entry in rung.definition.says.desktop.iter().filter(|entry| rung.commands.contains_key(&entry.command))
            {
                let what = format!("{}-{}", rung.key.tool, entry.command.as_str());
                all.push(whole(named("applications", &what, "desktop"), self.entry(rung, entry)));
                if let Some(types) = types(entry) {
                    all.push(whole(named("mime/packages", &what, "xml"), types));
                }
            }
        }
        if let Some(kladder) = &self.host.installed {
            all.push(whole(named("applications", "terminal", "desktop"), self.terminal(kladder)));
        }
        all
    }

    /// Has the system's own lists made anew, where it has programs for that; a desktop without them looks by itself.
    pub(super) fn tell_desktop(&self, placed: &[SettingPlaced]) {
        let Some(data) = self.person_data() else { return };
        // From what each list is made, and what it is then; everything else in the folder of types is made from the packages.
        let lists = [
            ("applications", "", "update-desktop-database", "mimeinfo.cache"),
            ("mime", "packages", "update-mime-database", ""),
        ];
        for (folder, sources, program, made) in lists {
            let folder = data.join(folder);
            let is_changed = placed.iter().any(|one| one.changed && one.path.starts_with(&folder));
            let left = files::names(&folder.join(sources)).unwrap_or_default();
            if is_changed && left.iter().all(|name| name == made) {
                // With nothing to be made from, what was made goes; where it cannot, it does no harm.
                let _ = files::remove_tree(&if made.is_empty() { folder.clone() } else { folder.join(made) });
                let empty = |folder: &&Path| fs::remove_dir(folder).is_ok();
                let _ = folder.ancestors().take(3).take_while(empty).count();
                continue;
            }
            if let Some(file) = is_changed.then(|| answers(program, &self.host.path)).flatten() {
                let run: [OsString; 2] = [file.into(), folder.clone().into()];
                let variables = [("PATH".into(), self.host.path.clone())];
                let setting = Setting::open(&run, Path::new("/"), &variables, Duration::from_secs(30));
                let _ = process::run(&setting, &Silent);
            }
        }
    }

    /// Where programs of this person keep data (XDG Base Directory Specification).
    pub(super) fn person_data(&self) -> Option<PathBuf> {
        let named = self.host.variables.iter().find(|(name, _)| name == "XDG_DATA_HOME").map(|(_, value)| value.into());
        let usual = || Some(self.host.person.as_ref()?.join(".local/share"));
        named.filter(|path: &PathBuf| path.is_absolute()).or_else(usual)
    }

    fn entry(&self, rung: &Rung, entry: &DesktopEntry) -> String {
        let launcher = self.landings().current_link().join("commands").join(entry.command.as_str());
        let takes = if entry.opens.is_empty() { "" } else { " %F" };
        let mut text = head(&entry.name, &rung.definition.summary, entry.terminal);
        let _ = writeln!(text, "Exec={}{takes}\nTryExec={}", word(&launcher), value(&launcher.display().to_string()));
        if let Some(icon) = &entry.icon {
            let _ = writeln!(text, "Icon={}", value(&icon.below(&rung.files()).display().to_string()));
        }
        let list = |words: Vec<&str>| words.iter().map(|word| format!("{word};")).collect::<String>();
        if !entry.categories.is_empty() {
            let _ = writeln!(text, "Categories={}", list(entry.categories.iter().map(Word::as_str).collect()));
        }
        if !entry.opens.is_empty() {
            let _ = writeln!(text, "MimeType={}", list(entry.opens.keys().map(Word::as_str).collect()));
        }
        text
    }

    /// A terminal in which the ladder's commands and variables are.
    fn terminal(&self, kladder: &Path) -> String {
        let folder = self.ladder.path.parent().unwrap_or(Path::new("/"));
        let mut text = head(&self.ladder.title, "A terminal with the tools of this ladder", true);
        let run = format!("{} --ladder {} run -- sh -c", word(kladder), word(&self.ladder.path));
        let shell = word(Path::new("exec \"${SHELL:-sh}\""));
        let _ = writeln!(text, "Exec={run} {shell}\nPath={}", value(&folder.display().to_string()));
        let _ = writeln!(text, "Categories=Development;TerminalEmulator;");
        text
    }
}

fn head(name: &str, comment: &str, terminal: bool) -> String {
    let (name, comment) = (value(name), value(comment));
    format!("[Desktop Entry]\nType=Application\nVersion=1.5\nName={name}\nComment={comment}\nTerminal={terminal}\n")
}

/// A text as the value of a key.
fn value(text: &str) -> String {
    let text: String = text.chars().map(|char| if char.is_control() { ' ' } else { char }).collect();
    text.replace('\\', "\\\\")
}

/// A word of a command line: in quotes, with what the quotes do not keep escaped, and then as the value of a key.
fn word(path: &Path) -> String {
    let mut word = String::from("\"");
    for char in path.display().to_string().chars() {
        match char {
            '"' | '`' | '$' | '\\' => word.extend(['\\', char]),
            '%' => word.push_str("%%"),
            char => word.push(char),
        }
    }
    word.push('"');
    value(&word)
}

/// The types of files that no system knows yet.
fn types(entry: &DesktopEntry) -> Option<String> {
    let xml = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
    let own = entry.opens.iter().filter(|(_, glob)| !glob.is_empty());
    let one = |(word, glob): (&Word, &String)| {
        let (word, glob, name) = (xml(word.as_str()), xml(glob), xml(&value(&entry.name)));
        format!(
            "  <mime-type type=\"{word}\">\n    <comment>{name}</comment>\n    <glob pattern=\"{glob}\"/>\n  </mime-type>\n"
        )
    };
    let all: String = own.map(one).collect();
    let space = "http://www.freedesktop.org/standards/shared-mime-info";
    (!all.is_empty()).then(|| format!("<?xml version=\"1.0\"?>\n<mime-info xmlns=\"{space}\">\n{all}</mime-info>\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odd_paths_are_one_word_of_a_command_line() {
        assert_eq!(word(Path::new("/a b/c")), "\"/a b/c\"");
        assert_eq!(word(Path::new("/50%/$x\"`\\")), r#""/50%%/\\$x\\"\\`\\\\""#);
    }
}
