//! The resolver against brute force and a SAT solver on small random problems.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use kladder_solve::{Alternative, Clash, Fact, Failure, Need, Provider, Question, Rule, RuleOf, solve};
use proptest::prelude::*;
use varisat::{ExtendFormula, Lit, Solver};

const BUDGET: u64 = 1_000_000;

type Needs = Vec<Need<u8, u8>>;
type Chosen = BTreeMap<u8, u8>;

/// Packages and versions are small numbers, the highest version is the best; a range is the set of versions it allows,
/// as bits.
#[derive(Clone, Debug)]
struct Small {
    versions: Vec<u8>,
    rules: BTreeMap<(u8, u8), Vec<Rule<u8, u8>>>,
}

impl Provider for Small {
    type Package = u8;
    type Version = u8;
    type Range = u8;
    type Error = ();

    fn versions(&self, package: &u8) -> Result<Vec<u8>, ()> {
        self.versions.get(usize::from(*package)).map(|&n| (0..n).rev().collect()).ok_or(())
    }
    fn rules(&self, package: &u8, version: &u8) -> Result<Vec<RuleOf<Self>>, ()> {
        Ok(self.rules.get(&(*package, *version)).cloned().unwrap_or_default())
    }
    fn allows(&self, range: &u8, _: &u8, version: &u8) -> bool {
        range & (1 << version) != 0
    }
}

impl Small {
    fn meets(&self, chosen: &Chosen, a: &Alternative<u8, u8>) -> bool {
        chosen.get(&a.package).is_some_and(|v| self.allows(&a.range, &a.package, v))
    }

    fn met(&self, chosen: &Chosen, need: &Need<u8, u8>) -> bool {
        need.alternatives.iter().any(|a| self.meets(chosen, a))
    }

    fn kept(&self, chosen: &Chosen, of: u8, rule: &Rule<u8, u8>) -> bool {
        match rule {
            Rule::Needs(need) => self.met(chosen, need),
            Rule::Excludes(other) => other.package == of || !self.meets(chosen, other),
        }
    }

    fn valid(&self, chosen: &Chosen, wishes: &[Need<u8, u8>]) -> bool {
        let rules = |(&p, &v): (&u8, &u8)| self.rules.get(&(p, v)).into_iter().flatten().map(move |rule| (p, rule));
        wishes.iter().all(|wish| self.met(chosen, wish))
            && chosen.iter().flat_map(rules).all(|(of, rule)| self.kept(chosen, of, rule))
    }

    /// Tries every choice of at most one version for each package.
    fn solvable(&self, wishes: &[Need<u8, u8>]) -> bool {
        let sizes: Vec<u32> = self.versions.iter().map(|&n| u32::from(n) + 1).collect();
        (0..sizes.iter().product()).any(|mut code: u32| {
            let mut chosen = Chosen::new();
            for (package, size) in sizes.iter().enumerate() {
                if !code.is_multiple_of(*size) {
                    chosen.insert(u8::try_from(package).unwrap(), u8::try_from(code % size - 1).unwrap());
                }
                code /= size;
            }
            self.valid(&chosen, wishes)
        })
    }

    /// The same question to a SAT solver, encoded apart from the resolver: a variable for each candidate.
    fn satisfiable(&self, wishes: &[Need<u8, u8>]) -> bool {
        let mut solver = Solver::new();
        let lits: BTreeMap<(u8, u8), Lit> = self.candidates().map(|key| (key, solver.new_lit())).collect();
        let among = |a: &Alternative<u8, u8>| {
            let fits = |&&(p, v): &&(u8, u8)| p == a.package && self.allows(&a.range, &p, &v);
            lits.keys().filter(fits).map(|key| lits[key]).collect::<Vec<_>>()
        };
        let any_of = |need: &Need<u8, u8>| need.alternatives.iter().flat_map(among).collect::<Vec<_>>();
        for wish in wishes {
            solver.add_clause(&any_of(wish));
        }
        for (&(p, v), &lit) in &lits {
            (0..v).for_each(|other| solver.add_clause(&[!lit, !lits[&(p, other)]]));
            for rule in self.rules.get(&(p, v)).into_iter().flatten() {
                match rule {
                    Rule::Needs(need) => solver.add_clause(&[any_of(need), vec![!lit]].concat()),
                    Rule::Excludes(other) if other.package == p => {}
                    Rule::Excludes(other) => among(other).iter().for_each(|&x| solver.add_clause(&[!lit, !x])),
                }
            }
        }
        solver.solve().unwrap()
    }

    fn candidates(&self) -> impl Iterator<Item = (u8, u8)> {
        (0u8..).zip(&self.versions).flat_map(|(p, &n)| (0..n).map(move |v| (p, v)))
    }

    /// Only `version` is left of `package`; the others need what is not there.
    fn held(&self, (package, version): (u8, u8)) -> Self {
        let mut held = self.clone();
        for other in (0..self.versions[usize::from(package)]).filter(|&other| other != version) {
            held.rules.insert((package, other), vec![Rule::Needs(Need { alternatives: Vec::new() })]);
        }
        held
    }

    /// What the documentation promises, by plain backtracking: wishes in order, then needs breadth-first.
    fn first(&self, wishes: &[Need<u8, u8>]) -> Option<Vec<(u8, u8)>> {
        self.search(wishes.iter().collect(), 0, Vec::new())
    }

    fn search<'s>(&'s self, queue: Vec<&'s Need<u8, u8>>, at: usize, picked: Vec<(u8, u8)>) -> Option<Vec<(u8, u8)>> {
        let chosen: Chosen = picked.iter().copied().collect();
        let broken = picked.iter().flat_map(|key| self.rules.get(key).into_iter().flatten().map(|rule| (key.0, rule)));
        if broken.filter(|(_, rule)| matches!(rule, Rule::Excludes(_))).any(|(of, rule)| !self.kept(&chosen, of, rule))
        {
            return None;
        }
        let Some(need) = queue.get(at) else { return Some(picked) };
        if self.met(&chosen, need) {
            return self.search(queue, at + 1, picked);
        }
        let versions = |a: &Alternative<u8, u8>| {
            let (package, range) = (a.package, a.range);
            let all = (0..self.versions[usize::from(package)]).rev();
            all.filter(move |v| range & (1 << v) != 0).map(move |v| (package, v)).collect::<Vec<_>>()
        };
        need.alternatives.iter().flat_map(versions).filter(|(p, _)| !chosen.contains_key(p)).find_map(|key| {
            let needs = self.rules.get(&key).into_iter().flatten();
            let needs = needs.filter_map(|rule| if let Rule::Needs(need) = rule { Some(need) } else { None });
            let queue = queue.iter().copied().chain(needs).collect();
            self.search(queue, at + 1, [picked.clone(), vec![key]].concat())
        })
    }
}

fn alternatives(packages: u8) -> impl Strategy<Value = Alternative<u8, u8>> {
    (0..packages, 0u8..16).prop_map(|(package, range)| Alternative { package, range })
}

fn needs(packages: u8, most: usize) -> impl Strategy<Value = Needs> {
    let need = prop::collection::vec(alternatives(packages), 1..3).prop_map(|alternatives| Need { alternatives });
    prop::collection::vec(need, 0..most)
}

fn rules(packages: u8) -> impl Strategy<Value = Vec<Rule<u8, u8>>> {
    let excluded = prop::collection::vec(alternatives(packages), 0..2);
    (needs(packages, 3), excluded).prop_map(|(needs, excluded)| {
        needs.into_iter().map(Rule::Needs).chain(excluded.into_iter().map(Rule::Excludes)).collect()
    })
}

fn problems() -> impl Strategy<Value = (Small, Needs)> {
    let catalog = prop::collection::vec(1u8..4, 5).prop_flat_map(|versions| {
        let empty = Small { versions, rules: BTreeMap::new() };
        let each = prop::collection::vec(rules(5), empty.candidates().count());
        each.prop_map(move |lists| Small { rules: empty.candidates().zip(lists).collect(), ..empty.clone() })
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
    let wishes: Vec<_> = clash.wishes.iter().map(|&at| wishes[at].clone()).collect();
    let rules: Vec<_> = clash.facts.iter().filter_map(rule_of).collect();
    let only = |left_out: Option<&(u8, &Rule<u8, u8>)>| {
        let mut only = Small { rules: BTreeMap::new(), ..problem.clone() };
        for &(package, version, rule) in &rules {
            assert!(problem.rules[&(package, version)].contains(rule), "an invented rule");
            if left_out != Some(&(package, rule)) {
                only.rules.entry((package, version)).or_default().push(rule.clone());
            }
        }
        only
    };
    assert!(!only(None).solvable(&wishes), "the facts alone leave a way out");
    for &(package, _, rule) in &rules {
        assert!(only(Some(&(package, rule))).solvable(&wishes), "the clash does not need {package} {rule:?}");
    }
}

fn rule_of(fact: &Fact<Small>) -> Option<(u8, u8, &Rule<u8, u8>)> {
    if let Fact::Rule { package, version, rule } = fact { Some((*package, *version, rule)) } else { None }
}

fn ask(problem: &Small, wishes: &[Need<u8, u8>], held: &[(u8, u8)]) -> Result<Vec<(u8, u8)>, Failure<Small>> {
    solve(problem, &Question { wishes, held, budget: BUDGET })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn solvable_or_not_is_what_brute_force_and_a_sat_solver_say((problem, wishes) in problems()) {
        let solvable = problem.solvable(&wishes);
        prop_assert_eq!(problem.satisfiable(&wishes), solvable);
        match ask(&problem, &wishes, &[]) {
            Ok(choices) => {
                let chosen: Chosen = choices.iter().copied().collect();
                prop_assert_eq!(chosen.len(), choices.len());
                prop_assert!(solvable && problem.valid(&chosen, &wishes));
            }
            Err(Failure::Impossible(clash)) => {
                prop_assert!(!solvable);
                assert_smallest(&problem, &wishes, &clash);
                assert_facts_refute(&problem, &wishes, &clash);
            }
            Err(other) => prop_assert!(false, "{:?}", other),
        }
    }

    #[test]
    fn the_answer_is_the_one_that_plain_backtracking_finds_first((problem, wishes) in problems()) {
        prop_assert_eq!(ask(&problem, &wishes, &[]).ok(), problem.first(&wishes));
    }

    #[test]
    fn what_is_held_stays_as_far_as_possible(
        (problem, wishes) in problems(),
        held in prop::collection::vec((0u8..5, 0u8..3), 0..4),
    ) {
        let mut bound = problem.clone();
        for &choice in &held {
            let tighter = bound.held(choice);
            if tighter.solvable(&wishes) {
                bound = tighter;
            }
        }
        prop_assert_eq!(ask(&problem, &wishes, &held).ok(), bound.first(&wishes));
    }
}

/// A candidate, and the packages and ranges it needs.
type Row<'r> = ((u8, u8), &'r [(u8, u8)]);

fn catalog(versions: &[u8], needs: &[Row<'_>]) -> Small {
    let one = |&(package, range): &(u8, u8)| Rule::Needs(Need::one(package, range));
    let rules = needs.iter().map(|(of, list)| (*of, list.iter().map(one).collect())).collect();
    Small { versions: versions.to_vec(), rules }
}

#[test]
fn earlier_wishes_get_the_newer_version() {
    // 0@1 needs 2@0 and 1@1 needs 2@1: only one of the two wishes can have its newest.
    let both = catalog(&[2, 2, 2], &[((0, 1), &[(2, 0b01)]), ((1, 1), &[(2, 0b10)])]);
    let first_zero = ask(&both, &[Need::one(0, 0b11), Need::one(1, 0b11)], &[]).unwrap();
    let first_one = ask(&both, &[Need::one(1, 0b11), Need::one(0, 0b11)], &[]).unwrap();
    assert!(first_zero.contains(&(0, 1)) && first_zero.contains(&(1, 0)));
    assert!(first_one.contains(&(1, 1)) && first_one.contains(&(0, 0)));
}

#[test]
fn a_spent_budget_is_not_called_impossible() {
    let wide = catalog(&[3; 5], &[]);
    let wishes: Vec<_> = (0..5).map(|p| Need::one(p, 0b111)).collect();
    let spent = solve(&wide, &Question { wishes: &wishes, held: &[], budget: 3 });
    assert!(matches!(spent, Err(Failure::GaveUp { steps: 4 })));
}
