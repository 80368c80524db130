//! What was changed or damaged since a climb: seen, told, and brought back by one command.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

const PLANK: &str = "#!/bin/sh\necho \"plank $*\"\n";

fn plank(sandbox: &Sandbox, definition: &str) {
    let entries =
        [Entry::program("bin/plank", PLANK), Entry::file("share/grain", "oak"), Entry::link("board", "bin/plank")];
    sandbox.plank("plank.tar.gz", &entries, definition);
    sandbox.wish("plank = \"any\"");
}

#[test]
fn a_changed_definition_is_a_step_of_the_route() {
    let sandbox = Sandbox::new();
    plank(&sandbox, "commands = { plank = \"bin/plank\" }");
    let _ = sandbox.run(&["climb"]).passed();
    let changes = [
        ("commands = { plank = { file = \"bin/plank\", arguments = [\"--wide\"] } }", "plank --wide\n", "wire"),
        ("commands = { plank = \"bin/plank\" }\nvariables = { PLANK = \"{folder}\" }", "plank \n", "wire"),
        (
            "commands = { plank = \"bin/plank\" }\n[[checks]]\nname = \"answers\"\nrun = [\"plank\"]",
            "plank \n",
            "check",
        ),
        (
            "commands = { plank = \"bin/plank\" }\n[[set-up]]\nname = \"planes\"\nrun = [\"/bin/sh\", \"-c\", \"echo x > planed\"]",
            "plank \n",
            "set up",
        ),
    ];
    for (number, (definition, said, work)) in changes.into_iter().enumerate() {
        plank(&sandbox, definition);
        let route = sandbox.run(&["route"]).passed().stdout;
        assert!(!route.contains("All rungs stand") && route.contains(work), "{definition}: {route}");
        let climbed = sandbox.run(&["climb"]).passed().stdout;
        assert!(climbed.contains(&format!("landing {}", number + 2)), "{climbed}");
        assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, said);
        assert_eq!(sandbox.run(&["verify"]).code, 0);
        assert!(sandbox.run(&["climb"]).passed().stdout.starts_with("All rungs stand"));
    }
}

/// The one path below the home's data that ends so.
fn found(sandbox: &Sandbox, end: &str) -> PathBuf {
    let all = crate::sandbox::walkdir(&sandbox.path("home/data"));
    all.into_iter().find(|path| path.ends_with(end)).unwrap_or_else(|| panic!("no {end}"))
}

fn writable(path: &Path) {
    for path in [path.parent().unwrap(), path] {
        if let Ok(meta) =
            fs::symlink_metadata(path).and_then(|meta| if meta.is_symlink() { fs::metadata("/x") } else { Ok(meta) })
        {
            fs::set_permissions(path, fs::Permissions::from_mode(meta.permissions().mode() | 0o700)).unwrap();
        }
    }
}

/// Does some damage to a climbed desk; then `verify` must see it, and `verify --mend` must make it good.
fn mends(damage: impl Fn(&Sandbox), seen: i32) {
    let sandbox = Sandbox::new();
    plank(&sandbox, "commands = { plank = \"bin/plank\" }\ncorners = [\"state\"]");
    let _ = sandbox.run(&["climb"]).passed();
    let requests = sandbox.yard.requests();
    damage(&sandbox);
    let verify = sandbox.run(&["verify"]);
    assert_eq!(verify.code, seen, "{}{}", verify.stdout, verify.stderr);
    if seen == 30 {
        assert!(verify.stdout.contains("`kladder verify --mend`"), "{}", verify.stdout);
        let _ = sandbox.run(&["verify", "--mend"]).passed();
    } else {
        assert!(verify.stderr.contains("kladder climb"), "{}", verify.stderr);
        let _ = sandbox.run(&["climb"]).passed();
    }
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank \n");
    assert_eq!(sandbox.run(&["verify"]).code, 0);
    assert_eq!(sandbox.yard.requests(), requests, "the cache had it");
}

#[test]
fn every_damage_to_what_was_climbed_is_seen_and_made_good_by_the_command_that_is_named() {
    let remove = |end: &'static str| {
        move |sandbox: &Sandbox| {
            let path = found(sandbox, end);
            writable(&path);
            fs::remove_file(path).unwrap();
        }
    };
    let write = |end: &'static str, text: &'static str| {
        move |sandbox: &Sandbox| {
            let path = found(sandbox, end);
            writable(&path);
            // Another file, so that launchers of other landings stay as they are.
            fs::remove_file(&path).unwrap();
            fs::write(&path, text).unwrap();
            fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        }
    };
    mends(remove("files/bin/plank"), 30);
    mends(remove("files/share/grain"), 30);
    mends(write("files/share/grain", "elm"), 30);
    mends(write("files/bin/plank", "#!/bin/sh\nexec false\n"), 30);
    mends(remove("manifest.json"), 30);
    mends(write("manifest.json", "{"), 30);
    mends(write("commands/plank", "#!/bin/sh\nexec false\n"), 30);
    mends(remove("launch.table"), 30);
    mends(write("launch.table", ""), 30);
    mends(remove("landings/1/landing.json"), 31);
    mends(write("landings/1/landing.json", "[]"), 31);
    let launcher = |sandbox: &Sandbox| {
        let launchers = fs::read_dir(sandbox.path("home/data/launchers")).unwrap();
        for path in launchers.map(|entry| entry.unwrap().path()) {
            writable(&path);
            fs::write(path, "").unwrap();
        }
    };
    mends(launcher, 30);
    let current =
        |sandbox: &Sandbox| found(sandbox, "landings/1/landing.json").ancestors().nth(3).unwrap().join("current");
    mends(
        |sandbox| {
            fs::remove_file(current(sandbox)).unwrap();
            symlink("landings/9", current(sandbox)).unwrap();
        },
        31,
    );
    mends(
        |sandbox| {
            fs::write(found(sandbox, "commands/plank").with_file_name("ls"), "#!/bin/sh\n").unwrap();
        },
        30,
    );
    mends(
        |sandbox| {
            let berths = current(sandbox).with_file_name("berths");
            kladder_core::base::files::remove_tree(&berths).unwrap();
        },
        30,
    );
}

#[test]
fn a_climb_goes_on_past_a_failure_and_tells_all_at_once_with_what_they_come_from() {
    let sandbox = Sandbox::new();
    let script = |text: &str| [Entry::program("plank", text)];
    let check = "commands = { plank = \"plank\" }\n[[checks]]\nname = \"answers\"\nrun = [\"plank\"]";
    sandbox.plank("plank.zip", &script("#!/no/such/interpreter\n"), check);
    fs::rename(sandbox.path("catalog/tools/plank.toml"), sandbox.path("catalog/tools/beam.toml")).unwrap();
    sandbox.edit("catalog/tools/beam.toml", "\"plank\"", "\"beam\"");
    sandbox.edit("catalog/tools/beam.toml", "{ plank = \"plank\" }", "{ beam = \"plank\" }");
    sandbox.edit("catalog/tools/beam.toml", "run = [\"plank\"]", "run = [\"beam\"]");
    let lost = "#!/bin/sh\necho 'Error: Cannot find module '\\''tide-table'\\''' >&2\nexit 1\n";
    sandbox.plank("plank2.zip", &script(lost), check);
    sandbox.wish("plank = \"any\"\nbeam = \"any\"\ntombolet = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert_eq!(ran.code, 30, "{}", ran.stderr);
    for told in [
        "2 rungs failed",
        "a check of plank failed: answers",
        "the command `beam` of beam cannot be started",
        "tide-table",
        "/no/such/interpreter",
        "the other rung stands, and the next climb goes on from there",
    ] {
        assert!(ran.stderr.contains(told), "no `{told}` in\n{}", ran.stderr);
    }
    assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], serde_json::Value::Null);
    sandbox.wish("tombolet = \"any\"");
    let requests = sandbox.yard.requests();
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.yard.requests(), requests, "it was on the shelf already");
}

#[test]
fn what_stands_in_the_home_and_is_not_ours_stays_when_all_is_cleared() {
    let sandbox = Sandbox::new();
    plank(&sandbox, "commands = { plank = \"bin/plank\" }");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.write("home/data/tide-notes.txt", "mine");
    sandbox.write("kept/precious", "mine");
    fs::create_dir_all(sandbox.path("home/cache")).unwrap();
    kladder_core::base::files::remove_tree(&sandbox.path("home/cache/artifacts")).unwrap();
    symlink(sandbox.path("kept"), sandbox.path("home/cache/artifacts")).unwrap();
    let mode = |path: &str| fs::metadata(sandbox.path(path)).unwrap().permissions().mode();
    fs::set_permissions(sandbox.path("kept/precious"), fs::Permissions::from_mode(0o400)).unwrap();
    let ran = sandbox.run(&["clear", "--all", "--yes"]).passed().stdout;
    assert!(ran.contains("SANDBOX/home/data/tide-notes.txt is not kladder's, and stays"), "{ran}");
    assert_eq!(sandbox.read("home/data/tide-notes.txt"), "mine");
    assert_eq!((sandbox.read("kept/precious").as_str(), mode("kept/precious") & 0o777), ("mine", 0o400));
    assert!(!sandbox.path("home/data/shelf").exists());
}

#[test]
fn the_first_catalog_that_has_a_tool_counts_and_the_pins_say_which() {
    let sandbox = Sandbox::new();
    kladder_synth::Made::from_lines("tidlow 9.0").write(&sandbox.path("house")).unwrap();
    let text = "[ladder]\ncatalog = [\"../house\", \"../catalog\"]\n[rungs]\ntidlow = \"any\"\ntombolet = \"any\"\n";
    sandbox.write("desk/ladder.toml", text);
    let pinned = sandbox.run(&["pin", "--json"]).passed().json();
    let version = |at: usize| pinned["rungs"][at]["version"].as_str().unwrap();
    assert_eq!([version(0), version(1)], ["9.0", "1.1.0"]);
    let pins = sandbox.read("desk/ladder.pinned.toml");
    assert!(pins.contains("catalog = \"made-up\"") && pins.contains("catalog = \"tide-gauge\""), "{pins}");
    sandbox.write("desk/ladder.toml", &text.replace("../house", "../catalog"));
    let twice = sandbox.run(&["pin"]);
    assert!(twice.code == 10 && twice.stderr.contains("tide-gauge"), "{}", twice.stderr);
}
