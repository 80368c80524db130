//! Programs of this system are not ELF, and its own libraries are no files: nothing is said about them.

use std::path::{Path, PathBuf};

/// The folders of shared libraries; `None`, since programs are loaded in another way.
pub(crate) fn folders(_: &Path) -> Option<Vec<PathBuf>> {
    None
}
