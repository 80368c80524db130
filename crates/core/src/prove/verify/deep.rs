//! Whether each program and library of a rung, and not only what its commands start, could be loaded: what ELF files want of others,
//! and where first lines of scripts lead. What came of it is remembered for as long as nothing changes that it depends on.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Instant;

use kladder_choose::names::RungKey;
use serde::{Deserialize, Serialize};

use super::{Bench, NAMED, VerifyError};
use crate::base::digest::{Canonical, Digest};
use crate::base::event::{Cause, Finding, Outcome, Subject, Unloadable, Verdict, check_cancelled};
use crate::base::record;
use crate::bring::shelf::What;
use crate::host::survey::answers;
use crate::prove::wants::{self, Around};
use crate::tasks::Rung;

const FORMAT: u32 = 1;

/// What was seen of rungs, in the ladder's folder.
#[derive(Default, Serialize, Deserialize)]
struct Loaded {
    format: u32,
    rungs: BTreeMap<RungKey, Seen>,
}

#[derive(Serialize, Deserialize)]
struct Seen {
    /// Of all that it depends on.
    of: Digest,
    files: Vec<Unloadable>,
}

impl Bench<'_> {
    /// Looks at every program and library of some rungs. What the host has is in order by itself.
    ///
    /// # Errors
    /// [`VerifyError`] where the person asked for an end.
    pub fn loads(&self) -> Result<Vec<Verdict>, VerifyError> {
        let path = self.ladder().join("loaded.json");
        // One that cannot be used only means that everything is looked at.
        let mut known: Loaded = record::read(&path, FORMAT).unwrap_or_default();
        known.format = FORMAT;
        let mut verdicts = Vec::new();
        for rung in self.rungs {
            let started = Instant::now();
            let Some(of) = self.depends_on(rung) else { continue };
            let seen = match known.rungs.remove(&rung.key).filter(|seen| seen.of == of) {
                Some(seen) => seen,
                None => Seen { of, files: self.unloadable(rung)? },
            };
            let does_without = &rung.definition.says.does_without;
            let is_missed = |file: &&Unloadable| file.causes.iter().any(|cause| !is_named(cause, does_without));
            let mut files: Vec<Unloadable> = seen.files.iter().filter(is_missed).cloned().collect();
            let all = files.len();
            files.truncate(NAMED);
            let outcome = if all == 0 { Outcome::Passed } else { Outcome::failed(Finding::CannotLoad { files, all }) };
            verdicts.push(self.conclude(Subject::Loads { rung: rung.key.clone() }, started, outcome));
            known.rungs.insert(rung.key.clone(), seen);
        }
        // It is looked at anew where it cannot be remembered.
        let _ = record::write(&path, &known);
        Ok(verdicts)
    }

    /// A digest of what decides about a rung's files; `None` where there are none that are looked at.
    fn depends_on(&self, rung: &Rung) -> Option<Digest> {
        rung.shelved()?;
        let folders = self.folders(rung);
        let folders = folders.iter().map(|folder| folder.as_os_str().as_encoded_bytes());
        let host = wants::c_library().unwrap_or_default();
        Some(Canonical::new("kladder loads", 1).list("folders", folders).field("host", host).finish())
    }

    fn unloadable(&self, rung: &Rung) -> Result<Vec<Unloadable>, VerifyError> {
        let Some((around, shelved)) = Around::of(self.folders(rung)).zip(rung.shelved()) else { return Ok(Vec::new()) };
        let Ok(manifest) = shelved.place.manifest() else { return Ok(Vec::new()) };
        let (files, path) = (shelved.place.files(), self.path(&rung.key.household));
        let mut unloadable = Vec::new();
        for entry in &manifest.entries {
            check_cancelled(self.observer)?;
            let What::File { executable, .. } = &entry.what else { continue };
            if !executable && !is_library(&entry.path) {
                continue;
            }
            let causes = around.causes(&files.join(&entry.path), |command| answers(command, &path).is_some());
            if !causes.is_empty() {
                unloadable.push(Unloadable { path: entry.path.clone(), causes });
            }
        }
        Ok(unloadable)
    }
}

/// `libtide.so`, `libtide.so.1.2`
fn is_library(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    name.split('.').skip(1).any(|part| part == "so")
}

/// Whether a rung is said to do without what is missing.
fn is_named(cause: &Cause, does_without: &[String]) -> bool {
    match cause {
        Cause::NoLibrary { library: name, .. } | Cause::NoInterpreter { interpreter: name } => {
            does_without.iter().any(|known| known == name)
        }
        _ => false,
    }
}
