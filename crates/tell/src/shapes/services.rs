//! Services.

use kladder_core::serve::{Holder, Served, Standing};
use schemars::JsonSchema;
use serde::Serialize;

use crate::words;

/// The services of a ladder.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Services {
    /// `kladder.services/1`
    pub format: &'static str,
    /// Each after those that it stands on.
    pub services: Vec<Service>,
    /// Names of services that run and that the ladder no longer has.
    pub left: Vec<String>,
}

impl Services {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.services/1";
}

/// A service.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Service {
    /// Its name.
    pub service: String,
    /// The rung that it is of.
    pub rung: String,
    /// `stopped`, `starting`, `ready`, `failing` (it ended by itself, and is started again) or `left` (whoever kept it was killed).
    pub state: String,
    /// Where it listens; null where it does not.
    pub port: Option<u16>,
    /// Whether other machines are to reach it.
    pub reachable: bool,
    /// Whether they can although they are not to.
    pub is_open: bool,
    /// Whether it starts with the person's session, and not only should; null where the ladder does not want it.
    pub starts_with_session: Option<bool>,
    /// When it is started again (RFC 3339), after an end.
    pub again: Option<String>,
    /// Its process; null where it does not run.
    pub process: Option<u32>,
    /// Since when it is so (RFC 3339); null where it was not started.
    pub since: Option<String>,
    /// How often it was started again since then.
    pub restarts: u32,
    /// How it ended the last time that it did so by itself.
    pub ended: Option<String>,
    /// Who listens on its port.
    pub held_by: Option<PortHolder>,
    /// It runs as it was before the ladder or its tool changed.
    pub is_old: bool,
}

/// Who listens on a port.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PortHolder {
    /// The process's number.
    pub process: u32,
    /// What it is called.
    pub name: String,
}

impl Service {
    /// The shape of a service.
    pub fn of(served: &Served<'_>, standing: &Standing, is_old: bool) -> Self {
        let state = served.place.state().filter(|_| *standing != Standing::Stopped);
        let holder = |Holder { process, name }: Holder| PortHolder { process, name };
        Self {
            service: served.service.name.clone(),
            rung: served.rung.key.to_string(),
            state: words::standing(standing).to_owned(),
            port: served.port.map(|at| at.port),
            reachable: served.port.is_some_and(|at| at.reachable),
            is_open: *standing != Standing::Stopped && served.is_open(),
            starts_with_session: served.starts_with_session,
            again: state
                .as_ref()
                .and_then(|state| state.again)
                .filter(|_| *standing == Standing::Failing)
                .map(|at| at.to_string()),
            process: state.as_ref().and_then(|state| state.process),
            since: state.as_ref().map(|state| state.since.to_string()),
            restarts: state.as_ref().map_or(0, |state| state.restarts),
            ended: state.and_then(|state| state.ended).as_ref().map(words::ended),
            held_by: served.holder().map(holder),
            is_old,
        }
    }
}
