//! The search: asks the provider, feeds the engine, decides in order of preference.

use std::collections::HashMap;
use std::ops::Range;
use std::rc::Rc;

use crate::engine::{ClauseId, Conflict, Engine, Lit, Var};
use crate::walk::Walk;
use crate::{ChoiceOf, Fact, NeedOf, Provider, Rule, RuleOf};

/// Why one attempt ended without an answer.
pub(crate) enum Ended<P: Provider + ?Sized> {
    Refuted(Vec<Fact<P>>),
    OutOfBudget(u64),
    Provider(P::Error),
}

/// Solves for the wishes at the positions `taken` only, holding on to `held` where that is possible.
pub(crate) fn attempt<P: Provider>(
    provider: &P,
    wishes: &[NeedOf<P>],
    taken: &[usize],
    held: &[ChoiceOf<P>],
    budget: u64,
) -> Result<Vec<ChoiceOf<P>>, Ended<P>> {
    let mut search = Search::new(provider, budget);
    for &wish in taken {
        let candidates = search.lits_for(&wishes[wish])?;
        search.require(candidates, None, Origin::Wish(wish))?;
    }
    search.walk = Walk::from(0..search.requirements.len());
    for choice in held {
        search.hold(choice)?;
    }
    search.run()
}

/// Where a given clause comes from.
#[derive(Clone, Copy)]
enum Origin {
    Wish(usize),
    /// The candidate and the position of the rule among its rules.
    Rule(Var, usize),
    Hold,
}

/// What a variable stands for.
enum Meaning<P: Provider> {
    Candidate(Candidate<P>),
    /// A package is held to what was chosen for it before.
    Hold,
}

struct Candidate<P: Provider> {
    package: P::Package,
    version: P::Version,
    loaded: Option<Loaded<P>>,
}

struct Loaded<P: Provider> {
    rules: Rc<[RuleOf<P>]>,
    requirements: Range<usize>,
}

struct Search<'p, P: Provider> {
    provider: &'p P,
    engine: Engine,
    groups: HashMap<P::Package, Range<Var>>,
    meanings: Vec<Meaning<P>>,
    /// The candidates that meet each need, in order of preference; the clauses' own literals are shuffled by watching.
    requirements: Vec<Vec<Var>>,
    /// Ascending by clause.
    origins: Vec<(ClauseId, Origin)>,
    walk: Walk,
    holds: Vec<Var>,
    /// How many of the holds, from the first one on, have a value.
    decided: usize,
    /// How much of the trail has been asked for its rules.
    asked: usize,
    steps: u64,
    budget: u64,
}

impl<'p, P: Provider> Search<'p, P> {
    fn new(provider: &'p P, budget: u64) -> Self {
        Self {
            provider,
            engine: Engine::default(),
            groups: HashMap::new(),
            meanings: Vec::new(),
            requirements: Vec::new(),
            origins: Vec::new(),
            walk: Walk::default(),
            holds: Vec::new(),
            decided: 0,
            asked: 0,
            steps: 0,
            budget,
        }
    }

    fn run(&mut self) -> Result<Vec<ChoiceOf<P>>, Ended<P>> {
        loop {
            self.settle()?;
            match self.next_hold().or_else(|| self.walk.advance(&self.engine, &self.requirements, &self.meanings)) {
                None => return Ok(self.chosen()),
                Some(var) => {
                    self.walk.mark();
                    self.engine.choose(var);
                }
            }
            self.step()?;
        }
    }

    fn step(&mut self) -> Result<(), Ended<P>> {
        self.steps += 1;
        let asked = self.steps.is_multiple_of(256);
        if self.steps > self.budget || (asked && !self.provider.go_on()) {
            return Err(Ended::OutOfBudget(self.steps));
        }
        Ok(())
    }

    /// Propagates, learns and loads rules until nothing follows any more.
    fn settle(&mut self) -> Result<(), Ended<P>> {
        loop {
            while let Some(conflict) = self.engine.propagate() {
                self.learn(&conflict)?;
                self.step()?;
            }
            let Some(&lit) = self.engine.trail().get(self.asked) else { return Ok(()) };
            self.asked += 1;
            if lit.positive() && self.load(lit.var())? {
                self.step()?;
            }
        }
    }

    /// Asks for a candidate's rules, once.
    fn load(&mut self, var: Var) -> Result<bool, Ended<P>> {
        let Meaning::Candidate(Candidate { package, version, loaded: None }) = &self.meanings[var] else {
            return Ok(false);
        };
        let rules: Rc<[RuleOf<P>]> = self.provider.rules(package, version).map_err(Ended::Provider)?.into();
        let first = self.requirements.len();
        let needs = rules.iter().filter(|rule| matches!(rule, Rule::Needs(_))).count();
        if let Meaning::Candidate(candidate) = &mut self.meanings[var] {
            candidate.loaded = Some(Loaded { rules: Rc::clone(&rules), requirements: first..first + needs });
        }
        // All needs stand in one stretch, whatever is learned while they are added.
        for (at, rule) in rules.iter().enumerate() {
            match rule {
                Rule::Needs(need) => {
                    let candidates = self.lits_for(need)?;
                    self.require(candidates, Some(var), Origin::Rule(var, at))?;
                }
                Rule::Excludes(what) => {
                    let excluded = self.allowed(&what.package, &what.range)?;
                    for other in excluded.into_iter().filter(|&other| other != var) {
                        self.clause(vec![Lit::no(var), Lit::no(other)], Origin::Rule(var, at))?;
                    }
                }
            }
        }
        Ok(true)
    }

    /// The candidates that meet `need`, best first.
    fn lits_for(&mut self, need: &NeedOf<P>) -> Result<Vec<Var>, Ended<P>> {
        let mut found = Vec::new();
        for alternative in &need.alternatives {
            found.extend(self.allowed(&alternative.package, &alternative.range)?);
        }
        Ok(found)
    }

    fn allowed(&mut self, package: &P::Package, range: &P::Range) -> Result<Vec<Var>, Ended<P>> {
        let group = self.group(package)?;
        let version = |var: &Var| match &self.meanings[*var] {
            Meaning::Candidate(candidate) => self.provider.allows(range, package, &candidate.version),
            Meaning::Hold => false,
        };
        Ok(group.filter(version).collect())
    }

    fn group(&mut self, package: &P::Package) -> Result<Range<Var>, Ended<P>> {
        if let Some(vars) = self.groups.get(package) {
            return Ok(vars.clone());
        }
        let versions = self.provider.versions(package).map_err(Ended::Provider)?;
        let vars = self.engine.add_group(versions.len());
        let meant = |version| Meaning::Candidate(Candidate { package: package.clone(), version, loaded: None });
        self.meanings.extend(versions.into_iter().map(meant));
        self.groups.insert(package.clone(), vars.clone());
        Ok(vars)
    }

    fn require(&mut self, candidates: Vec<Var>, of: Option<Var>, origin: Origin) -> Result<(), Ended<P>> {
        let mut lits: Vec<Lit> = candidates.iter().map(|&var| Lit::yes(var)).collect();
        lits.extend(of.map(Lit::no));
        self.requirements.push(candidates);
        self.clause(lits, origin)
    }

    fn clause(&mut self, lits: Vec<Lit>, origin: Origin) -> Result<(), Ended<P>> {
        let (clause, conflict) = self.engine.add_clause(lits);
        self.origins.push((clause, origin));
        conflict.map_or(Ok(()), |conflict| self.learn(&conflict))
    }

    /// One more variable that rules out everything but the held version. Being chosen before all else, it stays true
    /// unless what is certain already contradicts it.
    fn hold(&mut self, (package, version): &ChoiceOf<P>) -> Result<(), Ended<P>> {
        let group = self.group(package)?;
        let hold = self.engine.add_group(1).start;
        self.meanings.push(Meaning::Hold);
        for var in group {
            let is_it = matches!(&self.meanings[var], Meaning::Candidate(candidate) if candidate.version == *version);
            if !is_it {
                self.clause(vec![Lit::no(hold), Lit::no(var)], Origin::Hold)?;
            }
        }
        self.holds.push(hold);
        Ok(())
    }

    fn next_hold(&mut self) -> Option<Var> {
        // Holds come first, so that below this depth each of them has a value.
        if self.engine.depth() > self.holds.len() {
            return None;
        }
        let free = |hold: &&Var| self.engine.value(**hold).is_none();
        let next = self.holds[self.decided..].iter().find(free).copied();
        // Those before it keep their values until a lesson takes some back.
        self.decided += self.holds[self.decided..].iter().take_while(|hold| Some(**hold) != next).count();
        next
    }

    fn learn(&mut self, conflict: &Conflict) -> Result<(), Ended<P>> {
        self.engine.learn(conflict).map_err(|given| Ended::Refuted(self.facts(&given)))?;
        self.walk.back_to(self.engine.depth());
        self.decided = 0;
        self.asked = self.asked.min(self.engine.kept());
        Ok(())
    }

    fn chosen(&self) -> Vec<ChoiceOf<P>> {
        let choice = |&var: &Var| match &self.meanings[var] {
            Meaning::Candidate(Candidate { package, version, .. }) => Some((package.clone(), version.clone())),
            Meaning::Hold => None,
        };
        self.walk.picked().iter().filter_map(choice).collect()
    }

    fn facts(&self, given: &[ClauseId]) -> Vec<Fact<P>> {
        let mut facts = Vec::new();
        let mut told = None;
        for clause in given {
            let Ok(at) = self.origins.binary_search_by_key(clause, |&(clause, _)| clause) else { continue };
            match self.origins[at].1 {
                Origin::Wish(wish) => facts.push(Fact::Wish(wish)),
                Origin::Hold => {}
                // The clauses of one exclusion are one fact, and stand together.
                Origin::Rule(var, rule) if told == Some((var, rule)) => {}
                Origin::Rule(var, rule) => {
                    told = Some((var, rule));
                    facts.extend(self.fact(var, rule));
                }
            }
        }
        facts
    }

    fn fact(&self, var: Var, rule: usize) -> Option<Fact<P>> {
        let Meaning::Candidate(Candidate { package, version, loaded: Some(loaded) }) = &self.meanings[var] else {
            return None;
        };
        let rule = loaded.rules.get(rule)?.clone();
        Some(Fact::Rule { package: package.clone(), version: version.clone(), rule })
    }
}

impl<P: Provider> crate::walk::Requirements for Vec<Meaning<P>> {
    fn of(&self, var: Var) -> Range<usize> {
        match &self[var] {
            Meaning::Candidate(Candidate { loaded: Some(loaded), .. }) => loaded.requirements.clone(),
            _ => 0..0,
        }
    }
}
