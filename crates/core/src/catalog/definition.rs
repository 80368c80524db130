//! One tool's file in the catalog.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::need::{self, Need, Way};
use super::{Gate, Pattern, Trial};
use crate::digest::Digest;
use crate::platform::Platform;
use crate::restart::Anew;
use crate::version::{Scheme, Version};

/// A tool: what it is, what it offers, how it is checked, and its releases.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// The tool's name; the file is called after it.
    pub tool: String,
    /// What sort of tool it is: compiler, linker, runtime, …
    pub kind: String,
    /// One line on what it does.
    pub summary: String,
    /// How its versions are ordered.
    #[serde(default)]
    pub scheme: Scheme,
    /// The capabilities it provides.
    #[serde(default)]
    pub provides: Vec<String>,
    /// What no release of it stands beside.
    #[serde(default, deserialize_with = "need::exclusions")]
    pub excludes: Vec<Way>,
    /// The commands it has, by name.
    #[serde(default)]
    pub commands: BTreeMap<String, Command>,
    /// Environment variables; `{folder}` and `{version}` are filled in.
    #[serde(default)]
    pub variables: BTreeMap<String, String>,
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
    #[serde(default, rename = "corners", deserialize_with = "inner_list")]
    pub corners: Vec<String>,
    /// How to see that it works.
    #[serde(default)]
    pub checks: Vec<Trial>,
    /// What can be had of it, newest first.
    #[serde(default)]
    pub releases: Vec<Release>,
}

/// Files that a tool shows inside another one's folder.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lends {
    /// The tool or capability that borrows.
    pub to: String,
    /// What is lent: a file or folder of this tool; all of it when left out. `{version}` is filled in.
    #[serde(default, deserialize_with = "inner_path")]
    pub files: String,
    /// Where it is seen in the other tool's folder. `{version}` is filled in.
    #[serde(deserialize_with = "inner_path")]
    pub at: String,
}

/// How to find a tool on the host.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostProbe {
    /// The command to look for on PATH.
    pub command: String,
    /// The arguments that make it say its version.
    #[serde(default = "ask_version")]
    pub ask: Vec<String>,
    /// Where the version stands in what it says: a group `version`, or the whole match.
    #[serde(default = "any_version")]
    pub version: Pattern,
}

fn ask_version() -> Vec<String> {
    vec!["--version".into()]
}

fn any_version() -> Pattern {
    Pattern::version()
}

/// What stands behind a command: a file of the tool, and arguments that come before the caller's.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(from = "CommandForm")]
pub struct Command {
    /// The file, relative to the tool's folder; `{version}` is filled in.
    pub file: String,
    /// Arguments before the caller's own.
    pub arguments: Vec<String>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "a file like \"bin/tool\", or a list of a file and its first arguments")]
enum CommandForm {
    File(String),
    List(Vec<String>),
}

impl From<CommandForm> for Command {
    fn from(form: CommandForm) -> Self {
        let mut list = match form {
            CommandForm::File(file) => return Self { file, arguments: Vec::new() },
            CommandForm::List(list) => list.into_iter(),
        };
        Self { file: list.next().unwrap_or_default(), arguments: list.collect() }
    }
}

/// One version of a tool.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Release {
    /// The version.
    pub version: Version,
    /// The day it came out.
    pub date: Option<toml::value::Datetime>,
    /// The series it belongs to.
    #[serde(default)]
    pub series: Vec<String>,
    /// Tools or capabilities that must be there, in which versions, with which pieces.
    #[serde(default, deserialize_with = "need::table")]
    pub needs: Vec<Need>,
    /// Lists of tools or capabilities of each of which one must be there. Stands among the needs once it is read.
    #[serde(default, rename = "one-of", deserialize_with = "need::choices")]
    pub(super) one_of: Vec<Need>,
    /// What must not be there.
    #[serde(default, deserialize_with = "need::exclusions")]
    pub excludes: Vec<Way>,
    /// Optional portions, by name.
    #[serde(default)]
    pub pieces: BTreeMap<String, Piece>,
    /// The files, by platform.
    #[serde(default)]
    pub artifacts: BTreeMap<Platform, Artifact>,
}

impl Definition {
    /// Puts together what is written apart: newest release first, with all that it needs and excludes.
    pub(super) fn settle(&mut self) {
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
}

impl Release {
    /// The artifact for `platform`, or the one that runs everywhere.
    pub fn artifact(&self, platform: &Platform) -> Option<&Artifact> {
        for_platform(&self.artifacts, platform)
    }
}

/// An optional portion of a release: files of its own, unpacked beside the others.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Piece {
    /// One line on what it is for.
    pub summary: String,
    /// The commands it adds.
    #[serde(default)]
    pub commands: BTreeMap<String, Command>,
    /// What must be there besides what its release needs.
    #[serde(default, deserialize_with = "need::table")]
    pub needs: Vec<Need>,
    /// The files, by platform.
    #[serde(default)]
    pub artifacts: BTreeMap<Platform, Artifact>,
}

/// The artifact of a platform, or the one that runs everywhere.
fn for_platform<'a>(artifacts: &'a BTreeMap<Platform, Artifact>, platform: &Platform) -> Option<&'a Artifact> {
    artifacts.get(platform).or_else(|| artifacts.get(&Platform::any()))
}

impl Piece {
    /// Its artifact for `platform`, or the one that runs everywhere.
    pub fn artifact(&self, platform: &Platform) -> Option<&Artifact> {
        for_platform(&self.artifacts, platform)
    }
}

/// One downloadable file.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Artifact {
    /// Its path in a yard.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: Digest,
    /// How large it gets when unpacked, in bytes.
    pub unpacked: Option<u64>,
    /// How it is unpacked.
    #[serde(default)]
    pub unpack: Unpacking,
}

/// How an archive becomes a folder.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Unpacking {
    /// Leading folders to leave out.
    pub strip: usize,
    /// Patterns of files and folders to leave out, after that.
    pub leave_out: Vec<String>,
    /// Folders and files that go elsewhere: from where to where, below the tool's folder.
    #[serde(rename = "move", deserialize_with = "inner_paths")]
    pub moves: BTreeMap<String, String>,
    /// Patterns of files that may be run although the archive does not say so.
    pub runs: Vec<String>,
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

fn inner(path: String) -> Result<String, String> {
    use std::path::{Component, Path};
    let is_inner = Path::new(&path).components().all(|part| matches!(part, Component::Normal(_)));
    if is_inner { Ok(path) } else { Err(format!("`{path}` is not a path below the tool's folder")) }
}

fn inner_path<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<String, D::Error> {
    inner(String::deserialize(deserializer)?).map_err(serde::de::Error::custom)
}

fn inner_list<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    let paths = Vec::<String>::deserialize(deserializer)?;
    paths.into_iter().map(|path| inner(path).map_err(serde::de::Error::custom)).collect()
}

fn inner_paths<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<BTreeMap<String, String>, D::Error> {
    let moves = BTreeMap::<String, String>::deserialize(deserializer)?;
    let checked = |(from, to)| Ok((inner(from)?, inner(to)?));
    moves.into_iter().map(checked).collect::<Result<_, String>>().map_err(serde::de::Error::custom)
}
