//! What is to be done for a rung, in order.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use kladder_choose::catalog::{Artifact, Command, How, Layout, Port, Trial, Unpacking, Variable, Whose};
use kladder_core::climb::route::Route;
use kladder_core::tasks::{Because, Rung};

use super::quoting::{escaped, inside, plain, word};
use super::unpacking::{calls, functions, unpacked};
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
        /// Its path in a yard.
        path: String,
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
pub(super) fn of(route: &Route, addresses: Addresses<'_>) -> Vec<Steps> {
    let rungs = &route.rungs;
    let folders: BTreeMap<String, String> =
        rungs.iter().map(|rung| (rung.key.tool.to_string(), folder(rung))).collect();
    let known = RefCell::new(BTreeSet::new());
    let told = |rung| {
        let telling = Telling { rung, folders: &folders, addresses, known: &known, all: Vec::new() };
        telling.steps()
    };
    rungs.iter().map(told).collect()
}

fn folder(rung: &Rung) -> String {
    format!("$TOOLS/{}-{}", rung.key.folder_name(), rung.version)
}

struct Telling<'t> {
    rung: &'t Rung,
    folders: &'t BTreeMap<String, String>,
    addresses: Addresses<'t>,
    /// The functions that the shell knows by now.
    known: &'t RefCell<BTreeSet<&'static str>>,
    all: Vec<Step>,
}

impl Telling<'_> {
    fn steps(mut self) -> Steps {
        let rung = self.rung;
        match rung.shelved() {
            None => self.note("This machine has it already."),
            Some(shelved) => {
                let own = folder(rung);
                self.commands("Begin with an empty folder:", vec![format!("rm -rf {0} && mkdir -p {0}", word(&own))]);
                for artifact in &shelved.artifacts {
                    self.artifact(artifact);
                }
                let is = |layout: Layout| shelved.artifacts.iter().any(|artifact| artifact.layout() == layout);
                for (layout, makes) in [(Layout::Wheel, "points"), (Layout::Npm, "bins")] {
                    if is(layout) {
                        self.commands(
                            "Make what its package names as commands:",
                            vec![format!("{makes} {}", word(&own))],
                        );
                    }
                }
            }
        }
        self.lent();
        let says = &rung.definition.says;
        for set_up in &says.set_up {
            let command = self.command_of(set_up);
            self.commands("Set it up, in its folder:", vec![format!("(cd {} && {command})", word(&folder(rung)))]);
        }
        if rung.shelved().is_some() {
            self.executable();
            self.wired();
        }
        let corners = says
            .corners
            .iter()
            .map(|corner| format!("mkdir -p {}", word(&format!("{}/{corner}", folder(rung)))))
            .collect();
        self.commands("Make the folders that it writes in:", corners);
        let answers = rung.first_start.iter().map(|(path, text)| {
            let file = word(&format!("{}/{path}", folder(rung)));
            format!("mkdir -p \"$(dirname {file})\"\n{}", written(&file, text.trim_end_matches('\n'), true))
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
        let name = plain(file.rsplit('/').next().unwrap_or(file));
        let visit = artifact.by_person.as_ref().map(|visit| crate::words::to_visit(&name, artifact.size, visit));
        let from = (self.addresses)(artifact);
        let sha256 = artifact.sha256.to_string();
        self.all.push(Step::Fetch { name: clean(&name), path: clean(file), size: artifact.size, sha256, from, visit });
        let own = folder(self.rung);
        let into = artifact.unpack.into.as_ref().map_or_else(|| own.clone(), |inner| format!("{own}/{inner}"));
        self.unpack(&artifact.unpack, artifact.layout(), &name, &shell_word(&name), &into);
    }

    /// Unpacks a file, and the archives that come out of it.
    fn unpack(&mut self, unpack: &Unpacking, layout: Layout, name: &str, file: &str, into: &str) {
        let mut new = calls(unpack, layout);
        new.retain(|name| self.known.borrow_mut().insert(*name));
        self.commands("Paste this into your shell, once; what unpacks such files calls it:", functions(&new));
        match unpacked(unpack, layout, name, file, into) {
            Some(commands) => self.commands("Unpack it:", commands),
            None => self.left("only a special unpacker knows its kind; what is in it belongs into the folder"),
        }
        let own = folder(self.rung);
        for (path, inner) in &unpack.inner {
            let name = &plain(path.as_str().rsplit('/').next().unwrap_or_default());
            let file = word(&format!("{own}/{path}"));
            self.commands(
                "An archive came out of it; it is not needed where it is:",
                vec![format!("mv {file} {name}", name = shell_word(name))],
            );
            let into = inner.into.as_ref().map_or_else(|| own.clone(), |inner| format!("{own}/{inner}"));
            self.unpack(inner, inner.layout_of(name), name, &shell_word(name), &into);
        }
    }

    /// Files that may be run although their archives do not say so.
    fn executable(&mut self) {
        let own = folder(self.rung);
        let version = &self.rung.version;
        let files: BTreeSet<String> = self
            .rung
            .commands
            .values()
            .filter(|command| command.by.is_none())
            .map(|command| format!("chmod 755 {}", word(&format!("{own}/{}", command.file.at(version)))))
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
                let commands = vec![
                    format!("mkdir -p {}", word(&at)),
                    format!("cp -R {} {}", word(&format!("{from}/.")), word(&format!("{at}/"))),
                ];
                self.commands(&format!("Show its files in {}:", lends.to), commands);
            } else {
                self.left(&format!("copy what is like {} from `{from}` to `{at}`", both(&lends.only)));
            }
        }
    }

    fn trials(&mut self, what: &str, all: &[&Trial]) {
        let commands = all.iter().map(|trial| self.command_of(trial)).collect();
        self.commands(what, commands);
    }

    fn command_of(&self, trial: &Trial) -> String {
        let words: Vec<String> = trial.run.iter().map(|part| word(&self.filled(&part.to_string()))).collect();
        let value = |(name, value): (&_, &kladder_choose::template::Template)| {
            format!("{name}={} ", word(&self.filled(&value.to_string())))
        };
        let command = trial.variables.iter().map(value).collect::<String>() + &words.join(" ");
        let ends: Vec<String> = trial.expect.status.iter().map(ToString::to_string).collect();
        if trial.expect.status.contains(&0) {
            return command;
        }
        format!("{{ {command} || case $? in {}) ;; *) false ;; esac; }}", ends.join(" | "))
    }

    /// A template with its holes filled as far as that can be done in words.
    fn filled(&self, text: &str) -> String {
        let place = folder(self.rung);
        let own = text.replace("{folder}", &place).replace("{place}", &place);
        let mut own = own.replace("{version}", self.rung.version.as_str());
        let ports = self.rung.definition.says.services.iter().find_map(|service| service.port.as_ref());
        if let Some(Port::Fixed(port)) = ports {
            own = own.replace("{port}", &port.to_string());
        }
        self.folders.iter().fold(own, |text, (tool, folder)| text.replace(&format!("{{{tool}.folder}}"), folder))
    }

    /// Commands and variables within reach.
    fn wired(&mut self) {
        let mut commands: Vec<String> =
            self.rung.commands.iter().map(|(name, command)| self.command(name.as_str(), command)).collect();
        for (name, variable) in &self.rung.definition.says.variables {
            if self.filled(&variable.value.to_string()).contains("port}") {
                self.left(&format!("set {name} to the port that you start its service on"));
            } else if variable.of != Whose::Tool {
                commands.push(format!("export {}", self.assigned(name.as_str(), variable)));
            }
        }
        self.commands("Put it within reach:", commands);
    }

    /// A variable and its value, as a shell is given it.
    fn assigned(&self, name: &str, variable: &Variable) -> String {
        let value = inside(&self.filled(&variable.value.to_string()));
        let value = match variable.how {
            How::Set => value,
            How::Front => format!("{value}:${{{name}:-}}"),
            How::Behind => format!("${{{name}:-}}:{value}"),
            How::UnlessSet => format!("${{{name}:-{value}}}"),
        };
        format!("{name}=\"{value}\"")
    }

    /// A small script and no link, since many programs look for their fellows beside the path that they were started by.
    fn command(&self, name: &str, command: &Command) -> String {
        let file = format!("{}/{}", folder(self.rung), command.file.at(&self.rung.version));
        let own = self.rung.definition.says.variables.iter().filter(|(_, variable)| variable.of == Whose::Tool);
        let own = own.map(|(name, variable)| self.assigned(name.as_str(), variable));
        let variables = command.variables.iter();
        let variables = variables.map(|(name, value)| format!("{name}={}", word(&self.filled(&value.to_string()))));
        let mut words: Vec<String> = own.chain(variables).collect();
        words.push("exec".to_owned());
        words.extend(command.by.iter().map(ToString::to_string));
        words.push(word(&file));
        words.extend(command.arguments.iter().map(|argument| word(&self.filled(&argument.to_string()))));
        let at = word(&format!("$TOOLS/bin/{name}"));
        let text = format!("#!/bin/sh\n{} \"$@\"", words.join(" "));
        format!("{}\nchmod 755 {at}", written(&at, &text, false))
    }
}

/// The command that writes a text into a file, which nothing in the text can end early. Where it is not as it stands, the folder of
/// tools is filled in.
fn written(file: &str, text: &str, as_it_stands: bool) -> String {
    let mut end = "END".to_owned();
    while text.lines().any(|line| line == end) {
        end.push('_');
    }
    if as_it_stands {
        return format!("cat > {file} <<'{end}'\n{text}\n{end}");
    }
    format!("cat > {file} <<{end}\n{}\n{end}", escaped(text, &['\\', '`', '$']))
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

/// How much there is to do, in words.
pub(super) fn many(steps: &[Steps]) -> String {
    count(steps.len(), "rung")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a shell makes of a text.
    fn told(script: &str) -> String {
        let shell = std::process::Command::new("/bin/sh").args(["-c", script]).env("TOOLS", "/t").output().unwrap();
        String::from_utf8(shell.stdout).unwrap()
    }

    #[test]
    fn no_word_of_a_catalog_is_more_than_a_word() {
        for text in ["$TOOLS/a b", "$(echo x)", "`echo x`", "a\\\"'$HOME;|&", "$TOOLS/$(echo \"x\")`y`\\", "\n", "-n *"]
        {
            let expected = text.replace("$TOOLS", "/t");
            assert_eq!(told(&format!("printf '%s' {}", word(text))), expected, "{text}");
            assert_eq!(told(&format!("x=\"{}\"; printf '%s' \"$x\"", inside(text))), expected, "{text}");
        }
        for text in ["a\nEND\necho x", "$(echo x) `y` \\ $HOME", "END\nEND_\nEND__"] {
            let file = std::env::temp_dir().join(format!("kladder-by-hand-{}", std::process::id()));
            let name = shell_word(&file);
            for as_it_stands in [true, false] {
                let script = format!("{}\ncat {name}", written(&name, text, as_it_stands));
                assert_eq!(told(&script), format!("{text}\n"), "{script}");
            }
            std::fs::remove_file(file).unwrap();
        }
    }
}
