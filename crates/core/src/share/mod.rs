//! Sharing: what a ladder needs, in one file (bales) or in a folder for many machines (yards); what a workstation is, told (reports)
//! and held against others (compare).

pub mod bale;
pub mod collect;
pub mod compare;
pub mod laid;
mod needed;
pub mod report;
pub mod yard;

pub use needed::{Needed, NeededError, Wanted};
