//! For keepers: a catalog that is checked without running a tool.

use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

#[test]
fn a_catalog_is_checked_with_a_place_for_everything_that_is_told() {
    let sandbox = Sandbox::new();
    assert_eq!(sandbox.run(&["catalog", "check"]).passed().stdout, "14 definitions in tide-gauge: nothing to tell.\n");
    let tool = |name: &str| format!("catalog/tools/{name}.toml");
    sandbox.edit(&tool("tidlow"), "summary", "sumary");
    sandbox.edit(&tool("skerroc"), "oarweld = \">=3\"", "oarwled = \">=3\"");
    sandbox.edit(&tool("skerroc"), "'^skerroc (?<version>\\S+)'", "'(skerroc)*'");
    sandbox.edit(&tool("neapstone"), "commands = ", "licence = \"no-terms\"\ncommands = ");
    let added = "\n[[also]]\nseries = \"stable\"\nneeds = { skeroc = \"any\" }\nvariables = { TIDE = \"{bollwick.folder}\" }\n\
        lends = [{ to = \"whimbro\", at = \"x\" }]\ncommands.tide = { file = \"x\", by = \"walker\" }\n";
    let wrackle = sandbox.read(&tool("wrackle")) + added;
    sandbox.write(&tool("wrackle"), &wrackle);
    let another = "\n[[fit-outs]]\nname = \"another\"\ndone = { run = [\"seichebox\", \"{bollwick.version}\"] }\n\
        do = { run = [\"seichebox\"] }\n";
    sandbox.edit(&tool("seichebox"), "\n[[fit-outs]]", &[another, "\n[[fit-outs]]"].concat());
    sandbox.edit(&tool("tombolet"), "kind = ", "needs = { oarweld = \"any\" }\nkind = ");
    sandbox.edit(&tool("whimbrow"), "for = [\"any\"]", "for = [\"linux\"]");
    let text = sandbox.read(&tool("whimbrow"));
    let (head, release) = text.split_once("[[releases]]").unwrap();
    let older = release.replace("6.0.2", "5.0").replace("\"linux\"", "\"linux\", \"macos\"");
    sandbox.write(&tool("whimbrow"), &format!("{head}[[releases]]{release}\n[[releases]]{older}"));
    sandbox.edit("catalog/presets/lamp-keeper.toml", "[[rungs]]", "[[rungs]]\ntool = \"seichebx\"\n[[rungs]]");
    sandbox.edit("catalog/rehearsals/first-reading.toml", "\"oarweld\"", "\"oarwel\"");
    let head = sandbox.read("catalog/catalog.toml")
        + "\n[prefer]\nskerrow-compiler = [\"skerroc\", \"oarweld\", \"skerok\"]\n";
    sandbox.write("catalog/catalog.toml", &head);
    let told = sandbox.run(&["catalog", "check", "../catalog"]);
    assert_eq!(told.code, 10);
    assert_data_eq!(
        told.stdout,
        str![[r#"
tools/tidlow.toml:3:1: mistake: the key `sumary` means nothing here
catalog.toml:8:33: mistake: oarweld is preferred for skerrow-compiler, which it does not provide
catalog.toml:8:44: mistake: nothing here is or provides `skerok`; `skerroc` is there
tools/neapstone.toml:5:12: mistake: there is no text for the licence `no-terms`: licences/no-terms.txt
tools/seichebox.toml:21:31: mistake: bollwick is named, and no need brings it
tools/skerroc.toml:22:11: mistake: release 1.5.0 needs oarwled >=3, and nothing here meets that; `oarweld` is there
tools/skerroc.toml:16:22: doubt: `says its version` cannot fail: its pattern is like anything, nothing too
tools/whimbrow.toml:22:12: doubt: release 6.0.2 has no artifact for macos, which another one has
tools/wrackle.toml:55:11: mistake: release 1.0.0 needs skeroc, and nothing here meets that; `skerroc` is there
tools/wrackle.toml:57:18: mistake: nothing here is or provides `whimbro`; `whimbrow` is there
tools/wrackle.toml:58:37: mistake: no tool here has the program `walker`
tools/wrackle.toml:56:23: mistake: bollwick is named, and no need brings it
tools/oarweld.toml:16:11: doubt: oarweld and tombolet need each other in a circle; they are climbed together
presets/lamp-keeper.toml:6:9: mistake: nothing here is or provides `seichebx`; `seichebox` is there
rehearsals/first-reading.toml:3:22: mistake: nothing here is or provides `oarwel`; `oarweld` is there
tools/wrackle.toml:57:33: mistake: the command `tide` is the file `x`, which is not in wrackle-1.0.0-PLATFORM.zip, wrackle-1.0.0-linux-aarch64.zip, wrackle-1.0.0-macos-x86_64.zip and 9 more
13 definitions in tide-gauge: 13 mistakes, 3 doubts.

"#]]
    );
    let json = sandbox.run(&["catalog", "check", "--json"]).json();
    let mistakes = json["remarks"].as_array().unwrap().iter().filter(|remark| remark["kind"] == "mistake").count();
    assert!(mistakes >= 7 && json["remarks"][0]["line"].is_number(), "{json:#}");
    let nowhere = sandbox.run(&["catalog", "check", "nowhere"]);
    assert!(nowhere.code == 10 && nowhere.stderr.contains("there is no catalog"), "{}", nowhere.complaint());
}

#[test]
fn what_archives_at_hand_do_not_have_is_told() {
    let sandbox = Sandbox::new();
    let head = sandbox.read("catalog/catalog.toml");
    let yards = head.lines().find(|line| line.starts_with("yards")).unwrap();
    sandbox.edit("catalog/catalog.toml", yards, "yards = [\"../yard\"]");
    let program = |path: &str| Entry::program(path, "#!/bin/sh\n");
    let commands = "commands = { plank = \"bin/plank\", board = \"bin/bored\", nail = \"nail\", rope = { file = \"rope.txt\", by = \"skerroc\" } }";
    let entries = [program("bin/plank"), program("tools/nail"), Entry::file("rope.txt", "")];
    sandbox.plank("plank.tar.gz", &entries, commands);
    let checked = |arguments: &[&str]| {
        let told = sandbox.run(&[&["catalog", "check", "../catalog"], arguments].concat()).stdout;
        let of_plank = |line: &&str| line.starts_with("tools/plank");
        told.lines().filter(of_plank).map(|line| format!("{line}\n")).collect::<String>()
    };
    assert_data_eq!(
        checked(&[]),
        str![[r#"
tools/plank.toml:6:61: mistake: the command `board` is the file `bin/bored`, which is not in plank.tar.gz
tools/plank.toml:6:61: mistake: the command `nail` is the file `nail`, which is not in plank.tar.gz; `tools/nail` is there

"#]]
    );
    assert_eq!(checked(&["--without-archives"]), "");
    std::fs::write(sandbox.path("yard/plank.tar.gz"), "no archive").unwrap();
    assert_data_eq!(
        checked(&[]),
        str![[r#"
tools/plank.toml:6:61: mistake: SANDBOX/catalog/../yard/plank.tar.gz is not the plank.tar.gz that has this digest

"#]]
    );
    let digest = kladder_core::base::digest::of_file(&sandbox.path("yard/plank.tar.gz")).unwrap();
    let text = sandbox.read("catalog/tools/plank.toml");
    let (front, _) = text.split_once("sha256 = \"").unwrap();
    let front = front.split_once(", size = ").unwrap().0;
    sandbox.write("catalog/tools/plank.toml", &format!("{front}, sha256 = \"{}\" }}]\n", digest.0));
    assert_data_eq!(
        checked(&[]),
        str![[r#"
tools/plank.toml:6:49: mistake: plank.tar.gz of release 1.0 cannot be unpacked: plank.tar.gz cannot be read as an archive: invalid gzip header

"#]]
    );
    let left: Vec<_> = std::fs::read_dir(std::env::temp_dir()).unwrap().flatten().collect();
    let mine = |entry: &std::fs::DirEntry| entry.path().join("files/bin/plank").exists();
    assert!(!left.iter().any(mine), "nothing of it stays");
}
