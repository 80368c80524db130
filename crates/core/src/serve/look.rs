//! How a service stands: what was written down of it, whether that still holds, and what it says itself.

use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;

use super::{Served, Serving};
use crate::base::event::Verdict;
use crate::prove::verify::{Asked, VerifyError};
use crate::sys;
use crate::tasks::Listening;

/// How long a port may take to answer.
const PATIENCE: Duration = Duration::from_millis(500);
/// A service without a port that says nothing of itself is taken for ready once it has run so long.
const MOMENT: Duration = Duration::from_secs(1);

/// How a service stands.
#[derive(Clone, Debug, PartialEq)]
pub enum Standing {
    /// It does not run.
    Stopped,
    /// It runs, and is not ready yet.
    Starting,
    /// It can be worked with.
    Ready,
    /// It ended by itself, and is started again.
    Failing,
    /// Its process runs, and nobody keeps it: whoever did was killed.
    Left,
}

/// Who listens on a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// The process's number.
    pub process: u32,
    /// What it is called.
    pub name: String,
}

impl Served<'_> {
    /// Who listens on its port; `None` where nobody does, or nobody tells.
    pub fn holder(&self) -> Option<Holder> {
        let (process, name) = sys::ports::holder(self.port?.port)?;
        Some(Holder { process, name })
    }

    /// Whether something answers at its port.
    pub fn answers(&self) -> bool {
        let at = |port| SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        self.port.is_some_and(|of| TcpStream::connect_timeout(&at(of.port), PATIENCE).is_ok())
    }

    /// Whether other machines can reach it where it listens, though nobody wants that.
    pub fn is_open(&self) -> bool {
        let wanted = |at: &Listening| !at.reachable;
        self.port.filter(wanted).is_some_and(|at| sys::ports::is_open(at.port))
    }

    /// Whether what runs is not what would be started now: it was started before the ladder or its tool changed.
    pub fn is_old(&self, serving: &Serving<'_>) -> bool {
        let order = serving.order(self);
        // What cannot be told to be as it should is not.
        self.place.is_kept() && self.place.state().is_none_or(|state| state.recipe != order.recipe)
    }
}

impl Serving<'_> {
    /// How a service stands.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be asked.
    pub fn standing(&self, served: &Served<'_>) -> Result<Standing, VerifyError> {
        if !served.place.is_kept() {
            let is_left = sys::processes::any_marked(&served.place.marked());
            return Ok(if is_left { Standing::Left } else { Standing::Stopped });
        }
        if served.place.state().is_some_and(|state| state.process.is_none()) {
            return Ok(Standing::Failing);
        }
        Ok(if self.is_ready(served)? { Standing::Ready } else { Standing::Starting })
    }

    fn is_ready(&self, served: &Served<'_>) -> Result<bool, VerifyError> {
        if let Some(trial) = &served.service.ready {
            let asked = Asked { service: &served.service.name, rung: served.rung, trial, port: served.port };
            return Ok(!self.bench.ask(&asked)?.0.failed());
        }
        let since = || {
            served
                .place
                .state()
                .and_then(|state| Duration::try_from(state.since.until(jiff::Timestamp::now()).ok()?).ok())
        };
        Ok(if served.port.is_some() { served.answers() } else { since().is_some_and(|since| since >= MOMENT) })
    }

    /// What a service says of its state; `None` where its tool does not tell how it is asked.
    ///
    /// # Errors
    /// [`VerifyError`] where it could not be asked.
    pub fn asked(&self, served: &Served<'_>) -> Result<Option<(Verdict, String)>, VerifyError> {
        let Some(trial) = &served.service.ask else { return Ok(None) };
        let asked = Asked { service: &served.service.name, rung: served.rung, trial, port: served.port };
        self.bench.ask(&asked).map(Some)
    }
}
