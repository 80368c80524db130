//! Why there is no answer: the smallest set of wishes, and the rules that make them clash.

use crate::search::{Ended, attempt};
use crate::{Clash, Fact, NeedOf, Provider, RuleOf};

/// More groups of rules than this are not thinned out; nobody reads them one by one.
const READABLE: usize = 200;

fn wishes_in<P: Provider>(facts: &[Fact<P>]) -> Vec<usize> {
    let mut found: Vec<usize> =
        facts.iter().filter_map(|fact| if let Fact::Wish(at) = fact { Some(*at) } else { None }).collect();
    found.sort_unstable();
    found
}

/// Shrinks a refutation by leaving out one wish after the other, then one rule (deletion-based minimisation; see
/// Marques-Silva, "Minimal Unsatisfiability", 2010). What cannot be decided within the budget stays in.
pub(crate) fn smallest<P: Provider>(provider: &P, wishes: &[NeedOf<P>], facts: Vec<Fact<P>>, budget: u64) -> Clash<P> {
    // First among what the refutation rests on: a small problem, which leaves few wishes to be tried against everything.
    let only = Only { provider, facts: &facts };
    let (_, facts) = fewest_wishes(&only, wishes, facts.iter().map(copy).collect(), budget);
    let facts = facts.iter().map(copy).collect();
    let (core, facts) = fewest_wishes(provider, wishes, facts, budget);
    Clash { facts: fewest_rules(provider, wishes, &core, facts, budget), wishes: core }
}

fn fewest_wishes<P: Provider>(
    provider: &P,
    wishes: &[NeedOf<P>],
    mut facts: Vec<Fact<P>>,
    budget: u64,
) -> (Vec<usize>, Vec<Fact<P>>) {
    let mut core = wishes_in(&facts);
    let mut at = 0;
    while at < core.len() {
        let mut fewer = core.clone();
        fewer.remove(at);
        match attempt(provider, wishes, &fewer, &[], budget) {
            Err(Ended::Refuted(found)) => {
                // The new refutation may rest on even fewer wishes; those before `at` are all in it.
                core = wishes_in(&found);
                facts = found;
            }
            _ => at += 1,
        }
    }
    (core, facts)
}

/// Leaves out rules without which the wishes still clash. Versions of a package that have a rule in common are one.
fn fewest_rules<P: Provider>(
    provider: &P,
    wishes: &[NeedOf<P>],
    core: &[usize],
    mut facts: Vec<Fact<P>>,
    budget: u64,
) -> Vec<Fact<P>> {
    // A new refutation has its rules in an order of its own; what was needed before still is.
    let mut needed: Vec<Fact<P>> = Vec::new();
    while let Some(left_out) = untried(&facts, &needed) {
        let fewer: Vec<Fact<P>> = facts.iter().filter(|fact| !alike(fact, left_out)).map(copy).collect();
        let only = Only { provider, facts: &fewer };
        match attempt(&only, wishes, core, &[], budget) {
            // The facts of `Only` are facts of the provider.
            Err(Ended::Refuted(found)) => facts = found.iter().map(copy).collect(),
            _ => needed.push(copy(left_out)),
        }
    }
    facts
}

/// The first fact of a group that was not tried yet; `None` where all were, or when there are too many.
fn untried<'f, P: Provider>(facts: &'f [Fact<P>], needed: &[Fact<P>]) -> Option<&'f Fact<P>> {
    let mut heads: Vec<&Fact<P>> = Vec::new();
    for fact in facts.iter().filter(|fact| matches!(fact, Fact::Rule { .. })) {
        if !heads.iter().any(|head| alike(head, fact)) {
            heads.push(fact);
        }
    }
    let is_untried = |head: &&Fact<P>| !needed.iter().any(|needed| alike(needed, head));
    heads.iter().copied().find(is_untried).filter(|_| heads.len() <= READABLE)
}

fn alike<P: Provider>(one: &Fact<P>, other: &Fact<P>) -> bool {
    match (one, other) {
        (Fact::Rule { package: p, rule: r, .. }, Fact::Rule { package: q, rule: s, .. }) => p == q && r == s,
        _ => false,
    }
}

/// A fact in the terms of another provider that speaks of the same things.
fn copy<P, Q>(fact: &Fact<P>) -> Fact<Q>
where
    P: Provider,
    Q: Provider<Package = P::Package, Version = P::Version, Range = P::Range>,
{
    match fact {
        Fact::Wish(at) => Fact::Wish(*at),
        Fact::Rule { package, version, rule } => {
            Fact::Rule { package: package.clone(), version: version.clone(), rule: rule.clone() }
        }
    }
}

/// A provider that knows no rules but some facts.
struct Only<'o, P: Provider> {
    provider: &'o P,
    facts: &'o [Fact<P>],
}

impl<P: Provider> Provider for Only<'_, P> {
    type Package = P::Package;
    type Version = P::Version;
    type Range = P::Range;
    type Error = P::Error;

    fn versions(&self, package: &P::Package) -> Result<Vec<P::Version>, P::Error> {
        self.provider.versions(package)
    }
    fn rules(&self, package: &P::Package, version: &P::Version) -> Result<Vec<RuleOf<P>>, P::Error> {
        let rule = |fact: &Fact<P>| match fact {
            Fact::Rule { package: p, version: v, rule } if p == package && v == version => Some(rule.clone()),
            _ => None,
        };
        Ok(self.facts.iter().filter_map(rule).collect())
    }
    fn allows(&self, range: &P::Range, package: &P::Package, version: &P::Version) -> bool {
        self.provider.allows(range, package, version)
    }
    fn go_on(&self) -> bool {
        self.provider.go_on()
    }
}
