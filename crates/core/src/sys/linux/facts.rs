//! Facts: this system tells all of them in files, so that they can be read from a described root too.

use std::fs;
use std::path::Path;

use crate::sys::Told;

/// What is not told by files: nothing.
pub(crate) fn told() -> Told {
    Told::default()
}

/// Whether musl is this system's C library: its loader is there, and the folder of the GNU one is not.
pub(crate) fn is_musl() -> bool {
    let mut names = fs::read_dir("/lib").into_iter().flatten().flatten().map(|entry| entry.file_name());
    !Path::new("/lib64").exists() && names.any(|name| name.as_encoded_bytes().starts_with(b"ld-musl-"))
}
