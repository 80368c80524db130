//! What choosing between versions has to know of a tool, and no more.
//!
//! A card is made from a definition. Cards of a large catalog are kept in its index, so that a definition is read only
//! when its tool is to be climbed.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{
    Also, Brings, Definition, Demand, Exclusion, Layout, Machine, Need, Piece, Provided, Published, Release, Says,
    Unpacking, Visit, When,
};
use crate::digest::Digest;
use crate::names::ToolName;
use crate::path::InnerPath;
use crate::platform::{Platform, Scope};
use crate::version::{Requirement, Scheme, Version};

/// A tool as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Card {
    /// Whose card it is.
    pub tool: ToolName,
    /// Digest of the text of the definition that the card was made from.
    pub digest: Digest,
    /// How its versions are ordered.
    pub scheme: Scheme,
    /// What it provides besides itself, and when.
    pub provides: Vec<Provided>,
    /// Whether it can be found on the host.
    pub on_host: bool,
    /// Whether blocks, releases or pieces bring more than the tool as a whole, or something else.
    pub varies: bool,
    /// The commands and variables of the tool as a whole.
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
    /// What it has artifacts for on some machines only.
    variants: Vec<(Scope, Vec<Demand>)>,
    /// Its pieces, and what each has artifacts for.
    pieces: Vec<(String, Vec<Scope>)>,
    /// What a machine must not be known to lack.
    pub gates: Vec<CardGate>,
    /// The rest, still encoded: most releases of a catalog are only counted.
    details: Vec<u8>,
}

/// What is asked of a release only once it is looked into.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Details {
    /// What must be there.
    pub needs: Vec<Need>,
    /// What must not be there.
    pub excludes: Vec<Exclusion>,
    /// Its pieces.
    pub pieces: BTreeMap<String, CardPiece>,
    /// Its files, as the definition has them.
    pub artifacts: Vec<CardArtifact>,
}

/// A file, and what it is for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardArtifact {
    /// The platforms.
    pub scopes: Vec<Scope>,
    /// What must be known of a machine.
    pub facts: Vec<Demand>,
    /// The file.
    pub file: PinnedArtifact,
}

/// A gate of a release, as far as it decides about choosing it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardGate {
    /// The platforms that it holds for; all when empty.
    pub on: Vec<Scope>,
    /// What is demanded.
    pub demand: Demand,
}

/// A piece as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardPiece {
    /// What must be there besides.
    pub needs: Vec<Need>,
    /// What must not be there besides.
    pub excludes: Vec<Exclusion>,
    /// Its files, as the definition has them.
    pub artifacts: Vec<CardArtifact>,
}

impl Details {
    /// What the release does not stand beside, with some of its pieces.
    pub fn excludes_with<'d>(&'d self, pieces: impl Fn(&str) -> bool + 'd) -> impl Iterator<Item = &'d Exclusion> {
        let pieces = self.pieces.iter().filter(move |(name, _)| pieces(name));
        self.excludes.iter().chain(pieces.flat_map(|(_, piece)| &piece.excludes))
    }

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
    /// Further files that belong to it.
    #[serde(default)]
    pub also: Vec<PinnedArtifact>,
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
    /// Where its maker publishes it, asked after all yards.
    pub origins: Vec<String>,
    /// The page that a person must visit where nothing else has it.
    pub by_person: Option<Visit>,
}

impl Artifact {
    /// How the names in it become paths.
    pub fn layout(&self) -> Layout {
        self.unpack.layout_of(self.file.as_str())
    }
}

impl From<&Published> for PinnedArtifact {
    fn from(artifact: &Published) -> Self {
        let also = artifact.also.iter().map(Self::from).collect();
        Self { file: artifact.file.clone(), size: artifact.size, sha256: artifact.sha256, also }
    }
}

impl PinnedArtifact {
    /// The file and those that belong to it.
    pub fn all(&self) -> impl Iterator<Item = &Self> {
        std::iter::once(self).chain(&self.also)
    }

    /// The artifacts as the fetching and unpacking want them, in the order of unpacking; how each is unpacked comes from the catalog.
    ///
    /// # Errors
    /// The file whose size is unknown.
    pub fn with(&self, release: Option<&Published>) -> Result<Vec<Artifact>, &InnerPath> {
        let mut left: Vec<&Published> = release.iter().flat_map(|release| &release.also).collect();
        // One file may belong to it several times, and go to another place each time.
        let mut further = |pinned: &Self| {
            let at = left.iter().position(|published| published.sha256 == pinned.sha256)?;
            Some(left.remove(at))
        };
        let further: Vec<_> = self.also.iter().map(|pinned| (pinned, further(pinned))).collect();
        let own = std::iter::once((self, release)).chain(further);
        own.map(|(pinned, published)| pinned.alone(published).ok_or(&pinned.file)).collect()
    }

    fn alone(&self, release: Option<&Published>) -> Option<Artifact> {
        let unpack = release.and_then(|artifact| artifact.unpack.clone()).unwrap_or_default();
        let unpacked = release.and_then(|artifact| artifact.unpacked);
        let origins = release.map(|artifact| artifact.origins.clone()).unwrap_or_default();
        let by_person = release.and_then(|artifact| artifact.by_person.clone());
        let (file, sha256) = (self.file.clone(), self.sha256);
        Some(Artifact { file, size: self.size?, sha256, unpacked, unpack, origins, by_person })
    }

    /// Whether the two cannot be the same file.
    pub fn differs(&self, other: &Self) -> bool {
        let sizes = self.size.zip(other.size);
        let others = self.also.len() != other.also.len()
            || self.also.iter().zip(&other.also).any(|(one, other)| one.differs(other));
        let size = sizes.is_some_and(|(one, other)| one != other);
        self.file != other.file || self.sha256 != other.sha256 || size || others
    }
}

impl Card {
    /// The card of a definition whose file has this digest.
    pub fn of(definition: &Definition, digest: Digest) -> Self {
        Self {
            tool: definition.tool.clone(),
            digest,
            scheme: definition.scheme,
            provides: Provided::all(definition),
            on_host: definition.host.is_some(),
            varies: definition.varies(),
            brings: definition.says.brings(),
            releases: definition.releases.iter().map(|release| CardRelease::of(release, definition)).collect(),
        }
    }

    /// Whether it is called so, or provides it.
    pub fn answers_to(&self, name: &str) -> bool {
        self.tool == *name || self.provides.iter().any(|provided| provided.name == *name)
    }

    /// The version of `name` that counts where this tool's is `version`, and how it is ordered; `None` where the tool does not
    /// stand for it there.
    pub fn counting<'v>(
        &'v self,
        name: &str,
        version: &'v Version,
        series: &[String],
    ) -> Option<(Scheme, &'v Version)> {
        if self.tool == *name {
            return Some((self.scheme, version));
        }
        Provided::counting(&self.provides, name, self.scheme, version, series)
    }

    /// Whether it meets who asks for `name` in these versions, where its own is `version`.
    pub fn meets(&self, name: &str, range: &Requirement, version: &Version) -> bool {
        let series = self.release(version).map(|release| release.series.as_slice()).unwrap_or_default();
        self.counting(name, version, series).is_some_and(|(scheme, version)| range.allows_by(scheme, version))
    }

    /// The release of a version.
    pub fn release(&self, version: &Version) -> Option<&CardRelease> {
        self.releases.iter().find(|release| release.version == *version)
    }
}

impl CardRelease {
    fn of(release: &Release, definition: &Definition) -> Self {
        let scheme = definition.scheme;
        let named_so = release.series.iter().any(|series| series == "preview");
        let details = Details {
            needs: release.says.needs.clone(),
            excludes: release.says.excludes.clone(),
            pieces: release.pieces.iter().map(|(name, piece)| (name.clone(), CardPiece::of(piece))).collect(),
            artifacts: pinned(&release.artifacts),
        };
        let scopes = |artifacts: &[CardArtifact]| -> Vec<Scope> {
            let mut scopes: Vec<Scope> = always(artifacts).flat_map(|artifact| artifact.scopes.clone()).collect();
            scopes.sort();
            scopes.dedup();
            scopes
        };
        let pieces = details.pieces.iter().map(|(name, piece)| (name.clone(), scopes(&piece.artifacts)));
        let sometimes = details.artifacts.iter().filter(|artifact| !artifact.facts.is_empty());
        Self {
            version: release.version.clone(),
            date: release.date.map(|date| date.to_string()),
            preview: named_so || scheme.is_preview(&release.version),
            series: release.series.clone(),
            scopes: scopes(&details.artifacts),
            variants: sometimes.flat_map(CardArtifact::each).collect(),
            pieces: pieces.collect(),
            gates: definition.gates_of(release),
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

    /// Whether there is an artifact for a machine.
    pub fn is_for(&self, machine: &Machine) -> bool {
        let suits = |(scope, facts): &(Scope, Vec<Demand>)| machine.suits(std::slice::from_ref(scope), facts);
        is_for(&self.scopes, &machine.platform) || self.variants.iter().any(suits)
    }

    /// The first gate that a machine is known to fail.
    pub fn closed_on(&self, machine: &Machine) -> Option<&Demand> {
        let is_meant =
            |gate: &&CardGate| gate.on.is_empty() || gate.on.iter().any(|scope| scope.holds_on(&machine.platform));
        let fails = |demand: &&Demand| machine.facts.holds(demand) == Some(false);
        self.gates.iter().filter(is_meant).map(|gate| &gate.demand).find(fails)
    }

    /// Whether it has a piece with an artifact for a machine.
    pub fn has_piece_for(&self, piece: &str, machine: &Machine) -> bool {
        if self.pieces.iter().any(|(name, scopes)| name == piece && is_for(scopes, &machine.platform)) {
            return true;
        }
        let details = self.has_pieces(&[piece.to_owned()]).then(|| self.details());
        details.and_then(|details| details.pieces.get(piece)?.artifact(machine).map(|_| ())).is_some()
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
    pub fn scopes(&self) -> Vec<Scope> {
        let mut scopes: Vec<Scope> =
            self.scopes.iter().chain(self.variants.iter().map(|(scope, _)| scope)).cloned().collect();
        scopes.sort();
        scopes.dedup();
        scopes
    }
}

impl CardPiece {
    fn of(piece: &Piece) -> Self {
        Self {
            needs: piece.says.needs.clone(),
            excludes: piece.says.excludes.clone(),
            artifacts: pinned(&piece.artifacts),
        }
    }

    /// The artifact for a machine.
    pub fn artifact(&self, machine: &Machine) -> Option<(&Scope, &CardArtifact)> {
        closest(&self.artifacts, machine)
    }
}

impl Details {
    /// The artifact for a machine.
    pub fn artifact(&self, machine: &Machine) -> Option<(&Scope, &CardArtifact)> {
        closest(&self.artifacts, machine)
    }
}

impl CardArtifact {
    fn each(&self) -> impl Iterator<Item = (Scope, Vec<Demand>)> {
        self.scopes.iter().map(|scope| (scope.clone(), self.facts.clone()))
    }
}

/// The artifact whose platforms are narrowest, the first of those that are alike in this; with the scope by which it fits.
fn closest<'a>(artifacts: &'a [CardArtifact], machine: &Machine) -> Option<(&'a Scope, &'a CardArtifact)> {
    let fitting = artifacts.iter().filter(|artifact| machine.suits(&artifact.scopes, &artifact.facts));
    let narrowest = fitting.filter_map(|artifact| {
        let scopes = artifact.scopes.iter().filter(|scope| scope.holds_on(&machine.platform));
        Some((scopes.min()?, artifact))
    });
    narrowest.min_by_key(|(scope, _)| *scope)
}

impl Definition {
    /// Whether a part of it brings something that it does not as a whole.
    fn varies(&self) -> bool {
        let parts = self
            .releases
            .iter()
            .flat_map(|release| std::iter::once(&release.says).chain(release.pieces.values().map(|piece| &piece.says)));
        let mut parts = self.also.iter().map(|block| &block.says).chain(parts);
        parts.any(|says| !says.brings().is_empty())
    }

    /// The gates that tell a release from others, and that a machine keeps.
    pub fn gates_of(&self, release: &Release) -> Vec<CardGate> {
        let of_block = |block: &Also| {
            let When { version, series, on, facts, piece, with, private } = &block.when;
            let is_of_release = (version.is_some() || series.is_some())
                && facts.is_empty()
                && piece.is_none()
                && with.is_empty()
                && private.is_none()
                && block.when.is_of(self.scheme, &release.version, Some(release));
            is_of_release.then(|| (on.clone(), block.says.gates.clone()))
        };
        let own = (Vec::new(), release.says.gates.clone());
        let all = std::iter::once(own).chain(self.also.iter().filter_map(of_block));
        let gates = all.flat_map(|(on, gates)| gates.into_iter().map(move |gate| (on.clone(), gate.demand)));
        gates.filter(|(_, demand)| demand.is_lasting()).map(|(on, demand)| CardGate { on, demand }).collect()
    }
}

impl Says {
    /// The commands and variables that it brings, and the files that loans name one by one; what patterns select is only
    /// known once it is unpacked.
    pub fn brings(&self) -> Vec<Brings> {
        let commands = self.commands.keys().map(|name| Brings::Command(name.to_string()));
        let alone = self.variables.iter().filter(|(_, variable)| variable.is_alone());
        let variables = alone.map(|(name, _)| Brings::Variable(name.to_string()));
        let is_plain = |name: &&String| !name.contains(['*', '?', '[', '{', '\\']);
        let lent = self.lends.iter().flat_map(move |lends| {
            let file = move |name: &String| Brings::File {
                to: lends.to.clone(),
                path: [lends.at.as_written().trim_end_matches('/'), "/", name].concat(),
            };
            lends.only.iter().filter(is_plain).map(file)
        });
        commands.chain(variables).chain(lent).collect()
    }
}

fn is_for(scopes: &[Scope], platform: &Platform) -> bool {
    scopes.iter().any(|scope| scope.holds_on(platform))
}

/// Those that suit every machine of their platforms.
fn always(artifacts: &[CardArtifact]) -> impl Iterator<Item = &CardArtifact> {
    artifacts.iter().filter(|artifact| artifact.facts.is_empty())
}

fn pinned(artifacts: &[Published]) -> Vec<CardArtifact> {
    let card = |artifact: &Published| CardArtifact {
        scopes: artifact.scopes.clone(),
        facts: artifact.facts.demands().to_vec(),
        file: artifact.into(),
    };
    artifacts.iter().map(card).collect()
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
        assert_eq!(card.releases[0].details().needs, definition.releases[0].says.needs);
    }
}
