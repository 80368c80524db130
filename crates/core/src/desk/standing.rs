//! Where a machine stands with its ladder, and what is sensible to do next.

use super::Freshness;
use crate::climb::{ClimbError, Site};
use crate::keep::landing::Landing;
use crate::tasks::Rung;

/// Where a machine stands.
pub struct Standing {
    /// How the pins fit the ladder.
    pub pins: Freshness,
    /// The landing that is current.
    pub landing: Option<Landing>,
    /// Rungs of the ladder, in the order of the route.
    pub rungs: Vec<Rung>,
    /// Rungs that are not in the current landing as pinned.
    pub to_climb: usize,
    /// Bytes that a climb would fetch.
    pub to_fetch: u64,
    /// What to do next.
    pub next: Next,
}

/// What is sensible to do next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// Look at the route, then climb.
    Climb,
    /// The ladder changed since: pin and climb.
    ClimbAgain,
    /// All is there; verify, or just work.
    Verify,
}

impl Standing {
    /// Looks, and changes nothing.
    ///
    /// # Errors
    /// [`ClimbError`] where the landing cannot be read, or there is no route.
    pub fn of(site: &Site<'_>, pins: Freshness) -> Result<Self, ClimbError> {
        let landing = site.landings().usable();
        let route = site.route()?;
        let next = match (&landing, pins) {
            (None, _) => Next::Climb,
            (Some(_), Freshness::Current) if route.is_done() => Next::Verify,
            (Some(_), _) => Next::ClimbAgain,
        };
        Ok(Self {
            pins,
            to_climb: route.rungs.iter().filter(|rung| !rung.todo.is_empty()).count(),
            to_fetch: route.bytes_to_fetch(),
            rungs: route.rungs,
            landing,
            next,
        })
    }
}
