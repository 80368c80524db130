//! Confinement: there is no documented interface for it that a program may use on others.

use crate::sys::{Cell, Confined};

/// Keeps from nothing.
pub(crate) fn enter(_cell: &Cell) -> Confined {
    Confined::default()
}
