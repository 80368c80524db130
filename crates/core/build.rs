//! Makes the index of the catalog that the crate carries: each tool's head, and its card still encoded, so that listing and
//! choosing read no definition. Built anew where the catalog has changed.

#![allow(
    clippy::disallowed_macros,
    clippy::disallowed_methods,
    reason = "this is how a build script speaks and is told"
)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::{env, error::Error, fs};

use kladder_choose::catalog::{Card, Definition, Head};
use kladder_choose::digest::Digest;
use kladder_choose::document::Source;
use kladder_choose::names::ToolName;

fn main() -> Result<(), Box<dyn Error>> {
    println!("cargo:rerun-if-changed=../../catalog");
    let mut index: BTreeMap<ToolName, (Head, Vec<u8>)> = BTreeMap::new();
    for entry in fs::read_dir("../../catalog/tools")? {
        let path = entry?.path();
        if let Some(name) = path.file_stem().and_then(|name| name.to_str())
            && path.extension().is_some_and(|ending| ending == "toml")
        {
            let (head, card) = indexed(name, &path)?;
            index.insert(name.parse()?, (head, card));
        }
    }
    let out = PathBuf::from(env::var_os("OUT_DIR").ok_or("cargo names no folder")?).join("starter.index");
    Ok(fs::write(out, postcard::to_stdvec(&index)?)?)
}

fn indexed(name: &str, path: &Path) -> Result<(Head, Vec<u8>), Box<dyn Error>> {
    let source = Source::new(path, fs::read_to_string(path)?);
    let definition = Definition::parse(&source, name)?;
    let card = Card::of(&definition, Digest::of(source.text.as_bytes()));
    Ok((Head::of(&definition), postcard::to_stdvec(&card)?))
}
