//! `host.toml` in a described root: the facts that files laid out like `/` cannot tell.

use std::path::Path;

use serde::Deserialize;

use super::{Identity, Odd};
use crate::base::files;
use kladder_choose::document::DocumentError;

/// The facts of `host.toml`; all may be left out.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Described {
    /// `linux` or `macos`.
    pub(super) os: Option<String>,
    /// The processor's kind, where /proc does not tell.
    pub(super) processor: Option<String>,
    /// The caller's name; its groups and login shell come from /etc.
    pub(super) user: Option<String>,
    /// Free disk in bytes, everywhere.
    pub(super) free: Option<u64>,
    /// Whether the caller may open the virtualisation device.
    pub(super) virtualisation_reachable: bool,
    /// The session; the boot comes from /proc.
    pub(super) session: Option<String>,
}

impl Described {
    /// Reads the file; a missing one tells nothing.
    pub(super) fn read(path: &Path) -> Result<Self, Odd> {
        if !path.exists() {
            return Ok(Self::default());
        }
        let read = files::source(path).map_err(DocumentError::from).and_then(|source| source.parse());
        read.map_err(|error| Odd::Description { file: path.to_path_buf(), error: error.to_string() })
    }

    pub(super) fn identity(&self, boot: Option<String>) -> Identity {
        Identity { boot, session: self.session.clone() }
    }
}
