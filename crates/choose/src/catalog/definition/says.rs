//! What a tool can say, and any part of it as well: a release, a piece, a block for some of them.

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer};

use super::chooses::{Chooses, Extensions};
use super::command::{Command, CommandName, HostPath, Variable, VariableName};
use super::published::{Unpacking, patterns};
use super::{FitOut, Origin, Service};
use crate::catalog::need::{Exclusion, Need, Way};
use crate::catalog::{Ask, DesktopEntry, Gate, Provides, Trial};
use crate::names::{ToolName, is_plain};
use crate::path::InnerPath;
use crate::template::{PathTemplate, Template};

/// What a tool says, or a part of it.
#[derive(Clone, Debug, Default)]
pub struct Says {
    /// Tools or capabilities that must be there, in which versions, with which pieces.
    pub needs: Vec<Need>,
    /// What must not be there.
    pub excludes: Vec<Exclusion>,
    /// What it provides besides itself.
    pub provides: Provides,
    /// By the name that is typed.
    pub commands: BTreeMap<CommandName, Command>,
    /// Environment variables by name.
    pub variables: BTreeMap<VariableName, Variable>,
    /// What the host must have or be.
    pub gates: Vec<Gate>,
    /// The licences that must be accepted, by their names in the catalog.
    pub licences: Vec<String>,
    /// What must be started anew before anything that stands on it.
    pub after: Option<Anew>,
    /// What must be run once, over the unpacked files, before it goes to the shelf.
    pub set_up: Vec<Trial>,
    /// What it lends to other tools.
    pub lends: Vec<Lends>,
    /// The tools that it extends, any one of which is among its needs.
    pub extends: Vec<Way>,
    /// Where it looks for what extends it.
    pub extensions: Option<Extensions>,
    /// Where it chooses tools for whoever works with it.
    pub chooses: Vec<Chooses>,
    /// Folders of it that it may write in, each ladder's own.
    pub corners: Vec<InnerPath>,
    /// Lines that an interactive shell reads when it starts, by shell.
    pub lines: BTreeMap<LinesFor, Template>,
    /// What it shows on the desktop.
    pub desktop: Vec<DesktopEntry>,
    /// Folders of it whose fonts the system should know.
    pub fonts: Vec<InnerPath>,
    /// How to see that it works.
    pub checks: Vec<Trial>,
    /// Commands of the host that its own programs start: in checks and rehearsals they find no others.
    pub calls: Vec<CommandName>,
    /// Files and folders of the host, beside the system's own, that its programs read.
    pub reads: Vec<HostPath>,
    /// Libraries and interpreters that some files of it want, and that it does without.
    pub does_without: Vec<String>,
    /// Variables of a person that make its programs do something else.
    pub misled_by: Vec<VariableName>,
    /// What is made once for each ladder, after it stands.
    pub fit_outs: Vec<FitOut>,
    /// Programs of it that run while one works.
    pub services: Vec<Service>,
    /// Files that are laid into its corners before its first start, where there are none of these names.
    pub first_start: BTreeMap<InnerPath, String>,
    /// What the person may choose about those.
    pub choices: BTreeMap<String, Ask>,
    /// Where its maker publishes artifacts that do not say it themselves.
    pub origins: Vec<Origin>,
    /// What artifacts are called that do not say it themselves.
    pub file: Option<PathTemplate>,
    /// How artifacts become a folder that do not say it themselves.
    pub unpack: Option<Unpacking>,
    /// How large artifacts get that do not say it themselves, in bytes.
    pub unpacked: Option<u64>,
}

/// A table of a definition: keys of its own, and those that a tool and every part of it have alike. (Flattened tables would do
/// the same, but lose the places of mistakes.)
macro_rules! table {
    ($(#[$meta:meta])* $name:ident { $($(#[$own_meta:meta])* $own:ident: $own_type:ty,)* }) => {
        $(#[$meta])*
        #[derive(serde::Deserialize)]
        #[serde(deny_unknown_fields, rename_all = "kebab-case")]
        pub(super) struct $name {
            $($(#[$own_meta])* $own: $own_type,)*
            #[serde(default, deserialize_with = "crate::catalog::need::table")]
            needs: Vec<crate::catalog::Need>,
            #[serde(default, deserialize_with = "crate::catalog::need::choices")]
            one_of: Vec<crate::catalog::Need>,
            #[serde(default, deserialize_with = "crate::catalog::need::exclusions")]
            excludes: Vec<crate::catalog::Exclusion>,
            #[serde(default)]
            provides: crate::catalog::Provides,
            #[serde(default)]
            commands: std::collections::BTreeMap<crate::catalog::CommandName, crate::catalog::Command>,
            #[serde(default)]
            variables: std::collections::BTreeMap<crate::catalog::VariableName, crate::catalog::Variable>,
            #[serde(default)]
            gates: Vec<crate::catalog::Gate>,
            #[serde(default, deserialize_with = "crate::catalog::definition::says::licences")]
            licence: Vec<String>,
            after: Option<crate::catalog::Anew>,
            #[serde(default)]
            set_up: Vec<crate::catalog::Trial>,
            #[serde(default)]
            lends: Vec<crate::catalog::Lends>,
            #[serde(default, deserialize_with = "crate::catalog::definition::chooses::extends")]
            extends: Vec<crate::catalog::Way>,
            extensions: Option<crate::catalog::Extensions>,
            #[serde(default)]
            chooses: Vec<crate::catalog::Chooses>,
            #[serde(default, deserialize_with = "crate::catalog::definition::says::corners")]
            corners: Vec<crate::path::InnerPath>,
            #[serde(default)]
            lines: std::collections::BTreeMap<crate::catalog::LinesFor, crate::template::Template>,
            #[serde(default)]
            desktop: Vec<crate::catalog::DesktopEntry>,
            #[serde(default)]
            fonts: Vec<crate::path::InnerPath>,
            #[serde(default)]
            checks: Vec<crate::catalog::Trial>,
            #[serde(default)]
            calls: Vec<crate::catalog::CommandName>,
            #[serde(default)]
            reads: Vec<crate::catalog::HostPath>,
            #[serde(default)]
            does_without: Vec<String>,
            #[serde(default)]
            misled_by: Vec<crate::catalog::VariableName>,
            #[serde(default)]
            fit_outs: Vec<crate::catalog::FitOut>,
            #[serde(default)]
            services: Vec<crate::catalog::Service>,
            #[serde(default)]
            first_start: std::collections::BTreeMap<crate::path::InnerPath, String>,
            #[serde(default)]
            choices: std::collections::BTreeMap<String, crate::catalog::Ask>,
            #[serde(default, deserialize_with = "crate::catalog::definition::origin::origins")]
            origins: Vec<crate::catalog::Origin>,
            file: Option<crate::template::PathTemplate>,
            unpack: Option<crate::catalog::Unpacking>,
            unpacked: Option<u64>,
        }

        impl $name {
            /// Takes out what all tables have alike.
            fn says(&mut self) -> Says {
                use std::mem::take;
                let mut needs = take(&mut self.needs);
                needs.append(&mut self.one_of);
                let extends = take(&mut self.extends);
                if !extends.is_empty() {
                    needs.push(crate::catalog::Need { ways: extends.clone(), private: false, on: Vec::new() });
                }
                Says {
                    needs,
                    excludes: take(&mut self.excludes),
                    provides: take(&mut self.provides),
                    commands: take(&mut self.commands),
                    variables: take(&mut self.variables),
                    gates: take(&mut self.gates),
                    licences: take(&mut self.licence),
                    after: self.after.take(),
                    set_up: take(&mut self.set_up),
                    lends: take(&mut self.lends),
                    extends,
                    extensions: self.extensions.take(),
                    chooses: take(&mut self.chooses),
                    corners: take(&mut self.corners),
                    lines: take(&mut self.lines),
                    desktop: take(&mut self.desktop),
                    fonts: take(&mut self.fonts),
                    checks: take(&mut self.checks),
                    calls: take(&mut self.calls),
                    reads: take(&mut self.reads),
                    does_without: take(&mut self.does_without),
                    misled_by: take(&mut self.misled_by),
                    fit_outs: take(&mut self.fit_outs),
                    services: take(&mut self.services),
                    first_start: take(&mut self.first_start),
                    choices: take(&mut self.choices),
                    origins: take(&mut self.origins),
                    file: self.file.take(),
                    unpack: self.unpack.take(),
                    unpacked: self.unpacked.take(),
                }
            }
        }
    };
}
pub(super) use table;

impl Says {
    /// Adds what a narrower part says: lists grow, and what has a name or stands alone is the part's from then on. What is
    /// needed and excluded is not part of it: it was handed on to the releases when the definition was read.
    pub(super) fn add(&mut self, part: &Self) {
        fn named<K: Ord + Clone, V: Clone>(all: &mut BTreeMap<K, V>, part: &BTreeMap<K, V>) {
            all.extend(part.iter().map(|(name, value)| (name.clone(), value.clone())));
        }
        self.provides.add(&part.provides);
        named(&mut self.commands, &part.commands);
        named(&mut self.variables, &part.variables);
        named(&mut self.lines, &part.lines);
        self.gates.extend_from_slice(&part.gates);
        for licence in &part.licences {
            if !self.licences.contains(licence) {
                self.licences.push(licence.clone());
            }
        }
        self.after = part.after.or(self.after);
        self.set_up.extend_from_slice(&part.set_up);
        self.lends.extend_from_slice(&part.lends);
        self.extends.extend_from_slice(&part.extends);
        self.extensions = part.extensions.clone().or_else(|| self.extensions.take());
        self.chooses.extend_from_slice(&part.chooses);
        self.corners.extend_from_slice(&part.corners);
        self.desktop.extend_from_slice(&part.desktop);
        self.fonts.extend_from_slice(&part.fonts);
        self.checks.extend_from_slice(&part.checks);
        self.calls.extend_from_slice(&part.calls);
        self.reads.extend_from_slice(&part.reads);
        self.does_without.extend_from_slice(&part.does_without);
        self.misled_by.extend_from_slice(&part.misled_by);
        self.fit_outs.extend_from_slice(&part.fit_outs);
        self.services.extend_from_slice(&part.services);
        named(&mut self.first_start, &part.first_start);
        named(&mut self.choices, &part.choices);
        self.origins.extend_from_slice(&part.origins);
        self.file = part.file.clone().or_else(|| self.file.take());
        self.unpack = part.unpack.clone().or_else(|| self.unpack.take());
        self.unpacked = part.unpacked.or(self.unpacked);
    }

    /// Whether others may see files of it in their own folders.
    pub fn shows_elsewhere(&self) -> bool {
        !self.lends.is_empty() || !self.extends.is_empty()
    }

    /// What no single value shows to be wrong.
    pub(super) fn check(&self) -> Result<(), String> {
        if let Some((command, _)) = self.commands.iter().find(|(_, command)| command.file.is_empty()) {
            return Err(format!("the command `{command}` must be a file inside the tool's folder"));
        }
        if let Some(lends) = self.lends.iter().find(|lends| lends.at.is_empty()) {
            let to = &lends.to;
            return Err(format!("what is lent to {to} is seen at a path below its folder, not in the place of it"));
        }
        if let Some(id) = self.licences.iter().find(|id| !is_plain(id)) {
            return Err(format!("`{id}` cannot be the name of a licence"));
        }
        let fit_outs = self.fit_outs.iter().flat_map(FitOut::trials);
        if self.checks.iter().chain(&self.set_up).chain(fit_outs).any(|trial| trial.run.is_empty()) {
            return Err("a check, set-up or fit-out has nothing to run: `run` is an empty list".to_owned());
        }
        self.services.iter().try_for_each(Service::check)?;
        if let Some((name, ask)) = self.choices.iter().find(|(_, ask)| !ask.allows(&ask.default)) {
            return Err(format!("`{}`, which the choice `{name}` is by default, breaks its own rule", ask.default));
        }
        if self.needs.iter().any(|need| need.ways.is_empty()) {
            return Err("an empty list in `one-of` can never be met".to_owned());
        }
        Ok(())
    }

    /// Whether it says nothing that counts once it was chosen and unpacked.
    pub(super) fn is_quiet(&self) -> bool {
        self.provides.is_empty()
            && self.commands.is_empty()
            && self.variables.is_empty()
            && self.gates.is_empty()
            && self.licences.is_empty()
            && self.after.is_none()
            && self.set_up.is_empty()
            && self.lends.is_empty()
            && self.extends.is_empty()
            && self.extensions.is_none()
            && self.chooses.is_empty()
            && self.corners.is_empty()
            && self.lines.is_empty()
            && self.desktop.is_empty()
            && self.fonts.is_empty()
            && self.checks.is_empty()
            && self.calls.is_empty()
            && self.reads.is_empty()
            && self.does_without.is_empty()
            && self.misled_by.is_empty()
            && self.fit_outs.is_empty()
            && self.services.is_empty()
            && self.first_start.is_empty()
            && self.choices.is_empty()
    }

    /// A key that both say, differently.
    pub(super) fn contradicts(&self, other: &Self) -> Option<String> {
        fn named<K: Ord, V: PartialEq>(one: &BTreeMap<K, V>, other: &BTreeMap<K, V>) -> Option<usize> {
            one.iter().position(|(name, value)| other.get(name).is_some_and(|known| known != value))
        }
        fn alone<V: PartialEq>(one: Option<&V>, other: Option<&V>) -> bool {
            one.zip(other).is_some_and(|(one, other)| one != other)
        }
        let command = named(&self.commands, &other.commands).and_then(|at| self.commands.keys().nth(at));
        let variable = named(&self.variables, &other.variables).and_then(|at| self.variables.keys().nth(at));
        let file = named(&self.first_start, &other.first_start).and_then(|at| self.first_start.keys().nth(at));
        let shell = named(&self.lines, &other.lines).and_then(|at| self.lines.keys().nth(at));
        let single = [
            ("extensions", alone(self.extensions.as_ref(), other.extensions.as_ref())),
            ("after", alone(self.after.as_ref(), other.after.as_ref())),
            ("file", alone(self.file.as_ref(), other.file.as_ref())),
            ("unpack", alone(self.unpack.as_ref(), other.unpack.as_ref())),
            ("unpacked", alone(self.unpacked.as_ref(), other.unpacked.as_ref())),
        ];
        let provided = self.provides.differing(&other.provides);
        command
            .map(|name| format!("commands.{name}"))
            .or_else(|| provided.map(|name| format!("provides.{name}")))
            .or_else(|| variable.map(|name| format!("variables.{name}")))
            .or_else(|| file.map(|file| format!("first-start.\"{file}\"")))
            .or_else(|| shell.map(|shell| format!("lines.{}", shell.as_str())))
            .or_else(|| single.iter().find(|(_, differ)| *differ).map(|(key, _)| (*key).to_owned()))
    }
}

/// The shells that can be given lines.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LinesFor {
    /// bash.
    Bash,
    /// zsh.
    Zsh,
    /// fish.
    Fish,
}

impl LinesFor {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Bash, Self::Zsh, Self::Fish];

    /// The shell's name.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Bash => "bash",
            Self::Zsh => "zsh",
            Self::Fish => "fish",
        }
    }
}

/// What must be started anew before something counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Anew {
    /// The machine.
    Restart,
    /// The user's session.
    Session,
}

/// Files that a tool shows inside another one's folder.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lends {
    /// Who borrows.
    pub to: ToolName,
    /// What is lent: a file or folder of this tool; all of it when left out.
    #[serde(default)]
    pub files: PathTemplate,
    /// Patterns of the files below it that are lent; all of them when left out.
    #[serde(default, deserialize_with = "patterns")]
    pub only: Vec<String>,
    /// Where it is seen in the borrower's folder.
    pub at: PathTemplate,
}

pub(super) fn corners<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<InnerPath>, D::Error> {
    let corners = Vec::<InnerPath>::deserialize(deserializer)?;
    if corners.iter().any(InnerPath::is_empty) {
        return Err(serde::de::Error::custom("a corner is a folder below the tool's own, not all of it"));
    }
    let inside = |outer: &InnerPath, inner: &InnerPath| {
        outer != inner && std::path::Path::new(inner.as_str()).starts_with(outer.as_str())
    };
    let nested = corners.iter().find_map(|outer| Some((outer, corners.iter().find(|inner| inside(outer, inner))?)));
    match nested {
        Some((outer, inner)) => {
            Err(serde::de::Error::custom(format!("`{inner}` lies in the corner `{outer}` already; leave it out")))
        }
        None => Ok(corners),
    }
}

/// One licence, or several.
pub(super) fn licences<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "here stands the name of a licence, or a list of such names")]
    enum Form {
        One(String),
        Several(Vec<String>),
    }
    Ok(match Form::deserialize(deserializer)? {
        Form::One(licence) => vec![licence],
        Form::Several(licences) => licences,
    })
}
