//! What came of verifying the last time, so that the next time shows what changed.
//!
//! `verified.json` in the ladder's folder, format 1.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use kladder_choose::names::RungKey;
use serde::{Deserialize, Serialize};

use crate::base::event::{Outcome, Subject, Verdict};
use crate::base::record;
use crate::prove::together::{Needed, Proof};

const FORMAT: u32 = 1;
const FILE: &str = "verified.json";

/// The last time.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Remembered {
    format: u32,
    /// When it was.
    pub at: jiff::Timestamp,
    /// Whether something failed, by what was looked at.
    failed: BTreeMap<String, bool>,
    /// The needs between rungs, and whether they were proved when rehearsals were last run.
    #[serde(default)]
    needs: Vec<(RungKey, RungKey, Proof)>,
}

/// A subject as a key.
fn key(subject: &Subject) -> String {
    // A value of plain facts has a text.
    serde_json::to_string(subject).unwrap_or_default()
}

impl Remembered {
    /// What was looked at, and whether it failed.
    pub fn all(&self) -> impl Iterator<Item = (Subject, bool)> {
        self.failed.iter().filter_map(|(key, failed)| Some((serde_json::from_str(key).ok()?, *failed)))
    }

    /// The needs between rungs: by whom, of whom, and whether that was proved.
    pub fn needs(&self) -> impl Iterator<Item = &(RungKey, RungKey, Proof)> {
        self.needs.iter()
    }

    /// What is remembered in a ladder's folder; a record that cannot be used is as good as none.
    pub(super) fn read(folder: &Path) -> Option<Self> {
        record::read(&folder.join(FILE), FORMAT).ok()
    }

    /// Whether something failed then; `None` where it was not looked at.
    pub fn failed(&self, subject: &Subject) -> Option<bool> {
        self.failed.get(&key(subject)).copied()
    }

    /// Remembers what came of it now, and goes on remembering what was not looked at. Of what was looked at as a whole (`all_of`) nothing
    /// else is there any more.
    pub(super) fn write(
        before: Option<&Self>,
        verdicts: &[Verdict],
        all_of: impl Fn(&Subject) -> bool,
        proved: Option<&[Needed]>,
        folder: &Path,
    ) {
        let there: BTreeSet<String> = verdicts.iter().map(|verdict| key(&verdict.subject)).collect();
        let is_gone = |old: &str| serde_json::from_str(old).map_or(true, |subject| all_of(&subject));
        let mut failed = before.map(|before| before.failed.clone()).unwrap_or_default();
        failed.retain(|old, _| there.contains(old) || !is_gone(old));
        let looked = verdicts.iter().filter(|verdict| !matches!(verdict.outcome, Outcome::Skipped(_)));
        failed.extend(looked.map(|verdict| (key(&verdict.subject), verdict.failed())));
        let as_kept = |need: &Needed| (need.by.clone(), need.of.clone(), need.proof);
        let needs = match proved {
            Some(proved) => proved.iter().map(as_kept).collect(),
            None => before.map(|before| before.needs.clone()).unwrap_or_default(),
        };
        // Who may not write only sees less the next time.
        let _ = record::write(&folder.join(FILE), &Self { format: FORMAT, at: jiff::Timestamp::now(), failed, needs });
    }
}
