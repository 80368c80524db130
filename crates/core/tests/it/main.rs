//! The machine's side, on folders made by the test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod bringing;
mod definitions;
mod fetching;
mod hostile;
mod hostile_cpio;
mod hostile_images;
mod indexing;
mod judging;
mod listing;
mod neighbouring;
mod packing;
mod recording;
mod shelving;
mod starter;
mod storeys;
mod surveying;
mod unpacking;

use std::sync::Arc;

use kladder_choose::address::YardAddress;
use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_choose::digest::Digest;
use kladder_core::bring::fetch::{Network, Yard, at};

/// Says loudly that a test could not be made on this machine; in continuous integration (where `CI` is set) it fails.
#[allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "there is nobody else to tell")]
fn not_tested(why: &str) {
    assert!(std::env::var_os("CI").is_none(), "not tested: {why}");
    eprintln!("NOT TESTED: {why}");
}

/// An artifact that is unpacked as it is.
fn artifact(file: &str, size: u64, sha256: Digest) -> Artifact {
    let file = kladder_choose::path::InnerPath::new(file).unwrap();
    Artifact { file, size, sha256, unpacked: None, unpack: Unpacking::default(), origins: Vec::new(), by_person: None }
}

/// The yard at an address.
fn yard(address: &str, network: &Network) -> Arc<dyn Yard> {
    at(&YardAddress::new(address, "/".as_ref()).unwrap(), network)
}
