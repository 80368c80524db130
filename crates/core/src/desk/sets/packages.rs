//! Sets of packages: what a lock file names by SHA-512 is received once, so that it can be pinned by SHA-256 as everything else.

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kladder_choose::digest::Digest;
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::path::InnerPath;
use kladder_choose::sets::{PACKAGES, Package, Packages, PackagesError, Sum, Sums, sums_of, sums_to_toml};

use super::{LookupError, SetReading, WhyNoSet, lock_of};
use crate::base::event::Silent;
use crate::base::files;
use crate::base::side::side_by_side;
use crate::bring::fetch::{Cache, UnknownError, receive};
use crate::bring::index::{self, Listed};

/// Files at once: each is small, and waiting is most of it.
const AT_ONCE: usize = 8;

impl SetReading<'_> {
    /// The definition of a tool of packages, what stands beside its lock file, and the runtime's command.
    pub(super) fn packaged(
        &self,
        interpreter: String,
        file: &InnerPath,
        unbuilt: &[String],
    ) -> Result<(String, Option<String>, String), WhyNoSet> {
        let path = file.below(self.ladder.path.parent().unwrap_or(std::path::Path::new(".")));
        let source: Source = files::source(&path).map_err(DocumentError::from).map_err(PackagesError::from)?;
        let packages = Packages::parse(&source.text)?;
        let known = self.known().map_err(PackagesError::from)?;
        let wanted = packages.wanted(self.machines, unbuilt)?;
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
        let text = packages.definition(self.set, &interpreter, &sums, self.machines)?;
        Ok((text, Some(sums_to_toml(&packages, &sums)), interpreter))
    }

    /// What packages are known to come to.
    fn known(&self) -> Result<Sums, DocumentError> {
        let path = lock_of(self.ladder, self.set);
        if std::fs::symlink_metadata(&path).is_err() {
            return Ok(Sums::new());
        }
        sums_of(&files::source(&path).map_err(DocumentError::from)?)
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

/// Whether it may go well a moment later.
fn may_pass(error: &LookupError) -> bool {
    match error {
        LookupError::Receive(UnknownError::Yard { source, .. }) => source.is_retryable(),
        LookupError::Index { source, .. } => source.is_retryable(),
        _ => false,
    }
}
