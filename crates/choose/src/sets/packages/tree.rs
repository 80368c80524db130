//! Where packages lie: a folder of packages in the project, and one in each package that needs others than are seen from there.
//! Who looks for a package looks in its own folder first and then outwards (Node's "Loading from `node_modules` folders").

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::MODULES;
use super::listed::{ListedPackage, PackageRelease};
use super::wanted::PackageNeed;

/// The project itself.
pub(super) const ROOT: usize = 0;

/// A release of a package.
#[derive(Clone, Debug)]
pub(super) struct Taken {
    pub(super) listed: Arc<ListedPackage>,
    /// Which of its releases.
    pub(super) at: usize,
}

impl Taken {
    pub(super) fn release(&self) -> &PackageRelease {
        &self.listed.releases[self.at]
    }

    fn fits(&self, need: &PackageNeed) -> bool {
        need.wanted.allows(&self.listed, self.release())
    }
}

/// A package in its place.
pub(super) struct Placed {
    within: usize,
    pub(super) called: String,
    /// The package; none is the project.
    pub(super) package: Option<(String, Taken)>,
    inside: BTreeMap<String, usize>,
}

/// Somebody who finds a package, or would if it were there.
struct Sight {
    who: usize,
    /// In whose folder of packages it looks first.
    from: usize,
    need: PackageNeed,
    sees: Option<usize>,
}

/// All packages of a project.
pub(super) struct Tree {
    pub(super) all: Vec<Placed>,
    sights: Vec<Sight>,
}

impl Tree {
    pub(super) fn new() -> Self {
        let root = Placed { within: ROOT, called: String::new(), package: None, inside: BTreeMap::new() };
        Self { all: vec![root], sights: Vec::new() }
    }

    /// A package and those that it lies in, up to the project.
    fn outwards(&self, from: usize) -> impl Iterator<Item = usize> {
        std::iter::successors(Some(from), |at| (*at != ROOT).then(|| self.all[*at].within))
    }

    /// What is found under a name from a package's folder on.
    pub(super) fn seen(&self, from: usize, called: &str) -> Option<usize> {
        self.outwards(from).find_map(|at| self.all[at].inside.get(called).copied())
    }

    /// Whose folder a package lies in.
    pub(super) fn within(&self, at: usize) -> usize {
        self.all[at].within
    }

    pub(super) fn taken(&self, at: usize) -> Option<&Taken> {
        self.all[at].package.as_ref().map(|(_, taken)| taken)
    }

    /// Puts a package as far out as it may lie for `owner`, who needs it; returns its place.
    pub(super) fn put(
        &mut self,
        owner: usize,
        called: &str,
        name: &str,
        taken: Taken,
        beside: &[PackageNeed],
    ) -> usize {
        let mut ways: Vec<usize> = self.outwards(owner).collect();
        ways.reverse();
        let free = ways.into_iter().find(|at| self.may_lie(*at, owner, called, &taken, beside)).unwrap_or(owner);
        let placed = self.all.len();
        for sight in 0..self.sights.len() {
            let Sight { from, need, sees, .. } = &self.sights[sight];
            if sees.is_none() && need.called == called && self.outwards(*from).any(|at| at == free) {
                self.sights[sight].sees = Some(placed);
            }
        }
        let package = Some((name.to_owned(), taken));
        self.all.push(Placed { within: free, called: called.to_owned(), package, inside: BTreeMap::new() });
        self.all[free].inside.insert(called.to_owned(), placed);
        placed
    }

    /// Whether a package may lie in a folder: its name is free from there to who needs it, what must be beside it is, and it comes
    /// before nobody's eyes who sees another one now, or could not do with it.
    fn may_lie(&self, at: usize, owner: usize, called: &str, taken: &Taken, beside: &[PackageNeed]) -> bool {
        let to_there = self.outwards(owner).take_while(|way| *way != at).chain([at]);
        let is_free = to_there.into_iter().all(|way| !self.all[way].inside.contains_key(called));
        let is_beside = |need: &PackageNeed| match self.seen(at, &need.called).and_then(|seen| self.taken(seen)) {
            Some(there) => there.fits(need),
            None => need.optional,
        };
        let is_hidden = |sight: &Sight| {
            let looks_here = sight.need.called == called && self.outwards(sight.from).any(|way| way == at);
            let sees_it_outside = match sight.sees {
                None => !taken.fits(&sight.need),
                Some(seen) => self.outwards(at).skip(1).any(|way| way == self.all[seen].within),
            };
            looks_here && sees_it_outside
        };
        is_free && beside.iter().all(is_beside) && !self.sights.iter().any(is_hidden)
    }

    /// Remembers that somebody, who looks from a folder on, wants to find a package.
    pub(super) fn looks(&mut self, who: usize, from: usize, need: PackageNeed) {
        let sees = self.seen(from, &need.called);
        self.sights.push(Sight { who, from, need, sees });
    }

    /// The path of a package from the project's folder on.
    pub(super) fn path(&self, at: usize) -> String {
        let mut parts: Vec<&str> = self.outwards(at).map(|way| self.all[way].called.as_str()).collect();
        parts.pop();
        parts.iter().rev().map(|part| format!("{MODULES}/{part}")).collect::<Vec<_>>().join("/")
    }

    /// Those that somebody cannot do without.
    pub(super) fn needed(&self) -> BTreeSet<usize> {
        let mut needed = BTreeSet::from([ROOT]);
        let mut left = vec![ROOT];
        while let Some(at) = left.pop() {
            let sights = self.sights.iter().filter(|sight| sight.who == at && !sight.need.optional);
            left.extend(sights.filter_map(|sight| sight.sees).filter(|seen| needed.insert(*seen)));
        }
        needed
    }
}
