//! The deciding side, on catalogs written by the test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod libraries;
mod mistakes;
mod packages;
mod parts;
mod recipes;
mod resolving;
mod sound;
mod versions;

use kladder_choose::catalog::{Catalogs, Memory};
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_synth::Made;

fn catalogs(made: &Made) -> Catalogs {
    let mut memory = Memory::new("made-up");
    made.texts().for_each(|(tool, text)| memory.add(tool, &text));
    Catalogs::new(vec![Box::new(memory)]).unwrap()
}

fn ladder(text: &str) -> Ladder {
    Ladder::parse(&Source::new("ladder.toml", text)).unwrap()
}
