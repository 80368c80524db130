//! Sets of libraries: locked, pinned like rungs, seen by their runtime only, and told where they cannot be had.

use kladder_core::base::digest;
use kladder_pack::{Entry, Format, pack, with_record};

use crate::sandbox::{Ran, Sandbox};

/// A runtime that tells of its libraries as the real one does: each `dist-info` in its environment, or below PYTHONPATH.
const RUNTIME: &str = r#"#!/bin/sh
[ "$1" = --version ] && { echo "plank 3.11.4"; exit; }
[ -n "$VIRTUAL_ENV" ] && PYTHONPATH=$VIRTUAL_ENV/lib/python3.11/site-packages
for info in "$PYTHONPATH"/*.dist-info; do
    [ -e "$info/METADATA" ] || continue
    sed -n 's/^Name: //p' "$info/METADATA" | tr '_A-Z\n' '-a-z '; sed -n 's/^Version: //p' "$info/METADATA"
done
"#;

struct Scene {
    sandbox: Sandbox,
    lock: String,
}

impl Scene {
    fn new() -> Self {
        let sandbox = Sandbox::new();
        sandbox.plank("plank.tar.gz", &[Entry::program("bin/plank", RUNTIME)], "commands.plank = \"bin/plank\"");
        sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"3.11.4\"");
        sandbox.wish("plank = \"any\"\n\n[sets.tides]\nof = \"plank\"\nlock = \"pylock.toml\"");
        Self { sandbox, lock: "lock-version = \"1.0\"\ncreated-by = \"a keeper\"\n".into() }
    }

    /// A wheel in the yard, and what a lock file says of it.
    fn wheel(&self, name: &str, version: &str, tag: &str, size: bool) -> String {
        let info = format!("{name}-{version}.dist-info");
        let metadata = format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n");
        let entries = [
            Entry::file(&format!("{name}/__init__.py"), format!("# {name} {tag}\n")),
            Entry::file(&format!("{info}/METADATA"), metadata),
            Entry::file(&format!("{info}/WHEEL"), "Wheel-Version: 1.0\n"),
            Entry::file(&format!("{info}/entry_points.txt"), format!("[console_scripts]\n{name} = {name}:main\n")),
        ];
        let file = format!("{name}-{version}-{tag}.whl");
        let path = self.sandbox.path("yard").join(&file);
        pack(Format::Zip, &with_record(entries.to_vec(), &info), &path).unwrap();
        let (sha256, bytes) = digest::of_file(&path).unwrap();
        let size = if size { format!("size = {bytes}, ") } else { String::new() };
        format!("{{ url = \"https://files.harbour.example/{file}\", {size}hashes = {{ sha256 = \"{sha256}\" }} }}")
    }

    fn library(&mut self, name: &str, version: &str, more: &str, wheels: &[String]) {
        let wheels = wheels.join(", ");
        let head = format!("[[packages]]\nname = \"{name}\"\nversion = \"{version}\"\n{more}\n");
        self.lock.push_str(&[head, format!("wheels = [{wheels}]\n")].concat());
    }

    fn locked(&self) -> &Sandbox {
        self.sandbox.write("desk/pylock.toml", &self.lock);
        &self.sandbox
    }

    fn pin(&self) -> Ran {
        self.locked().run(&["pin"])
    }
}

#[test]
fn the_libraries_of_a_lock_file_are_pinned_climbed_and_seen_by_their_runtime_alone() {
    let mut scene = Scene::new();
    let pure = scene.wheel("Tide_Table", "1.2", "py3-none-any", true);
    scene.library("Tide_Table", "1.2", "", &[pure]);
    let (own, other) = (
        scene.wheel(
            "gauge",
            "2.0",
            "cp311-cp311-manylinux2014_x86_64.manylinux2014_aarch64.macosx_10_9_universal2",
            false,
        ),
        scene.wheel("gauge", "2.0", "cp312-cp312-manylinux2014_x86_64", false),
    );
    scene.library("gauge", "2.0", "", &[other, own]);
    let elsewhere = scene.wheel("lamp", "9.0", "py3-none-any", true);
    scene.library("lamp", "9.0", "marker = \"sys_platform == 'win32'\"", &[elsewhere]);
    let sandbox = scene.locked();
    let climbed = sandbox.run(&["climb"]).passed().stdout;
    assert!(climbed.contains("tides") && climbed.contains("3 checks passed"), "{climbed}");
    let pins = sandbox.read("desk/ladder.pinned.toml");
    assert!(pins.contains("gauge-2.0-cp311") && !pins.contains("cp312") && !pins.contains("lamp"), "{pins}");
    // Its libraries are in reach where the set is asked for, and its commands; nowhere else.
    let told = |arguments: &[&str]| sandbox.run(&[&["run"], arguments].concat());
    assert_eq!(told(&["--set", "tides", "--", "plank"]).passed().stdout, "tide-table 1.2\ngauge 2.0\n");
    assert_eq!(told(&["--", "plank"]).passed().stdout, "");
    assert!(told(&["--set", "tides", "--", "sh", "-c", "command -v gauge"]).passed().stdout.ends_with("/bin/gauge\n"));
    assert_eq!(told(&["--", "gauge"]).code, 127);
    let wrong = told(&["--set", "gulls", "--", "plank"]);
    assert!(wrong.code == 2 && wrong.stderr.contains("there is `tides`"), "{}", wrong.complaint());
    // `verify` asks the runtime for each of them.
    let verified = sandbox.run(&["verify", "--only", "tides", "--json"]).passed().json();
    let claims: Vec<&str> =
        verified["verdicts"].as_array().unwrap().iter().map(|one| one["claim"].as_str().unwrap()).collect();
    assert!(claims.iter().any(|claim| claim.ends_with("has gauge 2.0")), "{claims:?}");
    assert!(sandbox.run(&["climb"]).passed().stdout.contains("All rungs stand"));
}

#[test]
fn every_machine_of_the_ladder_gets_wheels_of_its_own() {
    let mut scene = Scene::new();
    let wheels = ["manylinux_2_28_x86_64", "manylinux_2_17_x86_64", "manylinux_2_17_aarch64", "macosx_11_0_arm64"];
    let wheels = wheels.map(|platform| scene.wheel("gauge", "2.0", &format!("cp311-cp311-{platform}"), true));
    scene.library("gauge", "2.0", "", &wheels);
    let there = scene.wheel("lamp", "9.0", "py3-none-any", true);
    scene.library("lamp", "9.0", "marker = \"sys_platform == 'darwin' and platform_machine == 'arm64'\"", &[there]);
    let machines = "[machines]\nnew = { platform = \"linux/x86_64\", where = { c-library = \"gnu 2.36\" } }\nboard = \"linux/aarch64\"\nlaptop = \"macos/aarch64\"\n[rungs]";
    scene.sandbox.edit("desk/ladder.toml", "[rungs]", machines);
    let told = scene.locked().run(&["pin", "--json"]).passed();
    let pins = scene.sandbox.read("desk/ladder.pinned.toml");
    let of = |platform: &str| {
        let start = pins.find("[rungs.tides]").unwrap();
        let line = pins[start..].lines().find(|line| line.starts_with(&format!("artifacts.\"{platform}\"")));
        line.unwrap_or_else(|| panic!("nothing for {platform}: {pins}{}", told.stderr)).to_owned()
    };
    assert!(of("linux/x86_64").contains("manylinux_2_28_x86_64") && !of("linux/x86_64").contains("lamp"));
    assert!(of("linux/aarch64").contains("manylinux_2_17_aarch64"));
    assert!(of("macos/aarch64").contains("macosx_11_0_arm64") && of("macos/aarch64").contains("lamp"));
    // One with an older C library counts for both that have the platform.
    scene.sandbox.edit(
        "desk/ladder.toml",
        "[machines]",
        "[machines]\nold = { platform = \"linux/x86_64\", where = { c-library = \"gnu 2.17\" } }",
    );
    let _ = scene.sandbox.run(&["pin"]);
    assert!(scene.sandbox.read("desk/ladder.pinned.toml").contains("manylinux_2_17_x86_64"));
}

#[test]
fn a_lock_file_that_moved_moves_the_set_and_nothing_else() {
    let mut scene = Scene::new();
    let one = scene.wheel("gauge", "1.0", "py3-none-any", true);
    let two = scene.wheel("gauge", "2.0", "py3-none-any", true);
    let before = scene.lock.clone();
    scene.library("gauge", "1.0", "", &[one]);
    let _ = scene.locked().run(&["climb"]).passed();
    scene.lock = before;
    scene.library("gauge", "2.0", "", &[two]);
    let sandbox = scene.locked();
    let _ = sandbox.run(&["climb"]).passed();
    let seen = || sandbox.run(&["run", "--set", "tides", "--", "plank"]).passed().stdout;
    assert_eq!(seen(), "gauge 2.0\n");
    let _ = sandbox.run(&["back"]).passed();
    assert_eq!(seen(), "gauge 1.0\n");
}

#[test]
fn what_cannot_be_had_is_told_with_library_runtime_and_platform() {
    let mut scene = Scene::new();
    let only = scene.wheel("gauge", "2.0", "cp312-cp312-win_amd64", true);
    scene.library("gauge", "2.0", "sdist = { url = \"https://files.harbour.example/g.tar.gz\" }", &[only]);
    let told = scene.pin();
    assert_eq!(told.code, 10, "{}", told.complaint());
    assert!(told.stderr.contains("gauge has no wheel for PLATFORM and 3.11, only from its sources"), "{}", told.stderr);
    let complaint = |lock: &str| {
        let scene = Scene { sandbox: Scene::new().sandbox, lock: lock.to_owned() };
        let told = scene.pin();
        assert_ne!(told.code, 0, "{lock}");
        told.stderr
    };
    assert!(complaint("lock-version = \"2.0\"\n").contains("version 2.0"));
    assert!(complaint("lock-version = 1\n").contains("pylock.toml, line 1"));
    let none = "lock-version = \"1.0\"\n[[packages]]\nname = \"g\"\nwheels = [{ name = \"g-1-py3-none-any.whl\" }]\n";
    assert!(complaint(none).contains("no SHA-256 digest"));
    assert!(complaint("lock-version = \"1.0\"\nrequires-python = \">=3.12\"\n").contains("made for plank >=3.12"));
    let marker = "lock-version = \"1.0\"\n[[packages]]\nname = \"g\"\nmarker = \"tide == 'high'\"\n";
    assert!(complaint(marker).contains("cannot be read"));
    assert!(complaint("lock-version = \"1.0\"\n").contains("wants no library"));
    let deep = format!("{}os_name == 'posix'{}", "(".repeat(20_000), ")".repeat(20_000));
    assert!(complaint(&marker.replace("tide == 'high'", &deep)).contains("longer than a marker"));
    let clause = |number: usize| format!("(os_name != 'a{number}' or platform_machine == 'b{number}')");
    let many = (0..150).map(clause).collect::<Vec<_>>().join(" and ");
    assert!(complaint(&marker.replace("tide == 'high'", &many)).contains("longer than a marker"));
    let sandbox = Scene::new().sandbox;
    sandbox.edit("desk/ladder.toml", "pylock.toml", "/etc/hostname");
    assert_eq!(sandbox.run(&["pin"]).code, 10);
    sandbox.edit("desk/ladder.toml", "/etc/hostname", "pylock.toml");
    for name in ["../gauge-1.0-py3-none-any.whl", "/gauge-1.0-py3-none-any.whl", "a\\u001b[31m-1.0-py3-none-any.whl"] {
        let hash = "0".repeat(64);
        let lock = format!(
            "lock-version = \"1.0\"\n[[packages]]\nname = \"g\"\nversion = \"1\"\nwheels = [{{ name = \"{name}\", size = 3, hashes = {{ sha256 = \"{hash}\" }} }}]\n"
        );
        let told = complaint(&lock);
        assert!(!told.contains('\u{1b}'), "{told}");
    }
    let missing = sandbox.run(&["pin"]);
    assert!(missing.stderr.contains("desk/pylock.toml"), "{}", missing.complaint());
    sandbox.edit("desk/ladder.toml", "[sets.tides]", "[sets.skerroc]");
    sandbox.write("desk/pylock.toml", "lock-version = \"1.0\"\n");
    assert!(sandbox.run(&["pin"]).stderr.contains("a catalog has a tool of this name"));
}
