//! Points at which a stress run may kill the process. Without the feature `failpoints` they are nothing.
//!
//! A point has a name and does nothing. In a build with the feature `failpoints` the variable `FAILPOINTS` says at which of
//! them the process ends at once, with nothing cleaned up; `crates/stress` goes through all of them.

/// Every point, in the order in which a climb passes them; the last ones are of a return to an earlier landing.
pub const POINTS: [&str; 19] = [
    "run-begun",
    "part-written",
    "artifact-whole",
    "file-unpacked",
    "unpacked",
    "set-up",
    "manifest-written",
    "shelved",
    "fit-out-begun",
    "fit-out-made",
    "fitted-out",
    "checked",
    "landing-intended",
    "landing-recorded",
    "landing-finished",
    "switch-prepared",
    "switched",
    "run-ended",
    "pins-put-back",
];

/// Kills the process here, where the point `name` is set to do so.
#[cfg(feature = "failpoints")]
pub fn point(name: &str) {
    debug_assert!(POINTS.contains(&name), "the point {name} is not listed");
    let _ = fail::eval(name, |_| std::process::abort());
}

/// Does nothing.
#[cfg(not(feature = "failpoints"))]
#[inline]
pub fn point(_name: &str) {}
