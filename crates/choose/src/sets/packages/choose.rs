//! From wished packages to a release for each, and a place.
//!
//! Packages of Node may have others of their own, at other versions, so that only those clash that want something beside them
//! ("peers"). So each package's needs are a question of their own, with what must be beside them; it is answered by the resolver,
//! breadth-first from the project on. What is seen already is taken where it will do, then what a lock file has, then the newest.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use kladder_solve::{Alternative, ChoiceOf, Clash, Fact, Failure, Need, Provider, Question, Rule, RuleOf, solve};
use nodejs_semver::Version;

use super::listed::{ListedPackage, PackageRelease};
use super::tree::{ROOT, Taken, Tree};
use super::wanted::{PackageNeed, Wanted, runtime};
use super::{PackageWish, Packages, write};
use crate::digest::Digest;
use crate::sets::{LibraryClash, NeedsThere, NotChosen, OnOffer, Wanting, WayOut};

/// Decisions that the needs of one package may take.
const BUDGET: u64 = 200_000;

/// Where packages are looked up.
pub trait Registry {
    /// Why one could not be.
    type Error;

    /// The releases of a package; none where the registry does not have it.
    ///
    /// # Errors
    /// Where it cannot be asked.
    fn package(&self, name: &str) -> Result<Arc<ListedPackage>, Self::Error>;

    /// Some packages that will be asked for next.
    fn soon(&self, names: &BTreeSet<String>) {
        let _ = names;
    }
}

/// Chooses the packages of a set, whose wishes have a digest, for a version of its runtime, and writes them as a lock file (version
/// 3). What an older one has stays where it can; `moving` says which packages are let go.
///
/// # Errors
/// [`NotChosen`].
pub fn choose_packages<R: Registry>(
    project: &str,
    (wished, wishes): (&[PackageWish], Option<Digest>),
    on: &str,
    old: Option<&Packages>,
    moving: &dyn Fn(&str) -> bool,
    registry: &R,
) -> Result<String, NotChosen<R::Error>> {
    let mut held: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for package in old.iter().flat_map(|old| &old.all).filter(|package| !moving(&package.name)) {
        held.entry(&package.name).or_default().push(&package.version);
    }
    let chooser = Chooser { registry, held, runtime: runtime(on) };
    match chooser.tree(wished) {
        Ok(tree) => Ok(write::lock(project, wished, &write::Chosen { wishes, on }, &tree)),
        Err(NotChosen::Clash(mut clash)) => {
            clash.ways = chooser.ways_out(&clash, wished);
            Err(NotChosen::Clash(clash))
        }
        Err(other) => Err(other),
    }
}

struct Chooser<'c, R> {
    registry: &'c R,
    /// Versions on file, by package.
    held: BTreeMap<&'c str, Vec<&'c str>>,
    runtime: Option<Version>,
}

impl<R: Registry> Chooser<'_, R> {
    fn tree(&self, wished: &[PackageWish]) -> Result<Tree, NotChosen<R::Error>> {
        let mut tree = Tree::new();
        let mut layer = vec![ROOT];
        while !layer.is_empty() {
            let needs: Vec<(usize, Vec<PackageNeed>)> = layer
                .iter()
                .map(|at| match tree.taken(*at) {
                    None => (*at, wished.iter().map(PackageWish::need).collect()),
                    Some(taken) => (*at, taken.release().says.needs()),
                })
                .collect();
            self.registry.soon(&needs.iter().flat_map(|(_, needs)| needs).map(|need| need.name.clone()).collect());
            let mut next = Vec::new();
            for (owner, needs) in needs {
                next.extend(self.met(&mut tree, owner, needs)?);
            }
            layer = next;
        }
        Ok(tree)
    }

    /// Meets the needs of one package; returns what is new for that.
    fn met(&self, tree: &mut Tree, owner: usize, needs: Vec<PackageNeed>) -> Result<Vec<usize>, NotChosen<R::Error>> {
        let group = Group { chooser: self, tree, owner, known: RefCell::default() };
        let (chosen, needs) = group.chosen(needs)?;
        let mut chosen: Vec<(Node, Taken, Vec<PackageNeed>)> = chosen
            .into_iter()
            .map(|(node, at)| {
                let listed = group.listed(&node.name).map_err(NotChosen::Asked)?;
                let taken = Taken { listed, at };
                let peers = taken.release().says.peers();
                Ok((node, taken, peers))
            })
            .collect::<Result<_, _>>()?;
        // What must be beside others is there before them.
        chosen.sort_by_key(|(_, _, peers)| peers.iter().filter(|peer| !peer.optional).count());
        let mut new = Vec::new();
        for (node, taken, peers) in chosen {
            let seen = tree.seen(owner, &node.called).filter(|seen| {
                let there = &tree.all[*seen].package;
                there.as_ref().is_some_and(|(name, there)| *name == node.name && there.at == taken.at)
            });
            if seen.is_none() {
                let at = tree.put(owner, &node.called, &node.name, taken, &peers);
                for peer in peers {
                    tree.looks(at, tree.within(at), peer);
                }
                new.push(at);
            }
        }
        for need in needs {
            tree.looks(owner, owner, need);
        }
        Ok(new)
    }

    /// Which wishes of a clash, taken back, would let the others be met.
    fn ways_out(&self, clash: &LibraryClash, wished: &[PackageWish]) -> Vec<WayOut> {
        let way = |wish: &Wanting| {
            let library = wish.library.clone();
            let mut eased = wished.to_vec();
            for one in eased.iter_mut().filter(|one| one.name == library) {
                "*".clone_into(&mut one.versions);
            }
            if let Ok(tree) = self.tree(&eased) {
                let version = tree.taken(tree.seen(ROOT, &library)?)?.release().written.clone();
                return Some(WayOut { library, piece: None, version: Some(version) });
            }
            eased.retain(|one| one.name != library);
            self.tree(&eased).is_ok().then_some(WayOut { library, piece: None, version: None })
        };
        clash.wishes.iter().filter_map(way).collect()
    }
}

/// A package under the name that it is looked for by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Node {
    called: String,
    name: String,
}

/// Releases that would do, or that would not.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Fitting {
    need: PackageNeed,
    is_meant: bool,
}

/// The needs of one package, as the resolver sees them.
struct Group<'g, 'c, R> {
    chooser: &'g Chooser<'c, R>,
    tree: &'g Tree,
    owner: usize,
    known: RefCell<HashMap<String, Arc<ListedPackage>>>,
}

/// What was chosen, and for which needs.
type Met<'g, 'c, R> = (Vec<ChoiceOf<Group<'g, 'c, R>>>, Vec<PackageNeed>);

impl<'g, 'c, R: Registry> Group<'g, 'c, R> {
    fn listed(&self, name: &str) -> Result<Arc<ListedPackage>, R::Error> {
        if let Some(known) = self.known.borrow().get(name) {
            return Ok(Arc::clone(known));
        }
        let listed = self.chooser.registry.package(name)?;
        self.known.borrow_mut().insert(name.to_owned(), Arc::clone(&listed));
        Ok(listed)
    }

    /// A release for each need that can be met at all, and those needs.
    fn chosen(&self, needs: Vec<PackageNeed>) -> Result<Met<'g, 'c, R>, NotChosen<R::Error>> {
        let mut kept = Vec::new();
        for need in needs {
            if !need.optional || self.is_had(&need).map_err(NotChosen::Asked)? {
                kept.push(need);
            }
        }
        let wishes: Vec<Need<Node, Fitting>> = kept.iter().map(wish).collect();
        match solve(self, &Question { wishes: &wishes, held: &[], budget: BUDGET }) {
            Ok(chosen) => Ok((chosen, kept)),
            Err(Failure::Impossible(clash)) => Err(NotChosen::Clash(Box::new(self.account(&kept, &clash)))),
            Err(Failure::GaveUp { .. }) => Err(NotChosen::GaveUp),
            Err(Failure::Provider(error)) => Err(NotChosen::Asked(error)),
        }
    }

    /// Whether there is a release that would do.
    fn is_had(&self, need: &PackageNeed) -> Result<bool, R::Error> {
        if matches!(need.wanted, Wanted::Elsewhere(_)) {
            return Ok(false);
        }
        let listed = self.listed(&need.name)?;
        let fits = |one: &PackageRelease| need.wanted.allows(&listed, one);
        Ok(listed.releases.iter().any(fits))
    }

    fn runs(&self, release: &PackageRelease) -> bool {
        self.chooser.runtime.as_ref().is_none_or(|runtime| release.says.runs_on(runtime))
    }

    /// What a person can follow of a refutation.
    fn account(&self, needs: &[PackageNeed], clash: &Clash<Self>) -> LibraryClash {
        let mut told = LibraryClash::default();
        let mut about: BTreeSet<&str> = BTreeSet::new();
        for need in clash.wishes.iter().filter_map(|at| needs.get(*at)) {
            about.insert(&need.name);
            match self.tree.all[self.owner].package.as_ref() {
                None => told.wishes.push(Wanting {
                    library: need.name.clone(),
                    versions: need.written.clone(),
                    piece: None,
                }),
                Some((name, taken)) => told.needs.push(NeedsThere {
                    library: name.clone(),
                    versions: vec![taken.release().written.clone()],
                    needs: Some(need.shown()),
                }),
            }
        }
        let mut peers: BTreeMap<(String, String), Vec<(Version, String)>> = BTreeMap::new();
        for fact in &clash.facts {
            let Fact::Rule { package, version, rule } = fact else { continue };
            let other = match rule {
                Rule::Needs(need) => need.alternatives.first(),
                Rule::Excludes(other) => Some(other),
            };
            if let (Some(other), Ok(listed)) = (other, self.listed(&package.name)) {
                let release = &listed.releases[*version];
                let needs = format!("{} beside it", other.range.need.shown());
                let all = peers.entry((package.name.clone(), needs)).or_default();
                all.push((release.version.clone(), release.written.clone()));
            }
        }
        for ((library, needs), mut versions) in peers {
            versions.sort();
            let versions = versions.into_iter().map(|(_, written)| written).collect();
            told.needs.push(NeedsThere { library, versions, needs: Some(needs) });
        }
        told.offers = about.into_iter().filter_map(|name| self.on_offer(name)).collect();
        told
    }

    fn on_offer(&self, name: &str) -> Option<OnOffer> {
        let listed = self.listed(name).ok()?;
        let mut fitting: Vec<&PackageRelease> = listed.releases.iter().filter(|one| self.runs(one)).collect();
        fitting.sort_by(|one, other| one.version.cmp(&other.version));
        let versions = fitting.into_iter().map(|one| one.written.clone()).collect();
        let (library, listed) = (name.to_owned(), listed.releases.len());
        Some(OnOffer { library, place: None, versions, listed, as_sources: false })
    }
}

fn node(need: &PackageNeed) -> Node {
    Node { called: need.called.clone(), name: need.name.clone() }
}

fn wish(need: &PackageNeed) -> Need<Node, Fitting> {
    Need::one(node(need), Fitting { need: need.clone(), is_meant: true })
}

impl<R: Registry> Provider for Group<'_, '_, R> {
    type Package = Node;
    type Version = usize;
    type Range = Fitting;
    type Error = R::Error;

    fn versions(&self, package: &Node) -> Result<Vec<usize>, R::Error> {
        let listed = self.listed(&package.name)?;
        let seen = self.tree.seen(self.owner, &package.called).and_then(|seen| self.tree.all[seen].package.as_ref());
        let seen = seen.filter(|(name, _)| *name == package.name).map(|(_, taken)| taken.at);
        let held = self.chooser.held.get(package.name.as_str());
        let is_held = |at: &usize| held.is_some_and(|held| held.contains(&listed.releases[*at].written.as_str()));
        let (mut first, rest): (Vec<usize>, Vec<usize>) = (0..listed.releases.len())
            .filter(|at| self.runs(&listed.releases[*at]) && Some(*at) != seen)
            .partition(is_held);
        first.splice(0..0, seen);
        // What a project does not name itself may say less of its runtime than it does: it is the last choice.
        let others = (0..listed.releases.len())
            .filter(|at| self.owner != ROOT && !self.runs(&listed.releases[*at]) && Some(*at) != seen);
        Ok(first.into_iter().chain(rest).chain(others).collect())
    }

    fn rules(&self, package: &Node, version: &usize) -> Result<Vec<RuleOf<Self>>, R::Error> {
        let listed = self.listed(&package.name)?;
        let rule = |peer: PackageNeed| {
            let seen = self.tree.seen(self.owner, &peer.called).and_then(|seen| self.tree.taken(seen));
            let is_unfit = seen.is_some_and(|seen| !peer.wanted.allows(&seen.listed, seen.release()));
            if peer.optional && !is_unfit {
                let package = node(&peer);
                return Rule::Excludes(Alternative { package, range: Fitting { need: peer, is_meant: false } });
            }
            Rule::Needs(wish(&peer))
        };
        let peers = listed.releases[*version].says.peers().into_iter();
        Ok(peers.filter(|peer| peer.called != package.called).map(rule).collect())
    }

    fn allows(&self, range: &Fitting, package: &Node, version: &usize) -> bool {
        let Ok(listed) = self.listed(&package.name) else { return false };
        range.need.wanted.allows(&listed, &listed.releases[*version]) == range.is_meant
    }
}
