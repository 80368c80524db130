//! Facts of machines, and conditions on them in the grammar of gates.
//!
//! A machine at hand can be asked; one that is only described is what its description says, and whatever it does not speak of
//! stays unknown. An artifact or a block with `where` counts where all its conditions are known to hold; a release is left out
//! where one of its gates is known to be closed.
//!
//! ```
//! use kladder_choose::catalog::{Conditions, Facts};
//!
//! #[derive(serde::Deserialize)]
//! struct Machine { facts: Conditions }
//! let read = |text: &str| toml::from_str::<Machine>(text).map(|machine| machine.facts);
//!
//! let class_room = read("facts = { c-library = 'gnu 2.28', feature = ['avx2'] }")?;
//! let holds = |text: &str| read(text).unwrap().hold(&class_room);
//! assert_eq!(holds("facts = { c-library = 'gnu >=2.17' }"), Some(true));
//! assert_eq!(holds("facts = { c-library = 'gnu >=2.31' }"), Some(false));
//! assert_eq!(holds("facts = { release = 'debian >=12' }"), None);
//! # Ok::<(), toml::de::Error>(())
//! ```

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Deserializer};

use super::{Demand, Ranged};
use crate::near::near;
use crate::platform::{Platform, Scope};
use crate::version::Requirement;

/// Who knows a machine.
pub trait Facts: fmt::Debug + Send + Sync {
    /// Whether a demand is met there; `None` where that cannot be told.
    fn holds(&self, demand: &Demand) -> Option<bool>;
}

/// A machine of which nothing is known.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unknown;

impl Facts for Unknown {
    fn holds(&self, _: &Demand) -> Option<bool> {
        None
    }
}

/// Demands that must all be met: `where = { c-library = "gnu >=2.28" }`. As a described machine, what it is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Conditions(Vec<Demand>);

impl Conditions {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many there are: the more, the closer is what they describe.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Each of them.
    pub fn demands(&self) -> &[Demand] {
        &self.0
    }

    /// Whether all hold on a machine; `None` where none is known to fail, and one is not known.
    pub fn hold(&self, facts: &dyn Facts) -> Option<bool> {
        let told: Vec<Option<bool>> = self.0.iter().map(|demand| facts.holds(demand)).collect();
        if told.contains(&Some(false)) { Some(false) } else { (!told.contains(&None)).then_some(true) }
    }

    /// Whether no machine can meet these and the others: they name two of what there is only one of.
    pub fn rule_out(&self, others: &Self) -> bool {
        let is_one = |demand: &Demand| matches!(demand, Demand::Release(_) | Demand::CLibrary(_));
        self.0.iter().filter(|demand| is_one(demand)).any(|demand| others.holds(demand) == Some(false))
    }
}

impl fmt::Display for Conditions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let all: Vec<String> = self.0.iter().map(|demand| format!("{} {demand}", demand.fact())).collect();
        f.write_str(&all.join(", "))
    }
}

impl Facts for Conditions {
    fn holds(&self, demand: &Demand) -> Option<bool> {
        let mut alike = self.0.iter().filter(|known| known.fact() == demand.fact()).peekable();
        alike.peek()?;
        match demand {
            Demand::Release(wanted) | Demand::CLibrary(wanted) => {
                alike.find_map(ranged).map(|known| meets(wanted, known))
            }
            Demand::Kernel(wanted) => alike
                .find_map(|known| if let Demand::Kernel(known) = known { Some(allows(wanted, known)) } else { None }),
            // Of these there may be others that nobody described.
            Demand::Driver(wanted) | Demand::Command(wanted) | Demand::Library(wanted) | Demand::Package(wanted) => {
                let named = alike.filter_map(ranged).find(|known| known.name == wanted.name);
                named.map(|known| meets(wanted, known))
            }
            Demand::Memory(wanted) => {
                alike.find_map(|known| if let Demand::Memory(known) = known { Some(known >= wanted) } else { None })
            }
            _ => Some(alike.any(|known| known == demand)),
        }
    }
}

fn ranged(demand: &Demand) -> Option<&Ranged> {
    match demand {
        Demand::Release(ranged)
        | Demand::CLibrary(ranged)
        | Demand::Driver(ranged)
        | Demand::Command(ranged)
        | Demand::Library(ranged)
        | Demand::Package(ranged) => Some(ranged),
        _ => None,
    }
}

fn meets(wanted: &Ranged, known: &Ranged) -> bool {
    wanted.name == known.name && allows(&wanted.range, &known.range)
}

/// Whether the version that a description names lies in a range.
fn allows(wanted: &Requirement, known: &Requirement) -> bool {
    *wanted == Requirement::any() || known.named().next().is_some_and(|version| wanted.allows(version))
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands what is demanded, like \"gnu >=2.28\", or a list of such texts")]
enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

impl<'de> Deserialize<'de> for Conditions {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut all = Vec::new();
        for (fact, texts) in BTreeMap::<String, OneOrMany>::deserialize(deserializer)? {
            let texts = match texts {
                OneOrMany::One(text) => vec![text],
                OneOrMany::Many(texts) => texts,
            };
            for text in texts {
                all.push(condition(&fact, &text).map_err(serde::de::Error::custom)?);
            }
        }
        Ok(Self(all))
    }
}

fn condition(fact: &str, text: &str) -> Result<Demand, String> {
    if !Demand::LASTING.contains(&fact) {
        let near = near(fact, Demand::LASTING).into_iter().next();
        let hint =
            near.map_or_else(|| format!("; {} are", Demand::LASTING.join(", ")), |near| format!("; `{near}` is one"));
        return Err(format!("`{fact}` is no fact that can be held against a machine here{hint}"));
    }
    Demand::of(fact, text)
}

/// A kind of machine that something is chosen for.
#[derive(Clone, Debug)]
pub struct Machine {
    /// What the ladder calls it; empty for the one at hand.
    pub name: String,
    /// Its platform.
    pub platform: Platform,
    /// What the ladder says of it.
    pub described: Conditions,
    /// What is known of it.
    pub facts: Arc<dyn Facts>,
    /// There are others with its platform, so that it has to be called by its name.
    pub by_name: bool,
}

impl Machine {
    /// A machine of a platform, of which nothing is known.
    pub fn of(platform: Platform) -> Self {
        let described = Conditions::default();
        Self { name: String::new(), platform, described, facts: Arc::new(Unknown), by_name: false }
    }

    /// Whether something for these platforms, for machines of which all that is known, is for it.
    pub fn suits(&self, scopes: &[Scope], facts: &[Demand]) -> bool {
        let is_meant = scopes.is_empty() || scopes.iter().any(|scope| scope.holds_on(&self.platform));
        is_meant && facts.iter().all(|demand| self.facts.holds(demand) == Some(true))
    }
}
