//! Chores: what only an administrator or a person can do, before a climb can set off.
//!
//! A closed gate that somebody can open is one. What can be seen on the machine is looked at again; where nothing can be seen, the
//! person's word counts, and is remembered. A restart that the system cannot tell is asked for.

use std::time::Duration;

use kladder_choose::catalog::Anew;
use kladder_choose::names::RungKey;

use super::gates::{Fact, Standing};
use super::route::Route;
use super::{ClimbError, Decide, Prospect, Request, RestartDue, Site};
use crate::base::event::{Observer, check_cancelled};
use crate::host::restart::Restarts;
use crate::host::system;
use crate::keep::chores::Chores;

/// How often waiting chores are looked at.
pub(crate) const PAUSE: Duration = Duration::from_secs(1);

/// A program that changes the system's packages, by its name and process.
pub type Holder = (String, u32);

/// Told while chores are waited for: those that are left, and who holds the package database.
pub type Told<'t> = &'t dyn Fn(&[Standing], Option<&Holder>);

impl Route {
    /// The restarts on the way, as few as can be: whatever does not stand on a rung that wants one is climbed before. For each
    /// stop what must be started anew, and the rungs that want it.
    pub fn stops(&self) -> Vec<(Anew, Vec<RungKey>)> {
        let mut behind = std::collections::BTreeMap::new();
        let mut stops: Vec<(Anew, Vec<RungKey>)> = Vec::new();
        for rung in &self.rungs {
            let below = rung.needs.iter().filter_map(|need| behind.get(need)).max().copied().unwrap_or(0);
            let anew = rung.definition.says.after.filter(|_| rung.is_to_bring());
            behind.insert(&rung.key, below + usize::from(anew.is_some()));
            let Some(anew) = anew else { continue };
            match stops.get_mut(below) {
                // A restart ends the session too.
                Some((known, rungs)) => {
                    *known = if anew == Anew::Restart { anew } else { *known };
                    rungs.push(rung.key.clone());
                }
                None => stops.push((anew, vec![rung.key.clone()])),
            }
        }
        // What nothing stands on needs no stop.
        let stands_on =
            |rungs: &[RungKey]| self.rungs.iter().any(|above| above.needs.iter().any(|need| rungs.contains(need)));
        stops.retain(|(_, rungs)| stands_on(rungs));
        stops
    }
}

impl Site<'_> {
    /// Waits until every chore of the route is done, as far as that can be seen here. Returns early where the person's word or a
    /// new session is what is left.
    ///
    /// # Errors
    /// [`ClimbError`] where there is no route, or the person asked for an end.
    pub fn wait_for_chores(
        &self,
        request: &Request,
        told: Told<'_>,
        observer: &dyn Observer,
    ) -> Result<(), ClimbError> {
        let mut last: Option<(Vec<String>, Option<Holder>)> = None;
        loop {
            let prospect = self.prospect()?;
            self.remember_closed(&prospect)?;
            let is_left =
                |gate: &&Standing| gate.is_chore() && !gate.is_told() && !request.skip_gates.contains(&gate.gate);
            let left: Vec<Standing> = prospect.closed().filter(is_left).cloned().collect();
            if left.iter().all(|gate| matches!(gate.found, Fact::After(_))) {
                return Ok(());
            }
            let holder = system::package_holder(self.host);
            let now = (left.iter().map(|gate| gate.gate.clone()).collect(), holder);
            if last.as_ref() != Some(&now) {
                told(&left, now.1.as_ref());
                last = Some(now);
            }
            check_cancelled(observer)?;
            std::thread::sleep(PAUSE);
        }
    }

    /// Remembers the closed gates whose opening counts only after a restart.
    fn remember_closed(&self, prospect: &Prospect) -> Result<(), ClimbError> {
        let is_closed = |gate: &&Standing| gate.after.is_some() && !matches!(gate.found, Fact::After(_));
        let mut closed =
            prospect.closed().filter(is_closed).filter_map(|gate| Some((gate.tool.as_ref()?, gate))).peekable();
        if closed.peek().is_none() {
            return Ok(());
        }
        let mut chores = Chores::read(&self.home.data)?;
        closed.for_each(|(tool, gate)| chores.see_closed(tool, &gate.gate, &prospect.survey.identity));
        Ok(chores.write(&self.home.data)?)
    }

    /// Opens the gates of which a person says that what they ask for is done.
    pub(super) fn hear(
        &self,
        prospect: &mut Prospect,
        request: &Request,
        decide: &dyn Decide,
    ) -> Result<(), ClimbError> {
        self.remember_closed(prospect)?;
        let mut chores = Chores::read(&self.home.data)?;
        let mut heard = false;
        for gate in prospect.gates.iter_mut().filter(|gate| !gate.open && gate.is_told()) {
            let Some(tool) = gate.tool.clone() else { continue };
            if request.done.contains(&gate.gate) || decide.is_done(gate) {
                chores.add(&tool, &gate.gate, gate.person.as_deref().unwrap_or_default());
                (gate.open, gate.found, heard) = (true, Fact::Answers(None), true);
            }
        }
        if heard { Ok(chores.write(&self.home.data)?) } else { Ok(()) }
    }

    /// Asks for restarts that the system does not tell, so that none is due for ever.
    pub(super) fn hear_of_restarts(
        &self,
        prospect: &Prospect,
        request: &Request,
        decide: &dyn Decide,
    ) -> Result<(), ClimbError> {
        let (rungs, now) = (&prospect.route.rungs, &prospect.survey.identity);
        let mut restarts = Restarts::read(&self.home.data)?;
        let mut heard = false;
        for rung in rungs {
            let Some(anew) = restarts.due(rung.folder(), now).filter(|anew| !Restarts::is_seen(*anew, now)) else {
                continue;
            };
            let Some(above) = rungs.iter().find(|above| above.needs.contains(&rung.key)) else { continue };
            let due = RestartDue { rung: rung.key.clone(), anew, above: above.key.clone() };
            if request.done.contains(&due.rung.to_string()) || decide.has_restarted(&due) {
                restarts.forget(rung.folder());
                heard = true;
            }
        }
        if heard { Ok(restarts.write(&self.home.data)?) } else { Ok(()) }
    }
}
