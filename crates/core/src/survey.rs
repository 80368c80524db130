//! What is known about the host. Everything the core knows of the machine comes through [`Host`].

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use crate::platform::Platform;

/// The machine as the core sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// Its platform.
    pub platform: Platform,
    /// The search path for commands, as the caller's environment has it.
    pub path: OsString,
    /// Where temporary files go.
    pub temporary: PathBuf,
}

impl Host {
    /// The host with its commands in `path`, on the platform this program was built for.
    pub fn new(path: OsString, temporary: &Path) -> Self {
        Self { platform: Platform::here(), path, temporary: temporary.to_path_buf() }
    }
}

/// The first file on `path` that would answer to `command`.
pub fn answers(command: &str, path: &OsString) -> Option<PathBuf> {
    use std::os::unix::fs::PermissionsExt;
    let runs = |file: &PathBuf| file.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0);
    std::env::split_paths(path).map(|folder| folder.join(command)).find(runs)
}
