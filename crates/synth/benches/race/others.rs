//! The libraries that are raced against.

use std::collections::HashMap;
use std::fmt::{self, Display};

use ::pubgrub::{OfflineDependencyProvider, PubGrubError, Ranges};
use ::resolvo::utils::{Pool, VersionSet};
use ::resolvo::{
    Candidates, Condition, ConditionId, ConditionalRequirement, Dependencies, DependencyProvider, Interner,
    KnownDependencies, NameId, Problem, Requirement, SolvableId, Solver, SolverCache, StringId, UnsolvableOrCancelled,
    VersionSetId, VersionSetUnionId,
};

use crate::instance::{Alternative, Instance, Mask};

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Set(Mask);

impl Display for Set {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:b}", self.0)
    }
}

impl VersionSet for Set {
    type V = u32;
}

/// Names are interned as they are met, so that only what is asked for costs anything.
struct Lazy<'i> {
    instance: &'i Instance,
    pool: Pool<Set, u32>,
}

impl Lazy<'_> {
    fn set(&self, (package, mask): Alternative) -> VersionSetId {
        self.pool.intern_version_set(self.pool.intern_package_name(package), Set(mask))
    }

    fn requirement(&self, list: &[Alternative]) -> ConditionalRequirement {
        let requirement = match list {
            [one] => Requirement::Single(self.set(*one)),
            [first, rest @ ..] => {
                let rest: Vec<VersionSetId> = rest.iter().map(|other| self.set(*other)).collect();
                Requirement::Union(self.pool.intern_version_set_union(self.set(*first), rest.into_iter()))
            }
            [] => unreachable!("a need has alternatives"),
        };
        ConditionalRequirement { condition: None, requirement }
    }
}

impl Interner for Lazy<'_> {
    type NameId = NameId;
    type SolvableId = SolvableId;

    fn display_solvable(&self, solvable: SolvableId) -> impl Display + '_ {
        self.pool.resolve_solvable(solvable).record
    }
    fn display_name(&self, name: NameId) -> impl Display + '_ {
        *self.pool.resolve_package_name(name)
    }
    fn display_version_set(&self, set: VersionSetId) -> impl Display + '_ {
        self.pool.resolve_version_set(set).clone()
    }
    fn display_string(&self, string: StringId) -> impl Display + '_ {
        self.pool.resolve_string(string).to_owned()
    }
    fn version_set_name(&self, set: VersionSetId) -> NameId {
        self.pool.resolve_version_set_package_name(set)
    }
    fn solvable_name(&self, solvable: SolvableId) -> NameId {
        self.pool.resolve_solvable(solvable).name
    }
    fn version_sets_in_union(&self, union: VersionSetUnionId) -> impl Iterator<Item = VersionSetId> {
        self.pool.resolve_version_set_union(union)
    }
    fn resolve_condition(&self, condition: ConditionId) -> Condition {
        self.pool.resolve_condition(condition).clone()
    }
}

impl DependencyProvider for Lazy<'_> {
    async fn filter_candidates(&self, candidates: &[SolvableId], set: VersionSetId, inverse: bool) -> Vec<SolvableId> {
        let mask = self.pool.resolve_version_set(set).0;
        let inside = |solvable: &SolvableId| mask >> self.pool.resolve_solvable(*solvable).record & 1 == 1;
        candidates.iter().copied().filter(|solvable| inside(solvable) != inverse).collect()
    }
    async fn get_candidates(&self, name: NameId) -> Option<Candidates> {
        let package = *self.pool.resolve_package_name(name) as usize;
        let versions = 0..u32::try_from(self.instance.packages[package].len()).ok()?;
        let candidates = versions.map(|version| self.pool.intern_solvable(name, version)).collect();
        Some(Candidates { candidates, ..Candidates::default() })
    }
    async fn sort_candidates(&self, _: &SolverCache<Self>, solvables: &mut [SolvableId]) {
        solvables.sort_by_key(|&solvable| std::cmp::Reverse(self.pool.resolve_solvable(solvable).record));
    }
    async fn get_dependencies(&self, solvable: SolvableId) -> Dependencies {
        let solvable = self.pool.resolve_solvable(solvable);
        let package = *self.pool.resolve_package_name(solvable.name) as usize;
        let asks = &self.instance.packages[package][solvable.record as usize];
        let all = (1 << self.instance.packages[package].len()) - 1;
        Dependencies::Known(KnownDependencies {
            requirements: asks.needs.iter().map(|list| self.requirement(list)).collect(),
            constrains: asks.excludes.iter().map(|&(package, mask)| self.set((package, all & !mask))).collect(),
        })
    }
}

/// How many packages the answer of resolvo has; `None` where there is none.
pub fn resolvo(instance: &Instance) -> Option<usize> {
    let lazy = Lazy { instance, pool: Pool::new() };
    let wishes = instance.wishes.iter().map(|list| lazy.requirement(list)).collect();
    let mut solver = Solver::new(lazy);
    match solver.solve(Problem::new().requirements(wishes)) {
        Ok(chosen) => {
            let pool = &solver.provider().pool;
            let choice = |solvable: &SolvableId| {
                let solvable = pool.resolve_solvable(*solvable);
                (*pool.resolve_package_name(solvable.name), solvable.record)
            };
            let chosen: HashMap<u32, u32> = chosen.iter().map(choice).collect();
            assert!(instance.is_met(&chosen));
            Some(chosen.len())
        }
        Err(UnsolvableOrCancelled::Unsolvable(_)) => None,
        Err(UnsolvableOrCancelled::Cancelled(_)) => panic!("nobody cancels"),
    }
}

/// The package that stands for the wishes.
const ROOT: u32 = u32::MAX;

fn ranges(mask: Mask) -> Ranges<u32> {
    (0..Mask::BITS)
        .filter(|bit| mask >> bit & 1 == 1)
        .fold(Ranges::empty(), |set, bit| set.union(&Ranges::singleton(bit)))
}

/// The instance as pubgrub's own provider wants it: everything at once, so laying it out is not timed.
pub struct Laid(OfflineDependencyProvider<u32, Ranges<u32>>);

impl Laid {
    pub fn out(instance: &Instance) -> Self {
        let mut provider = OfflineDependencyProvider::new();
        let wants = |lists: &[Vec<Alternative>]| -> Vec<(u32, Ranges<u32>)> {
            let mut joined: HashMap<u32, Mask> = HashMap::new();
            for &(package, mask) in lists.iter().flatten() {
                *joined.entry(package).or_insert(Mask::MAX) &= mask;
            }
            joined.into_iter().map(|(package, mask)| (package, ranges(mask))).collect()
        };
        for (package, versions) in (0u32..).zip(&instance.packages) {
            for (version, asks) in (0u32..).zip(versions) {
                provider.add_dependencies(package, version, wants(&asks.needs));
            }
        }
        provider.add_dependencies(ROOT, 0u32, wants(&instance.wishes));
        Self(provider)
    }

    /// How many packages the answer of pubgrub has; `None` where there is none.
    pub fn solve(&self, instance: &Instance) -> Option<usize> {
        match ::pubgrub::resolve(&self.0, ROOT, 0u32) {
            Ok(chosen) => {
                let chosen: HashMap<u32, u32> = chosen.into_iter().filter(|&(package, _)| package != ROOT).collect();
                assert!(instance.is_met(&chosen));
                Some(chosen.len())
            }
            Err(PubGrubError::NoSolution(_)) => None,
            Err(error) => panic!("{error}"),
        }
    }
}
