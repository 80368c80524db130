//! The machines that a ladder is pinned for.
//!
//! ```toml
//! [machines]
//! desk = "linux/x86_64"
//! classroom = { platform = "linux/x86_64", where = { c-library = "gnu 2.28", feature = ["avx2"] } }
//! ```
//!
//! What is described of a machine is what it has; a host counts as the machine of whose description most holds on it. Of a
//! machine without a description only its platform is known, but for the one at hand.

use std::sync::Arc;

use serde::{Deserialize, Deserializer};
use toml::Spanned;

use super::Ladder;
use crate::catalog::{Conditions, Kind, Machine};
use crate::document::{DocumentError, Source};
use crate::platform::{Platform, Scope};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct MachineTable {
    platform: Platform,
    #[serde(default, rename = "where")]
    facts: Conditions,
}

pub(super) struct MachineForm(MachineTable);

/// Written by hand so that a mistake in a platform or in a fact keeps its own message.
impl<'de> Deserialize<'de> for MachineForm {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = MachineForm;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a platform like \"linux/x86_64\", or a table with `platform` and `where`")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<MachineForm, E> {
                let platform = text.parse().map_err(E::custom)?;
                Ok(MachineForm(MachineTable { platform, facts: Conditions::default() }))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<MachineForm, A::Error> {
                MachineTable::deserialize(serde::de::value::MapAccessDeserializer::new(map)).map(MachineForm)
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

pub(super) fn machine(
    source: &Source,
    name: Spanned<String>,
    form: Spanned<MachineForm>,
) -> Result<Machine, DocumentError> {
    let MachineForm(MachineTable { platform, facts: described }) = form.into_inner();
    // Pins have machines and platforms side by side.
    if name.get_ref().parse::<Scope>().is_ok() || name.get_ref().contains('/') {
        let message = format!("`{}` is the name of platforms; call the machine otherwise", name.get_ref());
        return Err(source.invalid(name.span(), message));
    }
    let facts = Arc::new(described.clone());
    Ok(Machine { name: name.into_inner(), platform, described, facts, by_name: false })
}

impl Ladder {
    /// The machines that it is pinned for, those that are alike once; the one at hand where it names none.
    pub fn kinds(&self, here: &Machine) -> Vec<Machine> {
        let mut kinds: Vec<Machine> = Vec::new();
        for machine in &self.machines {
            if !kinds.iter().any(|other| other.is_like(machine)) {
                kinds.push(machine.clone());
            }
        }
        if kinds.is_empty() {
            return vec![here.clone()];
        }
        let is_one_of_several =
            |machine: &Machine| kinds.iter().filter(|other| other.platform == machine.platform).count() > 1;
        let by_name: Vec<bool> = kinds.iter().map(is_one_of_several).collect();
        for (machine, by_name) in kinds.iter_mut().zip(by_name) {
            machine.by_name = by_name;
        }
        if let Some(own) = own(&kinds, here).filter(|own| kinds[*own].described.is_empty()) {
            kinds[own].facts = Arc::clone(&here.facts);
        }
        kinds
    }

    /// The machine that the one at hand counts as, with what is known of it; `None` where the ladder is not pinned for it.
    pub fn machine(&self, here: &Machine) -> Option<Machine> {
        let kinds = self.kinds(here);
        let own = if self.machines.is_empty() { 0 } else { own(&kinds, here)? };
        Some(Machine { facts: Arc::clone(&here.facts), ..kinds[own].clone() })
    }
}

impl Ladder {
    /// Leaves the machines of a kind out.
    pub(crate) fn leave(&mut self, kind: &Kind) {
        let kinds = self.machines.clone();
        let named = kinds.iter().find(|machine| matches!(kind, Kind::Machine(name) if *name == machine.name));
        self.machines.retain(|machine| match (kind, named) {
            (Kind::Platforms(scope), _) => !scope.holds_on(&machine.platform),
            (_, Some(named)) => !machine.is_like(named),
            (_, None) => true,
        });
    }
}

impl Machine {
    fn is_like(&self, other: &Self) -> bool {
        self.platform == other.platform && self.described == other.described
    }
}

/// The machine of whose description most holds here.
fn own(kinds: &[Machine], here: &Machine) -> Option<usize> {
    let fits = |machine: &Machine| {
        machine.platform == here.platform
            && (machine.described.is_empty() || machine.described.hold(here.facts.as_ref()) == Some(true))
    };
    let fitting = kinds.iter().enumerate().filter(|(_, machine)| fits(machine));
    fitting.max_by_key(|(at, machine)| (machine.described.len(), std::cmp::Reverse(*at))).map(|(at, _)| at)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Ladder, DocumentError> {
        Ladder::parse(&Source::new("/desk/ladder.toml", format!("[machines]\n{text}")))
    }

    fn host(facts: &str) -> Machine {
        let described = read(&format!("x = {{ platform = \"linux/x86_64\", where = {{ {facts} }} }}\n")).unwrap();
        Machine { name: String::new(), ..described.machines[0].clone() }
    }

    #[test]
    fn machines_that_are_alike_count_once_and_a_host_is_the_one_that_fits_best() {
        let ladder = read(
            "desk = \"linux/x86_64\"\nlaptop = { platform = \"macos/aarch64\" }\nroom = \"linux/x86_64\"\n\
             old = { platform = \"linux/x86_64\", where = { c-library = \"gnu 2.28\" } }\n",
        );
        let ladder = ladder.unwrap();
        let kinds = ladder.kinds(&host("c-library = \"gnu 2.36\""));
        let named: Vec<(&str, bool)> = kinds.iter().map(|kind| (kind.name.as_str(), kind.by_name)).collect();
        assert_eq!(named, [("desk", true), ("laptop", false), ("old", true)]);
        let counts_as = |facts: &str| ladder.machine(&host(facts)).map(|machine| machine.name);
        assert_eq!(counts_as("c-library = \"gnu 2.28\"").as_deref(), Some("old"));
        assert_eq!(counts_as("c-library = \"gnu 2.36\"").as_deref(), Some("desk"));
        assert_eq!(ladder.machine(&Machine::of("linux/aarch64".parse().unwrap())).map(|machine| machine.name), None);
    }

    #[test]
    fn a_machine_that_is_none_is_told_with_what_would_be() {
        let told = |text: &str| read(text).unwrap_err().to_string();
        assert!(told("desk = \"linux-x86_64\"\n").contains("`linux/x86_64` is one"));
        assert!(told("linux = \"linux/x86_64\"\n").contains("is the name of platforms"));
        let odd = told("a = { platform = \"linux/x86_64\", where = { clibrary = \"gnu 2\" } }\n");
        assert!(odd.contains("`c-library` is one"), "{odd}");
    }
}
