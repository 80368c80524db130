//! Whether the desktop is dark or light, where it has a documented setting for that: `color-scheme` of the settings schema
//! `org.gnome.desktop.interface`, read and written by gsettings(1).
//!
//! What it was before is remembered, and comes back once the ladder does not say anything any more; what a person chose since is
//! left alone.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::ladder::Look;
use serde::{Deserialize, Serialize};

use crate::base::event::Silent;
use crate::base::files;
use crate::base::record::{self, RecordError};
use crate::host::process::{self, Ended, Setting};
use crate::host::survey::{Host, answers};
use crate::settings::Home;

const FORMAT: u32 = 1;
const PROGRAM: &str = "gsettings";
const KEY: [&str; 2] = ["org.gnome.desktop.interface", "color-scheme"];

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Recorded {
    format: u32,
    /// What it was before.
    before: String,
    /// What it was set to.
    set: String,
}

/// How the look of the desktop stands to what a ladder wants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LookState {
    /// There is no such setting here, or it is as wanted.
    Stands,
    /// It would become this.
    ToSet(String),
    /// A person chose another one since it was set; it stays.
    Yours,
    /// The ladder does not say anything any more: it becomes this again.
    ToUndo(String),
}

/// The setting of a home.
pub struct Desktop<'d> {
    host: &'d Host,
    record: PathBuf,
}

impl<'d> Desktop<'d> {
    /// That of whoever has this home.
    pub fn of(home: &Home, host: &'d Host) -> Self {
        Self { host, record: home.data.join("look.json") }
    }

    /// How it stands.
    ///
    /// # Errors
    /// [`RecordError`] where what was remembered cannot be used.
    pub fn state(&self, wanted: Option<Look>) -> Result<LookState, RecordError> {
        let there: Option<Recorded> =
            if self.record.exists() { Some(record::read(&self.record, FORMAT)?) } else { None };
        if wanted.is_none() && there.is_none() {
            return Ok(LookState::Stands);
        }
        let Some(now) = self.now() else { return Ok(LookState::Stands) };
        Ok(match (wanted.map(value), there) {
            (Some(wanted), _) if wanted == now => LookState::Stands,
            (Some(_), Some(there)) if there.set != now => LookState::Yours,
            (Some(wanted), _) => LookState::ToSet(wanted.to_owned()),
            (None, Some(there)) if there.set == now => LookState::ToUndo(there.before),
            (None, _) => LookState::Yours,
        })
    }

    /// Makes it so; tells whether it is.
    ///
    /// # Errors
    /// [`RecordError`] where what it was before cannot be remembered: then nothing is changed.
    pub fn apply(&self, state: &LookState) -> Result<bool, RecordError> {
        match state {
            LookState::Stands => Ok(true),
            LookState::ToSet(value) => {
                let Some(now) = self.now() else { return Ok(false) };
                let there: Option<Recorded> =
                    if self.record.exists() { Some(record::read(&self.record, FORMAT)?) } else { None };
                let before = there.map_or(now, |there| there.before);
                record::write(&self.record, &Recorded { format: FORMAT, before, set: value.clone() })?;
                Ok(self.set(value))
            }
            LookState::ToUndo(value) => {
                let done = self.set(value);
                self.forget();
                Ok(done)
            }
            LookState::Yours => {
                self.forget();
                Ok(true)
            }
        }
    }

    fn forget(&self) {
        // What cannot be removed is looked at again the next time, and changes nothing.
        let _ = files::remove_tree(&self.record);
    }

    /// What it is; `None` where there is no such setting.
    fn now(&self) -> Option<String> {
        Some(self.run(&["get", KEY[0], KEY[1]])?.trim().trim_matches('\'').to_owned())
    }

    fn set(&self, value: &str) -> bool {
        self.run(&["set", KEY[0], KEY[1], value]).is_some() && self.now().as_deref() == Some(value)
    }

    fn run(&self, arguments: &[&str]) -> Option<String> {
        let program = answers(PROGRAM, &self.host.path).filter(|_| !self.host.is_described())?;
        let run: Vec<OsString> = [program.into()].into_iter().chain(arguments.iter().map(Into::into)).collect();
        let variables: Vec<(OsString, OsString)> = self.host.environment.all().collect();
        let setting = Setting::open(&run, Path::new("/"), &variables, Duration::from_secs(10));
        let ran = process::run(&setting, &Silent).ok()?;
        matches!(ran.ended, Ended::Status(0)).then_some(ran.stdout)
    }
}

fn value(look: Look) -> &'static str {
    match look {
        Look::Dark => "prefer-dark",
        Look::Light => "prefer-light",
    }
}
