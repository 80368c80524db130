//! What choosing between versions has to know of a tool, and no more.
//!
//! A card is made from a definition. Cards of a large catalog are kept in its index, so that a definition is read only
//! when its tool is to be climbed.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Brings, Command, CommandName, Definition, Need, Piece, Published, Release, Unpacking, Way};
use crate::digest::Digest;
use crate::names::ToolName;
use crate::path::InnerPath;
use crate::platform::{Platform, Scope};
use crate::version::{Scheme, Version};

/// A tool as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Card {
    /// Whose card it is.
    pub tool: ToolName,
    /// Digest of the text of the definition that the card was made from.
    pub digest: Digest,
    /// How its versions are ordered.
    pub scheme: Scheme,
    /// The capabilities it provides.
    pub provides: Vec<ToolName>,
    /// Whether it can be found on the host.
    pub on_host: bool,
    /// Its commands and variables.
    pub brings: Vec<Brings>,
    /// Its releases, newest first.
    pub releases: Vec<CardRelease>,
}

/// A release as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardRelease {
    /// The version.
    pub version: Version,
    /// The day it came out, as `2026-08-03`.
    pub date: Option<String>,
    /// Whether it is taken only when a preview was asked for.
    pub preview: bool,
    /// The series it belongs to.
    pub series: Vec<String>,
    /// What it has artifacts for.
    scopes: Vec<Scope>,
    /// Its pieces, and what each has artifacts for.
    pieces: Vec<(String, Vec<Scope>)>,
    /// The rest, still encoded: most releases of a catalog are only counted.
    details: Vec<u8>,
}

/// What is asked of a release only once it is looked into.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Details {
    /// What must be there.
    pub needs: Vec<Need>,
    /// What must not be there.
    pub excludes: Vec<Way>,
    /// Its pieces.
    pub pieces: BTreeMap<String, CardPiece>,
    /// Its files, by what they are for.
    pub artifacts: BTreeMap<Scope, PinnedArtifact>,
}

/// A piece as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardPiece {
    /// What must be there besides.
    pub needs: Vec<Need>,
    /// Its commands.
    pub brings: Vec<Brings>,
    /// Its files, by what they are for.
    pub artifacts: BTreeMap<Scope, PinnedArtifact>,
}

impl Details {
    /// What the release needs, with some of its pieces.
    pub fn needs_with<'d>(&'d self, pieces: impl Fn(&str) -> bool + 'd) -> impl Iterator<Item = &'d Need> {
        let pieces = self.pieces.iter().filter(move |(name, _)| pieces(name));
        self.needs.iter().chain(pieces.flat_map(|(_, piece)| &piece.needs))
    }
}

/// A file and what it must be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PinnedArtifact {
    /// Its path in a yard.
    pub file: InnerPath,
    /// Bytes; `None` where neither the definition nor a yard told it.
    #[serde(default)]
    pub size: Option<u64>,
    /// Of the file as it is.
    pub sha256: Digest,
}

/// An artifact as it is fetched and unpacked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Artifact {
    /// Its path in a yard.
    pub file: InnerPath,
    /// Bytes.
    pub size: u64,
    /// Of the file as it is.
    pub sha256: Digest,
    /// How large it gets when unpacked, in bytes; unknown where it is `None`.
    pub unpacked: Option<u64>,
    /// How it becomes a folder.
    pub unpack: Unpacking,
}

impl From<&Published> for PinnedArtifact {
    fn from(artifact: &Published) -> Self {
        Self { file: artifact.file.clone(), size: artifact.size, sha256: artifact.sha256 }
    }
}

impl PinnedArtifact {
    /// The artifact as the fetching and unpacking want it; how it is unpacked comes from the catalog. `None` where its size
    /// is unknown.
    pub fn with(&self, release: Option<&Published>) -> Option<Artifact> {
        let unpack = release.map(|artifact| artifact.unpack.clone()).unwrap_or_default();
        let unpacked = release.and_then(|artifact| artifact.unpacked);
        Some(Artifact { file: self.file.clone(), size: self.size?, sha256: self.sha256, unpacked, unpack })
    }

    /// Whether the two cannot be the same file.
    pub fn differs(&self, other: &Self) -> bool {
        let sizes = self.size.zip(other.size);
        self.file != other.file || self.sha256 != other.sha256 || sizes.is_some_and(|(one, other)| one != other)
    }
}

impl Card {
    /// The card of a definition whose file has this digest.
    pub fn of(definition: &Definition, digest: Digest) -> Self {
        Self {
            tool: definition.tool.clone(),
            digest,
            scheme: definition.scheme,
            provides: definition.provides.clone(),
            on_host: definition.host.is_some(),
            brings: commands(&definition.commands).chain(variables(definition)).chain(lent(definition)).collect(),
            releases: definition.releases.iter().map(|release| CardRelease::of(release, definition.scheme)).collect(),
        }
    }

    /// Whether it is called so, or provides it.
    pub fn answers_to(&self, name: &str) -> bool {
        self.tool == *name || self.provides.iter().any(|capability| *capability == *name)
    }

    /// The release of a version.
    pub fn release(&self, version: &Version) -> Option<&CardRelease> {
        self.releases.iter().find(|release| release.version == *version)
    }
}

impl CardRelease {
    fn of(release: &Release, scheme: Scheme) -> Self {
        let named_so = release.series.iter().any(|series| series == "preview");
        let details = Details {
            needs: release.needs.clone(),
            excludes: release.excludes.clone(),
            pieces: release.pieces.iter().map(|(name, piece)| (name.clone(), CardPiece::of(piece))).collect(),
            artifacts: pinned(&release.artifacts),
        };
        let scopes = |artifacts: &BTreeMap<Scope, PinnedArtifact>| artifacts.keys().cloned().collect();
        let pieces = details.pieces.iter().map(|(name, piece)| (name.clone(), scopes(&piece.artifacts)));
        Self {
            version: release.version.clone(),
            date: release.date.map(|date| date.to_string()),
            preview: named_so || scheme.is_preview(&release.version),
            series: release.series.clone(),
            scopes: scopes(&details.artifacts),
            pieces: pieces.collect(),
            details: postcard::to_stdvec(&details).expect("plain values can be encoded"),
        }
    }

    /// What it needs, excludes and consists of.
    ///
    /// # Panics
    /// Never: a card that was read whole holds what was encoded in it.
    pub fn details(&self) -> Details {
        postcard::from_bytes(&self.details).expect("a whole card holds what was encoded in it")
    }

    /// Whether there is an artifact for `platform`, its own or one that runs everywhere.
    pub fn is_for(&self, platform: &Platform) -> bool {
        is_for(&self.scopes, platform)
    }

    /// Whether it has a piece with an artifact for `platform`.
    pub fn has_piece_for(&self, piece: &str, platform: &Platform) -> bool {
        self.pieces.iter().any(|(name, scopes)| name == piece && is_for(scopes, platform))
    }

    /// The names of its pieces.
    pub fn pieces(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().map(|(name, _)| name.as_str())
    }

    /// Whether it has all these pieces.
    pub fn has_pieces(&self, pieces: &[String]) -> bool {
        pieces.iter().all(|piece| self.pieces().any(|name| name == piece))
    }

    /// What it has artifacts for.
    pub fn scopes(&self) -> &[Scope] {
        &self.scopes
    }
}

impl CardPiece {
    fn of(piece: &Piece) -> Self {
        let brings = commands(&piece.commands).collect();
        Self { needs: piece.needs.clone(), brings, artifacts: pinned(&piece.artifacts) }
    }
}

fn commands(commands: &BTreeMap<CommandName, Command>) -> impl Iterator<Item = Brings> {
    commands.keys().map(|name| Brings::Command(name.to_string()))
}

/// The files that loans name one by one; what patterns select is only known once it is unpacked.
fn lent(definition: &Definition) -> impl Iterator<Item = Brings> {
    let is_plain = |name: &&String| !name.contains(['*', '?', '[', '{', '\\']);
    definition.lends.iter().flat_map(move |lends| {
        let file = move |name: &String| Brings::File {
            to: lends.to.clone(),
            path: [lends.at.as_written().trim_end_matches('/'), "/", name].concat(),
        };
        lends.only.iter().filter(is_plain).map(file)
    })
}

fn variables(definition: &Definition) -> impl Iterator<Item = Brings> {
    definition.variables.keys().map(|name| Brings::Variable(name.to_string()))
}

fn is_for(scopes: &[Scope], platform: &Platform) -> bool {
    scopes.iter().any(|scope| scope.holds_on(platform))
}

fn pinned(artifacts: &[Published]) -> BTreeMap<Scope, PinnedArtifact> {
    let scoped = artifacts.iter().flat_map(|artifact| artifact.scopes.iter().map(move |scope| (scope, artifact)));
    scoped.map(|(scope, artifact)| (scope.clone(), artifact.into())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_card_is_the_same_after_it_was_encoded() {
        let text = "tool = \"skerroc\"\nsummary = \"\"\n[[releases]]\nversion = \"1.4\"\ndate = 2026-08-03\n\
                    needs = { oarweld = { version = \">=2, <3\", for = [\"linux\"], private = true } }\n\
                    artifacts = [{ file = \"a.zip\", size = 1, sha256 = \"SHA\" }]\n\
                    pieces.lens = { summary = \"\" }\n";
        let source = crate::document::Source::new("skerroc.toml", text.replace("SHA", &"ab".repeat(32)));
        let definition = Definition::parse(&source, "skerroc").unwrap();
        let card = Card::of(&definition, Digest::of(b""));
        let bytes = postcard::to_stdvec(&card).unwrap();
        assert_eq!(postcard::from_bytes::<Card>(&bytes).unwrap(), card);
        assert_eq!(card.releases[0].details().needs, definition.releases[0].needs);
    }
}
