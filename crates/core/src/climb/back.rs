//! Going back to an earlier landing.

use std::path::PathBuf;

use crate::base::event::{Event, Observer};
use crate::base::files::{self, FileError};
use crate::settings::Home;
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_choose::pins::{Pins, PinsFileError};

use crate::base::event::RungName;
use crate::bring::shelf::{Place, Standing};
use crate::keep::landing::{LandedRung, Landing, LandingError, Landings};
use crate::keep::state::{Intent, JournalError, Kind, Recorder, StateError, Writer};
use crate::keep::wired::Wired;

/// Why there is no way back.
#[derive(Debug, thiserror::Error)]
pub enum BackError {
    /// There is no such landing.
    #[error("there is no landing {number}")]
    NoSuch {
        /// The number.
        number: u32,
        /// The landings that there are.
        there: Vec<u32>,
    },
    /// There is no landing before the current one.
    #[error("there is no landing before this one")]
    Nowhere {
        /// The one that is current, if any.
        current: Option<u32>,
    },
    /// Some of its rungs are not on the shelf any more.
    #[error("landing {number} cannot be used: {} no longer on the shelf", list(rungs))]
    Cleared {
        /// The number.
        number: u32,
        /// Those rungs.
        rungs: Vec<RungName>,
    },
    /// It lacks a command that the person logs in with.
    #[error("landing {number} does not have `{command}`, which you log in with")]
    LoginShell {
        /// The number.
        number: u32,
        /// The command.
        command: String,
    },
    /// Its pins cannot be read, so that the next climb would not know what to go by.
    #[error("landing {number} cannot be used: its pins are damaged")]
    Pins {
        /// The number.
        number: u32,
        /// What is wrong with them.
        source: PinsFileError,
    },
    /// Landings could not be read.
    #[error(transparent)]
    Landing(#[from] LandingError),
    /// The home could not be written to.
    #[error(transparent)]
    State(#[from] StateError),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

fn list(rungs: &[RungName]) -> String {
    rungs.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

impl From<JournalError> for BackError {
    fn from(error: JournalError) -> Self {
        Self::State(StateError::Journal(error))
    }
}

/// Where one came back to.
#[derive(Clone, Debug)]
pub struct Back {
    /// The landing that is current now.
    pub landing: Landing,
    /// The one that was.
    pub before: Option<Landing>,
    /// The ladder is another one than it was then, and was left as it is.
    pub ladder_differs: bool,
}

/// A wish to go back.
#[derive(Clone, Debug, Default)]
pub struct BackRequest {
    /// To which landing; otherwise the one before the current one.
    pub number: Option<u32>,
    /// The ladder too becomes what it was; the present one is kept beside it.
    pub with_ladder: bool,
    /// How long to wait for another process that writes.
    pub wait: Option<std::time::Duration>,
    /// A command that must be there, since the person logs in with it.
    pub keeps: Option<String>,
}

/// Makes an earlier (or later) landing current again, its pins too, so that the next climb does not undo it.
///
/// # Errors
/// [`BackError`] where there is no such landing, something of it is no longer on the shelf, or another process writes; the
/// landing that was current still is.
pub fn back(home: &Home, ladder: &Ladder, request: &BackRequest, observer: &dyn Observer) -> Result<Back, BackError> {
    let writer = Writer::enter(home, request.wait, observer)?;
    let landings = Landings::of(&home.ladders(), &ladder.path);
    let before = landings.usable();
    let number = request.number.map_or_else(|| previous(&landings, before.as_ref()), Ok)?;
    let there = landings.numbers()?;
    if !there.contains(&number) {
        return Err(BackError::NoSuch { number, there });
    }
    let landing = landings.record(number)?;
    whole(&landing)?;
    if let Some(command) = request.keeps.as_ref().filter(|command| !landings.has_command(number, command)) {
        return Err(BackError::LoginShell { number, command: command.clone() });
    }
    let pins = Source::new(ladder.pins_path(), landings.pins(number)?);
    Pins::parse(&pins).map_err(|source| BackError::Pins { number, source })?;
    let recorder = Recorder::begin(&writer.journal, Kind::Back, &ladder.path, observer)?;
    let switched = switch(&landings, &landing, ladder, request, &recorder);
    let switched = switched.and_then(|differs| Ok(Wired::of(home).refresh().map(|()| differs)?));
    recorder.end(&switched)?;
    Ok(Back { landing, before, ladder_differs: switched? })
}

/// Tells whether the ladder is another one than it was.
fn switch(
    landings: &Landings,
    landing: &Landing,
    ladder: &Ladder,
    request: &BackRequest,
    recorder: &Recorder<'_>,
) -> Result<bool, BackError> {
    let text = landings.ladder(landing.number)?;
    let mut differs = text != ladder.text;
    if differs && request.with_ladder {
        let aside: PathBuf = ladder.path.with_added_extension("before");
        files::replace(&aside, ladder.text.as_bytes())?;
        files::replace(&ladder.path, text.as_bytes())?;
        differs = false;
    }
    let (folder, number, pins) = (landings.folder().to_path_buf(), landing.number, Some(ladder.pins_path()));
    recorder.intend(&Intent::Land { landings: folder, number, pins: pins.clone() })?;
    landings.make_current(number, pins.as_deref())?;
    recorder.event(&Event::Landed { number });
    Ok(differs)
}

fn previous(landings: &Landings, current: Option<&Landing>) -> Result<u32, BackError> {
    let current = current.map(|landing| landing.number);
    let earlier = landings.numbers()?.into_iter().filter(|number| Some(*number) < current);
    earlier.max().ok_or(BackError::Nowhere { current })
}

/// Everything of the landing must still be there.
fn whole(landing: &Landing) -> Result<(), BackError> {
    let is_bad = |rung: &&LandedRung| {
        let place = Place { folder: rung.folder.clone() };
        // What the host has is there as long as it is; of a package nothing but its name is known.
        let is_lost = || rung.folder.is_absolute() && !rung.folder.exists();
        if rung.is_shelved() { place.standing() != Standing::Whole } else { is_lost() }
    };
    let gone = landing.rungs.iter().filter(is_bad);
    let rungs: Vec<RungName> = gone.map(LandedRung::name).collect();
    if rungs.is_empty() { Ok(()) } else { Err(BackError::Cleared { number: landing.number, rungs }) }
}
