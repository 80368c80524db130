//! Facts: this system tells all of them in files, so that they can be read from a described root too.

use std::fs;
use std::path::Path;

use crate::sys::Told;

/// Where the system keeps fonts, from its root on.
pub(crate) const FONTS: [&str; 2] = ["usr/share/fonts", "usr/local/share/fonts"];
/// Where a person does, from their home on.
pub(crate) const FONTS_OF_PERSON: [&str; 2] = [".local/share/fonts", ".fonts"];

/// What is not told by files: nothing.
pub(crate) fn told() -> Told {
    Told::default()
}

/// Whether musl is this system's C library: its loader is there, and the folder of the GNU one is not.
pub(crate) fn is_musl() -> bool {
    let mut names = fs::read_dir("/lib").into_iter().flatten().flatten().map(|entry| entry.file_name());
    !Path::new("/lib64").exists() && names.any(|name| name.as_encoded_bytes().starts_with(b"ld-musl-"))
}
