//! Seeing that it works: files, answers, checks, rehearsals, and what a failure probably comes from.
//!
//! In the order in which a rung is looked at:
//!
//! 1. Its files, against the manifest, and its berth against its plan.
//! 2. Who answers to each of its commands on PATH, and what that would start.
//! 3. Whether the system would start its programs at all: loader, libraries and their versions, interpreters of scripts.
//! 4. Its checks, each in a folder that is thrown away.
//! 5. Rehearsals, which several rungs pass together.
//!
//! What rehearsals start is written down, and from that who worked with whom ([`together`]).
//!
//! Each gives a verdict: a subject, how it came out, what was seen instead, and what that probably comes from.

pub mod causes;
pub mod mend;
pub mod project;
pub(crate) mod side;
mod speak;
pub mod together;
pub mod verify;
pub(crate) mod wants;
