//! A conflict-driven resolver: from wishes over packages to one version each.
//!
//! The crate is pure. It knows packages, versions and ranges only through [`Provider`], does no I/O and speaks no
//! domain language, so that it can be tested against a brute-force oracle and raced on generated instances.
//!
//! The method is that of conflict-driven clause learning (Marques-Silva and Sakallah, "GRASP", 1999; watched literals
//! and the first unique implication point as in Moskewicz et al., "Chaff", 2001). A candidate version is a variable, a
//! need or an exclusion is a clause, "one version of a package" is propagated natively. Rules are asked for only when a
//! candidate is chosen, so a large catalog costs what the answer touches.
//!
//! # Which answer
//! There may be many. The one returned is that which plain backtracking would find first when it holds on to what is
//! held, in order; then meets the wishes in their order; then, breadth-first, the needs of what it took. Each is met by
//! what was taken before where that will do, else by the first candidate in the provider's order that leaves the
//! decisions before it standing.

mod clash;
mod engine;
mod search;
mod walk;

use std::fmt::Debug;
use std::hash::Hash;

use search::{Ended, attempt};

/// Where the resolver learns about packages.
pub trait Provider {
    /// What has versions.
    type Package: Clone + Eq + Hash + Debug;
    /// One version of a package.
    type Version: Clone + Eq + Debug;
    /// A set of versions, as a need states it.
    type Range: Clone + Eq + Debug;
    /// Why the provider could not answer.
    type Error;

    /// Every version of `package`, the best one first; the order is the preference of the answer.
    fn versions(&self, package: &Self::Package) -> Result<Vec<Self::Version>, Self::Error>;

    /// What must, and what must not, be there besides `version` of `package`.
    fn rules(&self, package: &Self::Package, version: &Self::Version) -> Result<Vec<RuleOf<Self>>, Self::Error>;

    /// Whether `version` of `package` lies in `range`.
    fn allows(&self, range: &Self::Range, package: &Self::Package, version: &Self::Version) -> bool;

    /// Asked now and then; `false` ends the search with [`Failure::GaveUp`].
    fn go_on(&self) -> bool {
        true
    }
}

/// One way to meet a need: `package` at a version in `range`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alternative<P, R> {
    /// The package that would meet it.
    pub package: P,
    /// The versions of it that would do.
    pub range: R,
}

/// A need is met by any one of its alternatives; earlier ones are preferred.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Need<P, R> {
    /// The ways to meet it. None at all can never be met.
    pub alternatives: Vec<Alternative<P, R>>,
}

impl<P, R> Need<P, R> {
    /// A need that exactly one package can meet.
    pub fn one(package: P, range: R) -> Self {
        Self { alternatives: vec![Alternative { package, range }] }
    }
}

/// What a candidate asks of the others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rule<P, R> {
    /// Something must be there.
    Needs(Need<P, R>),
    /// Something must not be there; the candidate itself is never meant.
    Excludes(Alternative<P, R>),
}

/// A rule in the terms of provider `P`.
pub type RuleOf<P> = Rule<<P as Provider>::Package, <P as Provider>::Range>;

/// A need in the terms of provider `P`.
pub type NeedOf<P> = Need<<P as Provider>::Package, <P as Provider>::Range>;

/// A package at a version, in the terms of provider `P`.
pub type ChoiceOf<P> = (<P as Provider>::Package, <P as Provider>::Version);

/// Why there is no answer.
#[derive(Debug)]
pub enum Failure<P: Provider + ?Sized> {
    /// No choice of versions meets all wishes.
    Impossible(Clash<P>),
    /// The budget ran out first; this says nothing about whether an answer exists.
    GaveUp {
        /// Decisions, conflicts and candidates asked for their needs.
        steps: u64,
    },
    /// The provider could not answer.
    Provider(P::Error),
}

/// One fact that a refutation rests on.
#[derive(Debug)]
pub enum Fact<P: Provider + ?Sized> {
    /// The wish at this position.
    Wish(usize),
    /// A candidate needs or excludes something.
    Rule {
        /// The candidate's package.
        package: P::Package,
        /// The candidate's version.
        version: P::Version,
        /// What it needs or excludes.
        rule: RuleOf<P>,
    },
}

/// A set of wishes that cannot be met together although any smaller part of it can.
#[derive(Debug)]
pub struct Clash<P: Provider + ?Sized> {
    /// Positions of the clashing wishes, ascending.
    pub wishes: Vec<usize>,
    /// The facts of one refutation of exactly these wishes; without any rule among them it falls apart.
    pub facts: Vec<Fact<P>>,
}

/// What is asked of the resolver.
#[derive(Debug)]
pub struct Question<'q, P: Provider + ?Sized> {
    /// What must be met, the most important first.
    pub wishes: &'q [NeedOf<P>],
    /// Choices made before: their packages are held to them as far as that is possible, earlier ones first. A package
    /// that nothing needs any more is not chosen.
    pub held: &'q [ChoiceOf<P>],
    /// Bound on decisions, conflicts and candidates asked for their rules.
    pub budget: u64,
}

/// Finds one version for each package that the wishes lead to, in the order in which they are met.
///
/// # Errors
/// [`Failure::Impossible`] with the smallest set of clashing wishes, [`Failure::GaveUp`] past the budget,
/// [`Failure::Provider`] when the provider fails.
pub fn solve<P: Provider>(provider: &P, question: &Question<'_, P>) -> Result<Vec<ChoiceOf<P>>, Failure<P>> {
    let &Question { wishes, held, budget } = question;
    let all: Vec<usize> = (0..wishes.len()).collect();
    match attempt(provider, wishes, &all, held, budget) {
        Ok(choices) => Ok(choices),
        Err(Ended::Refuted(facts)) => Err(Failure::Impossible(clash::smallest(provider, wishes, facts, budget))),
        Err(Ended::OutOfBudget(steps)) => Err(Failure::GaveUp { steps }),
        Err(Ended::Provider(error)) => Err(Failure::Provider(error)),
    }
}
