//! Definitions of any text: read, or refused with a place in the file; never a panic.
#![no_main]

use std::fs;
use std::sync::OnceLock;

use kladder_choose::catalog::Catalog;

fn folder() -> &'static tempfile::TempDir {
    static FOLDER: OnceLock<tempfile::TempDir> = OnceLock::new();
    FOLDER.get_or_init(|| {
        let folder = tempfile::tempdir_in("/dev/shm").expect("there is memory for files");
        fs::create_dir(folder.path().join("tools")).expect("the folder is made");
        let head = "[catalog]\nformat = 1\nname = \"fuzz\"\ntitle = \"made up\"\n";
        fs::write(folder.path().join("catalog.toml"), head).expect("the head is written");
        folder
    })
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    fs::write(folder().path().join("tools/plank.toml"), bytes).expect("the definition is written");
    let catalog = Catalog::open(folder().path(), None).expect("the head is right");
    match catalog.tool("plank") {
        Ok(tool) => {
            let card = catalog.card("plank").expect("what could be read has a card");
            assert_eq!(tool.is_some(), card.is_some());
            for release in card.iter().flat_map(|card| &card.releases) {
                let _ = release.details();
            }
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
});
