//! Landings, the way back, the log of what was done, and clearing up.

use std::fs;
use std::time::{Duration, Instant};

use kladder_pack::Entry;
use kladder_yard::{Fault, Rule};
use snapbox::{assert_data_eq, str};

use crate::sandbox::{Sandbox, copy};

/// A desk with three landings: tombolet; an older one of it and plank; plank alone.
fn three_landings() -> Sandbox {
    let sandbox = Sandbox::new();
    let plank = [Entry::program("plank", "#!/bin/sh\necho plank\n")];
    sandbox.plank("plank.zip", &plank, "commands = { plank = \"plank\" }");
    for wishes in ["tombolet = \"any\"", "tombolet = \"=1.0.3\"\nplank = \"any\"", "plank = \"any\""] {
        sandbox.wish(wishes);
        let _ = sandbox.run(&["climb"]).passed();
    }
    sandbox
}

#[test]
fn a_project_that_was_renamed_keeps_its_landings_and_a_home_that_was_moved_names_the_climb() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    fs::rename(sandbox.path("desk"), sandbox.path("bench")).unwrap();
    let run = |arguments: &[&str]| {
        let output = sandbox.command(arguments).current_dir(sandbox.path("bench")).output().unwrap();
        sandbox.finished(output)
    };
    assert_eq!(run(&["--json"]).passed().json()["landing"], 1);
    assert!(run(&["climb"]).passed().stdout.contains("stand"), "a climb after the renaming has nothing to do");
    let cleared = run(&["clear", "--json", "--yes"]).passed().json();
    assert_eq!(cleared["items"].as_array().unwrap().len(), 0, "{cleared}");
    // A copy is a project of its own.
    copy(&sandbox.path("bench"), &sandbox.path("desk"));
    assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], serde_json::Value::Null);
    // In a home elsewhere what was climbed cannot run, and one climb mends that.
    fs::rename(sandbox.path("home"), sandbox.path("house")).unwrap();
    let moved = |arguments: &[&str]| {
        let mut command = sandbox.command(arguments);
        sandbox.finished(
            command.current_dir(sandbox.path("bench")).env("KLADDER_HOME", sandbox.path("house")).output().unwrap(),
        )
    };
    let ran = moved(&["run", "--", "tombolet", "--version"]);
    assert!(ran.code != 0 && ran.stderr.contains("kladder climb"), "{} {}", ran.code, ran.stderr);
    let standing = moved(&[]).passed().stdout;
    assert!(standing.contains("kladder climb") && standing.contains("1 to climb"), "{standing}");
    let _ = moved(&["climb"]).passed();
    let _ = moved(&["run", "--", "tombolet", "--version"]).passed();
    let _ = moved(&["verify"]).passed();
}

#[test]
fn landings_tell_what_changed_and_back_puts_the_pins_back_too() {
    let sandbox = three_landings();
    let list = sandbox.run(&["landings", "--json"]).passed().json();
    let of = |number: usize, key: &str| list["landings"][number][key].clone();
    assert_eq!([of(0, "number"), of(1, "number"), of(2, "number")], [3, 2, 1]);
    assert_eq!((of(0, "current"), of(2, "current")), (true.into(), false.into()));
    let changes = serde_json::json!([
        { "tool": "plank", "was": null, "now": "1.0" },
        { "tool": "tombolet", "was": "1.1.0", "now": "1.0.3" },
    ]);
    assert_eq!(of(1, "changes"), changes);
    let first = sandbox.run(&["back", "1"]).passed();
    assert!(first.stdout.contains("desk is at landing 1 again (1 rung)"), "{}", first.stdout);
    assert!(first.stdout.contains("back 1 --with-ladder"), "{}", first.stdout);
    assert!(sandbox.read("desk/ladder.pinned.toml").contains("1.1.0"));
    // Back and forth, with the ladder of then: the next climb finds nothing to do.
    for (number, pinned) in [("2", "1.0.3"), ("1", "1.1.0")] {
        let _ = sandbox.run(&["back", number, "--with-ladder"]).passed();
        assert!(sandbox.read("desk/ladder.pinned.toml").contains(pinned));
        let climbed = sandbox.run(&["climb"]).passed().stdout;
        assert_eq!(climbed, format!("All rungs stand: landing {number} is what the pins say.\n"));
    }
    assert!(sandbox.path("desk/ladder.toml.before").exists());
    assert_eq!(sandbox.run(&["run", "--", "plank"]).code, 127);
}

#[test]
fn back_without_a_number_goes_to_the_one_before_and_impossible_ones_say_why() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    assert_eq!(sandbox.run(&["back"]).code, 31);
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.run(&["back"]).complaint().contains("there is no landing before this one"));
    assert_data_eq!(
        sandbox.run(&["back", "7"]).complaint(),
        str![[r#"
exit 2
kladder: there is no landing 7
  next   there are 1; `kladder landings` tells what they are

"#]]
    );
    sandbox.wish("tombolet = \"=1.0.3\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.run(&["back"]).passed().stdout.contains("at landing 1 again"));
    kladder_core::base::files::remove_tree(&sandbox.path("home/data/shelf/tombolet")).unwrap();
    let gone = sandbox.run(&["back", "2"]);
    assert!(gone.code == 1 && gone.stderr.contains("tombolet 1.0.3 no longer on the shelf"), "{}", gone.stderr);
}

#[test]
fn the_log_tells_a_climb_step_by_step_and_why_it_failed() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    assert_eq!(sandbox.run(&["log"]).code, 31);
    let _ = sandbox.run(&["climb"]).passed();
    let log = sandbox.run(&["log", "--json"]).passed().json();
    let steps: Vec<&str> =
        log["runs"][0]["steps"].as_array().unwrap().iter().map(|s| s["step"].as_str().unwrap()).collect();
    assert_eq!(steps, ["rung", "fetching", "fetched", "shelved", "checked", "climbed", "landed"]);
    assert_eq!(log["runs"][0]["ended"], "done");
    sandbox.edit("catalog/tools/tombolet.toml", "tombolet (?<version>", "tombolette (?<version>");
    let _ = sandbox.run(&["verify"]);
    let told = sandbox.run(&["log"]).passed().stdout;
    assert!(told.contains("Run 2, verify of ") && told.contains("failed: "), "{told}");
    assert!(sandbox.run(&["log", "1"]).passed().stdout.contains("fetched tombolet-1.1.0-PLATFORM.tar.gz"));
    assert_eq!(sandbox.run(&["log", "9"]).code, 2);
    let list = sandbox.run(&["log", "--list"]).passed().stdout;
    assert!(list.contains("climb") && list.contains("verify") && list.lines().count() >= 4, "{list}");
}

#[test]
fn clear_takes_what_no_landing_has_and_nothing_else() {
    let sandbox = three_landings();
    let shown = sandbox.run(&["clear"]).passed().stdout;
    assert!(shown.contains("There is nothing to clear"), "{shown}");
    let kept = sandbox.run(&["clear", "--keep", "1"]).passed().stdout;
    assert!(kept.contains("landing 1 of ") && kept.contains("Nothing was removed; with `--yes` it is."), "{kept}");
    assert!(sandbox.path("home/data/shelf/tombolet").exists());
    let removed = sandbox.run(&["clear", "--keep", "1", "--cache", "1 B", "--yes", "--json"]).passed().json();
    let kinds: Vec<&str> =
        removed["items"].as_array().unwrap().iter().map(|item| item["kind"].as_str().unwrap()).collect();
    assert_eq!(["landing", "artifact"].map(|kind| kinds.iter().filter(|k| **k == kind).count()), [2, 3]);
    // What only those landings had goes with them, or the next time at the latest.
    let _ = sandbox.run(&["clear", "--yes"]).passed();
    assert_eq!(fs::read_dir(sandbox.path("home/data/shelf/tombolet")).map_or(0, Iterator::count), 0);
    assert_eq!(sandbox.run(&["run", "--", "plank"]).code, 0);
    assert_eq!(sandbox.run(&["verify"]).code, 0);
    // A ladder whose file is gone uses nothing.
    fs::remove_dir_all(sandbox.path("desk")).unwrap();
    sandbox.wish("tombolet = \"any\"");
    fs::rename(sandbox.path("desk/ladder.toml"), sandbox.path("desk/aside.toml")).unwrap();
    let _ = sandbox.run(&["clear", "--yes"]).passed();
    let _ = sandbox.run(&["clear", "--yes"]).passed();
    assert!(sandbox.leftovers().iter().all(|path| path.starts_with("home/cache/")), "{:?}", sandbox.leftovers());
}

#[test]
fn clear_all_leaves_no_trace_but_the_users_own_files() {
    let sandbox = three_landings();
    let asked = sandbox.run(&["clear", "--all"]).passed().stdout;
    assert!(asked.contains("Nothing was removed") && sandbox.path("home/data").exists(), "{asked}");
    let _ = sandbox.run(&["clear", "--all", "--yes"]).passed();
    let left = || crate::sandbox::walkdir(&sandbox.path("home"));
    assert!(!sandbox.path("home").exists() && !sandbox.path("user").exists(), "{:?}", left());
    assert!(sandbox.path("desk/ladder.toml").exists() && sandbox.path("desk/ladder.pinned.toml").exists());
}

#[test]
fn a_climb_that_was_killed_is_undone_and_said_so() {
    let sandbox = Sandbox::with_rules(vec![Rule::new(".tar.gz", Fault::Hang(Duration::from_secs(4))).times(1)]);
    sandbox.wish("tombolet = \"any\"");
    let mut climb = sandbox.start(&["climb"]);
    let journal = sandbox.path("home/data/journal.db");
    let started = Instant::now();
    while !(journal.exists() && sandbox.leftovers().iter().any(|path| path.contains(".part"))) {
        assert!(started.elapsed() < Duration::from_secs(20), "the climb never began");
        std::thread::sleep(Duration::from_millis(5));
    }
    climb.kill().unwrap();
    let process = climb.id();
    climb.wait().unwrap();
    let next = sandbox.run(&["climb"]).passed().stdout;
    assert!(next.contains(&format!("What process {process} did here was cut short, and is undone.")), "{next}");
    assert!(sandbox.run(&["log", "1"]).passed().stdout.contains("killed, undone by the next one"));
    assert!(!sandbox.leftovers().iter().any(|path| path.contains(".part") || path.contains("staging/")));
}

#[test]
fn whoever_waits_says_for_whom_and_not_for_longer_than_asked() {
    // Long enough for three commands beside it, however busy the machine is.
    let sandbox = Sandbox::with_rules(vec![Rule::new(".tar.gz", Fault::Stall(Duration::from_secs(50)))]);
    sandbox.edit("home/config/config.toml", "patience = 5", "patience = 60");
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
    let mut first = sandbox.start(&["climb"]);
    let started = Instant::now();
    // The run is in the journal before anything is made ready.
    while !sandbox.path("home/data/staging").exists() {
        assert!(started.elapsed() < Duration::from_secs(20), "the climb never began");
        std::thread::sleep(Duration::from_millis(5));
    }
    let waited = sandbox.run(&["climb", "--wait", "0"]);
    let expected = format!("exit 42\nkladder: process {} works on this home\n", first.id());
    assert!(waited.complaint().starts_with(&expected), "{}", waited.complaint());
    // Who only reads waits for nobody.
    let _ = sandbox.run(&["landings"]).passed();
    let _ = sandbox.run(&["log"]).passed();
    assert!(first.try_wait().unwrap().is_none(), "the first climb had ended before");
    // Its end is none of this test's.
    first.kill().unwrap();
    first.wait().unwrap();
}
