//! Sets of packages: what a lock file names by SHA-512 is received once, so that it can be pinned by SHA-256 as everything else.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kladder_choose::catalog::Definition;
use kladder_choose::digest::Digest;
use kladder_choose::document::DocumentError;
use kladder_choose::sets::{
    ListedPackage, NotChosen, PACKAGES, Package, PackageSet, PackageWish, Packages, PackagesError, Registry, SetError,
    Sum, Sums, SumsFile, choose_packages,
};

use super::{DefinedSet, LookupError, SetReading, WhyNoSet, lock_of, runtimes};
use crate::base::event::Silent;
use crate::base::files;
use crate::base::side::side_by_side;
use crate::bring::fetch::{Cache, Network, UnknownError, receive};
use crate::bring::index::{self, Listed};
use crate::settings::IndexKind;

/// Files at once: each is small, and waiting is most of it.
const AT_ONCE: usize = 8;

impl SetReading<'_> {
    /// What a set of packages comes to.
    pub(super) fn packaged(
        &self,
        runtime: &Definition,
        interpreter: String,
        own: &PackageSet,
    ) -> Result<DefinedSet, WhyNoSet> {
        let path = own.lock.below(self.ladder.path.parent().unwrap_or(Path::new(".")));
        let beside = self.beside()?;
        let lock = match &own.wanted {
            None => files::source(&path).map_err(DocumentError::from).map_err(PackagesError::from)?.text,
            Some(wanted) => {
                let range = self.range().map_or_else(|| "any".to_owned(), ToString::to_string);
                let wishes = own.wishes(&self.set.of, &range);
                self.chosen_packages(runtime, wanted, wishes, &path)?
            }
        };
        let packages = Packages::parse(&lock)?;
        let wanted = packages.wanted(self.machines, &own.unbuilt)?;
        let known = beside.sums;
        let mut sums: Sums = wanted
            .iter()
            .filter_map(|package| Some((package.integrity.clone(), *known.get(&package.integrity)?)))
            .collect();
        let mut new: Vec<&Package> = Vec::new();
        for package in wanted {
            let is_known = sums.contains_key(&package.integrity);
            if !is_known && !new.iter().any(|other| other.integrity == package.integrity) {
                new.push(package);
            }
        }
        sums.extend(self.received(&new)?);
        let all = runtime.releases.iter().map(|release| release.version.as_str());
        let runtimes: Vec<&str> = all.filter(|_| own.wanted.is_some()).collect();
        let text = packages.definition(self.set, &interpreter, &runtimes, &sums, self.machines)?;
        let beside = SumsFile { of: Some(packages.digest), sums };
        let packages = own.wanted.is_some().then_some(lock);
        Ok(DefinedSet { text, locked: Some(beside.to_toml()), packages, interpreter })
    }

    /// What stands beside the lock file.
    fn beside(&self) -> Result<SumsFile, PackagesError> {
        let path = lock_of(self.ladder, self.set);
        if std::fs::symlink_metadata(&path).is_err() {
            return Ok(SumsFile::default());
        }
        Ok(SumsFile::read(&files::source(&path).map_err(DocumentError::from)?)?)
    }

    /// The lock file of the packages that are wished for: what is on file, where that fits, or what is chosen now, for the first
    /// runtime that there is a choice for.
    fn chosen_packages(
        &self,
        runtime: &Definition,
        wanted: &[PackageWish],
        wishes: Option<Digest>,
        path: &Path,
    ) -> Result<String, WhyNoSet> {
        let old = own(path)?;
        let moves = |name: &str| self.moves(name);
        if let Some((text, packages)) = &old
            && packages.wishes == wishes.map(|digest| digest.to_string())
            && !packages.all.iter().any(|package| moves(&package.name))
        {
            return Ok(text.clone());
        }
        let told = |number| {
            if let Some(looking) = self.means.looking {
                looking(&self.set.name, number);
            }
        };
        let (network, known) = (self.means.network, RefCell::default());
        let registry = PackageLookup { network, told: &told, known };
        let (range, name) = (self.range(), self.set.name.as_str());
        let old = old.as_ref().map(|(_, packages)| packages);
        let on = runtimes(runtime, |version| range.is_none_or(|range| range.allows(version)));
        let mut chosen = Err(SetError::NoRuntime(self.set.of.to_string()).into());
        for on in on {
            chosen = match choose_packages(name, (wanted, wishes), &on.to_string(), old, &moves, &registry) {
                Ok(text) => Ok(text),
                Err(NotChosen::Asked(error)) => Err(error.into()),
                // What is told is what stood in the way of the first.
                Err(_) if matches!(chosen, Err(WhyNoSet::GaveUp | WhyNoSet::Clash(_))) => chosen,
                Err(NotChosen::GaveUp) => Err(WhyNoSet::GaveUp),
                Err(NotChosen::Clash(clash)) => Err(WhyNoSet::Clash(clash)),
            };
            if !matches!(chosen, Err(WhyNoSet::GaveUp | WhyNoSet::Clash(_))) {
                break;
            }
        }
        told(0);
        chosen
    }

    /// Receives packages, each held against the digest that the lock file has.
    fn received(&self, new: &[&Package]) -> Result<Sums, LookupError> {
        let cache = Cache::new(&self.means.home.artifacts);
        let told = |number| self.means.looking.map(|looking| looking(&self.set.name, number));
        if !new.is_empty() {
            told(new.len());
        }
        // One that fails in the end ends the others soon, and what came is known the next time.
        let failed = AtomicBool::new(false);
        let came = side_by_side(new, AT_ONCE, |package| {
            let came = match self.learnt(package) {
                Some(sum) => Ok(sum),
                None if failed.load(Ordering::Relaxed) => return None,
                None => self.receive(package, &cache),
            };
            failed.fetch_or(came.is_err(), Ordering::Relaxed);
            Some(came.map(|sum| (package.integrity.clone(), sum)))
        });
        told(0);
        came.into_iter().flatten().collect()
    }

    /// Receives one package, again after a while where its server or the way there fails.
    fn receive(&self, package: &Package, cache: &Cache) -> Result<Sum, LookupError> {
        let (mut left, mut pause) = self.means.network.tries();
        loop {
            let came =
                self.listed(package).and_then(|listed| Ok(receive(&listed, cache, self.means.network, &Silent)?));
            match came {
                Ok((sha256, size)) => {
                    let sum = Sum { sha256, size };
                    self.learn(package, sum);
                    return Ok(sum);
                }
                Err(LookupError::Receive(UnknownError::Sum { file })) => return Err(LookupError::OtherBytes(file)),
                Err(error) if left > 0 && may_pass(&error) => {
                    thread::sleep(pause);
                    (left, pause) = (left - 1, pause * 2);
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Where it stands what a package came to, so that one that fails later costs no other one again.
    fn note(&self, package: &Package) -> PathBuf {
        self.means.home.cache.join("listed").join("sums").join(Digest::of(package.integrity.as_bytes()).hex())
    }

    fn learnt(&self, package: &Package) -> Option<Sum> {
        let text = String::from_utf8(files::read(&self.note(package)).ok()?).ok()?;
        let (sha256, size) = text.trim().split_once(' ')?;
        Some(Sum { sha256: sha256.parse().ok()?, size: size.parse().ok()? })
    }

    fn learn(&self, package: &Package, Sum { sha256, size }: Sum) {
        let note = self.note(package);
        // It spares a question the next time, and nothing depends on it.
        let _ = note.parent().map(files::create_folder);
        let _ = files::replace(&note, format!("{sha256} {size}\n").as_bytes());
    }

    /// Where a package is: at the index that the settings have for packages, otherwise where the lock file says.
    fn listed(&self, package: &Package) -> Result<Listed, LookupError> {
        let digest = package.integrity.trim_start_matches("sha512-");
        let sum = STANDARD.decode(digest).ok().filter(|bytes| bytes.len() == 64).map(index::Sum::Sha512);
        let network = self.means.network;
        let lookup = |source| LookupError::Index { library: package.name.clone(), source };
        let at_address = package.url.as_ref().filter(|_| network.kind_of_index(PACKAGES).is_none());
        let mut listed = if let Some(url) = at_address {
            Listed::at(package.file(), url.clone())
        } else {
            let list = network.listed(PACKAGES, &package.name).map_err(lookup)?;
            let is_it = |one: &&Listed| one.version.as_deref() == Some(package.version.as_str());
            let none = || LookupError::Missing([&package.name, " ", &package.version].concat());
            list.iter().find(is_it).cloned().ok_or_else(none)?
        };
        // What the lock file says counts, and not what an index does.
        listed.sum = Some(sum.ok_or_else(|| LookupError::NoSum(package.at.to_string()))?);
        Ok(listed)
    }
}

/// The lock file that was written here, where there is one.
fn own(path: &Path) -> Result<Option<(String, Packages)>, WhyNoSet> {
    if std::fs::symlink_metadata(path).is_err() {
        return Ok(None);
    }
    let text = files::source(path).map_err(DocumentError::from).map_err(PackagesError::from)?.text;
    let packages = Packages::parse(&text).map_err(|_| WhyNoSet::NotAsWritten)?;
    match (&packages.wishes, packages.is_whole) {
        (None, _) => Err(WhyNoSet::NotOurs),
        (_, false) => Err(WhyNoSet::NotAsWritten),
        (_, true) => Ok(Some((text, packages))),
    }
}

/// The registry of packages, each asked for once.
struct PackageLookup<'l> {
    network: &'l Network,
    told: &'l dyn Fn(usize),
    known: RefCell<HashMap<String, Arc<ListedPackage>>>,
}

impl PackageLookup<'_> {
    fn keep(&self, name: &str, listed: Arc<ListedPackage>) {
        self.known.borrow_mut().insert(name.to_owned(), listed);
        (self.told)(self.known.borrow().len());
    }
}

fn ask(network: &Network, name: &str) -> Result<Arc<ListedPackage>, LookupError> {
    if network.kind_of_index(PACKAGES).is_some_and(|kind| kind != IndexKind::Npm) {
        return Err(LookupError::OtherKind { index: PACKAGES, kind: IndexKind::Npm.as_str() });
    }
    let lookup = |source| LookupError::Index { library: name.to_owned(), source };
    Ok(Arc::new(network.package(PACKAGES, name).map_err(lookup)?.unwrap_or_default()))
}

impl Registry for PackageLookup<'_> {
    type Error = LookupError;

    fn package(&self, name: &str) -> Result<Arc<ListedPackage>, LookupError> {
        if let Some(known) = self.known.borrow().get(name) {
            return Ok(Arc::clone(known));
        }
        let listed = ask(self.network, name)?;
        self.keep(name, Arc::clone(&listed));
        Ok(listed)
    }

    fn soon(&self, names: &BTreeSet<String>) {
        let new: Vec<&String> = names.iter().filter(|name| !self.known.borrow().contains_key(*name)).collect();
        // What went wrong is told where the package is really needed.
        for (name, listed) in new.iter().zip(side_by_side(&new, AT_ONCE, |name| ask(self.network, name))) {
            if let Ok(listed) = listed {
                self.keep(name, listed);
            }
        }
    }
}

/// Whether it may go well a moment later.
fn may_pass(error: &LookupError) -> bool {
    match error {
        LookupError::Receive(UnknownError::Yard { source, .. }) => source.is_retryable(),
        LookupError::Index { source, .. } => source.is_retryable(),
        _ => false,
    }
}
