//! Verifying as a whole: side by side and in one order, some of it alone, for build servers, and what changed since the last time.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use serde_json::Value;

use crate::sandbox::Sandbox;

const REHEARSAL: &str = "rehearsal = \"tide-table\"\nsummary = \"\"\ntools = [\"plank\"]\n[[steps]]\nname = \"it stands\"\nrun = [\"plank\"]\n";

/// A desk with a tool of our own whose one check and rehearsal want the file `calm` in its corner.
fn desk() -> Sandbox {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\n[ -e \"$(dirname \"$0\")/state/calm\" ] || { echo 'the tide & <gulls>' >&2; exit 3; }\n";
    let definition = "commands.plank = \"plank\"\ncorners = [\"state\"]\n[first-start]\n\"state/calm\" = \"\"\n[[checks]]\nname = \"stands\"\nrun = [\"plank\"]\n";
    sandbox.plank("plank.tar.gz", &[kladder_pack::Entry::program("plank", script)], definition);
    sandbox.write("catalog/rehearsals/tide-table.toml", REHEARSAL);
    sandbox.wish("plank = \"any\"\nskerroc = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox
}

fn calm(sandbox: &Sandbox) -> std::path::PathBuf {
    let all = crate::sandbox::walkdir(&sandbox.path("home/data/ladders"));
    all.into_iter().find(|path| path.ends_with("state/calm")).unwrap()
}

#[test]
fn what_comes_of_it_is_in_one_order_however_much_is_done_at_once() {
    let sandbox = desk();
    let told = |jobs: &str| -> Vec<(Value, Value)> {
        let told = sandbox.run(&["verify", "--json", "--jobs", jobs]).passed().json();
        told["verdicts"].as_array().unwrap().iter().map(|one| (one["subject"].clone(), one["claim"].clone())).collect()
    };
    let one = told("1");
    assert!(one.len() > 10);
    for jobs in ["2", "5", "40"] {
        assert_eq!(told(jobs), one);
    }
    assert_eq!(sandbox.run(&["verify", "--jobs", "0"]).code, 2);
}

#[test]
fn some_of_it_is_looked_at_alone_and_what_failed_is_remembered() {
    let sandbox = desk();
    let only = |names: &[&str]| sandbox.run(&[&["verify", "--only"], names].concat());
    let told = only(&["skerroc", "tide-table"]).passed().stdout;
    assert!(
        told.contains("skerroc") && told.contains("tide-table  passed  1 step") && !told.contains("oarweld"),
        "{told}"
    );
    assert!(!told.contains("who worked with whom"), "{told}");
    let none = only(&["gull"]);
    assert!(none.code == 2 && none.stderr.contains("`tide-table`"), "{}", none.complaint());
    let _ = sandbox.run(&["verify"]).passed();
    fs::remove_file(calm(&sandbox)).unwrap();
    let failed = sandbox.run(&["verify", "--junit", "tide.xml"]);
    assert_eq!(failed.code, 30);
    // What failed stands before all else, with what it was before; the last line says whose it is.
    let first = failed.stdout.trim_start().lines().next().unwrap();
    assert!(first.starts_with("failed plank: stands (passed 2"), "{}", failed.stdout);
    assert!(failed.stdout.contains("what helps: `kladder log` has all that it wrote"), "{}", failed.stdout);
    assert!(failed.stdout.contains("2 of ") && failed.stdout.contains(": plank and tide-table."), "{}", failed.stdout);
    let xml = sandbox.read("desk/tide.xml");
    assert!(xml.contains("failures=\"2\"") && xml.contains("the tide &amp; &lt;gulls&gt;"), "{xml}");
    // What is no plain file is written through, and never replaced.
    std::os::unix::fs::symlink("tide.xml", sandbox.path("desk/link.xml")).unwrap();
    assert_eq!(sandbox.run(&["verify", "--junit", "link.xml", "--only", "skerroc"]).code, 0);
    assert!(sandbox.path("desk/link.xml").is_symlink() && !sandbox.read("desk/tide.xml").contains("gulls"));
    let again = sandbox.run(&["verify", "--json"]).json();
    let stands = again["verdicts"].as_array().unwrap().iter().find(|one| one["claim"] == "stands").unwrap();
    assert_eq!((&stands["failed_before"], &stands["mend"]["way"]), (&true.into(), &"person".into()));
}

#[test]
fn a_climb_ends_with_rehearsals_where_that_is_asked_for_or_set() {
    let sandbox = desk();
    let asked = sandbox.run(&["climb", "--rehearse"]).passed().stdout;
    assert!(asked.contains("tide-table  passed  1 step") && !asked.contains("first-reading"), "{asked}");
    let quiet = sandbox.run(&["climb"]).passed().stdout;
    assert!(!quiet.contains("rehearsal"), "{quiet}");
    sandbox.write("home/config/config.toml", "rehearse = true\n");
    assert!(!sandbox.run(&["climb"]).passed().stdout.contains("rehearsal"), "nothing changed");
    sandbox.wish("plank = \"any\"");
    sandbox.edit(
        "catalog/rehearsals/tide-table.toml",
        "run = [\"plank\"]",
        "run = [\"plank\"]\nexpect = { status = 7 }",
    );
    let failed = sandbox.run(&["climb"]);
    assert!(failed.code == 30 && failed.stdout.contains("is at landing 2"), "{}{}", failed.stdout, failed.stderr);
    assert!(failed.stdout.contains("failed tide-table: it stands"), "{}", failed.stdout);
    // It is one value for programs, whatever was rehearsed.
    assert_eq!(sandbox.run(&["climb", "--rehearse", "--json"]).json()["landing"], 2);
    // What is mended is rehearsed by the second look, and not by the climb before it, too.
    let shelved = sandbox.path("home/data/shelf/plank");
    let program = crate::sandbox::walkdir(&shelved).into_iter().find(|path| path.ends_with("files/plank")).unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(&program, "other").unwrap();
    let mended = sandbox.run(&["verify", "--mend"]).stdout;
    assert_eq!(mended.matches("failed tide-table: it stands").count(), 2, "{mended}");
}

#[test]
fn what_is_not_on_the_ladder_any_more_is_not_remembered() {
    let sandbox = desk();
    let _ = sandbox.run(&["climb"]).passed();
    let before = sandbox.run(&["verify", "--json"]).passed().json()["passed"].as_u64().unwrap();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let after = sandbox.run(&["verify", "--json"]).passed().json()["passed"].as_u64().unwrap();
    assert_ne!(before, after);
    let told = sandbox.run(&["report"]).passed().stdout;
    assert!(told.contains(&format!("\n{after} checks passed at")), "{after}: {told}");
    // A look at some of it forgets nothing of the rest.
    let _ = sandbox.run(&["verify", "--only", "tombolet"]).passed();
    let told = sandbox.run(&["report"]).passed().stdout;
    assert!(told.contains(&format!("\n{after} checks passed at")), "{after}: {told}");
}
