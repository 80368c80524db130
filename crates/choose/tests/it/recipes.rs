//! Digests that are written down: what they are made from must not change unnoticed. Whoever changes one on purpose raises
//! its number, and writes the new one here.

use kladder_choose::catalog::{Catalogs, Memory};
use kladder_choose::digest::{Canonical, Digest};
use kladder_choose::names::ToolName;

use crate::ladder;

#[test]
fn digests_of_ladders_and_definitions_stay_what_they_are() {
    let text = "[machines]\na = \"linux/x86_64\"\nb = \"macos/aarch64\"\n[rungs]\nskerroc = \"1.4\"\n\
                tidlow = { version = \">=4\", series = \"long-term\", pieces = [\"tracer\"], host = \"never\" }\n";
    let mut memory = Memory::new("gauges");
    memory.add("skerroc", "tool = \"skerroc\"\nsummary = \"s\"\n");
    let catalogs = Catalogs::new(vec![Box::new(memory)]).unwrap();
    let tools: Vec<ToolName> = catalogs.names().cloned().collect();
    let value =
        Canonical::new("gauge", 1).field("height", 412u32.to_le_bytes()).list("tides", ["low", "high"]).finish();
    let optional = "[rungs]\nskerroc = { version = \"1.4\", optional = true }\n";
    let digests: [(&str, Digest, &str); 4] = [
        (
            "an optional wish",
            ladder(optional).digest,
            "f24b4e3c4c169ff8b61621389d482f8877b81ff5b376409fa18c6f40b968ee24",
        ),
        ("a value", value, "fa2ba666bd146b4b0cd734d80b567526c93e6d919794f853d5530012510261f0"),
        ("a ladder", ladder(text).digest, "5eb2a29d18863dd26c366f14145b137ab8a89026b3ff1607f66f48d0306c4dde"),
        (
            "definitions",
            catalogs.digest_of("gauges", tools.iter()).unwrap(),
            "347f2e3f4d29dd571aeda44af949441027bfad64e98fa3f9a8061834cc1981d9",
        ),
    ];
    assert_ne!(ladder(optional).digest, ladder("[rungs]\nskerroc = \"1.4\"\n").digest);
    for (what, digest, pinned) in digests {
        assert_eq!(digest.to_string(), pinned, "{what}");
    }
}
