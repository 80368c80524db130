//! From rung to rung, and the landing at the end.

use std::path::{Path, PathBuf};
use std::time::Instant;

use super::{ClimbError, Prospect, Site, wired};
use crate::event::{Event, Observer, RungName, go_on};
use crate::fetch::{self, Cache};
use crate::files::{self, Attach};
use crate::landing::{LandedRung, Landing, Made};
use crate::rates::Rates;
use crate::restart::Restarts;
use crate::route::{Rung, Shelved, Source, Work};
use crate::shelf::Manifest;
use crate::unpack;
use crate::verdict::Verdict;
use crate::verify::Bench;
use crate::wire;

/// What a climb learns on its way and keeps for the next one.
struct Memory {
    data: PathBuf,
    rates: Rates,
    restarts: Restarts,
}

impl Site<'_> {
    pub(super) fn ascend(
        &self,
        prospect: &Prospect,
        skipped_gates: Vec<String>,
        observer: &dyn Observer,
    ) -> Result<Landing, ClimbError> {
        let rungs = &prospect.route.rungs;
        let wiring = wire::wiring(rungs.iter().filter_map(wired))?;
        let draft = self.landings().draft()?;
        wire::write(&wiring, draft.folder(), &self.home.data)?;
        let bench = Bench::new(draft.folder(), &wiring, self.host, observer)?;
        let data = self.home.data.clone();
        let mut memory = Memory { rates: Rates::read(&data).faded(), restarts: Restarts::read(&data), data };
        for (at, rung) in rungs.iter().enumerate() {
            go_on(observer)?;
            restart_due(rung, prospect, &memory.restarts)?;
            observer.event(&Event::Rung { rung: rung.name.clone(), number: at + 1, of: rungs.len() });
            if let Source::Host(file) = &rung.source {
                observer.event(&Event::OnHost { file: file.clone() });
            }
            if let Some(shelved) = rung.shelved().filter(|_| rung.work >= Work::Unpack) {
                self.climb_rung(rung, shelved, prospect, &mut memory, observer)?;
            }
            wired(rung).map_or(Ok(()), |wired| wire::check_files(&wired))?;
            if let Some(failed) = bench.check(rung)?.into_iter().find(Verdict::failed) {
                return Err(ClimbError::Check(Box::new(failed)));
            }
            observer.event(&Event::Climbed { rung: rung.name.clone() });
        }
        memory.rates.write(&memory.data)?;
        let (ladder, pins) = (&self.ladder.path, self.pins.to_toml());
        let rungs = rungs.iter().map(landed).collect();
        Ok(draft.commit(Made { ladder, pins: &pins, rungs, skipped_gates })?)
    }

    /// Fetches, unpacks and shelves a rung.
    fn climb_rung(
        &self,
        rung: &Rung,
        shelved: &Shelved,
        prospect: &Prospect,
        memory: &mut Memory,
        observer: &dyn Observer,
    ) -> Result<(), ClimbError> {
        let started = Instant::now();
        let cache = Cache::new(&self.home.cache);
        let fetched = shelved.artifacts.iter().map(|artifact| fetch::fetch(artifact, self.yards, &cache, observer));
        let archives: Vec<PathBuf> = fetched.collect::<Result<_, _>>()?;
        if rung.work == Work::Fetch {
            memory.rates.fetch.add(rung.size(), started.elapsed());
        }
        let started = Instant::now();
        let staging = self.home.staging();
        files::create_folder(&staging)?;
        let prepared =
            tempfile::Builder::new().prefix("rung-").tempdir_in(&staging).on("make a folder in", &staging)?;
        if let Some(anew) = rung.definition.after {
            // Remembered before the rung is in place: a climb killed in between asks once too often, never too seldom.
            memory.restarts.remember(rung.folder(), anew, &prospect.survey.identity);
            memory.restarts.write(&memory.data)?;
        }
        let done = shelve(rung, shelved, &archives, prepared.path(), observer);
        // The folder is gone by renaming, or holds what must not stay; its read-only parts need our own removal.
        files::remove_tree(&prepared.keep())?;
        memory.rates.unpack.add(rung.size(), started.elapsed());
        done
    }
}

/// Stops before a rung whose needs wait for a restart.
fn restart_due(rung: &Rung, prospect: &Prospect, restarts: &Restarts) -> Result<(), ClimbError> {
    let below = prospect.route.rungs.iter().filter(|other| rung.needs.contains(&other.key()));
    for other in below {
        if let Some(anew) = restarts.due(other.folder(), &prospect.survey.identity) {
            let (tool, above) = (other.name.tool.clone(), rung.name.tool.clone());
            return Err(ClimbError::Restart { tool, anew, above });
        }
    }
    Ok(())
}

fn landed(rung: &Rung) -> LandedRung {
    let RungName { tool, version } = rung.name.clone();
    LandedRung { tool, version, folder: rung.folder().to_path_buf(), kept_by: rung.kept_by.clone() }
}

fn shelve(
    rung: &Rung,
    Shelved { artifacts, place }: &Shelved,
    archives: &[PathBuf],
    prepared: &Path,
    observer: &dyn Observer,
) -> Result<(), ClimbError> {
    let folder = prepared.join("files");
    files::create_folder(&folder)?;
    let entries = unpack::unpack(archives.iter().map(PathBuf::as_path).zip(artifacts), &folder, observer)?;
    let files = entries.len();
    let digests = artifacts.iter().map(|artifact| artifact.sha256).collect();
    let manifest = Manifest::new(&rung.name.tool, &rung.name.version, digests, entries);
    place.put(prepared, &manifest)?;
    observer.event(&Event::Shelved { rung: rung.name.clone(), files, folder: place.folder.clone() });
    Ok(())
}
