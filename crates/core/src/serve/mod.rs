//! Services: programs of rungs that run while one works. They are started with those they stand on, kept running by a process each,
//! asked, and stopped by name.
//!
//! Nothing is remembered of whether a service is ready: whoever wants to know asks it.

mod look;
mod record;
mod start;
pub mod watcher;

pub use look::{Holder, Standing};
pub use record::{Place, State};
pub use start::{ServeError, Started, StopError, stop_all};

use std::ffi::OsString;
use std::path::Path;

use kladder_choose::catalog::Service;

use crate::host::survey::Host;
use crate::prove::verify::Bench;
use crate::tasks::{Listening, Rung};

/// A service of a ladder.
#[derive(Clone, Debug)]
pub struct Served<'r> {
    /// The rung that it is of.
    pub rung: &'r Rung,
    /// What its tool says.
    pub service: &'r Service,
    /// Where it listens.
    pub port: Option<Listening>,
    /// Its folder.
    pub place: Place,
    /// Whether it starts with the person's session; `None` where nobody wants that.
    pub starts_with_session: Option<bool>,
}

/// The services of some rungs, each above those it stands on.
pub fn all<'r>(rungs: &'r [Rung], ladder: &Path) -> Vec<Served<'r>> {
    let of_rung = |rung: &'r Rung| {
        rung.definition.says.services.iter().map(move |service| Served {
            rung,
            service,
            port: rung.ports.iter().find(|(name, _)| *name == service.name).map(|(_, port)| *port),
            place: Place::of(ladder, &service.name),
            starts_with_session: None,
        })
    };
    rungs.iter().flat_map(of_rung).collect()
}

/// What services are started and asked with.
pub struct Serving<'s> {
    /// All services of the ladder.
    pub all: &'s [Served<'s>],
    /// All its rungs.
    pub rungs: &'s [Rung],
    /// Runs what is asked.
    pub bench: &'s Bench<'s>,
    /// The machine.
    pub host: &'s Host,
    /// All variables that services have: the caller's, and the ladder's.
    pub variables: &'s [(OsString, OsString)],
}
