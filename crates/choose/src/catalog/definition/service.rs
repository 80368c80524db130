//! Services: programs of a rung that run while one works.
//!
//! ```toml
//! [[services]]
//! name = "buoyholt"                          # by which it is started and stopped
//! run = ["buoyholt", "--port", "{port}"]     # it stays in the foreground; a command that ends has ended
//! variables = { BUOYHOLT_HOME = "{folder}/state" }
//! port = "free"                              # or a number; "free": one that is the same each time
//! ready = { run = ["buoyholt", "--ping", "{port}"] }   # left out: its port answers; without one, it has run for a moment
//! ask = { run = ["buoyholt", "--state", "{port}"] }    # what `kladder services NAME` shows of it
//! stop = { run = ["buoyholt", "--end", "{port}"] }     # left out: the signal TERM
//! patience = 30                              # seconds until it must be ready, and until it must have ended
//! ```
//!
//! `{port}` in another text of the tool is the port of its first service, `{buoyholt.port}` in another tool's that of this one's.

use std::collections::BTreeMap;
use std::ops::Range;

use serde::{Deserialize, Deserializer};

use super::super::Trial;
use super::VariableName;
use crate::names::is_plain;
use crate::template::Template;

/// The ports from which a free one is chosen: below those that systems hand out by themselves (RFC 6335, section 6).
pub const FREE: Range<u16> = 20_000..32_000;

/// A program that runs while one works.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Service {
    /// By which it is started and stopped.
    pub name: String,
    /// The command and its arguments.
    pub run: Vec<Template>,
    /// Environment variables of this command alone.
    #[serde(default)]
    pub variables: BTreeMap<VariableName, Template>,
    /// Where it listens.
    #[serde(default, deserialize_with = "port")]
    pub port: Option<Port>,
    /// How to see that it can be worked with.
    pub ready: Option<Trial>,
    /// How its own word on its state is had.
    pub ask: Option<Trial>,
    /// How it is told to end.
    pub stop: Option<Trial>,
    /// Seconds that it may take to be ready, and to end.
    #[serde(default = "patience")]
    pub patience: u64,
}

/// Where a service listens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Port {
    /// Always there.
    Fixed(u16),
    /// At some port of [`FREE`], the same each time.
    Free,
}

impl Service {
    /// Its commands.
    pub fn trials(&self) -> impl Iterator<Item = &Trial> {
        [&self.ready, &self.ask, &self.stop].into_iter().flatten()
    }

    /// What no single value shows to be wrong.
    pub(super) fn check(&self) -> Result<(), String> {
        if !is_plain(&self.name) {
            return Err(format!("`{}` cannot be the name of a service", self.name));
        }
        if self.run.is_empty() || self.trials().any(|trial| trial.run.is_empty()) {
            return Err(format!("the service {} has nothing to run: `run` is an empty list", self.name));
        }
        Ok(())
    }
}

fn patience() -> u64 {
    30
}

fn port<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Port>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "here stands a port from 1 to 65535, or \"free\"")]
    enum Form {
        Number(std::num::NonZeroU16),
        Word(Free),
    }
    #[derive(Deserialize)]
    enum Free {
        #[serde(rename = "free")]
        Free,
    }
    Ok(Some(match Form::deserialize(deserializer)? {
        Form::Number(number) => Port::Fixed(number.get()),
        Form::Word(Free::Free) => Port::Free,
    }))
}
