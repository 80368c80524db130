//! Definitions of any text: read, or refused with a place in the file; never a panic.
#![no_main]

use kladder_choose::catalog::{Catalogs, Memory};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let mut memory = Memory::new("fuzz");
    memory.add("plank", text);
    let catalogs = Catalogs::new(vec![Box::new(memory)]).expect("there is one catalog");
    match catalogs.tool("plank") {
        Ok(tool) => {
            let card = catalogs.card("plank").expect("what could be read has a card");
            assert_eq!(tool.is_some(), card.is_some());
            for release in card.iter().flat_map(|card| &card.releases) {
                let _ = release.details();
            }
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
});
