//! macOS: written from its documented interfaces and type-checked, never run.

pub(crate) mod confine;
pub(crate) mod facts;
pub(crate) mod files;
pub(crate) mod libraries;
pub(crate) mod ports;
pub(crate) mod processes;
pub(crate) mod reach;
pub(crate) mod rooms;
pub(crate) mod spaces;
pub(crate) mod terminals;
pub(crate) mod traces;
