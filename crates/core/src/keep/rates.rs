//! How fast earlier climbs were, to say how long the next one will take.
//!
//! `data/rates.json`: bytes and seconds of fetching and unpacking, and the seconds of each set-up, fit-out and rehearsal. Each
//! climb halves what was known before, so that the last few decide.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::base::event::Subject;
use crate::base::files::{self, FileError};
use crate::base::record;

/// What is known about speed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Rates {
    /// Receiving, and unpacking meanwhile.
    pub fetch: Pace,
    /// Unpacking from the cache, in bytes of the archives.
    pub unpack: Pace,
    /// Seconds that work took, by what it was and whose.
    pub work: BTreeMap<String, f64>,
}

/// What a time is remembered by; `None` for what is too short to be worth it.
fn work(subject: &Subject) -> Option<String> {
    match subject {
        Subject::SetUp { rung, name } => Some(format!("set-up {rung}: {name}")),
        Subject::FitOut { rung, name } => Some(format!("fit-out {rung}: {name}")),
        Subject::Rehearsal { rehearsal, .. } => Some(format!("rehearsal {rehearsal}")),
        _ => None,
    }
}

/// Bytes and the seconds they took.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Pace {
    bytes: f64,
    seconds: f64,
}

impl Pace {
    /// Adds what was just measured.
    pub fn add(&mut self, bytes: u64, took: Duration) {
        #[allow(clippy::cast_precision_loss, reason = "an estimate")]
        let bytes = bytes as f64;
        self.bytes += bytes;
        self.seconds += took.as_secs_f64();
    }

    fn halved(self) -> Self {
        Self { bytes: self.bytes / 2.0, seconds: self.seconds / 2.0 }
    }

    /// Whether nothing was measured yet.
    pub fn is_unknown(self) -> bool {
        self.bytes <= 0.0
    }

    /// How long so many bytes take; `None` where nothing was measured.
    pub fn time_for(self, bytes: u64) -> Option<Duration> {
        #[allow(clippy::cast_precision_loss, reason = "an estimate")]
        let bytes = bytes as f64;
        if self.is_unknown() {
            return None;
        }
        Duration::try_from_secs_f64(bytes * self.seconds / self.bytes).ok()
    }
}

impl Rates {
    /// Reads what is known in the folder `data`; nothing, when it is missing or unreadable.
    pub fn read(data: &Path) -> Self {
        let bytes = files::read(&data.join("rates.json")).unwrap_or_default();
        serde_json::from_slice(&bytes).unwrap_or_default()
    }

    /// Writes what is known.
    pub fn write(&self, data: &Path) -> Result<(), FileError> {
        record::write(&data.join("rates.json"), self)
    }

    /// What counts of earlier climbs when a new one begins.
    #[must_use]
    pub fn faded(self) -> Self {
        Self { fetch: self.fetch.halved(), unpack: self.unpack.halved(), work: self.work }
    }

    /// Learns how long some work took.
    pub fn learn_work(&mut self, subject: &Subject, took: Duration) {
        let Some(work) = work(subject) else { return };
        let took = took.as_secs_f64();
        self.work.entry(work).and_modify(|known| *known = f64::midpoint(*known, took)).or_insert(took);
    }

    /// How long some work took before; `None` where it was never done here.
    pub fn time_of(&self, subject: &Subject) -> Option<Duration> {
        Duration::try_from_secs_f64(*self.work.get(&work(subject)?)?).ok()
    }

    /// Learns from archives that were brought in.
    pub fn learn(&mut self, fetched: u64, from_cache: u64, took: Duration) {
        // What is fetched is unpacked meanwhile; with both at once, the network decides.
        if fetched > 0 {
            self.fetch.add(fetched, took);
        } else if from_cache > 0 {
            self.unpack.add(from_cache, took);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_estimate_follows_the_last_climbs_and_is_none_before_the_first() {
        let mut rates = Rates::default();
        assert_eq!(rates.fetch.time_for(1), None);
        rates.fetch.add(1_000_000, Duration::from_secs(1));
        rates.unpack.add(1_000_000, Duration::from_secs(2));
        assert_eq!(rates.fetch.time_for(3_000_000), Some(Duration::from_secs(3)));
        assert_eq!(rates.unpack.time_for(1_000_000), Some(Duration::from_secs(2)));
        rates = rates.faded();
        rates.fetch.add(500_000, Duration::from_millis(1500));
        assert_eq!(rates.fetch.time_for(1_000_000), Some(Duration::from_secs(2)));
        let rehearsal = |name: &str| Subject::Rehearsal { rehearsal: name.into(), step: None };
        rates.learn_work(&rehearsal("first-gauge"), Duration::from_secs(4));
        rates.learn_work(&rehearsal("first-gauge"), Duration::from_secs(2));
        assert_eq!(rates.time_of(&rehearsal("first-gauge")), Some(Duration::from_secs(3)));
        assert_eq!(rates.time_of(&rehearsal("another")), None);
    }
}
