//! Sets of packages of Node: from a lock file that names them by SHA-512, pinned, put together, seen by their project.

use std::fs;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kladder_pack::{Entry, Format, pack};

use crate::sandbox::Sandbox;

/// A runtime that does with packages what the real one does with the two programs it is given: links to commands, and versions.
const RUNTIME: &str = r#"#!/bin/sh
case $1 in
    --version) echo "plank 22.4.0" ;;
    -e)
        program=$2 root=$3/node_modules; shift 3
        case $program in
            *symlinkSync*)
                for file in "$root"/*/package.json "$root"/@*/*/package.json; do
                    [ -e "$file" ] || continue
                    folder=${file#"$root"/} folder=${folder%/package.json}
                    bin=$(sed -n 's/.*"bin":{"\([a-z]*\)":"\([a-z.]*\)"}.*/\1 \2/p' "$file")
                    [ -n "$bin" ] && mkdir -p "$root/.bin" && chmod 755 "$root/$folder/${bin#* }" && ln -s "../$folder/${bin#* }" "$root/.bin/${bin% *}"
                done; true ;;
            *) for name; do echo "$name $(sed -n 's/.*"version":"\([^"]*\)".*/\1/p' "$root/$name/package.json")"; done ;;
        esac ;;
    *) script=$1; shift; . "$script" ;;
esac
"#;

struct Scene {
    sandbox: Sandbox,
    /// What the lock file says of each place.
    places: Vec<String>,
}

impl Scene {
    fn new() -> Self {
        let sandbox = Sandbox::new();
        sandbox.plank("plank.tar.gz", &[Entry::program("bin/plank", RUNTIME)], "commands.plank = \"bin/plank\"");
        sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"22.4.0\"");
        sandbox.wish(
            "plank = \"any\"\n\n[sets.chart]\nof = \"plank\"\nlock = \"package-lock.json\"\nfolder = \"node_modules\"",
        );
        Self { sandbox, places: Vec::new() }
    }

    /// A package in the yard; returns what a lock file says of it.
    fn package(&self, name: &str, version: &str, bin: &str) -> String {
        let script = format!("#!/usr/bin/env plank\necho {name} {version} draws \"$@\"\n");
        let about = format!("{{\"name\":\"{name}\",\"version\":\"{version}\"{bin}}}\n");
        let entries = [Entry::file("package/package.json", about), Entry::file("package/run.js", script)];
        let file = format!("{}-{version}.tgz", name.rsplit('/').next().unwrap());
        let path = self.sandbox.path("yard").join(&file);
        pack(Format::TarGz, &entries, &path).unwrap();
        let sum = STANDARD.encode(ring::digest::digest(&ring::digest::SHA512, &fs::read(&path).unwrap()));
        let url = self.sandbox.yard.url();
        format!("\"version\": \"{version}\", \"resolved\": \"{url}/{file}\", \"integrity\": \"sha512-{sum}\"")
    }

    fn place(&mut self, at: &str, package: &str, more: &str) {
        self.places.push(format!("\"{at}\": {{ {package}{more} }}"));
    }

    fn lock(&self, version: u32) {
        let places = self.places.join(",\n");
        let text = format!("{{ \"lockfileVersion\": {version}, \"packages\": {{ \"\": {{}},\n{places} }} }}");
        self.sandbox.write("desk/package-lock.json", &text);
    }
}

/// Two versions of one package, one of them in two places, and one that is for another system.
fn scene() -> Scene {
    let mut scene = Scene::new();
    let chart = scene.package("chart", "2.1.0", ",\"bin\":{\"chart\":\"run.js\"}");
    let (nail, old) = (scene.package("@tide/nail", "3.0.0", ""), scene.package("@tide/nail", "1.0.0", ""));
    scene.place("node_modules/chart", &chart, "");
    scene.place("node_modules/@tide/nail", &nail, "");
    scene.place("node_modules/chart/node_modules/@tide/nail", &old, "");
    scene.place("node_modules/chart/node_modules/@tide/nail/node_modules/chart", &chart, "");
    scene.place("node_modules/elsewhere", &nail, ", \"os\": [\"beos\"], \"optional\": true");
    scene.place("node_modules/elsewhere/node_modules/deep", &chart, ", \"os\": [\"beos\"]");
    scene.lock(3);
    scene
}

#[test]
fn packages_are_pinned_by_what_they_come_to_and_seen_by_their_project() {
    let scene = scene();
    let sandbox = &scene.sandbox;
    let _ = sandbox.run(&["climb"]).passed();
    let sums = sandbox.read("desk/sums.chart.toml");
    assert_eq!(sums.matches("sha512-").count(), 3, "{sums}");
    let read = |at: &str| sandbox.read(&format!("desk/node_modules/{at}/package.json"));
    for (at, version) in [("chart", "2.1.0"), ("@tide/nail", "3.0.0"), ("chart/node_modules/@tide/nail", "1.0.0")] {
        assert!(read(at).contains(version), "{at}");
    }
    assert!(read("chart/node_modules/@tide/nail/node_modules/chart").contains("2.1.0"));
    assert!(!sandbox.path("desk/node_modules/elsewhere").exists());
    let told = sandbox.run(&["run", "--set", "chart", "--", "chart", "low", "tide"]).passed();
    assert_eq!(told.stdout, "chart 2.1.0 draws low tide\n");
    let told = sandbox.run(&["verify"]).passed();
    assert!(told.stdout.contains("chart"), "{}", told.stdout);

    // What is known is not asked for again, by a colleague neither; another set with these packages is made of links.
    for file in ["chart-2.1.0.tgz", "nail-3.0.0.tgz", "nail-1.0.0.tgz"] {
        fs::remove_file(sandbox.path("yard").join(file)).unwrap();
    }
    fs::remove_dir_all(sandbox.path("home/cache/listed")).unwrap();
    sandbox.edit(
        "desk/ladder.toml",
        "[sets.chart]",
        "[sets.second]\nof = \"plank\"\nlock = \"package-lock.json\"\n[sets.chart]",
    );
    fs::copy(sandbox.path("desk/sums.chart.toml"), sandbox.path("desk/sums.second.toml")).unwrap();
    let _ = sandbox.run(&["climb", "--offline"]).passed();
    assert_eq!(sandbox.read("desk/sums.second.toml"), sums);
    let told = sandbox.run(&["run", "--set", "second", "--", "chart"]).passed();
    assert_eq!(told.stdout, "chart 2.1.0 draws\n");
    let number = |set: &str| {
        use std::os::unix::fs::MetadataExt;
        let landing = sandbox.path("home/data/ladders").read_dir().unwrap().next().unwrap().unwrap().path();
        fs::metadata(landing.join("current/sets").join(set).join("node_modules/chart/run.js")).unwrap().ino()
    };
    assert_eq!(number("chart"), number("second"));

    // A colleague takes all of it over.
    let colleague = sandbox.path("colleague");
    fs::create_dir(&colleague).unwrap();
    let mut start = sandbox.command(&["start", "--from", sandbox.path("desk/ladder.toml").to_str().unwrap()]);
    let _ = sandbox.finished(start.current_dir(&colleague).output().unwrap()).passed();
    for file in ["package-lock.json", "sums.chart.toml"] {
        assert_eq!(sandbox.read(&format!("colleague/{file}")), sandbox.read(&format!("desk/{file}")));
    }

    // It goes with the wish; a folder of the project's own stays.
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(fs::symlink_metadata(sandbox.path("desk/node_modules")).is_err());
}

#[test]
fn a_lock_file_of_packages_that_cannot_be_meant_is_refused_by_name() {
    let mut scene = scene();
    let chart = scene.package("built", "1.0.0", "");
    let whole = scene.places.clone();
    let told = |scene: &Scene, version: u32| {
        scene.lock(version);
        let told = scene.sandbox.run(&["pin"]);
        assert!(told.code != 0 && !scene.sandbox.path("desk/ladder.pinned.toml").exists(), "{}", told.complaint());
        told.complaint()
    };
    assert!(told(&scene, 2).contains("a lock file of version 2, and 3 is what is read here"));
    let hostile = [
        ("node_modules/../../x", "no place of a package"),
        ("node_modules/a/../../x", "no place of a package"),
        ("node_modules//x", "no place of a package"),
        ("node_modules/.bin", "no place of a package"),
        ("node_modules/.bin/x", "no place of a package"),
        ("node_modules/@a", "no place of a package"),
        ("node_modules/a\\nb", "no place of a package"),
        ("packages/own", "is a folder of the project"),
    ];
    for (at, why) in hostile {
        scene.places.clone_from(&whole);
        scene.place(at, &chart, "");
        let told = told(&scene, 3);
        assert!(told.contains(why), "{at}: {told}");
    }
    let wrong = [
        (chart.clone(), ", \"hasInstallScript\": true", "built wants to run a script"),
        (chart.clone(), ", \"link\": true", "is a folder of the project"),
        (chart.clone(), ", \"cpu\": [\"abacus\"]", "is not for PLATFORM"),
        (chart.replace("sha512-", "sha1-"), "", "no SHA-512 digest"),
        (chart.replace("sha512-", "sha512-AAAA"), "", "no SHA-512 digest"),
        (chart.replace("\"version\": \"", "\"version\": 7, \"x\": \""), "", "no lock file of packages"),
    ];
    for (package, more, why) in wrong {
        scene.places.clone_from(&whole);
        scene.place("node_modules/built", &package, more);
        let told = told(&scene, 3);
        assert!(told.contains(why), "{more} {why}: {told}");
    }
    // Other bytes than the lock file says; what came while something else was refused is not asked for again.
    let _ = fs::remove_dir_all(scene.sandbox.path("home/cache"));
    scene.places = whole.iter().map(|place| place.replace("chart-2.1.0.tgz", "nail-1.0.0.tgz")).collect();
    let other = told(&scene, 3);
    assert!(other.starts_with("exit 21") && other.contains("other bytes than the lock file says"), "{other}");
    // One whose scripts need not be run, and a file of sums that is none.
    scene.places.clone_from(&whole);
    scene.place("node_modules/built", &chart, ", \"hasInstallScript\": true");
    scene.sandbox.edit("desk/ladder.toml", "folder =", "unbuilt = [\"built\"]\nfolder =");
    scene.sandbox.write("desk/sums.chart.toml", "[sums\n");
    assert!(told(&scene, 3).contains("sums.chart.toml, line 1"));
    fs::remove_file(scene.sandbox.path("desk/sums.chart.toml")).unwrap();
    let _ = scene.sandbox.run(&["climb"]).passed();
    for (old, new) in [("unbuilt", "kernel = \"x\"\nunbuilt"), ("package-lock.json", "pylock.toml")] {
        let text = scene.sandbox.read("desk/ladder.toml");
        scene.sandbox.edit("desk/ladder.toml", old, new);
        let told = scene.sandbox.run(&["pin"]);
        assert!(told.stderr.contains("ladder.toml, line") && told.code != 0, "{}", told.complaint());
        scene.sandbox.write("desk/ladder.toml", &text);
    }
}

/// What a registry tells of packages: each with its releases and what those say, all of them in the yard.
fn registry(scene: &Scene, packages: &[(&str, &[(&str, &str)])]) {
    let _ = fs::create_dir_all(scene.sandbox.path("yard/packages"));
    for (name, releases) in packages {
        let release = |(version, says): &(&str, &str)| {
            let said = scene.package(name, version, "");
            let word = |key: &str| said.split(key).nth(1).unwrap().split('"').nth(2).unwrap().to_owned();
            let (url, integrity) = (word("resolved"), word("integrity"));
            format!(
                "\"{version}\": {{ \"dist\": {{ \"tarball\": \"{url}\", \"integrity\": \"{integrity}\" }} {says} }}"
            )
        };
        let releases: Vec<String> = releases.iter().map(release).collect();
        let document = format!("{{ \"name\": \"{name}\", \"versions\": {{ {} }} }}", releases.join(","));
        scene.sandbox.write(&format!("yard/packages/{}", name.replace('/', "%2f")), &document);
    }
}

const OLD: [(&str, &[(&str, &str)]); 3] = [
    ("chart", &[("2.1.0", ", \"dependencies\": { \"nail\": \"^1\", \"rope\": \">=0.9\" }")]),
    ("nail", &[("1.0.0", ""), ("2.0.0", ", \"engines\": { \"node\": \">=20\" }")]),
    ("rope", &[("1.0.0", ", \"peerDependencies\": { \"nail\": \"2\" }"), ("0.9.0", "")]),
];

#[test]
fn packages_are_chosen_from_a_registry_and_stay_until_they_are_let_go() {
    let scene = Scene::new();
    let sandbox = &scene.sandbox;
    registry(&scene, &OLD);
    let url = sandbox.yard.url();
    sandbox.write(
        "home/config/config.toml",
        &format!("[indexes]\npackages = {{ kind = \"npm\", address = \"{url}/packages\" }}\n"),
    );
    let wish = |packages: &str| sandbox.wish(&format!("plank = \"any\"\n\n[sets.chart]\nof = \"plank\"\n{packages}"));
    let lock = || sandbox.read("desk/package-lock.chart.json");

    // What needs another one beside it than the ladder wants, and a way out of it.
    wish("packages.nail = \"1\"\npackages.rope = \"1\"");
    let told = sandbox.run(&["pin"]);
    for part in ["the ladder wants nail 1", "rope 1.0.0 needs nail 2 beside it", "let go of the wish for nail"] {
        assert!(told.complaint().contains(part), "{part}: {}", told.complaint());
    }
    assert!(told.complaint().starts_with("exit 12") && !sandbox.path("desk/package-lock.chart.json").exists());

    // The same two in one package: it has its own.
    wish("packages.chart = \"any\"\npackages.nail = \"any\"\nfolder = \"node_modules\"");
    let told = sandbox.run(&["climb"]).passed();
    let read = |at: &str| sandbox.read(&format!("desk/node_modules/{at}/package.json"));
    assert!(told.stderr.is_empty() || !told.stderr.contains("problem"), "{}", told.stderr);
    assert!(read("nail").contains("2.0.0"), "{}", lock());
    let why = sandbox.run(&["why", "rope"]).passed();
    assert!(why.stdout.contains("chart"), "{}", why.stdout);

    // A newer one is told, and taken when that is asked for.
    let mut new = OLD;
    new[1].1 = &[("1.0.0", ""), ("2.0.0", ""), ("2.5.0", "")];
    registry(&scene, &new);
    let before = lock();
    let _ = sandbox.run(&["pin"]).passed();
    assert_eq!(lock(), before);
    let told = sandbox.run(&["newer"]);
    assert!(told.stdout.contains("nail in chart") && told.stdout.contains("2.5.0"), "{}", told.stdout);
    let _ = sandbox.run(&["pin", "--move", "nail"]).passed();
    assert!(lock().contains("\"version\": \"2.5.0\""), "{}", lock());

    // The way back brings the lock file of that landing back, too, without asking anybody.
    let newest = lock();
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["back", "1"]).passed();
    assert_eq!(lock(), before);
    assert!(read("nail").contains("2.0.0"));
    let _ = sandbox.run(&["climb", "--offline"]).passed();
    sandbox.write("desk/package-lock.chart.json", &newest);
    let _ = sandbox.run(&["climb"]).passed();

    // One that somebody changed or that is no file of ours is not written over; what is cut off neither.
    for text in [lock().replace("2.5.0", "2.0.0"), "{ \"lockfileVersion\": 3".to_owned()] {
        sandbox.write("desk/package-lock.chart.json", &text);
        let told = sandbox.run(&["pin"]);
        assert!(told.code != 0 && told.complaint().contains("move it away"), "{}", told.complaint());
        assert_eq!(lock(), text);
    }
    fs::remove_file(sandbox.path("desk/package-lock.chart.json")).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    assert!(read("nail").contains("2.5.0"));

    // A runtime that a package is not for.
    sandbox.edit("catalog/tools/plank.toml", "version = \"22.4.0\"", "version = \"18.1.0\"");
    wish("packages.nail = \"2\"");
    registry(&scene, &[("nail", &[("2.0.0", ", \"engines\": { \"node\": \">=20\" }")])]);
    let told = sandbox.run(&["pin"]);
    assert!(told.complaint().contains("nail has no release for the runtime"), "{}", told.complaint());
    for wrong in ["packages.nail = \"latest\"", "packages.\"../x\" = \"1\"", "packages.nail = \"1\"\nkernel = \"x\""] {
        wish(wrong);
        let told = sandbox.run(&["pin"]);
        assert!(told.stderr.contains("ladder.toml, line") && told.code != 0, "{}", told.complaint());
    }
}
