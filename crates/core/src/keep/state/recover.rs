//! After one who was killed: what was all but done is finished, the rest is undone.
//!
//! | what the killed run was about to do | then |
//! |---|---|
//! | make a landing current that is whole | it is made current: finished |
//! | a task with traces | they are removed, or looked at and kept where whole: undone |
//! | anything before that | nothing has changed: undone |
//!
//! Whoever takes the right to write does this first, so that the next command after a kill leaves nothing behind.

use super::{Ended, Intent, Journal, Run, StateError, Step, Trace};
use crate::base::event::{Event, Observer};
use crate::base::files;
use crate::keep::landing::Landings;
use crate::keep::wired::Wired;
use crate::settings::Home;

/// Mends what runs left that nobody ended. Whoever calls this is the only one who writes.
pub(super) fn recover(home: &Home, journal: &Journal, observer: &dyn Observer) -> Result<(), StateError> {
    for run in journal.open_runs()? {
        let ended = match &run.intent {
            Intent::Land { landings, number, pins } => land(&Landings::at(landings), *number, pins.as_deref())?,
            Intent::Task { traces, .. } => {
                traces.iter().try_for_each(Trace::undo)?;
                Ended::Undone
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
    files::sweep_new(&home.data)?;
    Wired::of(home).refresh()?;
    // Staging is only for the one who writes.
    Ok(files::remove_tree(&home.staging())?)
}

/// A landing that is whole becomes current; one that is not is swept away.
fn land(landings: &Landings, number: u32, pins: Option<&std::path::Path>) -> Result<Ended, StateError> {
    if landings.record(number).is_err() {
        return Ok(Ended::Undone);
    }
    // Where the ladder's folder is gone, its pins have no place any more; the landing is current all the same.
    let pins = pins.filter(|pins| pins.parent().is_some_and(std::path::Path::is_dir));
    landings.make_current(number, pins)?;
    Ok(Ended::Finished)
}

/// What a killed run put on the shelf is looked at again: a power cut may have taken bytes that no one saw missing.
fn distrust(journal: &Journal, run: &Run) -> Result<(), StateError> {
    for (_, step) in journal.steps(run)? {
        if let Step::Shelved { folder, .. } = step {
            Trace::Place { folder }.undo()?;
        }
    }
    Ok(())
}
