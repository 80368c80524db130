//! Releases of several archives, and archives that come out of archives.

use kladder_core::base::digest;
use kladder_pack::{Content, Entry, Format, pack, with_record};

use crate::sandbox::{Sandbox, not_tested, walkdir};

/// Packs an archive into the yard; returns what a definition says of it.
fn archive(sandbox: &Sandbox, file: &str, entries: &[Entry]) -> String {
    let path = sandbox.path("yard").join(file);
    pack(Format::of_name(file).unwrap(), entries, &path).unwrap();
    let (sha256, size) = digest::of_file(&path).unwrap();
    format!("file = \"{file}\", size = {size}, sha256 = \"{sha256}\"")
}

/// The bytes of an archive.
fn packed(sandbox: &Sandbox, file: &str, entries: &[Entry]) -> Vec<u8> {
    archive(sandbox, file, entries);
    std::fs::read(sandbox.path("yard").join(file)).unwrap()
}

fn define(sandbox: &Sandbox, artifact: &str) {
    let text = format!(
        "tool = \"plank\"\nsummary = \"\"\ncommands.plank = \"bin/plank\"\n[[releases]]\nversion = \"1.0\"\nartifacts = [{{ {artifact} }}]\n"
    );
    sandbox.write("catalog/tools/plank.toml", &text);
    sandbox.wish("plank = \"any\"");
}

/// The plain script makes the folder that the shelf has.
fn by_hand_is_the_same(sandbox: &Sandbox) {
    use std::os::unix::fs::PermissionsExt;
    let has =
        |program: &str| ["/usr/bin", "/bin"].iter().any(|folder| std::path::Path::new(folder).join(program).exists());
    if !["tar", "unzip", "gzip", "xz"].into_iter().all(has) {
        return not_tested("tar, unzip, gzip or xz is missing");
    }
    let tools = sandbox.path("tools by hand");
    let _ = sandbox.run(&["report", "../by-hand.sh"]).passed();
    let mut shell = std::process::Command::new("/bin/sh");
    shell.arg(sandbox.path("by-hand.sh")).env_clear().env("PATH", "/usr/bin:/bin").env("HOME", sandbox.path("user"));
    shell.env("TOOLS", &tools).env("YARD", sandbox.path("yard"));
    let _ = sandbox.finished(shell.output().unwrap()).passed();
    let files = |folder: &std::path::Path| -> Vec<_> {
        let told = |path: std::path::PathBuf| {
            let inside = path.strip_prefix(folder).unwrap().to_owned();
            if let Ok(to) = std::fs::read_link(&path) {
                return (inside, false, to.display().to_string().replace(&folder.display().to_string(), ""));
            }
            let runs = std::fs::metadata(&path).unwrap().permissions().mode() & 0o111 != 0;
            (inside, runs, std::fs::read_to_string(path).unwrap())
        };
        // Who installed it, and what: ours alone.
        let is_ours = |path: &std::path::PathBuf| path.ends_with("RECORD") || path.ends_with("INSTALLER");
        walkdir(folder).into_iter().filter(|path| !is_ours(path)).map(told).collect()
    };
    let shelved = std::fs::read_dir(sandbox.path("home/data/shelf/plank")).unwrap().next().unwrap().unwrap().path();
    assert_eq!(files(&shelved.join("files")), files(&tools.join("plank-1.0")));
}

const SCRIPT: &str = "#!/bin/sh\nhere=$(dirname \"$0\")/..\ncat \"$here/share/tide\" \"$here/share/moon\"\n";

#[test]
fn a_release_of_several_archives_is_one_rung_and_its_pins_hold_all_of_them() {
    let sandbox = Sandbox::new();
    let first = archive(&sandbox, "base.tar.gz", &[Entry::program("top/bin/plank", SCRIPT)]);
    let second = archive(&sandbox, "tide.zip", &[Entry::file("tide", "up\n"), Entry::file("doc/a", "a")]);
    let third = archive(&sandbox, "moon.tar.xz", &[Entry::file("x/y/moon", "full\n")]);
    let third = third.split(", ").filter(|part| !part.starts_with("size")).collect::<Vec<_>>().join(", ");
    define(
        &sandbox,
        &format!(
            "{first}, unpack = {{ strip = 1 }}, also = [{{ {second}, unpack = {{ leave-out = [\"doc\"], move = {{ \"\" = \"share\" }} }} }}, \
             {{ {third}, unpack = {{ strip = 2, move = {{ \"\" = \"share\" }} }} }}]"
        ),
    );
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "up\nfull\n");
    let pins = sandbox.read("desk/ladder.pinned.toml");
    assert!(
        pins.contains("also = [{ file = \"tide.zip\", size = ") && pins.contains("moon.tar.xz\", size = "),
        "{pins}"
    );
    let _ = sandbox.run(&["verify"]).passed();
    assert!(sandbox.run(&["climb"]).passed().stdout.contains("All rungs stand"));
    by_hand_is_the_same(&sandbox);
    // Other bytes of any of them are other bytes of the release.
    let other = archive(&sandbox, "tide.zip", &[Entry::file("tide", "down\n")]);
    let sha = |text: &str| text.split("sha256 = ").nth(1).unwrap().to_owned();
    sandbox.edit("catalog/tools/plank.toml", &sha(&second), &sha(&other));
    let told = sandbox.run(&["pin"]);
    assert!(told.code == 21 && told.stderr.contains("other bytes"), "{}", told.complaint());
}

#[test]
fn packages_of_debian_are_laid_out_by_the_script_as_by_us() {
    let sandbox = Sandbox::new();
    let program = Entry::program("./usr/bin/plank", "#!/bin/sh\ncat \"$(dirname \"$0\")/../libs/libtide.so.1\"\n");
    let first = archive(
        &sandbox,
        "-plank 1.0_amd64.deb",
        &[
            program,
            Entry::file("./usr/share/doc/plank/copyright", "whose it is"),
            Entry::file("./usr/share/doc/plank/changelog", "what it was"),
            Entry::file("./usr/share/man/man1/plank.1", "how it is used"),
            Entry::file("./usr/lib/plank-12/deep/part", "a part"),
            Entry::link("./usr/lib/plank-12/settings", "/etc/plank.conf"),
            Entry::file("./etc/plank.conf", "tide = up"),
        ],
    );
    let second = archive(
        &sandbox,
        "libtide1_1.0_amd64.deb",
        &[
            Entry::file("./lib/x86_64-linux-gnu/libtide.so.1", "up\n"),
            Entry::file("./lib/x86_64-linux-gnu/ld-tide-x86-64.so.2", "loads"),
            Entry::link("./usr/lib/x86_64-linux-gnu/libtide.so", "libtide.so.1"),
            Entry::file("./usr/lib/plank-12/other", "another part"),
            Entry::link("./lib64/ld-tide-x86-64.so.2", "../lib/x86_64-linux-gnu/ld-tide-x86-64.so.2"),
        ],
    );
    let unpack = |links: &str| {
        format!(
            "unpack = {{ layout = \"debian\", absolute-links = \"{links}\", move = {{ \"lib/plank-12\" = \"own\", \"lib/plank-9\" = \"own\" }} }}"
        )
    };
    define(&sandbox, &format!("{first}, {0}, also = [{{ {second}, {0} }}]", unpack("leave-out")));
    // Set up in its folder, with a variable of its own, and a check that ends otherwise than others.
    let more = "commands.tide = \"bin/tide\"\nvariables.TIDE = { set = \"{folder}\", of = \"tool\" }\n\
         [[set-up]]\nrun = [\"/bin/sh\", \"-c\", \"printf '#!/bin/sh\\nexit 3\\n' > bin/tide; chmod +x bin/tide\"]\n\
         [[checks]]\nrun = [\"tide\"]\nexpect = { status = [2, 3] }\n[[releases]]";
    sandbox.edit("catalog/tools/plank.toml", "[[releases]]", more);
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "up\n");
    by_hand_is_the_same(&sandbox);
    let wrapper = sandbox.read("tools by hand/bin/plank");
    assert!(wrapper.contains("TIDE=\"") && !sandbox.read("by-hand.sh").contains("export TIDE"), "{wrapper}");
}

#[test]
fn archives_inside_archives_are_unpacked_beside_the_rest_and_guarded_like_them() {
    let sandbox = Sandbox::new();
    let moon = packed(&sandbox, "moon.zip", &[Entry::file("deep/moon", "full\n")]);
    let data = [Entry::program("usr/bin/plank", SCRIPT), Entry::file("usr/share/tide", "up\n")];
    let data = packed(&sandbox, "data.tar.xz", &data);
    let artifact = archive(
        &sandbox,
        "plank.tar.gz",
        &[Entry::file("control", "c"), Entry::file("payload/data.tar.xz", data.clone()), Entry::file("moon.zip", moon)],
    );
    let inner = "inner = { \"payload/data.tar.xz\" = { strip = 1 }, \"moon.zip\" = { strip = 1, move = { \"\" = \"share\" } } }";
    define(&sandbox, &format!("{artifact}, unpack = {{ leave-out = [\"control\"], {inner} }}"));
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "up\nfull\n");
    let _ = sandbox.run(&["verify"]).passed();
    let shelf = walkdir(&sandbox.path("home/data/shelf/plank"));
    let left = shelf.iter().find(|path| path.ends_with("moon.zip") || path.ends_with("data.tar.xz"));
    assert_eq!(left, None, "the inner archives are gone");
    by_hand_is_the_same(&sandbox);

    let refused = |entries: &[Entry], inner: &str, said: &str| {
        let sandbox = Sandbox::new();
        let artifact = archive(&sandbox, "plank.tar.gz", entries);
        define(&sandbox, &format!("{artifact}, unpack = {{ inner = {{ {inner} }} }}"));
        let told = sandbox.run(&["climb"]);
        assert!(told.code != 0 && told.stderr.contains(said), "{}", told.complaint());
        assert!(walkdir(&sandbox.path("home/data/shelf/plank")).is_empty());
        assert!(!sandbox.path("outside").exists() && !sandbox.path("home/data/staging/outside").exists());
    };
    let program = Entry::program("bin/plank", SCRIPT);
    refused(std::slice::from_ref(&program), "\"lost.zip\" = {}", "there is no archive lost.zip in plank.tar.gz");
    let climbing = packed(&sandbox, "c.tar.gz", &[Entry::file("../outside", "x")]);
    refused(&[program.clone(), Entry::file("c.tar.gz", climbing)], "\"c.tar.gz\" = {}", "was not unpacked");
    let twice = packed(&sandbox, "t.zip", &[Entry::file("bin/plank", "other")]);
    refused(
        &[program.clone(), Entry::file("t.zip", twice)],
        "\"t.zip\" = {}",
        "bin/plank of an archive inside is in the way",
    );
    // Through a link of the outer one the link of the inner one would lead out.
    let through = packed(&sandbox, "l.tar.gz", &[Entry::link("a/b/l", "../../outside")]);
    let outer = [program.clone(), Entry::file("a/x", ""), Entry::link("a/b", "."), Entry::file("l.tar.gz", through)];
    refused(&outer, "\"l.tar.gz\" = {}", "a/b of an archive inside is in the way");
    let damaged = Entry::file("d.tar.gz", data[..data.len() / 2].to_vec());
    refused(&[program, damaged], "\"d.tar.gz\" = {}", "was not unpacked");
}

/// A rung out of some archives, each with the bytes of what is behind its command in the answer of an interpreter that shows
/// what it is to run.
fn laid_out(archives: &[(&str, &[Entry], &str)], commands: &str) -> Sandbox {
    let sandbox = Sandbox::new();
    sandbox.host_command("python3", "tail -n 1 \"$1\"");
    sandbox.host_command("node", "cat \"$1\"");
    let mut all = archives.iter().map(|(file, entries, more)| format!("{}{more}", archive(&sandbox, file, entries)));
    let (first, also) = (all.next().unwrap(), all.map(|one| format!("{{ {one} }}")).collect::<Vec<_>>().join(", "));
    define(&sandbox, &format!("{first}, also = [{also}]"));
    sandbox.edit("catalog/tools/plank.toml", "commands.plank = \"bin/plank\"", commands);
    let _ = sandbox.run(&["climb"]).passed();
    sandbox
}

#[test]
fn wheels_are_laid_out_as_their_format_says() {
    let points = "[console_scripts]\nplank = plank.main:Deck.lay [extra]\ntide = plank.tide:run\n../../evil = plank:x\nodd = plank;x:y\n[other]\nno = a:b\n";
    let one = [
        Entry::file("plank/main.py", "print('x')\n"),
        Entry::file("plank-1.0.dist-info/entry_points.txt", points),
        Entry::file("plank-1.0.data/scripts/old-plank", "#!python -u\nprint('old')\n"),
        Entry::file("plank-1.0.data/data/share/plank/a", "a"),
        Entry::file("plank-1.0.data/headers/plank.h", "h"),
        Entry::file("plank-1.0.data/purelib/nail.py", "pure"),
    ];
    let other = [Entry::file("nail/__init__.py", "n"), Entry::file("nail-2.0.dist-info/METADATA", "m")];
    let one = with_record(one.to_vec(), "plank-1.0.dist-info");
    let other = with_record(other.to_vec(), "nail-2.0.dist-info");
    let sandbox = laid_out(
        &[("plank-1.0-py3-none-any.whl", &one, ""), ("nail-2.0-py3-none-any.whl", &other, "")],
        "commands = { plank = \"bin/plank\", tide = \"bin/tide\", old-plank = \"bin/old-plank\" }",
    );
    let run = |command: &str| sandbox.run(&["run", "--", command]).passed().stdout;
    assert_eq!(
        (run("plank"), run("tide"), run("old-plank")),
        ("sys.exit(Deck.lay())\n".into(), "sys.exit(run())\n".into(), "print('old')\n".into())
    );
    let mut files: Vec<String> = walkdir(&sandbox.path("home/data/shelf/plank"))
        .iter()
        .filter_map(|path| Some(path.to_str()?.split_once("/files/")?.1.to_owned()))
        .collect();
    files.sort();
    assert_eq!(
        files.join(" "),
        "bin/old-plank bin/plank bin/tide include/plank.h share/plank/a \
         site/nail-2.0.dist-info/INSTALLER site/nail-2.0.dist-info/METADATA site/nail-2.0.dist-info/RECORD site/nail.py \
         site/nail/__init__.py site/plank-1.0.dist-info/INSTALLER site/plank-1.0.dist-info/RECORD \
         site/plank-1.0.dist-info/entry_points.txt site/plank/main.py"
    );
    let _ = sandbox.run(&["verify"]).passed();
    by_hand_is_the_same(&sandbox);
}

#[test]
fn a_wheel_that_is_not_what_it_lists_is_not_taken() {
    let whole = || {
        let entries =
            vec![Entry::file("plank/main.py", "print('x')\n"), Entry::program("plank-1.0.data/scripts/plank", "x")];
        with_record(entries, "plank-1.0.dist-info")
    };
    let told = |entries: &[Entry]| {
        let sandbox = Sandbox::new();
        let first = archive(&sandbox, "plank-1.0-py3-none-any.whl", entries);
        define(&sandbox, &first);
        let ran = sandbox.run(&["climb"]);
        assert!(!sandbox.path("home/data/shelf/plank").exists(), "{}", ran.stdout);
        (ran.code, ran.stderr)
    };
    let edited = |path: &str, new: &str| {
        let change = |mut entry: Entry| {
            if entry.path == path {
                entry.content = Content::File(new.into(), false);
            }
            entry
        };
        whole().into_iter().map(change).collect::<Vec<_>>()
    };
    let record = "plank-1.0.dist-info/RECORD";
    let (code, text) = told(&edited("plank/main.py", "print('y')\n"));
    assert!(code == 21 && text.contains("site/plank/main.py in plank-1.0-py3-none-any.whl has other bytes"), "{text}");
    let (code, text) = told(&[whole(), vec![Entry::file("plank/more.py", "")]].concat());
    assert!(code == 21 && text.contains("site/plank/more.py is in no RECORD"), "{text}");
    for wrong in ["plank/main.py,,\n", "plank/main.py,md5=abc,1\n", "plank/main.py,sha256=*,1\n"] {
        let (code, text) = told(&edited(record, wrong));
        assert!(code == 21 && text.contains("has no RECORD that can be read"), "{wrong}: {text}");
    }
    assert_eq!(told(&edited(record, "\"plank\n\0")).0, 21);
    let without: Vec<Entry> = whole().into_iter().filter(|entry| entry.path != record).collect();
    assert!(told(&without).1.contains("has no RECORD"));
}

#[test]
fn npm_packages_are_laid_out_as_their_format_says() {
    let package =
        r#"{"name": "@skerrow/plank", "bin": {"plank": "./lib/cli.js", "evil": "../../x", "../up": "lib/cli.js"}}"#;
    let nail = r#"{"name": "nail", "bin": "nail.js"}"#;
    let script = "#!/usr/bin/env node\nplanks\n";
    let one = [Entry::file("package/package.json", package), Entry::file("package/lib/cli.js", script)];
    let other = [Entry::file("other-top/package.json", nail), Entry::file("other-top/nail.js", script)];
    let sandbox = laid_out(
        &[
            ("plank-1.0.tgz", &one, ""),
            ("nail-2.0.tgz", &other, ", unpack = { strip = 1, into = \"node_modules/nail\", layout = \"npm\" }"),
        ],
        "commands = { plank = \"bin/plank\", nail = \"node_modules/nail/nail.js\" }",
    );
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, script);
    assert_eq!(sandbox.run(&["run", "--", "nail"]).passed().stdout, script);
    let _ = sandbox.run(&["verify"]).passed();
    assert!(!walkdir(&sandbox.path("home")).iter().any(|path| path.ends_with("evil")));
}
