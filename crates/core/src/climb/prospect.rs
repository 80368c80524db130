//! What lies ahead of a climb: everything that can be known before the first byte.

use std::time::Duration;

use super::{ClimbError, Site};
use crate::fetch::Cache;
use crate::gates::{self, Standing};
use crate::landing::Landing;
use crate::rates::Rates;
use crate::route::{self, Ground, Route, Work};
use crate::shelf::Shelf;
use crate::survey::{self, Survey};
use crate::terms::{self, Asked, Terms};

/// What lies ahead.
#[derive(Clone, Debug)]
pub struct Prospect {
    /// The rungs, bottom first.
    pub route: Route,
    /// The host.
    pub survey: Survey,
    /// How every gate of the route stands.
    pub gates: Vec<Standing>,
    /// Licences that are still to be accepted.
    pub licences: Vec<Asked>,
    /// Bytes to fetch.
    pub fetch: u64,
    /// Bytes of archives that are in the cache already, and are to be unpacked.
    pub from_cache: u64,
    /// Bytes that the shelf will take.
    pub unpacked: u64,
    /// How long fetching and unpacking will take, by the rates of earlier climbs; `None` before the first.
    pub time: Option<Duration>,
}

impl Site<'_> {
    /// What a climb would do.
    ///
    /// # Errors
    /// [`ClimbError::Route`] where a pinned release has left the catalog or has no artifact for this host.
    pub fn route(&self) -> Result<Route, ClimbError> {
        self.route_over(self.landings().current()?.as_ref())
    }

    pub(super) fn route_over(&self, landing: Option<&Landing>) -> Result<Route, ClimbError> {
        Ok(route::plan(&Ground {
            ladder: self.ladder,
            pins: self.pins,
            catalog: self.catalog,
            platform: &self.host.platform,
            shelf: &Shelf::new(&self.home.shelf()),
            cache: &Cache::new(&self.home.artifacts),
            folder: self.landings().folder(),
            landing,
        })?)
    }

    /// The route with its gates, licences, sizes and time.
    ///
    /// # Errors
    /// [`ClimbError`] where there is no route, or the licences that were accepted cannot be read.
    pub fn prospect(&self) -> Result<Prospect, ClimbError> {
        let route = self.route()?;
        let survey = survey::facts(self.host, &self.home.places(&self.host.temporary));
        let terms = Terms::read(&self.home.data)?;
        let left: Vec<_> = route.rungs.iter().filter(|rung| rung.work >= Work::Unpack).collect();
        let (fetch, unpacked) = gates::room(&left);
        let archives: u64 = left.iter().map(|rung| rung.size()).sum();
        Ok(Prospect {
            gates: gates::check(&route, &survey, self.host, self.yards),
            licences: terms::open(&route, self.catalog, &terms).map_err(route::RouteError::from)?,
            time: Rates::read(&self.home.data).time_for(fetch, archives - fetch),
            fetch,
            from_cache: archives - fetch,
            unpacked,
            survey,
            route,
        })
    }
}
