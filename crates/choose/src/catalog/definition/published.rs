//! Files that can be downloaded, and how they become a folder.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

use super::{Origin, Says, Visit};
use crate::catalog::{Conditions, Machine};
use crate::digest::Digest;
use crate::document::{DocumentError, Source};
use crate::path::InnerPath;
use crate::platform::Scope;
use crate::version::Version;

/// Of the artifacts for a machine the one whose platforms are narrowest; of those that are alike in this the first.
pub(super) fn closest<'a>(artifacts: &'a [Published], machine: &Machine) -> Option<&'a Published> {
    let fits = |artifact: &&Published| machine.suits(&artifact.scopes, artifact.facts.demands());
    let narrowest =
        |artifact: &&Published| artifact.scopes.iter().filter(|scope| scope.holds_on(&machine.platform)).min().cloned();
    artifacts.iter().filter(fits).min_by_key(narrowest)
}

/// One downloadable file, as a definition has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Published {
    /// The platforms it is for.
    pub scopes: Vec<Scope>,
    /// What must be known of a machine for it.
    pub facts: Conditions,
    /// Its path in a yard.
    pub file: InnerPath,
    /// Bytes; where it is left out, a yard is asked when it is pinned.
    pub size: Option<u64>,
    /// Of the file as it is.
    pub sha256: Digest,
    /// How large it gets when unpacked, in bytes.
    pub unpacked: Option<u64>,
    /// How it becomes a folder; as it is where nobody says.
    pub unpack: Option<Unpacking>,
    /// What it says itself of where its maker publishes it.
    own: Vec<Origin>,
    /// Where its maker publishes it: addresses of the file itself.
    pub origins: Vec<String>,
    /// The page that a person must visit where nothing else has it.
    pub by_person: Option<Visit>,
    /// Further files that belong to it, unpacked beside it in this order.
    pub also: Vec<Published>,
}

/// A file as it is written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PublishedForm {
    #[serde(default = "everywhere", rename = "for")]
    scopes: Vec<Scope>,
    #[serde(default, rename = "where")]
    facts: Conditions,
    #[serde(default)]
    file: InnerPath,
    size: Option<u64>,
    sha256: Digest,
    unpacked: Option<u64>,
    unpack: Option<Unpacking>,
    #[serde(default, deserialize_with = "super::origin::origins")]
    origins: Vec<Origin>,
    #[serde(default)]
    also: Vec<FurtherForm>,
}

/// A file that belongs to another one.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FurtherForm {
    file: InnerPath,
    size: Option<u64>,
    sha256: Digest,
    unpacked: Option<u64>,
    unpack: Option<Unpacking>,
    #[serde(default, deserialize_with = "super::origin::origins")]
    origins: Vec<Origin>,
}

fn everywhere() -> Vec<Scope> {
    vec![Scope::Any]
}

/// Reads the artifacts of a release or piece, and sees that each can be taken.
pub(super) fn all(source: &Source, forms: Vec<Spanned<PublishedForm>>) -> Result<Vec<Published>, DocumentError> {
    let mut all: Vec<Published> = Vec::new();
    for form in forms {
        let span = form.span();
        let artifact = Published::of(form.into_inner());
        if artifact.scopes.is_empty() {
            return Err(source.invalid(span, format!("`{}` is for no platform: `for` is empty", artifact.file)));
        }
        // Of several for one platform the first that fits is taken, so that one behind what always fits never is.
        let before = |other: &&Published| other.facts.is_empty() || other.facts == artifact.facts;
        let mut taken = all.iter().filter(before).flat_map(|other| &other.scopes);
        if let Some(twice) = taken.find(|scope| artifact.scopes.contains(scope)) {
            return Err(
                source.invalid(span, format!("there is an artifact for {twice} already, which is always taken"))
            );
        }
        all.push(artifact);
    }
    Ok(all)
}

impl Published {
    fn of(form: PublishedForm) -> Self {
        let PublishedForm { scopes, facts, file, size, sha256, unpacked, unpack, origins: own, also } = form;
        let also = also.into_iter().map(Self::further).collect();
        Self { scopes, facts, file, size, sha256, unpacked, unpack, own, origins: Vec::new(), by_person: None, also }
    }

    fn further(form: FurtherForm) -> Self {
        let FurtherForm { file, size, sha256, unpacked, unpack, origins: own } = form;
        let (scopes, facts) = (Vec::new(), Conditions::default());
        Self {
            scopes,
            facts,
            file,
            size,
            sha256,
            unpacked,
            unpack,
            own,
            origins: Vec::new(),
            by_person: None,
            also: Vec::new(),
        }
    }

    /// Where it is published, as that is written.
    pub fn said_origins(&self) -> &[Origin] {
        &self.own
    }

    /// Makes addresses of its origins, once all that say something were asked.
    pub(super) fn locate(&mut self, version: &Version) {
        let platform = self.scopes.first().map_or("any", Scope::as_str).to_owned();
        self.locate_for(version, &platform);
    }

    fn locate_for(&mut self, version: &Version, platform: &str) {
        let asked = self.own.iter().filter(|origin| origin.is_asked());
        self.origins = asked.map(|origin| origin.of(version, &self.file, platform)).collect();
        self.by_person = self.own.iter().find_map(|origin| origin.visit(version, &self.file, platform));
        self.also.iter_mut().for_each(|further| further.locate_for(version, platform));
    }

    /// Takes over what it does not say itself.
    pub(super) fn settle(&mut self, says: &Says, version: &Version) {
        if let Some(file) = says.file.as_ref().filter(|_| self.file.is_empty()) {
            self.file = file.at(version);
        }
        if self.own.is_empty() {
            self.own.clone_from(&says.origins);
        }
        self.unpacked = self.unpacked.or(says.unpacked);
        self.unpack = self.unpack.take().or_else(|| says.unpack.clone());
        self.also.iter_mut().for_each(|further| further.settle(says, version));
    }
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
    /// How its names become paths, before all that; by the kind of archive where nobody says.
    pub layout: Option<Layout>,
    /// The folder that all of it goes into, after all that.
    pub into: Option<InnerPath>,
    /// Archives inside, by where they lie after all that, and how each is unpacked in its place at the top.
    pub inner: BTreeMap<InnerPath, Unpacking>,
}

/// How the names in an archive become paths.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Layout {
    /// They are paths.
    AsItIs,
    /// A wheel's: modules go to `site`, scripts to `bin`, data beside them (Python packaging specifications, "Binary distribution
    /// format"); its entry points become scripts in `bin`.
    Wheel,
    /// A Debian package's: `usr` is the tool's folder, libraries for one processor go to `libs` and their loader to `libs/ld.so`,
    /// documents are left out but for licences (Filesystem Hierarchy Standard; Debian Policy, section 9).
    Debian,
    /// It is no archive for us: the file itself, under its own name, for what runs as it is or for a set-up command.
    Whole,
    /// An npm package's: the folder `package` around it is left out, and the files that its `bin` names are found in `bin`.
    Npm,
}

impl Layout {
    /// As a definition has it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::AsItIs => "as-it-is",
            Self::Wheel => "wheel",
            Self::Debian => "debian",
            Self::Npm => "npm",
            Self::Whole => "whole",
        }
    }
}

impl Unpacking {
    /// How the names in a file of this name become paths. What ends as npm's packages do and is unpacked in a way of its own is
    /// any archive.
    pub fn layout_of(&self, file: &str) -> Layout {
        let is_own = self.strip > 0 || !self.moves.is_empty();
        let ending = std::path::Path::new(file).extension().and_then(|ending| ending.to_str());
        self.layout.unwrap_or(match ending {
            Some("whl") => Layout::Wheel,
            Some("tgz") if !is_own => Layout::Npm,
            _ => Layout::AsItIs,
        })
    }
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

/// Patterns of files (globs), each seen to be one.
pub(super) fn patterns<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    let patterns = Vec::<String>::deserialize(deserializer)?;
    for pattern in &patterns {
        globset::Glob::new(pattern).map_err(|error| {
            serde::de::Error::custom(format!("`{pattern}` is not a pattern of files: {}", error.kind()))
        })?;
    }
    Ok(patterns)
}
