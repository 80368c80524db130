//! What keepers do: see what makers have published since, enter it, and try it, against a stand-in index.

use kladder_core::base::digest::Digest;
use kladder_pack::{Entry, Format, pack, with_record};
use kladder_yard::Yard;
use snapbox::{IntoData, assert_data_eq, str};

use crate::sandbox::{Ran, Sandbox};

const DEFINITION: &str = r#"tool = "plank"   # kept as it is
summary = "A tool made by a test"
commands = { plank = "bin/plank" }
origins = ["index:wheels/plank"]

[[checks]]
run = ["plank"]
expect = { stdout = 'plank (?<version>\S+)' }
"#;

/// A sandbox with a catalog of one tool whose releases an index lists.
struct Scene {
    sandbox: Sandbox,
    index: Yard,
}

impl Scene {
    fn new(definition: &str) -> Self {
        let sandbox = Sandbox::new();
        let _ = std::fs::remove_dir_all(sandbox.path("catalog/tools"));
        let _ = std::fs::remove_dir_all(sandbox.path("catalog/presets"));
        let _ = std::fs::remove_dir_all(sandbox.path("catalog/rehearsals"));
        sandbox.write("catalog/tools/plank.toml", definition);
        let head = sandbox.read("catalog/catalog.toml");
        let yards = head.lines().find(|line| line.starts_with("yards")).unwrap();
        sandbox.edit("catalog/catalog.toml", yards, "yards = []");
        std::fs::create_dir_all(sandbox.path("index/files")).unwrap();
        let index = Yard::serve(&sandbox.path("index"), ([127, 0, 0, 1], 0).into()).unwrap();
        let setting = format!("[indexes]\nwheels = {{ kind = \"python\", address = \"{}\" }}\n", index.url());
        sandbox.write("home/config/config.toml", &setting);
        Self { sandbox, index }
    }

    /// A wheel of a project that the index has, and what it says of it.
    fn wheel(&self, name: &str, entries: &[Entry]) -> String {
        let path = self.sandbox.path("index/files").join(name);
        let info = name.split('-').take(2).collect::<Vec<_>>().join("-") + ".dist-info";
        pack(Format::Zip, &with_record(entries.to_vec(), &info), &path).unwrap();
        let sum = Digest::of(&std::fs::read(path).unwrap());
        format!(
            r#"{{"filename": "{name}", "url": "../files/{name}", "hashes": {{"sha256": "{sum}"}}, "upload-time": "2026-03-04T00:00:00Z"}}"#
        )
    }

    fn plank(&self, version: &str, tag: &str) -> String {
        let script = format!("#!/bin/sh\necho plank {version}\n");
        let entries = [Entry::program(&format!("plank-{version}.data/scripts/plank"), script)];
        self.wheel(&format!("plank-{version}-py3-none-{tag}.whl"), &entries)
    }

    fn list(&self, project: &str, files: &[String]) {
        let text =
            format!(r#"{{"meta": {{"api-version": "1.1"}}, "name": "{project}", "files": [{}]}}"#, files.join(", "));
        self.sandbox.write(&format!("index/{project}/index.json"), &text);
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        self.sandbox.run(&[&["catalog"], arguments].concat())
    }
}

fn tags() -> [&'static str; 2] {
    ["manylinux2014_x86_64", "manylinux_2_28_aarch64"]
}

#[test]
fn what_is_new_is_seen_and_entered_and_nothing_else_moves() {
    let scene = Scene::new(DEFINITION);
    let of = |version: &str| tags().map(|tag| scene.plank(version, tag)).to_vec();
    let mut files = [of("1.0"), of("1.1"), of("2.0rc1")].concat();
    files.push(scene.plank("1.1", "manylinux_2_28_x86_64"));
    files.push(scene.plank("1.1", "win_amd64"));
    files.push(of("0.9")[0].replace("\"hashes\"", "\"yanked\": \"broken\", \"hashes\""));
    scene.list("plank", &files);
    assert_data_eq!(
        scene.run(&["look"]).passed().stdout,
        str![[r#"
  tool   newest here  published since
  plank  none         1.1 (2026-03-04), 1.0 (2026-03-04)
To write one into its definition: kladder catalog enter plank 1.1

"#]]
    );
    scene.sandbox.wish("plank = \"any\"");
    let none = scene.sandbox.run(&["pin"]);
    assert!(none.stderr.contains("the catalog has no release of it"), "{}", none.complaint());
    let _ = scene.run(&["enter", "plank", "1.0"]).passed();
    let kept = scene
        .sandbox
        .read("catalog/tools/plank.toml")
        .replace("\n[[releases]]", "\n# the first one\n[[releases]]\nseries = [\"stable\"]");
    scene.sandbox.write("catalog/tools/plank.toml", &kept);
    let entered = scene.run(&["enter", "plank", "1.1", "2.0rc1"]).passed().stdout;
    assert!(entered.contains("plank-1.1-py3-none-manylinux2014_x86_64.whl"), "{entered}");
    assert!(!entered.contains("2_28_x86_64") && !entered.contains("win_amd64"), "{entered}");
    let text = scene.sandbox.read("catalog/tools/plank.toml");
    let versions: Vec<&str> =
        text.lines().filter(|line| line.starts_with("version") || line.starts_with('#')).collect();
    assert_eq!(versions, ["version = \"2.0rc1\"", "version = \"1.1\"", "# the first one", "version = \"1.0\""]);
    assert_eq!(text.matches("series = [\"stable\"]").count(), 2, "a preview is not stable: {text}");
    assert!(
        text.starts_with("tool = \"plank\"   # kept as it is\n")
            && text.ends_with(kept.split("# the first").nth(1).unwrap())
    );
    let again = scene.run(&["enter", "plank", "1.1"]).passed().stdout;
    assert!(again.contains("plank 1.1 is in") && again.contains("already"), "{again}");
    assert!(scene.run(&["look"]).passed().stdout.contains("1 tool with nothing newer"));
    assert!(scene.run(&["check", "--without-archives", "../catalog"]).passed().stdout.contains("nothing to tell"));
    // All of them stand, each by itself; one that says another version does not.
    scene.sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"1.0.5\"");
    let tried = scene.run(&["try"]);
    assert_eq!(tried.code, 30, "{}", tried.complaint());
    assert!(tried.stdout.contains("it says that it is 1.0, and 1.0.5 is pinned"), "{}", tried.stdout);
    assert!(tried.stdout.contains("3 releases tried: 1 failed."), "{}", tried.stdout);
    assert_eq!(crate::sandbox::walkdir(&scene.sandbox.path("home/data")).len(), 0, "it was done elsewhere");
}

#[test]
fn what_a_wheel_needs_is_entered_beside_it() {
    let scene = Scene::new(DEFINITION);
    let metadata =
        "Metadata-Version: 2.1\nName: plank\nRequires-Dist: nail (>=2,<3)\nRequires-Dist: rope; extra == 'rig'\n";
    let script = "#!/bin/sh\necho plank 1.0\n";
    let plank =
        [Entry::program("plank-1.0.data/scripts/plank", script), Entry::file("plank-1.0.dist-info/METADATA", metadata)];
    scene.list("plank", &[scene.wheel("plank-1.0-py3-none-any.whl", &plank)]);
    let nail =
        |version: &str| scene.wheel(&format!("nail-{version}-py3-none-any.whl"), &[Entry::file("nail.py", version)]);
    scene.list("nail", &[nail("1.9"), nail("2.1"), nail("2.2"), nail("3.0")]);
    let entered = scene.run(&["enter", "plank", "1.0"]).passed().stdout;
    assert!(entered.contains("nail-2.2-py3-none-any.whl") && !entered.contains("rope"), "{entered}");
    assert!(scene.sandbox.read("catalog/tools/plank.toml").contains("origins = [\"index:wheels/nail\"]"));
    assert!(scene.run(&["try"]).passed().stdout.contains("all of them stand"));
}

#[test]
fn what_cannot_be_entered_leaves_the_definition_as_it_was() {
    let scene = Scene::new(DEFINITION);
    scene.list("plank", &[scene.plank("1.0", "manylinux2014_x86_64")]);
    let refused = |arguments: &[&str], told: &str| {
        let ran = scene.run(arguments);
        assert!(ran.code != 0 && ran.stderr.contains(told), "{arguments:?}: {}", ran.complaint());
        assert_eq!(scene.sandbox.read("catalog/tools/plank.toml"), DEFINITION);
    };
    refused(&["enter", "plank", "7"], "what is there: 1.0");
    refused(&["enter", "nail", "1"], "the catalog has no definition of nail");
    let file = scene.sandbox.path("index/files/plank-1.0-py3-none-manylinux2014_x86_64.whl");
    let good = std::fs::read(&file).unwrap();
    std::fs::write(&file, "other bytes").unwrap();
    refused(&["enter", "plank", "1.0"], "has other bytes than its index lists");
    std::fs::write(&file, &good).unwrap();
    let shown = scene.run(&["enter", "plank", "1.0", "--dry-run"]).passed().stdout;
    assert!(shown.contains("would be written") && shown.contains("[[releases.artifacts]]"), "{shown}");
    assert_eq!(scene.sandbox.read("catalog/tools/plank.toml"), DEFINITION);
    let asked = scene.index.requests();
    refused(&["enter", "plank", "1.0", "--offline"], "may not be asked");
    assert_eq!(scene.index.requests(), asked);
    scene.sandbox.write("index/plank/index.json", "<html>");
    refused(&["enter", "plank", "1.0"], "answers what no python index does");
    let looked = scene.run(&["look"]);
    assert!(looked.code == 20 && looked.stdout.contains("answers what no python index does"), "{}", looked.stdout);
}

#[test]
fn a_draft_says_what_was_seen_and_what_is_guessed() {
    let scene = Scene::new(DEFINITION);
    let licence = "Permission is hereby granted, free of charge, to any person … without restriction, …";
    let desktop = "[Desktop Entry]\nType=Application\nName=Nail\u{7}ed\nExec=nail %F\nIcon=nail\nCategories=Development;Bad\"word;\n\
                   MimeType=text/x-nail;\n";
    let entries = [
        Entry::program("nail-2.1/bin/nail", "#!/bin/sh\necho nail 2.1.0 of the harbour\n"),
        Entry::program("nail-2.1/bin/nail++", "#!/usr/bin/env python3\n"),
        Entry::file("nail-2.1/share/man/man1/nail.1", "x"),
        Entry::file("nail-2.1/share/fonts/nail.ttf", "x"),
        Entry::file("nail-2.1/share/icons/48/nail.png", "x"),
        Entry::file("nail-2.1/share/icons/96/nail.png", "xx"),
        Entry::file("nail-2.1/share/applications/nail.desktop", desktop),
        Entry::file("nail-2.1/share/applications/other.desktop", "[Desktop Entry]\nName=Other\nExec=/usr/bin/other\n"),
        Entry::file("nail-2.1/COPYING", licence),
    ];
    let archive =
        |name: &str, entries: &[Entry]| pack(Format::TarGz, entries, &scene.sandbox.path("index").join(name)).unwrap();
    archive("nail-2.1-linux-x86_64.tar.gz", &entries);
    let address = format!("{}/nail-2.1-linux-x86_64.tar.gz", scene.index.url());
    let drafted = scene.run(&["draft", &address, "--print"]).passed().stdout;
    let sum = Digest::of(&std::fs::read(scene.sandbox.path("index/nail-2.1-linux-x86_64.tar.gz")).unwrap());
    let size = drafted.lines().find(|line| line.starts_with("size")).unwrap().to_owned();
    let shown = drafted
        .replace(&scene.index.url(), "http://dist.example")
        .replace(&sum.to_string(), "SUM")
        .replace(&size, "size = N");
    assert_data_eq!(
        shown,
        str![[r#"
tool = "nail"
summary = ""   # to be written: one line on what it does
spdx = "MIT"   # guessed from COPYING
origins = ["http://dist.example"]
needs = { python = "any" }   # guessed from the first lines of its scripts
fonts = ["share/fonts"]
unpack = { strip = 1 }   # one folder is around everything
# share/man has manual pages: wired shells find them where they lie

[commands]
nail = "bin/nail"
"nail++" = "bin/nail++"

[[desktop]]   # as share/applications/nail.desktop has it
name = "Nail ed"
command = "nail"
icon = "share/icons/96/nail.png"
categories = ["Development"]
opens = { "text/x-nail" = "" }

[[checks]]
name = "says its version"
run = ["nail", "--version"]
expect = { stdout = 'nail (?<version>\S+)' }   # it said 2.1.0

[[releases]]
version = "2.1"
[[releases.artifacts]]
for = ["PLATFORM"]
file = "nail-2.1-PLATFORM.tar.gz"
size = N
sha256 = "SUM"

"#]]
        .raw()
    );
    // Out of an index it stands at once; a second one does not write over it.
    scene.list(
        "rope",
        &[scene.wheel(
            "rope-3.0-py3-none-any.whl",
            &[Entry::program("rope-3.0.data/scripts/rope", "#!/bin/sh\necho rope v3.0\n")],
        )],
    );
    let _ = scene.run(&["draft", "index:wheels/rope"]).passed();
    assert!(scene.run(&["try", "rope"]).passed().stdout.contains("all of them stand"));
    assert!(scene.run(&["draft", "index:wheels/rope"]).stderr.contains("there is a definition of rope already"));

    let refused = |what: &str, told: &str| {
        let ran = scene.run(&["draft", what]);
        assert!(ran.code != 0 && ran.stderr.contains(told), "{what}: {}", ran.complaint());
    };
    archive("words.tar.gz", &[Entry::file("words/a", "a"), Entry::file("words/b", "b")]);
    refused("../index/words.tar.gz", "nothing in words.tar.gz can be run");
    scene.sandbox.write("index/broken.tar.gz", "<html>");
    refused("../index/broken.tar.gz", "could not be looked into");
    refused("../index/nowhere.tar.gz", "nowhere.tar.gz");
    refused("index:wheels/nothing", "has nothing called `nothing`");
    refused("index:wheels", "is no name in an index");
    archive("out.tar.gz", &[Entry::program("../../bin/evil", "#!/bin/sh\n")]);
    refused("../index/out.tar.gz", "could not be looked into");
    let many: Vec<Entry> =
        (0..300).map(|number| Entry::program(&format!("many/bin/m{number}"), "#!/bin/sh\n")).collect();
    archive("many-1.0.tar.gz", &many);
    let many = scene.run(&["draft", "../index/many-1.0.tar.gz", "--print"]).passed().stdout;
    assert!(
        many.contains("[commands]   # 288 more can be run") && many.contains("no program said a version"),
        "{many}"
    );
    // What is asked for its version can do no harm: it is shut in.
    let harm = format!("#!/bin/sh\necho harm > '{}'\necho harm 1.0\n", scene.sandbox.path("harm").display());
    archive("harm-1.0.tar.gz", &[Entry::program("harm-1.0/bin/harm", harm)]);
    let _ = scene.run(&["draft", "../index/harm-1.0.tar.gz", "--print"]).passed();
    assert!(!scene.sandbox.path("harm").exists());
}

#[test]
fn what_indexes_and_archives_say_does_not_become_lines_of_a_definition() {
    let scene = Scene::new(DEFINITION);
    let metadata = "Requires-Dist: nail\"]\nName: x\nRequires-Dist: rope\n";
    let entries = [
        Entry::program("plank-1.0.data/scripts/plank", "#!/bin/sh\necho plank 1.0\n"),
        Entry::file("plank-1.0.dist-info/METADATA", metadata),
    ];
    let plank = scene.wheel("plank-1.0-py3-none-any.whl", &entries);
    scene.list("plank", &[plank.replace("2026-03-04T00:00:00Z", "26\\nevil = 1")]);
    let _ = scene.run(&["enter", "plank", "1.0"]).passed();
    let text = scene.sandbox.read("catalog/tools/plank.toml");
    assert!(!text.contains("evil") && !text.contains("date ="), "{text}");
    let archive = [
        Entry::program("top/bin/nail", "#!/bin/sh\nprintf 'evil \\033[31m 1.0\\n'\n"),
        Entry::file("top/LICENSE\n[evil]", "Permission is hereby granted, free of charge, without restriction"),
    ];
    pack(Format::TarGz, &archive, &scene.sandbox.path("index/nail-1.0.tar.gz")).unwrap();
    let drafted = scene.run(&["draft", "../index/nail-1.0.tar.gz", "--print"]).passed().stdout;
    assert!(drafted.contains("guessed from LICENSE?[evil]") && !drafted.contains("\n[evil]"), "{drafted}");
    assert!(drafted.contains("no program said a version"), "{drafted}");
}

#[test]
fn a_feed_beside_an_index_says_until_when_series_are_looked_after() {
    let scene = Scene::new(
        &DEFINITION.replace("[\"index:wheels/plank\"]", "[\"index:wheels/plank\", \"index:news/plank.atom\"]"),
    );
    let setting = format!("news = {{ kind = \"feed\", address = \"{}\" }}\n", scene.index.url());
    let settings = scene.sandbox.read("home/config/config.toml");
    scene.sandbox.write("home/config/config.toml", &(settings + &setting));
    scene.list("plank", &[scene.plank("1.0", "manylinux2014_x86_64")]);
    scene.sandbox.write(
        "index/plank.atom",
        "<feed><entry><title>plank 1: end of life 2020-05-01</title></entry>\
         <entry><title>plank 2.0</title><summary>2 is maintained until 2999-12-31.</summary></entry></feed>",
    );
    assert_data_eq!(
        scene.run(&["look"]).passed().stdout,
        str![[r#"
  tool   newest here  published since
  plank  none         1.0 (2026-03-04)
Its maker looks after plank: 1 no longer, since 2020-05-01; 2 until 2999-12-31.
To write one into its definition: kladder catalog enter plank 1.0

"#]]
    );
    std::fs::remove_file(scene.sandbox.path("index/plank.atom")).unwrap();
    assert!(scene.run(&["look"]).stdout.contains("has nothing called `plank.atom`"));
}

#[test]
fn pieces_are_entered_with_the_release_and_one_that_is_missing_is_told() {
    let scene = Scene::new(DEFINITION);
    let file = |name: &str, path: &str| {
        let script = "#!/bin/sh\necho plank 1.1\n";
        pack(Format::TarGz, &[Entry::program(path, script)], &scene.sandbox.path("index/files").join(name)).unwrap();
    };
    // The piece's file is listed first, and both are of the version that is looked for.
    let names = ["plank-hull-1.1.tar.gz", "plank-1.1.tar.gz", "plank-keel-1.1.tar.gz"];
    file(names[0], "bin/hull");
    file(names[1], "bin/plank");
    file(names[2], "bin/keel");
    let links: String = names.iter().map(|name| format!("<a href=\"../files/{name}\">x</a>")).collect();
    scene.sandbox.write("index/all/index.html", &links);
    let setting = format!("[indexes]\npages = {{ kind = \"page\", address = \"{}\" }}\n", scene.index.url());
    scene.sandbox.write("home/config/config.toml", &setting);
    let [one, two, three] = ["11", "22", "33"].map(|digits| digits.repeat(32));
    let release = format!(
        "[[releases]]\nversion = \"1.0\"\nartifacts = [{{ file = \"plank-1.0.tar.gz\", size = 1, sha256 = \"{one}\" }}]\n\
         [releases.pieces.hull]\nsummary = \"The hull\"\ncommands = {{ hull = \"bin/hull\" }}\n\
         artifacts = [{{ file = \"plank-hull-1.0.tar.gz\", size = 1, sha256 = \"{two}\", unpack = {{ strip = 0 }} }}]\n\
         [releases.pieces.sail]\nsummary = \"The sail\"\n\
         artifacts = [{{ file = \"plank-sail-1.0.tar.gz\", size = 1, sha256 = \"{three}\" }}]\n"
    );
    let definition = DEFINITION.replace("index:wheels/plank", "index:pages/all") + &release;
    scene.sandbox.write("catalog/tools/plank.toml", &definition);
    let entered = scene.run(&["enter", "plank", "1.1"]).passed().stdout;
    assert!(entered.contains("sail for any"), "{entered}");
    let text = scene.sandbox.read("catalog/tools/plank.toml");
    let block = text.split("[[releases]]").nth(1).unwrap();
    assert!(block.contains("file = \"plank-1.1.tar.gz\""), "{block}");
    let piece = block.split("[releases.pieces.hull]").nth(1).unwrap();
    assert!(piece.contains("commands = { hull = \"bin/hull\" }") && piece.contains("plank-hull-1.1.tar.gz"), "{block}");
    assert!(!block.contains("sail") && text.ends_with(&release), "{text}");
    scene.sandbox.wish("plank = { version = \"1.1\", pieces = [\"hull\"] }");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert!(scene.sandbox.run(&["run", "--", "hull"]).passed().stdout.contains("plank 1.1"));
}
