//! How a tool is found on the host.

use serde::Deserialize;

use super::CommandName;
use crate::catalog::Pattern;

/// How to find a tool on the host.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostProbe {
    /// The command to look for on PATH.
    pub command: CommandName,
    /// The arguments that make it say its version.
    #[serde(default = "ask_version")]
    pub ask: Vec<String>,
    /// Where the version stands in what it says: a group `version`, or the whole match.
    #[serde(default = "Pattern::version")]
    pub version: Pattern,
}

fn ask_version() -> Vec<String> {
    vec!["--version".into()]
}
