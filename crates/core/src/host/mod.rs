//! The machine: what it is and has, processes on it, and what they are kept from.

pub mod confine;
pub mod process;
pub mod restart;
pub mod survey;
pub mod tools;
