//! Namespaces: there are none.

use std::path::PathBuf;

use crate::sys::{Shown, Spaces};

/// Makes none.
pub(crate) fn enter(_writes: &[PathBuf], _shown: &[Shown]) -> Spaces {
    Spaces::default()
}

/// Does nothing.
pub(crate) fn settle() {}
