//! The built program, driven on files in a temporary folder against a yard server on loopback.

mod bad_input;
mod climbing;
mod output;
mod sandbox;
mod story;
mod trouble;
