//! One tool's file in the catalog.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::need::{self, Need, Way};
use super::{CatalogError, DesktopEntry, Gate, Pattern, Trial};
use crate::digest::Digest;
use crate::document::Source;
use crate::names::{ToolName, is_plain};
use crate::path::InnerPath;
use crate::platform::{Platform, Scope};
use crate::template::{PathTemplate, Template};
use crate::version::{Scheme, Version};

/// A tool: what it is, what it offers, how it is checked, and its releases.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// As the file is called.
    pub tool: ToolName,
    /// What sort of tool it is: compiler, linker, runtime, …; "tool" where nobody says.
    #[serde(default = "a_tool")]
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// How its versions are ordered.
    #[serde(default)]
    pub scheme: Scheme,
    /// The capabilities it provides.
    #[serde(default)]
    pub provides: Vec<ToolName>,
    /// What no release of it stands beside.
    #[serde(default, deserialize_with = "need::exclusions")]
    pub excludes: Vec<Way>,
    /// By the name that is typed.
    #[serde(default)]
    pub commands: BTreeMap<CommandName, Command>,
    /// Environment variables by name.
    #[serde(default)]
    pub variables: BTreeMap<VariableName, Template>,
    /// How to find it on the host, where that may do.
    pub host: Option<HostProbe>,
    /// What the host must have or be.
    #[serde(default)]
    pub gates: Vec<Gate>,
    /// The licence that must be accepted, by its name in the catalog.
    pub licence: Option<String>,
    /// What must be started anew before anything that stands on it.
    pub after: Option<Anew>,
    /// What must be run once, over the unpacked files, before it goes to the shelf.
    #[serde(default, rename = "set-up")]
    pub set_up: Vec<Trial>,
    /// What it lends to other tools.
    #[serde(default)]
    pub lends: Vec<Lends>,
    /// Folders of it that it may write in, each ladder's own.
    #[serde(default, deserialize_with = "corners")]
    pub corners: Vec<InnerPath>,
    /// Lines that an interactive shell reads when it starts, by shell.
    #[serde(default)]
    pub lines: BTreeMap<LinesFor, Template>,
    /// What it shows on the desktop.
    #[serde(default)]
    pub desktop: Vec<DesktopEntry>,
    /// How to see that it works.
    #[serde(default)]
    pub checks: Vec<Trial>,
    /// What can be had of it, newest first.
    #[serde(default)]
    pub releases: Vec<Release>,
}

fn a_tool() -> String {
    "tool".to_owned()
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Anew {
    /// The machine.
    Restart,
    /// The user's session.
    Session,
}

/// A command as it is typed: can be a file's name, of at most 100 bytes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(try_from = "String")]
pub struct CommandName(String);

impl CommandName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::borrow::Borrow<str> for CommandName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for CommandName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

impl TryFrom<String> for CommandName {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        if is_plain(&text) { Ok(Self(text)) } else { Err(format!("`{text}` cannot be the name of a command")) }
    }
}

/// The name of an environment variable (POSIX.1-2024, XBD 8.1, and lower case).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(try_from = "String")]
pub struct VariableName(String);

impl VariableName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for VariableName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

impl TryFrom<String> for VariableName {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let is_name = !text.is_empty() && text.chars().all(fits) && !text.starts_with(|c: char| c.is_ascii_digit());
        if !is_name {
            return Err(format!("`{text}` cannot be the name of a variable: letters, digits and _ can"));
        }
        if text == "PATH" {
            return Err("PATH is put together from the commands of all rungs; name those under `commands`".to_owned());
        }
        Ok(Self(text))
    }
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

/// How to find a tool on the host.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostProbe {
    /// The command to look for on PATH.
    pub command: CommandName,
    /// The arguments that make it say its version.
    #[serde(default = "ask_version")]
    pub ask: Vec<String>,
    /// Where the version stands in what it says: a group `version`, or the whole match.
    #[serde(default = "Pattern::version")]
    pub version: Pattern,
}

fn ask_version() -> Vec<String> {
    vec!["--version".into()]
}

/// What stands behind a command: a file of the tool, and arguments that come before the caller's.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "CommandForm")]
pub struct Command {
    /// Relative to the tool's folder.
    pub file: PathTemplate,
    /// Before the caller's own.
    pub arguments: Vec<Template>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands a file like \"bin/tool\", or a table with `file` and `arguments`")]
enum CommandForm {
    File(String),
    Table(CommandTable),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandTable {
    file: String,
    #[serde(default)]
    arguments: Vec<String>,
}

impl TryFrom<CommandForm> for Command {
    type Error = crate::template::TemplateError;

    fn try_from(form: CommandForm) -> Result<Self, Self::Error> {
        let (file, arguments) = match form {
            CommandForm::File(file) => (file, Vec::new()),
            CommandForm::Table(CommandTable { file, arguments }) => (file, arguments),
        };
        let arguments = arguments.iter().map(|text| Template::new(text)).collect::<Result<_, _>>()?;
        Ok(Self { file: PathTemplate::new(&file)?, arguments })
    }
}

/// One version of a tool.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Release {
    /// As its makers write it.
    pub version: Version,
    /// The day it came out.
    pub date: Option<toml::value::Datetime>,
    /// The runs of releases it belongs to: long-term, stable, preview, …
    #[serde(default)]
    pub series: Vec<String>,
    /// Tools or capabilities that must be there, in which versions, with which pieces.
    #[serde(default, deserialize_with = "need::table")]
    pub needs: Vec<Need>,
    /// Lists of tools or capabilities of each of which one must be there. Stands among the needs once it is read.
    #[serde(default, rename = "one-of", deserialize_with = "need::choices")]
    one_of: Vec<Need>,
    /// What must not be there.
    #[serde(default, deserialize_with = "need::exclusions")]
    pub excludes: Vec<Way>,
    /// Optional portions, by name.
    #[serde(default)]
    pub pieces: BTreeMap<String, Piece>,
    /// Its files, each for some platforms.
    #[serde(default)]
    pub artifacts: Vec<Published>,
}

impl Definition {
    /// Reads and checks a definition; `name` is what its file is called.
    ///
    /// # Errors
    /// [`CatalogError`] with the place of what is wrong.
    pub fn parse(source: &Source, name: &str) -> Result<Self, CatalogError> {
        let mut definition: Self = source.parse()?;
        definition.put_together();
        check(&definition, name).map_err(|message| CatalogError::Wrong { path: source.path.clone(), message })?;
        Ok(definition)
    }

    /// Puts together what is written apart: newest release first, with all that it needs and excludes.
    fn put_together(&mut self) {
        let scheme = self.scheme;
        self.releases.sort_by(|a, b| scheme.compare(&b.version, &a.version));
        for release in &mut self.releases {
            release.needs.append(&mut release.one_of);
            release.excludes.extend(self.excludes.iter().cloned());
        }
    }

    /// The release of a version.
    pub fn release(&self, version: &Version) -> Option<&Release> {
        self.releases.iter().find(|release| release.version == *version)
    }

    /// Whether it is called so, or provides it.
    pub fn answers_to(&self, name: &str) -> bool {
        self.tool == *name || self.provides.iter().any(|capability| *capability == *name)
    }
}

impl Release {
    /// The artifact that fits `platform` most closely.
    pub fn artifact(&self, platform: &Platform) -> Option<&Published> {
        closest(&self.artifacts, platform)
    }
}

/// An optional portion of a release: files of its own, unpacked beside the others.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Piece {
    /// One line on what it is for.
    pub summary: String,
    /// Commands besides those of the tool.
    #[serde(default)]
    pub commands: BTreeMap<CommandName, Command>,
    /// What must be there besides what its release needs.
    #[serde(default, deserialize_with = "need::table")]
    pub needs: Vec<Need>,
    /// Its files, each for some platforms.
    #[serde(default)]
    pub artifacts: Vec<Published>,
}

impl Piece {
    /// The artifact that fits `platform` most closely.
    pub fn artifact(&self, platform: &Platform) -> Option<&Published> {
        closest(&self.artifacts, platform)
    }
}

/// Of the artifacts for a platform the one whose scope is narrowest.
fn closest<'a>(artifacts: &'a [Published], platform: &Platform) -> Option<&'a Published> {
    let scope = |artifact: &Published| artifact.scopes.iter().filter(|scope| scope.holds_on(platform)).min().cloned();
    let fitting = artifacts.iter().filter_map(|artifact| Some((scope(artifact)?, artifact)));
    fitting.min_by(|(one, _), (other, _)| one.cmp(other)).map(|(_, artifact)| artifact)
}

/// One downloadable file, as a definition has it.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Published {
    /// The platforms it is for; all when left out.
    #[serde(default = "everywhere", rename = "for")]
    pub scopes: Vec<Scope>,
    /// Its path in a yard.
    pub file: InnerPath,
    /// Bytes; where it is left out, a yard is asked when it is pinned.
    pub size: Option<u64>,
    /// Of the file as it is.
    pub sha256: Digest,
    /// How large it gets when unpacked, in bytes.
    pub unpacked: Option<u64>,
    /// How it becomes a folder.
    #[serde(default)]
    pub unpack: Unpacking,
}

fn everywhere() -> Vec<Scope> {
    vec![Scope::Any]
}

/// How an archive becomes a folder.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Unpacking {
    /// Leading folders to leave out.
    pub strip: usize,
    /// Patterns of files and folders to leave out, after that.
    #[serde(deserialize_with = "patterns")]
    pub leave_out: Vec<String>,
    /// Folders and files that go elsewhere: from where to where, below the tool's folder.
    #[serde(rename = "move")]
    pub moves: BTreeMap<InnerPath, InnerPath>,
    /// Patterns of files that may be run although the archive does not say so.
    #[serde(deserialize_with = "patterns")]
    pub executable: Vec<String>,
    /// What becomes of links to absolute paths.
    pub absolute_links: AbsoluteLinks,
    /// Names may differ in upper and lower case only.
    pub case_clashes: bool,
}

/// What becomes of an archive's links to absolute paths.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AbsoluteLinks {
    /// The archive is refused.
    #[default]
    Refuse,
    /// They are left out.
    LeaveOut,
    /// The tool's folder stands for the root.
    Inside,
}

impl AbsoluteLinks {
    /// As a definition has it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Refuse => "refuse",
            Self::LeaveOut => "leave-out",
            Self::Inside => "inside",
        }
    }
}

fn corners<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<InnerPath>, D::Error> {
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

/// Patterns of files (globs), each seen to be one.
fn patterns<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    let patterns = Vec::<String>::deserialize(deserializer)?;
    for pattern in &patterns {
        globset::Glob::new(pattern).map_err(|error| {
            serde::de::Error::custom(format!("`{pattern}` is not a pattern of files: {}", error.kind()))
        })?;
    }
    Ok(patterns)
}

/// What no single value shows to be wrong.
fn check(definition: &Definition, name: &str) -> Result<(), String> {
    if definition.tool != *name {
        return Err(format!("it defines the tool `{}`, so its name must be {}.toml", definition.tool, definition.tool));
    }
    let releases = &definition.releases;
    let commands = || {
        let pieces = releases.iter().flat_map(|release| release.pieces.values());
        definition.commands.iter().chain(pieces.flat_map(|piece| &piece.commands))
    };
    if let Some((command, _)) = commands().find(|(_, command)| command.file.is_empty()) {
        return Err(format!("the command `{command}` must be a file inside the tool's folder"));
    }
    if let Some(lends) = definition.lends.iter().find(|lends| lends.at.is_empty()) {
        return Err(format!("what is lent to {} is seen at a path below its folder, not in the place of it", lends.to));
    }
    if let Some(piece) = releases.iter().flat_map(|release| release.pieces.keys()).find(|piece| !is_plain(piece)) {
        return Err(format!("`{piece}` cannot be the name of a piece"));
    }
    if let Some(id) = definition.licence.as_ref().filter(|id| !is_plain(id)) {
        return Err(format!("`{id}` cannot be the name of a licence"));
    }
    let is_known = |command: &CommandName| commands().any(|(known, _)| known == command);
    if let Some(entry) = definition.desktop.iter().find(|entry| !is_known(&entry.command)) {
        return Err(format!(
            "the entry `{}` in the menu starts `{}`, which is none of its commands",
            entry.name, entry.command
        ));
    }
    let runs = definition.checks.iter().chain(&definition.set_up);
    if runs.clone().any(|trial| trial.run.is_empty()) {
        return Err("a check or set-up command has nothing to run: `run` is an empty list".to_owned());
    }
    if releases.iter().flat_map(|release| &release.needs).any(|need| need.ways.is_empty()) {
        return Err("an empty list in `one-of` can never be met".to_owned());
    }
    // Newest first, so that the same version twice stands side by side.
    match releases.windows(2).find(|pair| pair[0].version == pair[1].version) {
        Some(twice) => Err(format!("the release {} stands there twice", twice[0].version)),
        None => releases.iter().try_for_each(check_artifacts),
    }
}

fn check_artifacts(release: &Release) -> Result<(), String> {
    let pieces = release.pieces.values().map(|piece| &piece.artifacts);
    for artifacts in std::iter::once(&release.artifacts).chain(pieces) {
        let mut seen: Vec<&Scope> = Vec::new();
        for artifact in artifacts {
            if artifact.file.is_empty() {
                return Err(format!("an artifact of {} has an empty `file`", release.version));
            }
            if artifact.scopes.is_empty() {
                return Err(format!("`{}` of {} is for no platform: `for` is empty", artifact.file, release.version));
            }
            if let Some(twice) = artifact.scopes.iter().find(|scope| seen.contains(scope)) {
                return Err(format!("{} has two artifacts for {twice}", release.version));
            }
            seen.extend(&artifact.scopes);
        }
    }
    Ok(())
}
