//! The demo's data is whole: true digests, known needs, presets and rehearsals of tools there are, and the same every time.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use kladder_choose::catalog::{Catalogs, Definition, Machine, Need, Published};
use kladder_choose::digest::Digest;
use kladder_choose::pins::{Choosing, Limits, Moves};
use kladder_choose::platform::Platform;
use kladder_core::base::digest::of_file;
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::read_ladder;
use kladder_core::host::survey::Host;
use kladder_core::host::tools::HostTools;

struct Demo {
    folder: tempfile::TempDir,
    catalogs: Catalogs,
}

impl Demo {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let layout = kladder_demo::build(folder.path()).unwrap();
        let catalog = Folder::open(&layout.catalog, None).unwrap();
        Self { catalogs: Catalogs::new(vec![Box::new(catalog)]).unwrap(), folder }
    }

    fn definitions(&self) -> Vec<Arc<Definition>> {
        self.catalogs.names().map(|name| self.catalogs.tool(name).unwrap().unwrap()).collect()
    }

    fn knows(&self, name: &str) -> bool {
        self.catalogs.tool(name).unwrap().is_some() || !self.catalogs.providers(name).unwrap().is_empty()
    }
}

/// Every artifact of a definition, those of its pieces included.
fn artifacts(definition: &Definition) -> Vec<&Published> {
    let own = definition.releases.iter().flat_map(|release| &release.artifacts);
    let pieces = definition.releases.iter().flat_map(|release| release.pieces.values());
    own.chain(pieces.flat_map(|piece| &piece.artifacts)).collect()
}

fn files_in(folder: &Path) -> BTreeMap<PathBuf, Digest> {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(files_in(&path));
        } else {
            found.insert(path.clone(), Digest::of(&fs::read(path).unwrap()));
        }
    }
    found
}

#[test]
fn packing_twice_gives_the_same_bytes_everywhere() {
    let below = |demo: &Demo| -> Vec<(PathBuf, Digest)> {
        let root = demo.folder.path();
        files_in(root).into_iter().map(|(path, digest)| (path.strip_prefix(root).unwrap().into(), digest)).collect()
    };
    let (one, other) = (below(&Demo::new()), below(&Demo::new()));
    assert_eq!(one, other);
    assert!(one.len() > 100, "{}", one.len());
}

#[test]
fn every_artifact_is_in_the_yard_with_its_digest_and_size_and_nothing_else_is() {
    let demo = Demo::new();
    let definitions = demo.definitions();
    let mut named = BTreeSet::new();
    for artifact in definitions.iter().flat_map(|definition| artifacts(definition)) {
        let path = demo.folder.path().join("yard").join(artifact.file.as_str());
        assert_eq!(of_file(&path).unwrap(), (artifact.sha256, artifact.size.unwrap()), "{}", artifact.file);
        assert!(named.insert(path), "{} is named twice", artifact.file);
    }
    let there: BTreeSet<PathBuf> = files_in(&demo.folder.path().join("yard")).into_keys().collect();
    assert_eq!(there, named);
}

#[test]
fn needs_licences_presets_and_rehearsals_speak_of_what_there_is() {
    let demo = Demo::new();
    for definition in demo.definitions() {
        for release in &definition.releases {
            for way in release.says.needs.iter().flat_map(|need| &need.ways) {
                assert!(demo.knows(&way.name), "{} {} needs {}", definition.tool, release.version, way.name);
                let lacks = |piece: &&String| {
                    let needed = demo.catalogs.tool(&way.name).unwrap();
                    !needed.is_some_and(|d| d.releases.iter().any(|r| r.pieces.contains_key(*piece)))
                };
                assert_eq!(way.pieces.iter().find(lacks), None);
            }
        }
        for licence in &definition.says.licences {
            assert!(demo.catalogs.licence(licence).unwrap().unwrap().text.contains("made up"));
        }
        let is_program = !definition.says.commands.is_empty();
        assert!(!is_program || !definition.says.checks.is_empty(), "{} has no check", definition.tool);
    }
    let rehearsals = demo.catalogs.rehearsals().unwrap();
    assert!(rehearsals.iter().flat_map(|rehearsal| &rehearsal.tools).all(|tool| demo.knows(tool)));
    let presets = demo.catalogs.presets().unwrap();
    assert!(presets.iter().flat_map(|preset| &preset.rungs).all(|rung| demo.knows(&rung.tool)));
    assert!(presets.len() >= 2 && rehearsals.len() >= 4);
}

#[test]
fn the_desks_ladder_has_pins_for_all_its_platforms_and_is_deep_enough_to_show() {
    let demo = Demo::new();
    let bin = demo.folder.path().join("bin");
    fs::create_dir(&bin).unwrap();
    fs::write(bin.join("cc"), "#!/bin/sh\necho cc 1.2.3\n").unwrap();
    let mut runs = fs::metadata(bin.join("cc")).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut runs, 0o755);
    fs::set_permissions(bin.join("cc"), runs).unwrap();
    let host = Host::new(std::env::join_paths([bin.as_path(), "/bin".as_ref()]).unwrap(), demo.folder.path());
    let ladder = read_ladder(&demo.folder.path().join("desk/ladder.toml")).unwrap();
    let (here, tools, moves) = (Machine::of(Platform::built_for()), HostTools::of(&host), Moves::default());
    let (catalogs, limits) = (&demo.catalogs, Limits::default());
    let choosing = Choosing { ladder: &ladder, catalogs, here: &here, host: &tools, old: None, moves: &moves, limits };
    let pins = choosing.pins().unwrap();
    let machines = ladder.kinds(&here);
    assert!(machines.len() >= 3);
    for (tool, pin) in pins.rungs.iter().filter(|(_, pin)| pin.host.is_none()) {
        assert!(machines.iter().all(|machine| pin.artifact(machine).is_some()), "{tool}");
    }
    assert!(depth(&demo, "whimbrow") >= 4, "{}", depth(&demo, "whimbrow"));
}

/// How many tools stand on each other below and with `tool`.
fn depth(demo: &Demo, tool: &str) -> usize {
    let Some(definition) = demo.catalogs.tool(tool).unwrap() else { return 0 };
    let needs = definition.releases.iter().flat_map(|release| &release.says.needs).flat_map(Need::names);
    1 + needs.map(|need| depth(demo, need)).max().unwrap_or(0)
}
