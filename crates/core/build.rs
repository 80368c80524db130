//! Builds the crate anew where the catalog that it carries has changed.

#![allow(clippy::disallowed_macros, reason = "this is how a build script speaks")]

fn main() {
    println!("cargo:rerun-if-changed=../../catalog");
}
