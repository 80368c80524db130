//! The built program, driven on files in a temporary folder against a yard server on loopback.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::needless_raw_string_hashes, reason = "snapbox writes its snapshots with them")]

mod archives;
mod bad_input;
mod baling;
mod before;
mod breaking;
mod causes;
mod choosing;
mod chores;
mod claiming;
mod clashes;

mod climbing;
mod coding;
mod confining;
mod copies;
mod edges;
mod editors;
mod elsewhere;
mod entering;
mod fitting;
mod guiding;
mod histories;
mod indexes;
mod keeping;
mod lending;
mod libraries;
mod mending;
mod network;
mod origins;
mod output;
mod packaged;
mod packages;
mod pages;
mod pieces;
mod private;
mod rehearsing;
mod reporting;
mod returning;
mod sandbox;
mod schemas;
mod serving;
mod sets;
mod setting;
mod settings;
mod shapes;
mod space;
mod start;
mod storing;
mod story;
mod talking;
mod timing;
mod trouble;
mod tunnel;
mod verifying;
mod visits;
mod widths;
mod wiring;
