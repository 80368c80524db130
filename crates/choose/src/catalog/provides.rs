//! What a tool provides besides itself: capabilities, and for a bundle the tools that it brings along.
//!
//! ```toml
//! provides = ["skerrow-compiler"]                    # at the tool's own version
//! provides = { tide-format = "3.1", oarweld = "2.4.1", skerrow-compiler = "{version}" }
//! ```
//!
//! Whoever asks for a capability asks for a version of that, which need not be the tool's own.

use std::collections::BTreeMap;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};

use super::{Also, Definition, When};
use crate::names::ToolName;
use crate::version::{Requirement, Scheme, Version};

/// What stands for the tool's own version.
const OWN: &str = "{version}";

/// By capability or tool: the version of it; `None` for the tool's own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Provides(BTreeMap<ToolName, Option<Version>>);

impl Provides {
    /// What is provided.
    pub fn names(&self) -> impl Iterator<Item = &ToolName> {
        self.0.keys()
    }

    /// Each with its version.
    pub fn iter(&self) -> impl Iterator<Item = (&ToolName, Option<&Version>)> {
        self.0.iter().map(|(name, version)| (name, version.as_ref()))
    }

    /// The version of one: `None` where it is not provided, `Some(None)` for the tool's own.
    #[allow(clippy::option_option, reason = "not provided and at no version of its own are two answers")]
    pub fn get(&self, name: &str) -> Option<Option<&Version>> {
        self.0.get(name).map(Option::as_ref)
    }

    /// Whether nothing is provided.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Takes what a narrower part says.
    pub(super) fn add(&mut self, part: &Self) {
        self.0.extend(part.0.clone());
    }

    /// The first that both have, at versions that differ.
    pub(super) fn differing(&self, other: &Self) -> Option<&ToolName> {
        let differs =
            |(name, version): &(&ToolName, &Option<Version>)| other.0.get(*name).is_some_and(|o| o != *version);
        self.0.iter().find(differs).map(|(name, _)| name)
    }
}

impl<'de> Deserialize<'de> for Provides {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Provides;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a list of capabilities, or a table that says the version of each")
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(self, mut seq: A) -> Result<Provides, A::Error> {
                let mut all = BTreeMap::new();
                while let Some(name) = seq.next_element()? {
                    all.insert(name, None);
                }
                Ok(Provides(all))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, mut map: A) -> Result<Provides, A::Error> {
                let mut all = BTreeMap::new();
                while let Some((name, version)) = map.next_entry::<ToolName, String>()? {
                    let version = if version == OWN { None } else { Some(version.parse().map_err(A::Error::custom)?) };
                    all.insert(name, version);
                }
                Ok(Provides(all))
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// One thing that a tool provides, as choosing sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Provided {
    /// What.
    pub name: ToolName,
    /// In which version; `None` for the tool's own.
    pub version: Option<Version>,
    /// By these versions of the tool.
    range: Option<Requirement>,
    /// By releases of this series.
    series: Option<String>,
    /// By this release.
    release: Option<Version>,
}

impl Provided {
    /// All that a definition provides; what is said of less comes later, and counts for more.
    pub(super) fn all(definition: &Definition) -> Vec<Self> {
        let nothing = When::default();
        let whole = std::iter::once((&nothing, &definition.says.provides, None));
        let blocks = definition.also.iter().map(|Also { when, says }| (when, &says.provides, None));
        let releases = definition.releases.iter();
        let releases = releases.map(|release| (&nothing, &release.says.provides, Some(&release.version)));
        let each = |(when, provides, release): (&When, &Provides, Option<&Version>)| {
            let provided = |(name, version): (&ToolName, Option<&Version>)| Self {
                name: name.clone(),
                version: version.cloned(),
                range: when.version.clone(),
                series: when.series.clone(),
                release: release.cloned(),
            };
            provides.iter().map(provided).collect::<Vec<_>>()
        };
        whole.chain(blocks).chain(releases).flat_map(each).collect()
    }

    /// The version of `name` that counts at a version of the tool, and how it is ordered; `None` where it provides no such
    /// thing there.
    pub(super) fn counting<'v>(
        all: &'v [Self],
        name: &str,
        scheme: Scheme,
        version: &'v Version,
        series: &[String],
    ) -> Option<(Scheme, &'v Version)> {
        let holds = |provided: &&Self| {
            provided.name == *name
                && provided.range.as_ref().is_none_or(|range| range.allows_by(scheme, version))
                && provided.series.as_ref().is_none_or(|wanted| series.contains(wanted))
                && provided.release.as_ref().is_none_or(|release| release == version)
        };
        let last = all.iter().rev().find(holds)?;
        Some(last.version.as_ref().map_or((scheme, version), |version| (Scheme::default(), version)))
    }
}
