//! The services of a ladder, with all that they are started and asked with.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::time::Instant;

use super::route::Route;
use super::{ClimbError, Site, has_user_services};
use crate::base::event::{Event, Finding, Observer, Outcome, Subject, Verdict};
use crate::prove::verify::{Bench, VerifyError};
use crate::serve::{Place, Served, Serving, Standing, all};
use crate::sys;
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
        let mut services = all(&route.rungs, landings.folder());
        for name in self.starting_with_session(route) {
            let starts = has_user_services(self.host);
            services
                .iter_mut()
                .filter(|served| served.service.name == name)
                .for_each(|served| served.starts_with_session = Some(starts));
        }
        let serving =
            Serving { all: &services, rungs: &route.rungs, bench: &bench, host: self.host, variables: &variables };
        Ok(with(&serving))
    }

    /// How the services stand that run; of one that does not there is nothing to say.
    pub(super) fn service_verdicts(&self, route: &Route, observer: &dyn Observer) -> Result<Vec<Verdict>, ClimbError> {
        let runs = |place: &Place| place.is_kept() || sys::processes::any_marked(&place.marked());
        if !Place::all(self.landings().folder()).iter().any(|(_, place)| runs(place)) {
            return Ok(Vec::new());
        }
        // Where not even the table of commands can be read, that is told by itself.
        let variables = self.landings().environment(&self.host.path, &|_| None);
        if variables.is_err() {
            return Ok(Vec::new());
        }
        let looked = self.with_services(route, observer, |serving| {
            let one = |served: &Served<'_>| {
                let started = Instant::now();
                let outcome = match serving.standing(served)? {
                    Standing::Stopped => return Ok(None),
                    Standing::Ready if served.is_open() => Outcome::failed(Finding::Open),
                    Standing::Ready => Outcome::Passed,
                    Standing::Starting => Outcome::failed(Finding::NotReady { limit: served.service.patience }),
                    Standing::Failing => Outcome::failed(Finding::Fails),
                    Standing::Left => Outcome::failed(Finding::NobodyKeeps),
                };
                let subject = Subject::Service { rung: served.rung.key.clone(), service: served.service.name.clone() };
                let verdict = Verdict { subject, outcome, took: started.elapsed() };
                observer.event(&Event::Checked(verdict.clone()));
                Ok(Some(verdict))
            };
            serving.all.iter().filter_map(|served| one(served).transpose()).collect::<Result<Vec<_>, VerifyError>>()
        })?;
        Ok(looked?)
    }

    /// Services that run, whatever the ladder says now, by their names.
    pub fn services_that_run(&self) -> Vec<(String, Place)> {
        Place::all(self.landings().folder()).into_iter().filter(|(_, place)| place.is_kept()).collect()
    }

    /// Services that run, or ran, and that the ladder no longer has, by their names.
    pub fn services_left(&self, route: &Route) -> Vec<(String, Place)> {
        let known = all(&route.rungs, self.landings().folder());
        let is_known = |name: &str| known.iter().any(|served| served.service.name == name);
        let there = Place::all(self.landings().folder());
        there.into_iter().filter(|(name, place)| !is_known(name) && place.is_kept()).collect()
    }
}
