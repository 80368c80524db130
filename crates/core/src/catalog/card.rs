//! What choosing between versions has to know of a tool, and no more.
//!
//! A card is made from a definition. Cards of a large catalog are kept in its index, so that a definition is read only
//! when its tool is to be climbed.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Artifact, Definition, Need, Piece, Release, Way};
use crate::digest::Digest;
use crate::platform::Platform;
use crate::version::{Scheme, Version};

/// A tool as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Card {
    /// The tool.
    pub tool: String,
    /// Digest of the definition that the card was made from.
    pub digest: Digest,
    /// How its versions are ordered.
    pub scheme: Scheme,
    /// The capabilities it provides.
    pub provides: Vec<String>,
    /// Whether it can be found on the host.
    pub on_host: bool,
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
    /// What must be there.
    pub needs: Vec<Need>,
    /// What must not be there.
    pub excludes: Vec<Way>,
    /// Its pieces.
    pub pieces: BTreeMap<String, CardPiece>,
    /// Its files.
    pub artifacts: BTreeMap<Platform, PinnedArtifact>,
}

/// A piece as the resolver sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardPiece {
    /// What must be there besides.
    pub needs: Vec<Need>,
    /// Its files.
    pub artifacts: BTreeMap<Platform, PinnedArtifact>,
}

/// A file and what it must be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PinnedArtifact {
    /// Its path in a yard.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: Digest,
}

impl From<&Artifact> for PinnedArtifact {
    fn from(artifact: &Artifact) -> Self {
        Self { file: artifact.file.clone(), size: artifact.size, sha256: artifact.sha256 }
    }
}

impl PinnedArtifact {
    /// The artifact as the fetching and unpacking want it; how it is unpacked comes from the catalog.
    pub fn with(&self, release: Option<&Artifact>) -> Artifact {
        let unpack = release.map(|artifact| artifact.unpack.clone()).unwrap_or_default();
        let unpacked = release.and_then(|artifact| artifact.unpacked);
        Artifact { file: self.file.clone(), size: self.size, sha256: self.sha256, unpacked, unpack }
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
            releases: definition.releases.iter().map(|release| CardRelease::of(release, definition.scheme)).collect(),
        }
    }

    /// The release of a version.
    pub fn release(&self, version: &Version) -> Option<&CardRelease> {
        self.releases.iter().find(|release| release.version == *version)
    }
}

impl CardRelease {
    fn of(release: &Release, scheme: Scheme) -> Self {
        let named_so = release.series.iter().any(|series| series == "preview");
        Self {
            version: release.version.clone(),
            date: release.date.map(|date| date.to_string()),
            preview: named_so || scheme.is_preview(&release.version),
            series: release.series.clone(),
            needs: release.needs.clone(),
            excludes: release.excludes.clone(),
            pieces: release.pieces.iter().map(|(name, piece)| (name.clone(), CardPiece::of(piece))).collect(),
            artifacts: pinned(&release.artifacts),
        }
    }

    /// Whether there is an artifact for `platform`, its own or one that runs everywhere.
    pub fn is_for(&self, platform: &Platform) -> bool {
        is_for(&self.artifacts, platform)
    }
}

impl CardPiece {
    fn of(piece: &Piece) -> Self {
        Self { needs: piece.needs.clone(), artifacts: pinned(&piece.artifacts) }
    }

    /// Whether there is an artifact for `platform`, its own or one that runs everywhere.
    pub fn is_for(&self, platform: &Platform) -> bool {
        is_for(&self.artifacts, platform)
    }
}

fn is_for(artifacts: &BTreeMap<Platform, PinnedArtifact>, platform: &Platform) -> bool {
    artifacts.contains_key(platform) || artifacts.contains_key(&Platform::any())
}

fn pinned(artifacts: &BTreeMap<Platform, Artifact>) -> BTreeMap<Platform, PinnedArtifact> {
    artifacts.iter().map(|(platform, artifact)| (platform.clone(), artifact.into())).collect()
}
