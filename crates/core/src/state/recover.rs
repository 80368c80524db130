//! After one who was killed: what was all but done is finished, the rest is undone.

use super::{Ended, Intent, Journal, Run, StateError, Step};
use crate::event::{Event, Observer};
use crate::files;
use crate::home::Home;
use crate::landing::Landings;
use crate::shelf::Place;

/// Mends what runs left that nobody ended. Whoever calls this is the only one who writes.
pub(super) fn recover(home: &Home, journal: &Journal, observer: &dyn Observer) -> Result<(), StateError> {
    for run in journal.open_runs()? {
        let ended = match &run.intent {
            Intent::Land { landings, number, pins } => {
                let landings = Landings::at(landings);
                match landings.record(*number) {
                    Ok(_) => {
                        landings.make_current(*number, pins.as_deref())?;
                        Ended::Finished
                    }
                    Err(_) => Ended::Undone,
                }
            }
            Intent::Prepare => Ended::Undone,
        };
        if ended == Ended::Undone {
            distrust(journal, &run)?;
        }
        observer.event(&Event::Recovered { process: run.process, finished: ended == Ended::Finished });
        journal.end(run.id, ended, "")?;
    }
    for landings in Landings::everywhere(&home.ladders())? {
        landings.sweep()?;
    }
    // Staging is only for the one who writes.
    Ok(files::remove_tree(&home.staging())?)
}

/// What a killed run put on the shelf is looked at again: a power cut may have taken bytes that no one saw missing.
fn distrust(journal: &Journal, run: &Run) -> Result<(), StateError> {
    for (_, step) in journal.steps(run)? {
        let Step::Shelved { folder, .. } = step else { continue };
        let place = Place { folder };
        let is_whole =
            place.manifest().is_ok_and(|manifest| manifest.compare(&place.files()).is_ok_and(|d| d.is_empty()));
        if place.folder.exists() && !is_whole {
            files::vanish(&place.folder)?;
        }
    }
    Ok(())
}
