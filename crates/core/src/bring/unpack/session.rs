//! What the formats hand their entries to.

use std::io::Read;
use std::thread::Scope;

use super::guard::Guard;
use super::names::shown;
use super::writer::{Failed, Target, Writers};
use super::{Stop, UnpackError};
use crate::base::event::{Cancelled, Observer, check_cancelled};
use crate::bring::shelf::ManifestEntry;

/// The unpacking of some archives into one folder.
pub(super) struct Session<'s, 't> {
    pub(super) guard: Guard<'t>,
    pub(super) target: &'t Target<'t>,
    pub(super) observer: &'t dyn Observer,
    writers: Writers<'s, 't>,
    more: Vec<ManifestEntry>,
}

impl<'s, 't: 's> Session<'s, 't> {
    pub(super) fn start(
        scope: &'s Scope<'s, '_>,
        guard: Guard<'t>,
        target: &'t Target<'t>,
        observer: &'t dyn Observer,
    ) -> Self {
        let writers = Writers::start(scope, target);
        Self { guard, target, observer, writers, more: Vec::new() }
    }
}

impl Session<'_, '_> {
    /// Takes a file of `size` bytes, as the archive says.
    pub(super) fn file(&mut self, name: &[u8], runs: bool, size: u64, content: &mut dyn Read) -> Result<(), Stop> {
        match self.guard.file(name, runs)? {
            None => Ok(()),
            Some(ticket) => self.writers.file(ticket, size, content),
        }
    }

    /// Takes a file that runs, whose length nobody tells.
    pub(super) fn unmeasured(&mut self, name: &[u8], content: &mut dyn Read) -> Result<(), Stop> {
        if let Some(ticket) = self.guard.file(name, true)? {
            self.more.push(self.target.stream(ticket, content)?);
        }
        Ok(())
    }

    /// Takes note of what was written elsewhere.
    pub(super) fn written(&mut self, made: Vec<ManifestEntry>) {
        self.more.extend(made);
    }

    /// Says of which entry a refusal is.
    pub(super) fn named<T>(&self, name: &[u8], done: Result<T, Stop>) -> Result<T, Stop> {
        if self.observer.cancelled() {
            return Err(Stop::Elsewhere);
        }
        done.map_err(|stop| stop.of(name))
    }

    /// Waits for the writers and makes the links; `last` is the archive that came last, `done` how its reading ended.
    pub(super) fn finish(self, last: &str, done: Result<(), Stop>) -> Result<Vec<ManifestEntry>, UnpackError> {
        let written = self.writers.finish();
        check_cancelled(self.observer)?;
        let stopped = |stop: Stop| stop.told(last);
        let failed = |(path, stop): Failed| stopped(stop.of(path.as_os_str().as_encoded_bytes()));
        match (done, written) {
            // The one who reads was stopped by one who writes.
            (Err(Stop::Elsewhere) | Ok(()), Err(error)) => Err(failed(error)),
            (Err(stop), _) => Err(stopped(stop)),
            (Ok(()), Ok(mut made)) => {
                made.extend(self.more);
                self.guard.finish(&mut made).map_err(failed)?;
                Ok(made)
            }
        }
    }
}

impl Stop {
    pub(super) fn of(self, name: &[u8]) -> Self {
        match self {
            Self::Refused(reason) => Self::Entry(shown(name), reason),
            other => other,
        }
    }

    fn told(self, archive: &str) -> UnpackError {
        let archive = archive.to_owned();
        match self {
            Self::Entry(entry, reason) => UnpackError::Refused { archive, entry, reason },
            Self::Refused(reason) => UnpackError::Refused { archive, entry: String::new(), reason },
            Self::Damaged(source) => UnpackError::Damaged { archive, source },
            Self::File(error) => UnpackError::File(error),
            Self::Pattern(super::names::NoPattern { pattern, source }) => UnpackError::Pattern { pattern, source },
            Self::Elsewhere => UnpackError::Cancelled(Cancelled),
        }
    }
}
