//! Seeing that it works: files, answers, checks, rehearsals, and what a failure probably comes from.

pub mod causes;
pub mod verify;
mod wants;
