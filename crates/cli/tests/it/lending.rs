//! Berths, corners and set-up commands, through the whole program.

use std::fs;

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

/// A tool whose command lists what it finds in its own folder's `plugs`.
const LOOKS: &str = "#!/bin/sh\nls \"$BOARD/plugs\"\necho written >> \"$BOARD/state/log\"\n";

fn board(sandbox: &Sandbox) {
    let entries = [
        Entry::program("bin/plank", LOOKS),
        Entry::file("plugs/own/x", "own"),
        Entry::file("state/log", "first\n"),
        Entry::file("lib/a", "a"),
    ];
    sandbox.plank(
        "plank.tar.gz",
        &entries,
        "commands = { plank = \"bin/plank\" }\nvariables = { BOARD = \"{folder}\" }\ncorners = [\"state\"]",
    );
}

/// Where loans name their files, that two are the same is known before anything is fetched.
#[test]
fn two_loans_of_one_file_clash_when_they_are_pinned() {
    let sandbox = Sandbox::new();
    board(&sandbox);
    let lends = |only: &str| {
        format!("lends = [{{ to = \"plank\", files = \"bin\", only = [\"{only}\"], at = \"plugs\" }}]\ncommands")
    };
    sandbox.edit("catalog/tools/tombolet.toml", "commands", &lends("one"));
    sandbox.edit("catalog/tools/oarweld.toml", "commands", &lends("one"));
    sandbox.wish("tombolet = \"any\"\noarweld = \"any\"\nplank = \"any\"");
    let ran = sandbox.run(&["pin"]);
    assert!(ran.code == 12 && ran.stderr.contains("both bring the file plugs/one for plank"), "{}", ran.complaint());
    assert!(ran.stderr.contains("lend one of them elsewhere") && sandbox.yard.requests() == 0, "{}", ran.stderr);
    // Without the borrower there is nothing to clash over, and other files go together.
    sandbox.wish("tombolet = \"any\"\noarweld = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
    sandbox.edit("catalog/tools/oarweld.toml", "only = [\"one\"]", "only = [\"other\"]");
    sandbox.wish("tombolet = \"any\"\noarweld = \"any\"\nplank = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
}

#[test]
fn a_rung_sees_what_is_lent_to_it_and_writes_in_its_corner_while_the_shelf_stays_as_it_is() {
    let sandbox = Sandbox::new();
    board(&sandbox);
    sandbox.edit(
        "catalog/tools/tombolet.toml",
        "commands",
        "lends = [{ to = \"plank\", files = \"bin\", at = \"plugs/lent\" }]\ncommands",
    );
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "own\n");
    sandbox.wish("plank = \"any\"\ntombolet = \"any\"");
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("plank gets a berth: tombolet lends it files."), "{route}");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "lent\nown\n");
    let log = sandbox.leftovers().into_iter().find(|path| path.contains("/corners/plank/state/log")).unwrap();
    assert_eq!(sandbox.read(&log), "first\nwritten\nwritten\n", "a corner stays from landing to landing");
    assert_eq!(sandbox.run(&["verify"]).code, 0, "the shelf is as it was");
    assert!(sandbox.run(&["climb"]).passed().stdout.starts_with("All rungs stand"));
    let _ = sandbox.run(&["back", "1"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "own\n");
    let taken = "lends = [{ to = \"plank\", files = \"bin\", at = \"lib/a\" }]";
    sandbox.edit(
        "catalog/tools/tombolet.toml",
        "lends = [{ to = \"plank\", files = \"bin\", at = \"plugs/lent\" }]",
        taken,
    );
    let ran = sandbox.run(&["climb"]);
    assert!(
        ran.code == 12 && ran.stderr.contains("tombolet lends plank the file lib/a, which plank has already"),
        "{}",
        ran.stderr
    );
}

#[test]
fn a_set_up_command_makes_part_of_the_rung_and_is_kept_to_its_folder() {
    let sandbox = Sandbox::new();
    let install = "#!/bin/sh\nset -e\nmkdir -p parts\necho \"for $PLACE\" > parts/settings\ncp bin/plank parts/second\ntombolet --version\n\
                   if echo x > \"$1/outside\"; then echo escaped; fi\nif cat \"$1/secret\"; then echo seen; fi\nls -A \"$HOME\"\n";
    let entries =
        [Entry::program("bin/plank", "#!/bin/sh\ncat \"$BOARD/parts/settings\"\n"), Entry::program("install", install)];
    let definition = format!(
        "commands = {{ plank = \"bin/plank\" }}\nvariables = {{ BOARD = \"{{folder}}\" }}\n\
         [[set-up]]\nname = \"unpacks its parts\"\nrun = [\"/usr/bin/env\", \"PLACE={{place}}\", \"./install\", \"{}\"]",
        sandbox.path("user").display()
    );
    sandbox.plank("plank.tar.gz", &entries, &definition);
    sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"1.0\"\nneeds = { tombolet = \"any\" }");
    sandbox.write("user/secret", "not yours");
    sandbox.wish("plank = \"any\"");
    let route = sandbox.run(&["route"]).passed().stdout;
    let _ = sandbox.run(&["climb"]).passed();
    let settings = sandbox.run(&["run", "--", "plank"]).passed().stdout;
    assert!(settings.starts_with("for SANDBOX/home/data/shelf/plank/1.0-"), "{settings}");
    assert_eq!(sandbox.run(&["verify"]).code, 0, "what it wrote is in the manifest");
    let log = sandbox.run(&["log", "1", "--json"]).passed().json();
    let step =
        log["runs"][0]["steps"].as_array().unwrap().iter().find(|step| step["work"] == "set-up").unwrap().clone();
    let output = step["output"].as_str().unwrap();
    assert!(output.starts_with("tombolet 1.1.0"), "its needs are on PATH: {output}");
    // Route and log tell the same of what it is kept from.
    let log = sandbox.run(&["log", "1"]).passed().stdout;
    let words = log.split_once(" s); ").unwrap().1.lines().next().unwrap().to_owned();
    assert!(words.starts_with("kept from ") && route.replace("\n  ", " ").contains(&words), "{words}\n{route}");
    if step["confined"].as_array().unwrap().is_empty() {
        crate::sandbox::not_tested("this kernel confines nothing");
        return;
    }
    assert!(!output.contains("escaped") && !output.contains("seen"), "{output}");
    assert!(!sandbox.path("user/outside").exists());
}

#[test]
fn a_set_up_command_that_fails_keeps_the_old_landing_and_nothing_of_itself() {
    let sandbox = Sandbox::new();
    let failing = "commands = { plank = \"plank\" }\n[[set-up]]\nname = \"goes wrong\"\nrun = [\"/bin/sh\", \"-c\", \"echo oh dear; exit 3\"]";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], failing);
    sandbox.wish("plank = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 30 && ran.stderr.contains("a set-up command of plank failed: goes wrong"), "{}", ran.stderr);
    assert!(ran.stderr.contains("oh dear"), "{}", ran.stderr);
    assert!(!sandbox.leftovers().iter().any(|path| path.contains("shelf") || path.contains("staging")));
    let fifo = failing.replace("echo oh dear; exit 3", "mkfifo pipe");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &fifo);
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 1 && ran.stderr.contains("neither a file, a folder nor a link"), "{}", ran.stderr);
}

#[test]
fn the_same_file_in_two_versions_is_stored_once() {
    use std::os::unix::fs::MetadataExt;
    let sandbox = Sandbox::new();
    let entries = |text: &str| {
        vec![Entry::program("plank", "#!/bin/sh\n"), Entry::file("same", "same"), Entry::file("own", text)]
    };
    for text in ["one", "two"] {
        sandbox.plank("plank.tar.gz", &entries(text), "commands = { plank = \"plank\" }");
        sandbox.wish("plank = \"any\"");
        fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap_or_default();
        let _ = sandbox.run(&["climb"]).passed();
    }
    let links = |name: &str| {
        let files = sandbox.leftovers().into_iter().filter(|path| path.ends_with(name) && path.contains("/shelf/"));
        files.map(|path| fs::metadata(sandbox.path(&path)).unwrap().nlink()).collect::<Vec<_>>()
    };
    assert_eq!((links("/files/same"), links("/files/own")), (vec![2, 2], vec![1, 1]));
}
