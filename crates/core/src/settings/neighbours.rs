//! Whether, and how, machines of a room give each other what they have.
//!
//! ```toml
//! [neighbours]                     # being there is enough: found by multicast DNS
//! port = 7381                      # that others ask at; any, if left out
//! find = false                     # nobody is looked for, …
//! named = ["192.0.2.7:7381"]       # … but for these
//! ```

use std::net::SocketAddr;

/// How neighbours are dealt with.
#[derive(Clone, Debug, PartialEq, Eq, serde::Deserialize)]
#[serde(deny_unknown_fields, expecting = "here stands a table: `find`, `named`, `port`")]
pub struct NeighbourSetting {
    /// Whether they are looked for.
    #[serde(default = "yes")]
    pub find: bool,
    /// Some that are known.
    #[serde(default)]
    pub named: Vec<SocketAddr>,
    /// The port that they ask at.
    #[serde(default)]
    pub port: Option<u16>,
}

const fn yes() -> bool {
    true
}

impl Default for NeighbourSetting {
    fn default() -> Self {
        Self { find: true, named: Vec::new(), port: None }
    }
}
