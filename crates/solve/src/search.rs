//! The search: asks the provider, feeds the engine, decides in order of preference.

use std::collections::HashMap;

use crate::engine::{ClauseId, Conflict, Engine, Lit, Var};
use crate::{ChoiceOf, Fact, NeedOf, Provider};

/// Why one attempt ended without an answer.
pub(crate) enum Ended<P: Provider> {
    Refuted(Vec<Fact<P>>),
    OutOfBudget(u64),
    Provider(P::Error),
}

/// Solves for the wishes at the positions `taken` only.
pub(crate) fn attempt<P: Provider>(
    provider: &P,
    wishes: &[NeedOf<P>],
    taken: &[usize],
    budget: u64,
) -> Result<Vec<ChoiceOf<P>>, Ended<P>> {
    let mut search = Search::new(provider);
    for &wish in taken {
        let lits = search.lits_for(&wishes[wish])?;
        search.require(lits, None, Origin::Wish(wish))?;
    }
    search.run(budget)
}

enum Origin {
    Wish(usize),
    /// The candidate and the position of the need among its needs.
    Need(Var, usize),
}

struct Requirement {
    clause: ClauseId,
    /// The candidate whose need it is; a wish has none.
    of: Option<Var>,
    /// In order of preference; the clause's own literals are shuffled by watching.
    candidates: Vec<Var>,
    origin: Origin,
}

struct Candidate<P: Provider> {
    package: P::Package,
    version: P::Version,
    needs: Option<Vec<NeedOf<P>>>,
}

struct Search<'p, P: Provider> {
    provider: &'p P,
    engine: Engine,
    groups: HashMap<P::Package, Vec<Var>>,
    candidates: Vec<Candidate<P>>,
    requirements: Vec<Requirement>,
    steps: u64,
}

impl<'p, P: Provider> Search<'p, P> {
    fn new(provider: &'p P) -> Self {
        Self {
            provider,
            engine: Engine::default(),
            groups: HashMap::new(),
            candidates: Vec::new(),
            requirements: Vec::new(),
            steps: 0,
        }
    }

    fn run(&mut self, budget: u64) -> Result<Vec<ChoiceOf<P>>, Ended<P>> {
        loop {
            self.settle(budget)?;
            match self.next_open() {
                None => return Ok(self.chosen()),
                Some(var) => self.engine.choose(var),
            }
            self.step(budget)?;
        }
    }

    fn step(&mut self, budget: u64) -> Result<(), Ended<P>> {
        self.steps += 1;
        let asked = self.steps.is_multiple_of(256);
        if self.steps > budget || (asked && !self.provider.go_on()) {
            return Err(Ended::OutOfBudget(self.steps));
        }
        Ok(())
    }

    /// Propagates, learns and loads needs until nothing follows any more.
    fn settle(&mut self, budget: u64) -> Result<(), Ended<P>> {
        loop {
            while let Some(conflict) = self.engine.propagate() {
                self.learn(&conflict)?;
                self.step(budget)?;
            }
            let unloaded = self.engine.trail().find(|&(var, yes)| yes && self.candidates[var].needs.is_none());
            match unloaded {
                Some((var, _)) => {
                    self.load(var)?;
                    self.step(budget)?;
                }
                None => return Ok(()),
            }
        }
    }

    fn load(&mut self, var: Var) -> Result<(), Ended<P>> {
        let Candidate { package, version, .. } = &self.candidates[var];
        let needs = self.provider.needs(package, version).map_err(Ended::Provider)?;
        self.candidates[var].needs = Some(needs.clone());
        for (at, need) in needs.iter().enumerate() {
            let candidates = self.lits_for(need)?;
            self.require(candidates, Some(var), Origin::Need(var, at))?;
        }
        Ok(())
    }

    /// The candidates that meet `need`, best first.
    fn lits_for(&mut self, need: &NeedOf<P>) -> Result<Vec<Var>, Ended<P>> {
        let mut found = Vec::new();
        for alternative in &need.alternatives {
            let group = self.group(&alternative.package)?;
            let allowed = |var: &Var| {
                let candidate = &self.candidates[*var];
                self.provider.allows(&alternative.range, &candidate.package, &candidate.version)
            };
            found.extend(group.into_iter().filter(allowed));
        }
        Ok(found)
    }

    fn group(&mut self, package: &P::Package) -> Result<Vec<Var>, Ended<P>> {
        if let Some(vars) = self.groups.get(package) {
            return Ok(vars.clone());
        }
        let versions = self.provider.versions(package).map_err(Ended::Provider)?;
        let vars = self.engine.add_group(versions.len());
        let package_of = |version| Candidate { package: package.clone(), version, needs: None };
        self.candidates.extend(versions.into_iter().map(package_of));
        self.groups.insert(package.clone(), vars.clone());
        Ok(vars)
    }

    fn require(&mut self, candidates: Vec<Var>, of: Option<Var>, origin: Origin) -> Result<(), Ended<P>> {
        let mut lits: Vec<Lit> = candidates.iter().map(|&var| Lit::yes(var)).collect();
        lits.extend(of.map(Lit::no));
        let (clause, conflict) = self.engine.add_clause(lits);
        self.requirements.push(Requirement { clause, of, candidates, origin });
        conflict.map_or(Ok(()), |conflict| self.learn(&conflict))
    }

    fn learn(&mut self, conflict: &Conflict) -> Result<(), Ended<P>> {
        self.engine.learn(conflict).map_err(|given| Ended::Refuted(self.facts(&given)))
    }

    /// The first requirement that is in force and not met: its best candidate that is still open.
    fn next_open(&self) -> Option<Var> {
        let in_force = |r: &&Requirement| r.of.is_none_or(|of| self.engine.value(of) == Some(true));
        let open = self
            .requirements
            .iter()
            .filter(in_force)
            .find(|r| !r.candidates.iter().any(|&var| self.engine.value(var) == Some(true)))?;
        open.candidates.iter().copied().find(|&var| self.engine.value(var).is_none())
    }

    fn chosen(&self) -> Vec<ChoiceOf<P>> {
        let choice = |var: Var| (self.candidates[var].package.clone(), self.candidates[var].version.clone());
        self.engine.trail().filter(|&(_, yes)| yes).map(|(var, _)| choice(var)).collect()
    }

    fn facts(&self, given: &[ClauseId]) -> Vec<Fact<P>> {
        let used = self.requirements.iter().filter(|r| given.contains(&r.clause));
        used.filter_map(|r| match r.origin {
            Origin::Wish(at) => Some(Fact::Wish(at)),
            Origin::Need(var, at) => {
                let candidate = &self.candidates[var];
                let need = candidate.needs.as_ref()?.get(at)?.clone();
                Some(Fact::Need { package: candidate.package.clone(), version: candidate.version.clone(), need })
            }
        })
        .collect()
    }
}
