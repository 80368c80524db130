//! Made-up catalogs are catalogs: what is written is read back as it was meant.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use kladder_choose::catalog::{Catalogs, Memory, Need};
use kladder_choose::platform::Scope;
use kladder_synth::{Made, Shape};

fn read(made: &Made) -> Catalogs {
    let mut memory = Memory::new("made-up");
    made.texts().for_each(|(tool, text)| memory.add(tool, &text));
    Catalogs::new(vec![Box::new(memory)]).unwrap()
}

#[test]
fn every_word_of_a_line_arrives_in_the_definition() {
    let made = Made::from_lines(
        "skerroc provides skerrow-compiler
         skerroc excludes skerrow-compiler
         skerroc scheme semantic
         skerroc host skc
         skerroc 1.5.0-rc.1 2026-10-01 stable oarweld:>=3/linux ~oarweld:<3 tidlow+tracer:any oarweld:2|tombolet:any \
         !tombolet:<2 +lens=oarweld:>=2 @linux/x86_64",
    );
    let catalog = read(&made);
    let skerroc = catalog.tool("skerroc").unwrap().unwrap();
    let release = &skerroc.releases[0];
    let needs: Vec<String> = release.says.needs.iter().map(Need::to_string).collect();
    assert_eq!(needs, ["oarweld >=3 on linux", "oarweld <3 of its own", "tidlow with tracer", "oarweld 2 or tombolet"]);
    let excludes: Vec<&str> = release.says.excludes.iter().map(|way| way.way.name.as_str()).collect();
    assert_eq!(excludes, ["tombolet", "skerrow-compiler"]);
    assert_eq!(release.pieces["lens"].says.needs[0].to_string(), "oarweld >=2");
    assert_eq!(release.artifacts[0].scopes.iter().map(Scope::as_str).collect::<Vec<_>>(), ["linux/x86_64"]);
    assert_eq!((release.series[0].as_str(), release.date.unwrap().to_string().as_str()), ("stable", "2026-10-01"));
    assert_eq!(
        (
            skerroc.host.as_ref().unwrap().command.as_ref().unwrap().as_str(),
            catalog.providers("skerrow-compiler").unwrap().len()
        ),
        ("skc", 1)
    );
}

#[test]
fn a_seed_gives_one_catalog_and_another_seed_another() {
    let shape = Shape { tools: 300, versions: 8, capabilities: 20, exclusions: 20, planted: true, ..Shape::default() };
    let made = Made::generate(&shape);
    assert_eq!(made, Made::generate(&shape));
    assert_ne!(made, Made::generate(&Shape { seed: 2, ..shape }));
    assert!(made.tools.len() == 300 && made.tools.iter().all(|tool| tool.releases.len() == 8));
    let catalog = read(&made);
    let read: Vec<_> = catalog.names().map(|name| catalog.tool(name).unwrap().unwrap()).collect();
    assert!(read.len() == 300 && read.iter().all(|tool| tool.releases.len() == 8));
}
