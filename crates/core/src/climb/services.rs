//! The services of a ladder, with all that they are started and asked with.

use std::collections::BTreeMap;
use std::ffi::OsString;

use super::route::Route;
use super::{ClimbError, Site};
use crate::base::event::Observer;
use crate::prove::verify::Bench;
use crate::serve::{Place, Serving, all};
use crate::tasks::launch::Wiring;

impl Site<'_> {
    /// Works with the services of the landing that is current.
    ///
    /// # Errors
    /// [`ClimbError`] where what they are started with cannot be told.
    pub fn with_services<T>(
        &self,
        route: &Route,
        observer: &dyn Observer,
        with: impl FnOnce(&Serving<'_>) -> T,
    ) -> Result<T, ClimbError> {
        let wiring = Wiring::of(&route.rungs, self.ladder)?;
        let landings = self.landings();
        let landing = landings.current_link();
        let bench = Bench::new(&landing, &wiring, &route.rungs, self.catalogs, self.host, observer)?;
        let around: BTreeMap<OsString, OsString> = self.host.environment.all().collect();
        let own = landings.environment(&self.host.path, &|name| around.get(name).cloned())?;
        let variables: BTreeMap<OsString, OsString> = around.clone().into_iter().chain(own).collect();
        let variables: Vec<(OsString, OsString)> = variables.into_iter().collect();
        let services = all(&route.rungs, landings.folder());
        let serving =
            Serving { all: &services, rungs: &route.rungs, bench: &bench, host: self.host, variables: &variables };
        Ok(with(&serving))
    }

    /// Services that run, or ran, and that the ladder no longer has, by their names.
    pub fn services_left(&self, route: &Route) -> Vec<(String, Place)> {
        let known = all(&route.rungs, self.landings().folder());
        let is_known = |name: &str| known.iter().any(|served| served.service.name == name);
        let there = Place::all(self.landings().folder());
        there.into_iter().filter(|(name, place)| !is_known(name) && place.is_kept()).collect()
    }
}
