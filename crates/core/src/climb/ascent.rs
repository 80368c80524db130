//! From rung to rung, and the landing at the end.

use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::thread;

use super::supply::{Ahead, Order, Supplied, Supply, Way};
use super::{ClimbError, Prospect, Site, wired};
use crate::berth::Berth;
use crate::crash;
use crate::event::{Event, Observer, RungName, go_on};
use crate::fetch::{Cache, Sources};
use crate::files;
use crate::intake::Brought;
use crate::landing::{LandedRung, Landing, Made};
use crate::rates::Rates;
use crate::restart::Restarts;
use crate::route::{Rung, Shelved, Source};
use crate::shelf::{Manifest, Shelf};
use crate::state::{Intent, Recorder};
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
        recorder: &Recorder<'_>,
    ) -> Result<Landing, ClimbError> {
        let observer: &dyn Observer = recorder;
        let rungs = &prospect.route.rungs;
        let wiring = wire::wiring(rungs.iter().filter_map(wired))?;
        let draft = self.landings().draft()?;
        wire::write(&wiring, draft.folder(), &self.home.data)?;
        let bench = Bench::new(draft.folder(), &wiring, self.host, observer)?;
        self.climb_rungs(prospect, &bench, observer)?;
        let (ladder, text, pins) = (&self.ladder.path, &self.ladder.text, self.pins.to_toml());
        let rungs = rungs.iter().map(landed).collect();
        let landings = self.landings();
        // From here on whoever finds this climb killed can finish it.
        let (folder, number) = (landings.folder().to_path_buf(), draft.number());
        files::sync(&self.home.data)?;
        recorder.intend(&Intent::Land { landings: folder, number, pins: None })?;
        crash::point("landing-intended");
        let landing = draft.finish(Made { ladder, text, pins: &pins, rungs, skipped_gates })?;
        landings.make_current(number, None)?;
        Ok(landing)
    }

    /// Rung after rung, while the files of those above are brought in.
    fn climb_rungs(&self, prospect: &Prospect, bench: &Bench<'_>, observer: &dyn Observer) -> Result<(), ClimbError> {
        let (staging, cache, shelf) =
            (self.home.staging(), Cache::new(&self.home.artifacts), Shelf::new(&self.home.shelf()));
        let sources = Sources { yards: self.yards, cache: &cache, network: self.network };
        let way = Way { sources, shelf: &shelf, staging: &staging, at_once: self.network.at_once() };
        let orders = Order::list(&prospect.route.rungs, &way)?;
        let data = self.home.data.clone();
        let mut memory = Memory { rates: Rates::read(&data).faded(), restarts: Restarts::read(&data), data };
        let ahead = Ahead { observer, halt: AtomicBool::new(false) };
        observer.event(&Event::Ahead { fetch: prospect.fetch });
        let took = thread::scope(|scope| {
            let mut supply = Supply::start(scope, &orders, way, &ahead);
            for at in 0..prospect.route.rungs.len() {
                climb_rung(at, prospect, &mut supply, &mut memory, bench, observer)?;
            }
            Ok::<_, ClimbError>(supply.took())
        })?;
        memory.rates.learn(prospect.fetch, prospect.from_cache, took);
        Ok(memory.rates.write(&memory.data)?)
    }
}

fn climb_rung(
    at: usize,
    prospect: &Prospect,
    supply: &mut Supply<'_>,
    memory: &mut Memory,
    bench: &Bench<'_>,
    observer: &dyn Observer,
) -> Result<(), ClimbError> {
    let rung = &prospect.route.rungs[at];
    go_on(observer)?;
    restart_due(rung, prospect, &memory.restarts)?;
    observer.event(&Event::Rung { rung: rung.name.clone(), number: at + 1, of: prospect.route.rungs.len() });
    if let Source::Host(file) = &rung.source {
        observer.event(&Event::OnHost { file: file.clone() });
    }
    if let Some(shelved) = rung.shelved().filter(|_| rung.is_to_bring()) {
        let supplied = supply.take(at)?;
        crash::point("unpacked");
        if let Some(anew) = rung.definition.after {
            // Remembered before the rung is in place: a climb killed in between asks once too often, never too seldom.
            memory.restarts.remember(rung.folder(), anew, &prospect.survey.identity);
            memory.restarts.write(&memory.data)?;
        }
        let supplied = set_up(rung, shelved, supplied, bench)?;
        crash::point("set-up");
        shelve(rung, shelved, supplied, observer)?;
    }
    rung.berth.as_ref().map_or(Ok(()), Berth::make)?;
    wired(rung).map_or(Ok(()), |wired| wire::check_files(&wired))?;
    if let Some(failed) = bench.check(rung)?.into_iter().find(Verdict::failed) {
        return Err(ClimbError::Check(Box::new(failed)));
    }
    crash::point("checked");
    observer.event(&Event::Climbed { rung: rung.name.clone() });
    Ok(())
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
    let berth = rung.berth.as_ref().map(|berth| berth.folder.clone());
    LandedRung { tool, version, folder: rung.folder().to_path_buf(), berth, kept_by: rung.kept_by.clone() }
}

/// Runs the set-up commands of a rung; what they wrote is part of it.
fn set_up(rung: &Rung, shelved: &Shelved, supplied: Supplied, bench: &Bench<'_>) -> Result<Supplied, ClimbError> {
    if rung.definition.set_up.is_empty() {
        return Ok(supplied);
    }
    let files = supplied.folder.join("files");
    files::make_writable(&files)?;
    if let Some(failed) = bench.set_up(rung, shelved, &files)? {
        return Err(ClimbError::SetUp(Box::new(failed)));
    }
    let entries = Manifest::scan(&files)?;
    Ok(Supplied { brought: Brought { entries, ..supplied.brought }, ..supplied })
}

fn shelve(
    rung: &Rung,
    Shelved { artifacts, place }: &Shelved,
    Supplied { folder, brought }: Supplied,
    observer: &dyn Observer,
) -> Result<(), ClimbError> {
    let Brought { entries, fetched, from_cache } = brought;
    let files = entries.len();
    let digests = artifacts.iter().map(|artifact| artifact.sha256).collect();
    let manifest = Manifest::new(&rung.name.tool, &rung.name.version, digests, entries);
    place.put(&folder, &manifest)?;
    observer.event(&Event::Shelved {
        rung: rung.name.clone(),
        files,
        fetched,
        from_cache,
        folder: place.folder.clone(),
    });
    Ok(())
}
