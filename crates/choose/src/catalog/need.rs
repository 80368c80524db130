//! What a release asks of other tools.
//!
//! In a definition each need is a name with what will do; a table says more:
//!
//! ```toml
//! needs = { tombolet = ">=1.0, <2", oarweld = { version = "3", private = true, for = ["linux"] } }
//! one-of = [["skerrow-linker", "oarweld >=2"]]   # one of each list, earlier ones preferred
//! excludes = { tidlow = "<4" }                   # no release of it stands beside these
//! ```

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer, Serialize};

use crate::names::ToolName;
use crate::platform::{Platform, Scope};
use crate::version::Requirement;

/// Something that must be there: any one of its ways will do, earlier ones are preferred.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Need {
    /// The ways to meet it.
    pub ways: Vec<Way>,
    /// The tool may keep what meets it to itself, so that another version can stand beside it.
    pub private: bool,
    /// The platforms that it holds for; all when empty.
    pub on: Vec<Scope>,
}

/// A tool or capability, and which versions of it are meant.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Way {
    /// What is meant.
    pub name: ToolName,
    /// The versions.
    pub version: Requirement,
    /// The pieces that must be there.
    pub pieces: Vec<String>,
}

/// What a release does not stand beside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Exclusion {
    /// What must not be there.
    pub way: Way,
    /// The platforms that it holds for; all when empty.
    pub on: Vec<Scope>,
}

impl Exclusion {
    /// Whether it holds on a platform.
    pub fn holds_on(&self, platform: &Platform) -> bool {
        holds_on(&self.on, platform)
    }
}

fn holds_on(on: &[Scope], platform: &Platform) -> bool {
    on.is_empty() || on.iter().any(|scope| scope.holds_on(platform))
}

impl std::fmt::Display for Exclusion {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.way.fmt(f)?;
        let on: Vec<&str> = self.on.iter().map(Scope::as_str).collect();
        if on.is_empty() { Ok(()) } else { write!(f, " on {}", on.join(", ")) }
    }
}

impl Need {
    /// Whether it holds on a platform.
    pub fn holds_on(&self, platform: &Platform) -> bool {
        holds_on(&self.on, platform)
    }

    /// The tools and capabilities that it names.
    pub fn names(&self) -> impl Iterator<Item = &ToolName> {
        self.ways.iter().map(|way| &way.name)
    }
}

impl std::fmt::Display for Way {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.name)?;
        if self.version != Requirement::any() {
            write!(f, " {}", self.version)?;
        }
        if self.pieces.is_empty() { Ok(()) } else { write!(f, " with {}", self.pieces.join(", ")) }
    }
}

impl std::fmt::Display for Need {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let ways: Vec<String> = self.ways.iter().map(Way::to_string).collect();
        f.write_str(&ways.join(" or "))?;
        if self.private {
            f.write_str(" of its own")?;
        }
        let on: Vec<&str> = self.on.iter().map(Scope::as_str).collect();
        if on.is_empty() { Ok(()) } else { write!(f, " on {}", on.join(", ")) }
    }
}

/// One need as it stands behind a name.
#[derive(Clone, Debug)]
struct Wanted {
    version: Requirement,
    pieces: Vec<String>,
    private: bool,
    on: Vec<Scope>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WantedTable {
    #[serde(default = "Requirement::any")]
    version: Requirement,
    #[serde(default)]
    pieces: Vec<String>,
    #[serde(default)]
    private: bool,
    #[serde(default, rename = "for")]
    on: Vec<Scope>,
}

/// Written by hand so that a mistake in a requirement keeps its own message.
impl<'de> Deserialize<'de> for Wanted {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Wanted;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a requirement like \">=2.1, <3\", or a table with `version`, `pieces`, `private` and `for`",
                )
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Wanted, E> {
                let version = text.parse().map_err(E::custom)?;
                Ok(Wanted { version, pieces: Vec::new(), private: false, on: Vec::new() })
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Wanted, A::Error> {
                let table = WantedTable::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let WantedTable { version, pieces, private, on } = table;
                Ok(Wanted { version, pieces, private, on })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// One need, or a list of them that must all be met.
struct OneOrMore(Vec<Wanted>);

impl<'de> Deserialize<'de> for OneOrMore {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = OneOrMore;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a requirement like \">=2.1, <3\", a table, or a list of these")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<OneOrMore, E> {
                Wanted::deserialize(serde::de::value::StrDeserializer::new(text)).map(|one| OneOrMore(vec![one]))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<OneOrMore, A::Error> {
                let map = serde::de::value::MapAccessDeserializer::new(map);
                Wanted::deserialize(map).map(|one| OneOrMore(vec![one]))
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(self, list: A) -> Result<OneOrMore, A::Error> {
                Vec::deserialize(serde::de::value::SeqAccessDeserializer::new(list)).map(OneOrMore)
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// `needs = { NAME = REQUIREMENT, … }`
pub(super) fn table<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Need>, D::Error> {
    let table = BTreeMap::<ToolName, OneOrMore>::deserialize(deserializer)?;
    let need = |name: ToolName, Wanted { version, pieces, private, on }| Need {
        ways: vec![Way { name, version, pieces }],
        private,
        on,
    };
    Ok(table
        .into_iter()
        .flat_map(|(name, OneOrMore(all))| all.into_iter().map(move |one| need(name.clone(), one)))
        .collect())
}

/// `one-of = [["NAME REQUIREMENT", "NAME"], …]`
pub(super) fn choices<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Need>, D::Error> {
    let lists = Vec::<Vec<String>>::deserialize(deserializer)?;
    let need = |list: Vec<String>| {
        let ways = list.iter().map(|text| way(text)).collect::<Result<_, _>>()?;
        Ok(Need { ways, private: false, on: Vec::new() })
    };
    lists.into_iter().map(need).collect::<Result<_, String>>().map_err(serde::de::Error::custom)
}

/// `excludes = { NAME = REQUIREMENT, … }`
pub(super) fn exclusions<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Exclusion>, D::Error> {
    let table = BTreeMap::<ToolName, Requirement>::deserialize(deserializer)?;
    let one = |(name, version)| Exclusion { way: Way { name, version, pieces: Vec::new() }, on: Vec::new() };
    Ok(table.into_iter().map(one).collect())
}

fn way(text: &str) -> Result<Way, String> {
    let (name, version) = text.trim().split_once(' ').unwrap_or((text.trim(), "any"));
    let version = version.parse().map_err(|error| format!("`{text}`: {error}"))?;
    let name = name.parse().map_err(|error| format!("{error}"))?;
    Ok(Way { name, version, pieces: Vec::new() })
}
