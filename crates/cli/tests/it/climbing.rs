//! What goes wrong between the yard and the shelf.

use std::fs;
use std::time::Duration;

use kladder_pack::Entry;
use kladder_yard::{Fault, Rule};
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

fn fault(ending: &str, fault: Fault) -> Vec<Rule> {
    vec![Rule::new(ending, fault)]
}

/// Climbs only tombolet from a yard with this fault; nothing of it may stay.
#[track_caller]
fn tombolet_from(rules: Vec<Rule>, expected: impl snapbox::IntoData) {
    let sandbox = Sandbox::with_rules(rules);
    sandbox.wish("tombolet = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert_data_eq!(ran.complaint(), expected);
    assert_eq!(sandbox.leftovers(), [""; 0]);
}

#[test]
fn a_wrong_digest_is_refused_before_anything_is_unpacked() {
    tombolet_from(
        fault(".tar.gz", Fault::Corrupt(40)),
        str![[r#"
exit 21
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://YARD: its bytes are not the pinned ones
           pinned  [..]
           came    [..]
         nothing of it was kept
         the landing that was current still is; nothing on PATH has changed
  next   do not use the file: the yard has another one than was pinned, or someone changed it on the way
         try another yard with `--yard`, and tell those who keep this one

"#]],
    );
}

#[test]
fn a_truncated_download_is_told_and_not_kept() {
    tombolet_from(
        fault(".tar.gz", Fault::Cut(100)),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://YARD: it broke off after 100 of [..] bytes: Peer disconnected
         the landing that was current still is; nothing on PATH has changed
  next   see that the yard is up, or name another one with `--yard`; then climb again

"#]],
    );
}

#[test]
fn a_yard_that_answers_with_an_error_or_lacks_the_file_is_told() {
    tombolet_from(
        fault(".tar.gz", Fault::Status(503)),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://YARD: it answered with status 503
         the landing that was current still is; nothing on PATH has changed
  next   see that the yard is up, or name another one with `--yard`; then climb again

"#]],
    );
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
    for file in fs::read_dir(sandbox.path("yard")).unwrap() {
        fs::remove_file(file.unwrap().path()).unwrap();
    }
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://YARD: it does not have the file
         the landing that was current still is; nothing on PATH has changed
  next   put the file there, or name another yard with `--yard`; then climb again

"#]]
    );
}

#[test]
fn a_wrong_size_is_refused() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
    for file in fs::read_dir(sandbox.path("yard")).unwrap() {
        let path = file.unwrap().path();
        let mut bytes = fs::read(&path).unwrap();
        bytes.extend_from_slice(b"more");
        fs::write(path, bytes).unwrap();
    }
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 21
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://YARD: it offers [..] bytes where [..] are pinned
         nothing of it was kept
         the landing that was current still is; nothing on PATH has changed
  next   do not use the file: the yard has another one than was pinned, or someone changed it on the way
         try another yard with `--yard`, and tell those who keep this one

"#]]
    );
    assert_eq!(sandbox.leftovers(), [""; 0]);
}

#[test]
fn a_yard_that_is_not_there_is_told_and_another_one_takes_over() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let nobody = "http://127.0.0.1:9";
    let ran = sandbox.run(&["climb", "--yard", nobody]);
    assert_data_eq!(
        ran.complaint(),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    http://127.0.0.1:9: it cannot be reached: Connection refused (os error 111)
         the landing that was current still is; nothing on PATH has changed
  next   see that the yard is up, or name another one with `--yard`; then climb again

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["climb", "--yard", "no such folder"]).complaint(),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    SANDBOX/desk/no such folder: the folder cannot be read: No such file or directory (os error 2)
         the landing that was current still is; nothing on PATH has changed
  next   put the file there, or name another yard with `--yard`; then climb again

"#]]
    );
    assert_eq!(sandbox.leftovers(), [""; 0]);
    let ran = sandbox.run(&["climb", "--yard", nobody, "--yard", "../yard"]).passed();
    assert!(ran.stdout.contains("; trying SANDBOX/yard") && ran.stdout.contains("landing 1"), "{}", ran.stdout);
}

#[test]
fn a_damaged_cache_is_noticed_and_fetched_again() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let cached = sandbox.leftovers().into_iter().find(|path| path.contains("/cache/artifacts/")).unwrap();
    let mut bytes = fs::read(sandbox.path(&cached)).unwrap();
    bytes[50] ^= 1;
    fs::write(sandbox.path(&cached), bytes).unwrap();
    kladder_core::base::files::remove_tree(&sandbox.path("home/data")).unwrap();
    let requests = sandbox.yard.requests();
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.yard.requests(), requests + 1);
}

const PLANK: &str = "commands = { plank = \"plank\" }";

#[test]
fn an_archive_that_climbs_out_is_refused_and_nothing_of_it_stays() {
    for file in ["plank.tar.gz", "plank.tar.xz", "plank.tar.zst", "plank.zip"] {
        let sandbox = Sandbox::new();
        let entries = [Entry::program("plank", "#!/bin/sh\n"), Entry::file("../../../../escaped", "outside")];
        sandbox.plank(file, &entries, PLANK);
        sandbox.wish("plank = \"any\"");
        let ran = sandbox.run(&["climb"]);
        assert_eq!(ran.code, 21, "{}", ran.stderr);
        let expected =
            format!("the archive {file} was refused at `../../../../escaped`\n  why    its path climbs out with `..`");
        assert!(ran.stderr.contains(&expected), "{}", ran.stderr);
        let shelved = sandbox.leftovers().into_iter().filter(|path| !path.starts_with("home/cache/"));
        assert_eq!(shelved.collect::<Vec<_>>(), [""; 0]);
        assert!(!sandbox.path("escaped").exists() && !sandbox.path("home/escaped").exists());
    }
}

#[test]
fn a_failed_check_keeps_the_old_landing_and_says_what_was_seen() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let check = format!(
        "{PLANK}\n[[checks]]\nname = \"says its version\"\nrun = [\"plank\"]\nexpect = {{ stdout = 'plank (?<version>\\S+)' }}"
    );
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\necho plank 0.9\n")], &check);
    sandbox.wish("tombolet = \"any\"\nplank = \"any\"");
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 30
kladder: a check of plank failed: says its version
  why    it says that it is 0.9, and 1.0 is pinned
           plank 0.9
         the other rung stands, and the next climb goes on from there
         the landing that was current still is; nothing on PATH has changed
  next   the archive holds another version than the definition says: mend the release in the catalog

"#]]
    );
    assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], 1);
    assert_eq!(sandbox.run(&["run", "--", "tombolet", "--version"]).code, 0);
    assert_eq!(sandbox.run(&["run", "--", "plank"]).code, 127);
}

#[test]
fn a_check_that_hangs_is_ended_with_its_children() {
    let sandbox = Sandbox::new();
    // A length that nobody else sleeps.
    let nap = format!("6{}", std::process::id());
    let hangs = format!("#!/bin/sh\necho began\nsleep {nap} &\nwait\n");
    let check = format!("{PLANK}\n[[checks]]\nname = \"answers\"\nrun = [\"plank\"]\nlimit = 1");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", hangs)], &check);
    sandbox.wish("plank = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 30 && ran.stderr.contains("it was still running after 1 s"), "{}", ran.stderr);
    assert!(ran.stderr.contains("began"), "{}", ran.stderr);
    let sleeps = || {
        let processes = fs::read_dir("/proc").into_iter().flatten().filter_map(Result::ok);
        let mut lines = processes.filter_map(|process| fs::read(process.path().join("cmdline")).ok());
        lines.any(|line| line == format!("sleep\0{nap}\0").into_bytes())
    };
    let ended = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(20));
        !sleeps()
    });
    assert!(ended, "what the check began outlived it");
}

#[test]
fn run_bits_that_the_archive_lacks_are_given_to_commands_and_named_files() {
    let sandbox = Sandbox::new();
    let entries = [
        Entry::file("top/bin/plank", "#!/bin/sh\nexec \"$(dirname \"$0\")/../libexec/helper\"\n"),
        Entry::file("top/libexec/helper", "#!/bin/sh\necho helped\n"),
        Entry::link("top/bin/board", "plank"),
    ];
    let commands =
        "commands = { plank = \"bin/plank\", plank-twice = { arguments = [\"twice\"], file = \"bin/board\" } }";
    sandbox.plank("plank.zip", &entries, commands);
    sandbox.edit(
        "catalog/tools/plank.toml",
        "[{ file = ",
        "[{ unpack = { strip = 1, executable = [\"libexec/*\"] }, file = ",
    );
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "helped\n");
    assert_eq!(sandbox.run(&["run", "--", "plank-twice"]).passed().stdout, "helped\n");
}

#[test]
fn a_command_without_a_file_behind_it_is_a_mistake_of_the_catalog() {
    let sandbox = Sandbox::new();
    sandbox.plank("plank.zip", &[Entry::file("README", "nothing here")], PLANK);
    sandbox.wish("plank = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 10 && ran.stderr.contains("the command `plank` has no file plank"), "{}", ran.stderr);
    assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], serde_json::Value::Null);
}
