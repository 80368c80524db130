//! Problems of known shape: long chains, near misses, many providers, and what is said of those without an answer.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::cell::Cell;
use std::collections::HashMap;

use kladder_solve::{Alternative, ChoiceOf, Fact, Failure, Need, NeedOf, Provider, Question, Rule, RuleOf};

const BUDGET: u64 = 200_000;

type Rules = Vec<Rule<String, (u32, u32)>>;

/// Packages by name, versions by number, ranges as `from..to`.
#[derive(Debug, Default)]
struct Made {
    versions: HashMap<String, u32>,
    rules: HashMap<(String, u32), Rules>,
    asked: Cell<usize>,
    stop_after: Option<usize>,
}

impl Made {
    fn package(&mut self, name: &str, versions: u32) -> &mut Self {
        self.versions.insert(name.into(), versions);
        self
    }

    fn need(&mut self, of: (&str, u32), alternatives: &[(&str, u32, u32)]) -> &mut Self {
        self.rules.entry((of.0.into(), of.1)).or_default().push(Rule::Needs(any_of(alternatives)));
        self
    }

    fn exclude(&mut self, of: (&str, u32), package: &str) {
        let every = Alternative { package: package.to_owned(), range: (0, u32::MAX) };
        self.rules.entry((of.0.into(), of.1)).or_default().push(Rule::Excludes(every));
    }
}

fn any_of(alternatives: &[(&str, u32, u32)]) -> Need<String, (u32, u32)> {
    let one = |&(package, from, to): &(&str, u32, u32)| Alternative { package: package.to_owned(), range: (from, to) };
    Need { alternatives: alternatives.iter().map(one).collect() }
}

impl Provider for Made {
    type Package = String;
    type Version = u32;
    type Range = (u32, u32);
    type Error = String;

    fn versions(&self, package: &String) -> Result<Vec<u32>, String> {
        self.versions.get(package).map(|&n| (0..n).rev().collect()).ok_or_else(|| format!("no package {package}"))
    }
    fn rules(&self, package: &String, version: &u32) -> Result<Vec<RuleOf<Self>>, String> {
        self.asked.set(self.asked.get() + 1);
        Ok(self.rules.get(&(package.clone(), *version)).cloned().unwrap_or_default())
    }
    fn allows(&self, range: &(u32, u32), _: &String, version: &u32) -> bool {
        (range.0..range.1).contains(version)
    }
    fn go_on(&self) -> bool {
        self.stop_after.is_none_or(|after| self.asked.get() < after)
    }
}

fn solve(made: &Made, wishes: &[NeedOf<Made>], budget: u64) -> Result<Vec<ChoiceOf<Made>>, Failure<Made>> {
    kladder_solve::solve(made, &Question { wishes, held: &[], budget })
}

/// `p0` needs `p1` at the same version, and so on; only version 0 of the last exists.
fn chain(length: u32, versions: u32) -> Made {
    let mut made = Made::default();
    for at in 0..length {
        made.package(&format!("p{at}"), if at + 1 == length { 1 } else { versions });
        for version in 0..versions {
            made.need((&format!("p{at}"), version), &[(&format!("p{}", at + 1), version, version + 1)]);
        }
    }
    let last = format!("p{}", length - 1);
    made.rules.retain(|(package, _), _| *package != last);
    made
}

#[test]
fn a_long_chain_of_near_misses_does_not_explode() {
    let made = chain(60, 20);
    let chosen = solve(&made, &[any_of(&[("p0", 0, 99)])], BUDGET).unwrap();
    assert_eq!(chosen.len(), 60);
    assert!(chosen.iter().all(|(_, version)| *version == 0));
    assert!(made.asked.get() <= 60 * 20, "each candidate is asked once: {}", made.asked.get());
}

#[test]
fn a_chain_without_an_end_is_refuted_through_the_whole_of_it() {
    let mut made = chain(10, 3);
    made.package("p9", 0);
    let Err(Failure::Impossible(clash)) = solve(&made, &[any_of(&[("p0", 0, 99)])], BUDGET) else { panic!("solved?") };
    assert_eq!(clash.wishes, [0]);
    let needs = clash.facts.iter().filter(|fact| matches!(fact, Fact::Rule { .. })).count();
    assert_eq!(needs, 9 * 3, "every version of every link is ruled out");
}

#[test]
fn exclusive_wishes_over_one_package_are_told_apart_quickly() {
    // Twelve tools that each want another version of the one thing they share.
    let mut made = Made::default();
    made.package("shared", 12);
    for tool in 0..12u32 {
        made.package(&format!("t{tool}"), 4);
        for version in 0..4 {
            made.need((&format!("t{tool}"), version), &[("shared", tool, tool + 1)]);
        }
    }
    let wishes: Vec<_> = (0..12).map(|tool| any_of(&[(&format!("t{tool}"), 0, 9)])).collect();
    let Err(Failure::Impossible(clash)) = solve(&made, &wishes, BUDGET) else { panic!("solved?") };
    assert_eq!(clash.wishes.len(), 2, "two of them are enough");
}

#[test]
fn a_crowd_of_tools_that_all_exclude_each_other_is_settled_quickly() {
    // Sixty providers, each of which excludes all the others; two users that want another one each.
    let mut made = Made::default();
    let names: Vec<String> = (0..60).map(|at| format!("p{at}")).collect();
    for name in &names {
        made.package(name, 20);
        for version in 0..20 {
            names.iter().filter(|other| *other != name).for_each(|other| made.exclude((name, version), other));
        }
    }
    let all: Vec<_> = names.iter().map(|name| (name.as_str(), 0, 99)).collect();
    let (early, late) = (any_of(&all[..30]), any_of(&all[20..]));
    let chosen = solve(&made, &[early.clone(), late.clone()], BUDGET).unwrap();
    assert_eq!(chosen, [("p20".to_owned(), 19)], "the first that meets both");
    let apart = [early, any_of(&all[30..])];
    let Err(Failure::Impossible(clash)) = solve(&made, &apart, BUDGET) else { panic!("solved?") };
    assert_eq!(clash.wishes, [0, 1]);
}

#[test]
fn the_first_provider_that_can_be_had_is_taken() {
    let mut made = Made::default();
    made.package("a", 1).package("b", 1).package("c", 1).package("user", 1).package("base", 2);
    made.need(("user", 0), &[("a", 0, 9), ("b", 0, 9), ("c", 0, 9)]);
    made.need(("a", 0), &[("base", 0, 1)]).need(("b", 0), &[("base", 1, 2)]);
    let names = |wishes: &[Need<String, (u32, u32)>]| {
        let mut names: Vec<String> = solve(&made, wishes, BUDGET).unwrap().into_iter().map(|(name, _)| name).collect();
        names.sort();
        names.join(" ")
    };
    assert_eq!(names(&[any_of(&[("user", 0, 9)])]), "a base user");
    assert_eq!(names(&[any_of(&[("base", 1, 2)]), any_of(&[("user", 0, 9)])]), "b base user");
    assert_eq!(
        names(&[any_of(&[("c", 0, 9)]), any_of(&[("user", 0, 9)])]),
        "c user",
        "what was wished for before will do"
    );
}

#[test]
fn the_answer_is_the_same_every_time() {
    let mut made = Made::default();
    for package in ["x", "y", "z"] {
        made.package(package, 5);
        for version in 0..5u32 {
            let other = if package == "x" { "y" } else { "z" };
            made.need((package, version), &[(other, version.saturating_sub(2), version + 2)]);
        }
    }
    let wishes = [any_of(&[("x", 1, 4)]), any_of(&[("z", 0, 3)])];
    let first = solve(&made, &wishes, BUDGET).unwrap();
    assert!((0..20).all(|_| solve(&made, &wishes, BUDGET).unwrap() == first));
}

#[test]
fn a_provider_that_fails_or_says_stop_ends_the_search_as_such() {
    let mut made = Made::default();
    made.package("here", 1).need(("here", 0), &[("nowhere", 0, 9)]);
    let failed = solve(&made, &[any_of(&[("here", 0, 9)])], BUDGET);
    assert!(matches!(failed, Err(Failure::Provider(error)) if error == "no package nowhere"));
    let mut long = chain(2000, 2);
    long.stop_after = Some(100);
    assert!(matches!(solve(&long, &[any_of(&[("p0", 0, 9)])], BUDGET), Err(Failure::GaveUp { .. })));
}
