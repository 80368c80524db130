//! The house is as docs/architecture.md draws it: no storey of the core names one above it.

use std::fs;
use std::path::Path;

const STOREYS: [&str; 13] =
    ["sys", "base", "host", "settings", "bring", "keep", "tasks", "wire", "prove", "serve", "climb", "desk", "share"];

#[test]
fn no_storey_names_one_above_it() {
    let sources = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let page = fs::read_to_string(sources.join("../../../docs/architecture.md")).unwrap();
    let drawn: Vec<&str> =
        page.lines().filter_map(|line| line.split(' ').next()).filter(|word| STOREYS.contains(word)).collect();
    assert_eq!(drawn, STOREYS, "the drawing has other storeys, or another order");
    let mut named = 0;
    for (at, storey) in STOREYS.iter().enumerate() {
        let files = walkdir::WalkDir::new(sources.join(storey)).into_iter().map(Result::unwrap);
        for file in files.filter(|file| file.path().extension().is_some_and(|ending| ending == "rs")) {
            let text = fs::read_to_string(file.path()).unwrap();
            named += text.matches("crate::").count();
            for above in &STOREYS[at + 1..] {
                let name = format!("crate::{above}::");
                assert!(!text.contains(&name), "{} names {above}, which stands above {storey}", file.path().display());
            }
        }
    }
    assert!(named > 100, "no file was looked at");
}
