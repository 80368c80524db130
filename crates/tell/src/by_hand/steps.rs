//! What is to be done for a rung, in order.

use std::collections::BTreeMap;

use kladder_choose::catalog::{Artifact, Command, How, Layout, Trial, Unpacking};
use kladder_core::climb::Prospect;
use kladder_core::tasks::{Because, Rung};

use crate::text::{both, clean, count, shell_word};

/// Where a file can be had, for an artifact.
pub type Addresses<'a> = &'a dyn Fn(&Artifact) -> Vec<String>;

/// What is to be done for one rung.
pub(super) struct Steps {
    /// Its name and version.
    pub(super) title: String,
    /// What it is, and why it is there.
    pub(super) about: String,
    pub(super) all: Vec<Step>,
}

/// One step.
pub(super) enum Step {
    /// A file is fetched, and compared.
    Fetch {
        name: String,
        size: u64,
        sha256: String,
        from: Vec<String>,
        /// The page that a person must visit.
        visit: Option<String>,
    },
    /// Commands of a POSIX shell.
    Do { what: String, commands: Vec<String> },
    /// What is to be known.
    Note(String),
    /// What plain commands cannot do.
    Left(String),
}

/// The steps of a whole route.
pub(super) fn of(prospect: &Prospect, addresses: Addresses<'_>) -> Vec<Steps> {
    let rungs = &prospect.route.rungs;
    let folders: BTreeMap<String, String> =
        rungs.iter().map(|rung| (rung.key.tool.to_string(), folder(rung))).collect();
    let told = |rung| Telling { rung, folders: &folders, prospect, addresses, all: Vec::new() }.steps();
    rungs.iter().map(told).collect()
}

fn folder(rung: &Rung) -> String {
    format!("$TOOLS/{}-{}", rung.key.folder_name(), rung.version)
}

struct Telling<'t> {
    rung: &'t Rung,
    folders: &'t BTreeMap<String, String>,
    prospect: &'t Prospect,
    addresses: Addresses<'t>,
    all: Vec<Step>,
}

impl Telling<'_> {
    fn steps(mut self) -> Steps {
        let rung = self.rung;
        match rung.shelved() {
            None => self.note("This machine has it already."),
            Some(shelved) => {
                let own = folder(rung);
                self.commands("Begin with an empty folder:", vec![format!("rm -rf \"{own}\" && mkdir -p \"{own}\"")]);
                for artifact in &shelved.artifacts {
                    self.artifact(artifact);
                }
                self.executable();
            }
        }
        self.lent();
        let says = &rung.definition.says;
        for set_up in &says.set_up {
            self.trials("Set it up:", &[set_up]);
        }
        if rung.shelved().is_some() {
            self.wired();
        }
        let corners = says.corners.iter().map(|corner| format!("mkdir -p \"{}/{corner}\"", folder(rung))).collect();
        self.commands("Make the folders that it writes in:", corners);
        let answers = rung.first_start.iter().map(|(path, text)| {
            let (file, text) = (format!("{}/{path}", folder(rung)), text.trim_end_matches('\n'));
            format!("mkdir -p \"$(dirname \"{file}\")\" && cat > \"{file}\" <<'END'\n{text}\nEND")
        });
        let answers = answers.collect();
        self.commands("Answer what its first start would ask:", answers);
        for fit_out in &says.fit_outs {
            self.trials(&format!("Once, for {}:", clean(&fit_out.name)), &[&fit_out.run]);
        }
        let checks: Vec<&Trial> = says.checks.iter().collect();
        self.trials("See that it works:", &checks);
        for service in &says.services {
            self.note(&format!("It has a service, {}, that is started when it is needed.", clean(&service.name)));
        }
        let about = format!("{}. {}", clean(&rung.definition.summary), why(rung));
        Steps { title: format!("{} {}", rung.key, rung.version), about, all: self.all }
    }

    fn note(&mut self, text: &str) {
        self.all.push(Step::Note(text.to_owned()));
    }

    fn left(&mut self, text: &str) {
        self.all.push(Step::Left(text.to_owned()));
    }

    fn commands(&mut self, what: &str, commands: Vec<String>) {
        if !commands.is_empty() {
            self.all.push(Step::Do { what: what.to_owned(), commands });
        }
    }

    fn artifact(&mut self, artifact: &Artifact) {
        let file = artifact.file.as_str();
        let name = file.rsplit('/').next().unwrap_or(file).to_owned();
        let awaited = self.prospect.by_person.iter().find(|awaited| awaited.file == file);
        let visit = artifact.by_person.as_ref().or(awaited.map(|awaited| &awaited.visit));
        let visit = visit.map(|visit| crate::words::to_visit(&name, artifact.size, visit));
        let from = (self.addresses)(artifact);
        let sha256 = artifact.sha256.to_string();
        self.all.push(Step::Fetch { name: clean(&name), size: artifact.size, sha256, from, visit });
        let own = folder(self.rung);
        let into = artifact.unpack.into.as_ref().map_or_else(|| own.clone(), |inner| format!("{own}/{inner}"));
        match unpacked(&artifact.unpack, artifact.layout(), &name, &into) {
            Some(commands) => self.commands("Unpack it:", commands),
            None => self.left("only a special unpacker knows its kind; what is in it belongs into the folder"),
        }
        for inner in artifact.unpack.inner.keys() {
            self.left(&format!("unpack `{inner}` in its place"));
        }
    }

    /// Files that may be run although their archives do not say so.
    fn executable(&mut self) {
        let own = folder(self.rung);
        let version = &self.rung.version;
        let files: std::collections::BTreeSet<String> = self
            .rung
            .commands
            .values()
            .filter(|command| command.by.is_none())
            .map(|command| format!("chmod 755 \"{own}/{}\"", command.file.at(version)))
            .collect();
        self.commands("Make its commands executable:", files.into_iter().collect());
    }

    fn lent(&mut self) {
        let version = &self.rung.version;
        for lends in &self.rung.definition.says.lends {
            let Some(to) = self.folders.get(lends.to.as_str()) else { continue };
            let (from, at) = (
                format!("{}/{}", folder(self.rung), lends.files.at(version)),
                format!("{to}/{}", lends.at.at(version)),
            );
            if lends.only.is_empty() {
                let commands = vec![format!("mkdir -p \"{at}\""), format!("cp -R \"{from}/.\" \"{at}/\"")];
                self.commands(&format!("Show its files in {}:", lends.to), commands);
            } else {
                self.left(&format!("copy what is like {} from `{from}` to `{at}`", both(&lends.only)));
            }
        }
    }

    fn trials(&mut self, what: &str, all: &[&Trial]) {
        let command = |trial: &&Trial| {
            let words: Vec<String> = trial.run.iter().map(|word| quoted(&self.filled(&word.to_string()))).collect();
            let value = |(name, value): (&_, &kladder_choose::template::Template)| {
                format!("{name}={} ", quoted(&self.filled(&value.to_string())))
            };
            trial.variables.iter().map(value).collect::<String>() + &words.join(" ")
        };
        let commands = all.iter().map(command).collect();
        self.commands(what, commands);
    }

    /// A template with its holes filled as far as that can be done in words.
    fn filled(&self, text: &str) -> String {
        let own = text.replace("{folder}", &folder(self.rung)).replace("{version}", self.rung.version.as_str());
        self.folders.iter().fold(own, |text, (tool, folder)| text.replace(&format!("{{{tool}.folder}}"), folder))
    }

    /// Commands and variables within reach.
    fn wired(&mut self) {
        let mut commands: Vec<String> =
            self.rung.commands.iter().map(|(name, command)| self.command(name.as_str(), command)).collect();
        for (name, variable) in &self.rung.definition.says.variables {
            let value = self.filled(&variable.value.to_string());
            let value = match variable.how {
                How::Set => value,
                How::Front => format!("{value}:${{{name}:-}}"),
                How::Behind => format!("${{{name}:-}}:{value}"),
                How::UnlessSet => format!("${{{name}:-{value}}}"),
            };
            commands.push(format!("export {name}=\"{}\"", value.replace('"', "\\\"")));
        }
        self.commands("Put it within reach:", commands);
    }

    /// A small script and no link, since many programs look for their fellows beside the path that they were started by.
    fn command(&self, name: &str, command: &Command) -> String {
        let file = format!("{}/{}", folder(self.rung), command.file.at(&self.rung.version));
        let variables = command.variables.iter();
        let mut words: Vec<String> =
            variables.map(|(name, value)| format!("{name}={}", quoted(&self.filled(&value.to_string())))).collect();
        words.push("exec".to_owned());
        words.extend(command.by.iter().map(ToString::to_string));
        words.push(format!("\"{file}\""));
        words.extend(command.arguments.iter().map(|word| quoted(&self.filled(&word.to_string()))));
        let words = words.join(" ");
        format!("cat > \"$TOOLS/bin/{name}\" <<END\n#!/bin/sh\n{words} \"\\$@\"\nEND\nchmod 755 \"$TOOLS/bin/{name}\"")
    }
}

fn why(rung: &Rung) -> String {
    let askers = rung.because.iter().filter_map(|because| match because {
        Because::Wished { .. } => None,
        Because::NeededBy { rung } => Some(rung.to_string()),
    });
    let askers: Vec<String> = askers.collect();
    let need = if askers.len() == 1 { "needs" } else { "need" };
    match (askers.len() < rung.because.len(), askers.is_empty()) {
        (true, true) => "The ladder wishes for it.".to_owned(),
        (true, false) => format!("The ladder wishes for it, and {} {need} it.", both(&askers)),
        (false, true) => "It belongs to another one alone.".to_owned(),
        (false, false) => format!("{} {need} it.", both(&askers)),
    }
}

/// A word of a command line, in which `$TOOLS` still counts.
fn quoted(word: &str) -> String {
    if !word.contains("$TOOLS") {
        return shell_word(word);
    }
    let escaped: String =
        word.chars().flat_map(|char| ["\"`\\".contains(char).then_some('\\'), Some(char)]).flatten().collect();
    format!("\"{}\"", escaped.split("$TOOLS").map(|part| part.replace('$', "\\$")).collect::<Vec<_>>().join("$TOOLS"))
}

/// The commands that unpack a file; `None` where the tools that machines have cannot.
fn unpacked(unpack: &Unpacking, layout: Layout, name: &str, into: &str) -> Option<Vec<String>> {
    let lower = name.to_ascii_lowercase();
    let ends = |ending: &str| lower.ends_with(ending);
    let is_tar = lower.contains(".tar") || [".tgz", ".txz", ".tbz", ".tbz2"].iter().any(|ending| ends(ending));
    let file = shell_word(name);
    let strip = unpack.strip + usize::from(layout == Layout::Npm);
    let mut all = vec![format!("mkdir -p \"{into}\"")];
    match layout {
        Layout::Debian => return None,
        Layout::Whole => all.push(format!("cp {file} \"{into}/\"")),
        Layout::Wheel => {
            all.push(format!("unzip -q -o {file} -d \"{into}/site\""));
            all.push(format!("mkdir -p \"{into}/bin\""));
            all.push(format!(
                "for scripts in \"{into}\"/site/*.data/scripts; do [ ! -d \"$scripts\" ] || mv \"$scripts\"/* \"{into}/bin/\"; done"
            ));
        }
        Layout::AsItIs | Layout::Npm if is_tar => {
            let strip = if strip > 0 { format!(" --strip-components={strip}") } else { String::new() };
            all.push(format!("tar -xf {file} -C \"{into}\"{strip}"));
        }
        Layout::AsItIs | Layout::Npm if ends(".zip") && strip == 0 => {
            all.push(format!("unzip -q -o {file} -d \"{into}\""));
        }
        Layout::AsItIs | Layout::Npm if ends(".zip") => {
            all.push(format!("unzip -q -o {file} -d \"{into}.packed\""));
            all.push(format!(
                "cp -R \"{into}.packed\"{}/. \"{into}/\" && rm -rf \"{into}.packed\"",
                "/*".repeat(strip)
            ));
        }
        Layout::AsItIs | Layout::Npm => {
            let known = [".7z", ".rpm", ".deb", ".dmg", ".pkg", ".run", ".appimage"];
            if known.iter().any(|ending| ends(ending)) {
                return None;
            }
            all.push(packed_alone(name, &file, into));
        }
    }
    all.extend(unpack.leave_out.iter().map(|pattern| format!("rm -rf \"{into}\"/{pattern}")));
    for (from, to) in &unpack.moves {
        let parent = to.as_str().rsplit_once('/').map(|(parent, _)| parent).unwrap_or_default();
        all.push(format!("mkdir -p \"{into}/{parent}\" && mv \"{into}/{from}\" \"{into}/{to}\""));
    }
    Some(all)
}

/// A single file, compressed or as it is.
fn packed_alone(name: &str, file: &str, into: &str) -> String {
    let by = [(".gz", "gzip"), (".xz", "xz"), (".zst", "zstd"), (".bz2", "bzip2")];
    let known = by.iter().find_map(|(ending, program)| Some((name.strip_suffix(ending)?, program)));
    match known {
        Some((plain, program)) => format!("{program} -dc {file} > \"{into}/{plain}\""),
        None => format!("cp {file} \"{into}/\""),
    }
}

/// How much there is to do, in words.
pub(super) fn many(steps: &[Steps]) -> String {
    count(steps.len(), "rung")
}
