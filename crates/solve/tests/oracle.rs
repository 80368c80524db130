//! The resolver against a brute-force oracle on small random problems.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use kladder_solve::{Alternative, Clash, Fact, Failure, Need, NeedOf, Provider, solve};
use proptest::prelude::*;

const BUDGET: u64 = 1_000_000;

/// Packages and versions are small numbers; a range is the set of versions it allows, as bits.
#[derive(Clone, Debug)]
struct Small {
    versions: Vec<u8>,
    needs: BTreeMap<(u8, u8), Vec<Need<u8, u8>>>,
}

impl Provider for Small {
    type Package = u8;
    type Version = u8;
    type Range = u8;
    type Error = ();

    fn versions(&self, package: &u8) -> Result<Vec<u8>, ()> {
        self.versions.get(usize::from(*package)).map(|&n| (0..n).rev().collect()).ok_or(())
    }
    fn needs(&self, package: &u8, version: &u8) -> Result<Vec<NeedOf<Self>>, ()> {
        Ok(self.needs.get(&(*package, *version)).cloned().unwrap_or_default())
    }
    fn allows(&self, range: &u8, _: &u8, version: &u8) -> bool {
        range & (1 << version) != 0
    }
}

impl Small {
    fn met(&self, chosen: &BTreeMap<u8, u8>, need: &Need<u8, u8>) -> bool {
        need.alternatives.iter().any(|a| chosen.get(&a.package).is_some_and(|v| self.allows(&a.range, &a.package, v)))
    }

    fn valid(&self, chosen: &BTreeMap<u8, u8>, wishes: &[Need<u8, u8>]) -> bool {
        let mut needs = chosen.iter().flat_map(|(&p, &v)| self.needs.get(&(p, v)).into_iter().flatten());
        wishes.iter().all(|wish| self.met(chosen, wish)) && needs.all(|need| self.met(chosen, need))
    }

    /// Tries every choice of at most one version for each package.
    fn solvable(&self, wishes: &[Need<u8, u8>]) -> bool {
        let sizes: Vec<u32> = self.versions.iter().map(|&n| u32::from(n) + 1).collect();
        (0..sizes.iter().product()).any(|mut code: u32| {
            let mut chosen = BTreeMap::new();
            for (package, size) in sizes.iter().enumerate() {
                if !code.is_multiple_of(*size) {
                    chosen.insert(u8::try_from(package).unwrap(), u8::try_from(code % size - 1).unwrap());
                }
                code /= size;
            }
            self.valid(&chosen, wishes)
        })
    }
}

fn needs(packages: u8, most: usize) -> impl Strategy<Value = Vec<Need<u8, u8>>> {
    let alternative = (0..packages, 0u8..16).prop_map(|(package, range)| Alternative { package, range });
    let need = prop::collection::vec(alternative, 1..3).prop_map(|alternatives| Need { alternatives });
    prop::collection::vec(need, 0..most)
}

fn problems() -> impl Strategy<Value = (Small, Vec<Need<u8, u8>>)> {
    let catalog = prop::collection::vec(1u8..4, 5).prop_flat_map(|versions| {
        let candidates: Vec<(u8, u8)> =
            (0u8..5).zip(&versions).flat_map(|(p, &n)| (0..n).map(move |v| (p, v))).collect();
        let each = prop::collection::vec(needs(5, 3), candidates.len());
        each.prop_map(move |lists| Small {
            versions: versions.clone(),
            needs: candidates.iter().copied().zip(lists).collect(),
        })
    });
    (catalog, needs(5, 4))
}

fn assert_smallest(problem: &Small, wishes: &[Need<u8, u8>], clash: &Clash<Small>) {
    let taken = |left_out: Option<usize>| -> Vec<_> {
        clash.wishes.iter().filter(|&&at| Some(at) != left_out).map(|&at| wishes[at].clone()).collect()
    };
    assert!(!problem.solvable(&taken(None)), "the clash can be solved");
    for &at in &clash.wishes {
        assert!(problem.solvable(&taken(Some(at))), "wish {at} is not part of the clash");
    }
}

fn assert_facts_refute(problem: &Small, wishes: &[Need<u8, u8>], clash: &Clash<Small>) {
    let mut only = Small { needs: BTreeMap::new(), ..problem.clone() };
    for fact in &clash.facts {
        if let Fact::Need { package, version, need } = fact {
            assert!(problem.needs[&(*package, *version)].contains(need), "an invented need");
            only.needs.entry((*package, *version)).or_default().push(need.clone());
        }
    }
    let wishes: Vec<_> = clash.wishes.iter().map(|&at| wishes[at].clone()).collect();
    assert!(!only.solvable(&wishes), "the facts alone leave a way out");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    #[test]
    fn agrees_with_brute_force_and_explains_what_it_refuses((problem, wishes) in problems()) {
        match solve(&problem, &wishes, BUDGET) {
            Ok(choices) => {
                let chosen: BTreeMap<u8, u8> = choices.iter().copied().collect();
                prop_assert_eq!(chosen.len(), choices.len());
                prop_assert!(problem.valid(&chosen, &wishes));
            }
            Err(Failure::Impossible(clash)) => {
                prop_assert!(!problem.solvable(&wishes));
                assert_smallest(&problem, &wishes, &clash);
                assert_facts_refute(&problem, &wishes, &clash);
            }
            Err(other) => prop_assert!(false, "{:?}", other),
        }
    }
}

/// A candidate, and the packages and ranges it needs.
type Row<'r> = ((u8, u8), &'r [(u8, u8)]);

fn catalog(versions: &[u8], needs: &[Row<'_>]) -> Small {
    let one = |&(package, range): &(u8, u8)| Need::one(package, range);
    let needs = needs.iter().map(|(of, list)| (*of, list.iter().map(one).collect())).collect();
    Small { versions: versions.to_vec(), needs }
}

#[test]
fn earlier_wishes_get_the_newer_version() {
    // 0@1 needs 2@0 and 1@1 needs 2@1: only one of the two wishes can have its newest.
    let both = catalog(&[2, 2, 2], &[((0, 1), &[(2, 0b01)]), ((1, 1), &[(2, 0b10)])]);
    let first_zero = solve(&both, &[Need::one(0, 0b11), Need::one(1, 0b11)], BUDGET).unwrap();
    let first_one = solve(&both, &[Need::one(1, 0b11), Need::one(0, 0b11)], BUDGET).unwrap();
    assert!(first_zero.contains(&(0, 1)) && first_zero.contains(&(1, 0)));
    assert!(first_one.contains(&(1, 1)) && first_one.contains(&(0, 0)));
}

#[test]
fn needs_in_a_circle_are_one_answer() {
    let circle = catalog(&[1, 1], &[((0, 0), &[(1, 1)]), ((1, 0), &[(0, 1)])]);
    assert_eq!(solve(&circle, &[Need::one(0, 1)], BUDGET).unwrap(), [(0, 0), (1, 0)]);
}

#[test]
fn a_spent_budget_is_not_called_impossible() {
    let wide = catalog(&[3; 5], &[]);
    let wishes: Vec<_> = (0..5).map(|p| Need::one(p, 0b111)).collect();
    assert!(matches!(solve(&wide, &wishes, 3), Err(Failure::GaveUp { steps: 4 })));
}
