//! Writes a made-up catalog of any size, and a ladder over it.

use std::fs;
use std::io;
use std::path::PathBuf;

use clap::Parser;
use kladder_synth::{Made, Shape};

/// Write a made-up catalog of any size into FOLDER/catalog, and FOLDER/ladder.toml over it
#[derive(Parser)]
struct Arguments {
    /// Where to
    folder: PathBuf,
    /// How many tools
    #[arg(long, default_value_t = 10_000)]
    tools: usize,
    /// How many releases each of them has
    #[arg(long, default_value_t = 20)]
    versions: usize,
    /// Percentage of needs that are bound above
    #[arg(long, default_value_t = 30)]
    tight: u8,
    /// How many wishes the ladder has
    #[arg(long, default_value_t = 20)]
    wishes: usize,
    /// The same seed gives the same catalog
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

fn main() -> io::Result<()> {
    let Arguments { folder, tools, versions, tight, wishes, seed } = Arguments::parse();
    let made = Made::generate(&Shape { tools, versions, tight, seed, ..Shape::default() });
    made.write(&folder.join("catalog"))?;
    let rungs: String =
        (0..wishes.min(tools)).map(|at| format!("tool-{} = \"any\"\n", at * tools / wishes / 4)).collect();
    fs::write(folder.join("ladder.toml"), format!("[ladder]\ncatalog = \"catalog\"\n\n[rungs]\n{rungs}"))
}
