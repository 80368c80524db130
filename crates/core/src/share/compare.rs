//! Workstations side by side: what is only here, only there, or different, and how much that matters. Pure.

use std::collections::{BTreeMap, BTreeSet};

use super::report::Report;
use crate::base::event::Subject;

/// How much a difference matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// Something of the machine is otherwise, which its tools have not been seen to mind.
    Host,
    /// The last part of a version.
    Patch,
    /// Another series: an earlier part of a version, or versions that cannot be told apart so.
    Series,
    /// It is there, and not here.
    Missing,
    /// What is checked fails on one and not on the other.
    Failing,
}

/// What is compared.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum What {
    /// Something that is checked.
    Check(String),
    /// A rung.
    Rung(String),
    /// A library of a set.
    Library {
        /// The set.
        set: String,
        /// The library.
        library: String,
    },
    /// A fact of the machines.
    Fact(String),
}

/// One difference: what, how it mostly is, and who is otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// What.
    pub what: What,
    /// How it is on most of them; `None` where most do not have it. Of two it is the first one's.
    pub mostly: Option<String>,
    /// By position of the workstation: how it is on those that are otherwise; `None` where they do not have it.
    pub otherwise: BTreeMap<usize, Option<String>>,
    /// How much it matters, at the most.
    pub weight: Weight,
}

/// Several workstations, compared.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// The differences, those that matter most first.
    pub differences: Vec<Difference>,
    /// By position: how many things are otherwise on a workstation, failures counted tenfold; those with the most first.
    pub odd: Vec<(usize, usize)>,
    /// How many things were compared.
    pub compared: usize,
}

impl Comparison {
    /// Whether nothing that can matter is different.
    pub fn is_same(&self) -> bool {
        self.differences.iter().all(|one| one.weight == Weight::Host)
    }
}

type Facts = BTreeMap<What, String>;

/// Compares workstations, two or more; `name` tells of what a check is.
pub fn compare(all: &[Report], name: &dyn Fn(&Subject) -> String) -> Comparison {
    let mut facts: Vec<Facts> = all.iter().map(|report| facts(report, name)).collect();
    // Of an earlier landing the machine is not known.
    if all.iter().any(|report| report.host.is_empty()) {
        for facts in &mut facts {
            facts.retain(|what, _| !matches!(what, What::Fact(_)));
        }
    }
    let keys: BTreeSet<&What> = facts.iter().flat_map(BTreeMap::keys).collect();
    let mut comparison = Comparison { compared: keys.len(), ..Comparison::default() };
    let mut odd = vec![0; all.len()];
    for what in keys {
        let values: Vec<Option<&String>> = facts.iter().map(|facts| facts.get(what)).collect();
        let mostly = mostly(&values);
        let others = values.iter().enumerate().filter(|(_, value)| **value != mostly);
        let otherwise: BTreeMap<usize, Option<String>> = others.map(|(at, value)| (at, value.cloned())).collect();
        let weight = otherwise.values().map(|value| weigh(what, mostly.map(String::as_str), value.as_deref())).max();
        let Some(weight) = weight else { continue };
        for at in otherwise.keys() {
            odd[*at] += if weight == Weight::Failing { 10 } else { 1 };
        }
        comparison.differences.push(Difference { what: what.clone(), mostly: mostly.cloned(), otherwise, weight });
    }
    comparison.differences.sort_by(|one, other| (other.weight, &one.what).cmp(&(one.weight, &other.what)));
    comparison.odd = odd.into_iter().enumerate().filter(|(_, many)| *many > 0).collect();
    comparison.odd.sort_by(|(one, few), (other, many)| (many, one).cmp(&(few, other)));
    comparison
}

/// What most have; of those that equally many have the one that comes first.
fn mostly<'v>(values: &[Option<&'v String>]) -> Option<&'v String> {
    let count = |value: Option<&String>| values.iter().filter(|other| **other == value).count();
    let most = values.iter().copied().map(count).max().unwrap_or_default();
    values.iter().find(|value| count(**value) == most).copied().flatten()
}

fn facts(report: &Report, name: &dyn Fn(&Subject) -> String) -> Facts {
    let mut facts = Facts::new();
    for rung in &report.rungs {
        // What is pinned and does not stand is not there.
        if let Some(stands) = &rung.stands {
            facts.insert(What::Rung(rung.rung.clone()), stands.clone());
            for library in &rung.libraries {
                let what = What::Library { set: rung.rung.clone(), library: library.name.clone() };
                let known = facts.entry(what).or_default();
                [known.as_str(), &library.version].join(" ").trim().clone_into(known);
            }
        }
    }
    for subject in &report.failed {
        facts.insert(What::Check(name(subject)), "fails".to_owned());
    }
    for (fact, value) in &report.host {
        facts.insert(What::Fact(fact.clone()), value.clone());
    }
    facts
}

fn weigh(what: &What, mostly: Option<&str>, other: Option<&str>) -> Weight {
    match (what, mostly, other) {
        (What::Check(_), ..) => Weight::Failing,
        (What::Fact(_), ..) => Weight::Host,
        (_, Some(one), Some(other)) => by_version(one, other),
        _ => Weight::Missing,
    }
}

/// Versions are of one series where all but their last part agree: `1.4.2` and `1.4.10`, `8u392` and `8u402`, not `2.4` and `2.5`. What
/// tells builds of one apart does not count.
fn by_version(one: &str, other: &str) -> Weight {
    let plain = |text: &str| text.split(['+', ' ']).next().unwrap_or_default().to_owned();
    let (one, other) = (plain(one), plain(other));
    let parts = |text: &str| -> Vec<String> { text.split('.').map(str::to_owned).collect() };
    let (first, second) = (parts(&one), parts(&other));
    if first.len() > 2 && second.len() > 2 {
        return if first[..2] == second[..2] { Weight::Patch } else { Weight::Series };
    }
    // Of one part alone, what stands before its last number.
    let start = |text: &str| text.trim_end_matches(|c: char| c.is_ascii_digit()).to_owned();
    let is_series = first.len() == 1 && second.len() == 1 && !start(&one).is_empty() && start(&one) == start(&other);
    if is_series { Weight::Patch } else { Weight::Series }
}

#[cfg(test)]
mod tests {
    use super::super::report::ReportRung;
    use super::*;

    fn workstation(rungs: &[(&str, &str)], host: &[(&str, &str)]) -> Report {
        let rung = |(rung, version): &(&str, &str)| ReportRung {
            rung: (*rung).to_owned(),
            version: (*version).to_owned(),
            stands: Some((*version).to_owned()),
            ..ReportRung::default()
        };
        let text = |text: &&str| (*text).to_owned();
        Report {
            format: Report::FORMAT.to_owned(),
            machine: "m".to_owned(),
            host: host.iter().map(|(name, value)| (text(name), text(value))).collect(),
            rungs: rungs.iter().map(rung).collect(),
            ..Report::default()
        }
    }

    #[test]
    fn versions_are_of_one_series_where_their_last_part_alone_differs() {
        for (one, other) in [
            ("1.4.2", "1.4.10"),
            ("8u392", "8u402"),
            ("21.0.2+13", "21.0.4+7"),
            ("3.2.0q", "3.2.0r"),
            ("2.2.1", "2.2.1.1"),
        ] {
            assert_eq!(by_version(one, other), Weight::Patch, "{one} {other}");
        }
        for (one, other) in
            [("1.4.2", "1.5.2"), ("2.4", "2.5"), ("7", "8"), ("4.0.8", "5.0.0-rc.1"), ("8u392", "11.0.2")]
        {
            assert_eq!(by_version(one, other), Weight::Series, "{one} {other}");
        }
    }

    #[test]
    fn what_matters_most_comes_first_and_the_odd_one_out_is_named() {
        let usual =
            workstation(&[("skerroc", "1.4.2"), ("tidlow", "4.0.8"), ("oarweld", "2.1")], &[("memory", "16 GB")]);
        let odd = workstation(&[("skerroc", "1.4.3"), ("tidlow", "5.1.0")], &[("memory", "8 GB")]);
        let mut failing = usual.clone();
        failing.failed.push(Subject::Clock);
        let room: Vec<Report> = vec![usual.clone(), odd, usual.clone(), failing, usual.clone()];
        let found = compare(&room, &|_| "the clock".to_owned());
        let told: Vec<_> = found
            .differences
            .iter()
            .map(|one| {
                (one.weight, one.mostly.as_deref().unwrap_or("-"), one.otherwise.keys().copied().collect::<Vec<_>>())
            })
            .collect();
        let expected = [
            (Weight::Failing, "-", vec![3]),
            (Weight::Missing, "2.1", vec![1]),
            (Weight::Series, "4.0.8", vec![1]),
            (Weight::Patch, "1.4.2", vec![1]),
            (Weight::Host, "16 GB", vec![1]),
        ];
        assert_eq!(told, expected);
        assert_eq!(found.odd, [(3, 10), (1, 4)]);
        assert!(!found.is_same());
        assert!(
            compare(
                &[usual.clone(), workstation(&[("skerroc", "1.4.2"), ("tidlow", "4.0.8"), ("oarweld", "2.1")], &[])],
                &|_| String::new()
            )
            .is_same()
        );
        assert!(compare(&[usual.clone(), usual], &|_| String::new()).differences.is_empty());
    }
}
