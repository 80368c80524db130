//! The catalog that the program carries is what it is said to be.

use std::collections::BTreeSet;
use std::path::Path;

use kladder_choose::catalog::{Card, Catalog, Definition, Head, Preset, Rehearsal, TextKind};
use kladder_choose::names::ToolName;
use kladder_choose::platform::Platform;
use kladder_core::desk::catalogs::{Starter, check};

/// Of these nothing is published for Linux on aarch64 where the others are.
const HALF: [&str; 2] = ["shellcheck", "taplo"];

fn definitions(starter: &Starter) -> Vec<Definition> {
    starter.names().iter().map(|name| starter.definition(name.as_str()).unwrap().unwrap().0).collect()
}

fn rehearsals(starter: &Starter) -> Vec<Rehearsal> {
    let names = starter.texts(TextKind::Rehearsal).unwrap();
    let one =
        |name: &String| Rehearsal::parse(&starter.text(TextKind::Rehearsal, name).unwrap().unwrap(), name).unwrap();
    names.iter().map(one).collect()
}

#[test]
fn its_index_says_what_its_definitions_say() {
    let starter = Starter::open().unwrap();
    let heads = starter.heads().unwrap();
    assert_eq!(heads.len(), starter.names().len());
    for (name, head) in heads {
        let (definition, digest) = starter.definition(name.as_str()).unwrap().unwrap();
        assert_eq!(head, Head::of(&definition), "{name}");
        assert_eq!(starter.card(name.as_str()).unwrap().unwrap(), Card::of(&definition, digest), "{name}");
    }
}

#[test]
fn it_is_sound_and_large_enough_and_every_tool_names_its_licence_and_is_checked() {
    let checked = check(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../catalog"), None).unwrap();
    assert!(checked.broken.is_empty() && checked.remarks.is_empty(), "{:?} {:?}", checked.broken, checked.remarks);
    let starter = Starter::open().unwrap();
    let all = definitions(&starter);
    assert!(all.len() >= 50 && rehearsals(&starter).len() >= 25, "{} {}", all.len(), rehearsals(&starter).len());
    assert_eq!(all.len(), checked.tools, "what is carried is what stands in the folder");
    let platforms: Vec<Platform> = ["linux/x86_64", "linux/aarch64"].map(|text| text.parse().unwrap()).to_vec();
    for definition in &all {
        let tool = &definition.tool;
        assert!(definition.spdx.is_some() && !definition.summary.is_empty(), "{tool}");
        // What extends another tool can only be seen at work in that one.
        let at_work = || rehearsals(&starter).iter().any(|one| one.tools.contains(tool));
        let is_checked = !definition.says.checks.is_empty() || !definition.says.fonts.is_empty();
        assert!(is_checked || (!definition.says.extends.is_empty() && at_work()), "{tool} is not checked");
        for release in &definition.releases {
            let has = |platform: &Platform| {
                release.artifacts.iter().any(|one| one.scopes.iter().any(|scope| scope.holds_on(platform)))
            };
            let is_half = HALF.contains(&tool.as_str());
            assert!(platforms.iter().all(has) || (is_half && has(&platforms[0])), "{tool} {}", release.version);
            for file in release.artifacts.iter().flat_map(|one| one.also.iter().chain([one])) {
                assert!(file.size.is_some(), "{tool}: {}", file.file);
                let from_index = |origin: &String| origin.starts_with("index:");
                assert!(!file.origins.is_empty() && file.origins.iter().all(from_index), "{tool}: {}", file.file);
            }
        }
        assert!(!definition.releases.is_empty(), "{tool} has no release");
    }
}

#[test]
fn every_need_between_two_of_its_tools_is_proved_by_a_rehearsal() {
    let starter = Starter::open().unwrap();
    let (all, rehearsals) = (definitions(&starter), rehearsals(&starter));
    let together: Vec<BTreeSet<&str>> =
        rehearsals.iter().map(|one| one.tools.iter().map(ToolName::as_str).collect()).collect();
    let mut unproved = Vec::new();
    for definition in &all {
        for need in &definition.says.needs {
            for wanted in need.names() {
                let providers = all.iter().filter(|one| one.answers_to(wanted.as_str()));
                let proved = |provider: &Definition| {
                    together
                        .iter()
                        .any(|tools| tools.contains(definition.tool.as_str()) && tools.contains(provider.tool.as_str()))
                };
                if !providers.into_iter().any(proved) {
                    unproved.push(format!("{} needs {wanted}", definition.tool));
                }
            }
        }
    }
    assert_eq!(unproved, Vec::<String>::new());
    // What presets offer is there.
    for name in starter.texts(TextKind::Preset).unwrap() {
        let preset = Preset::parse(&starter.text(TextKind::Preset, &name).unwrap().unwrap(), &name).unwrap();
        for rung in preset.rungs {
            assert!(all.iter().any(|one| one.answers_to(rung.tool.as_str())), "{name}: {}", rung.tool);
        }
    }
}
