//! Interruption, several at once, damage, no permission.

use std::fs;
use std::time::{Duration, Instant};

use kladder_yard::{Fault, Rule};
use rustix::process::{Pid, Signal, kill_process};

use crate::sandbox::Sandbox;

fn signal(child: &std::process::Child, signal: Signal) {
    kill_process(Pid::from_raw(i32::try_from(child.id()).unwrap()).unwrap(), signal).unwrap();
}

fn wait_for(what: &str, mut seen: impl FnMut() -> bool) {
    let started = Instant::now();
    while !seen() {
        assert!(started.elapsed() < Duration::from_secs(30), "{what} did not happen");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// A sandbox whose fourth rung keeps the climb waiting.
fn stalling() -> Sandbox {
    Sandbox::with_rules(vec![Rule::new(".tar.xz", Fault::Stall(Duration::from_secs(3)))])
}

#[test]
fn an_interrupted_climb_leaves_nothing_half_done_and_the_next_one_goes_on() {
    let sandbox = stalling();
    let child = sandbox.start(&["climb"]);
    wait_for("the third rung", || sandbox.yard.requests() >= 3 && sandbox.path("home/data/shelf/oarweld").exists());
    signal(&child, Signal::INT);
    let ran = sandbox.finished(child.wait_with_output().unwrap());
    assert!(ran.code == 130 && ran.stderr.contains("nothing half-done is left"), "{}", ran.complaint());
    assert!(
        !sandbox
            .leftovers()
            .iter()
            .any(|path| path.contains("/staging/") || path.contains(".part-") || path.contains("/ladders/"))
    );
    let again = sandbox.run(&["climb"]).passed();
    assert!(again.stdout.contains("landing 1"), "{}", again.stdout);
}

#[test]
fn a_killed_climb_is_finished_by_the_next_one() {
    let sandbox = stalling();
    for tool in ["tidlow", "oarweld"] {
        let mut child = sandbox.start(&["climb"]);
        wait_for(tool, || sandbox.path(&format!("home/data/shelf/{tool}")).exists());
        signal(&child, Signal::KILL);
        child.wait().unwrap();
        assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], serde_json::Value::Null);
    }
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.run(&["verify"]).passed().stdout.contains("\nAll "));
    assert!(!sandbox.leftovers().iter().any(|path| path.contains("/staging/") || path.contains(".making/")));
}

#[test]
fn of_several_climbs_at_once_one_works_and_all_end_well() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    let children: Vec<_> = (0..6).map(|_| sandbox.start(&["climb", "--json"])).collect();
    let ran: Vec<_> =
        children.into_iter().map(|c| sandbox.finished(c.wait_with_output().unwrap()).passed().json()).collect();
    assert_eq!(ran.iter().filter(|json| json["changed"] == true).count(), 1);
    assert!(ran.iter().all(|json| json["landing"] == 1));
    assert_eq!(sandbox.yard.requests(), 11);
}

#[test]
fn verify_notices_what_was_changed_removed_and_added() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["climb"]).passed();
    let shelved = |needle: &str| sandbox.leftovers().into_iter().find(|path| path.contains(needle)).unwrap();
    let changed = sandbox.path(&shelved("lib/tidlow.awk"));
    let text = fs::read_to_string(&changed).unwrap();
    let mut writable = fs::metadata(&changed).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut writable, 0o644);
    fs::set_permissions(&changed, writable).unwrap();
    fs::write(&changed, text.replace("push(a - b)", "push(a + b)")).unwrap();
    let ran = sandbox.run(&["verify"]);
    assert_eq!(ran.code, 30);
    for seen in ["1 of its files is not as it was", "lib/tidlow.awk", "nothing like `^376$`"] {
        assert!(ran.stdout.contains(seen), "no `{seen}` in\n{}", ran.stdout);
    }
    fs::remove_file(sandbox.path(&shelved("commands/skerroc"))).unwrap();
    let gone = sandbox.run(&["verify", "--json"]);
    let verdicts = gone.json();
    let answer = verdicts["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .find(|v| v["claim"] == "`skerroc` answers from the shelf")
        .unwrap()
        .clone();
    assert_eq!((gone.code, answer["outcome"].as_str()), (30, Some("failed")));
}

#[test]
fn a_home_that_cannot_be_written_is_told_with_the_path() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    // Even root may not create a folder in sysfs; elsewhere a read-only folder does as well.
    let home = if cfg!(target_os = "linux") { "/sys/kladder".into() } else { sandbox.path("closed/home") };
    fs::create_dir(sandbox.path("closed")).unwrap();
    let mut closed = fs::metadata(sandbox.path("closed")).unwrap().permissions();
    closed.set_readonly(true);
    fs::set_permissions(sandbox.path("closed"), closed).unwrap();
    let output = sandbox.command(&["climb"]).env("KLADDER_HOME", &home).output().unwrap();
    let ran = sandbox.finished(output);
    assert_eq!(ran.code, 40, "{}", ran.stderr);
    for told in ["cannot create the folder", "/data", "set KLADDER_HOME to a folder that you may write to"] {
        assert!(ran.stderr.contains(told), "no `{told}` in\n{}", ran.stderr);
    }
}

#[test]
fn a_ladder_folder_that_cannot_be_written_still_climbs_with_its_pins() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    let before = sandbox.read("desk/ladder.pinned.toml");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.read("desk/ladder.pinned.toml"), before);
}

#[test]
fn records_that_are_damaged_or_newer_are_told_with_what_helps() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let landing = sandbox.leftovers().into_iter().find(|path| path.ends_with("landings/1/landing.json")).unwrap();
    let told = |file: &str, text: &str, command: &str, code: i32, needle: &str| {
        let before = sandbox.read(file);
        sandbox.write(file, text);
        let ran = sandbox.run(&[command]);
        assert!(ran.code == code && ran.stderr.contains(needle), "{file}: {}", ran.complaint());
        sandbox.write(file, &before);
    };
    told(&landing, "{", "verify", 31, "`kladder climb`");
    told(&landing, "{\"format\": 9}", "verify", 31, "`kladder climb`");
    sandbox.write("home/data/terms.json", "[]");
    let terms = sandbox.run(&["terms"]);
    assert!(terms.code == 43 && terms.stderr.contains("licences are asked for again"), "{}", terms.stderr);
    std::fs::remove_file(sandbox.path("home/data/terms.json")).unwrap();
    // What is due is not forgotten without being asked; the command that is named leads on.
    sandbox.write("home/data/restarts.json", "nonsense");
    sandbox.wish("oarweld = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert_eq!(ran.code, 43, "{}", ran.stderr);
    let command = ran.stderr.split('`').nth(1).unwrap().replace("SANDBOX", &sandbox.folder.display().to_string());
    assert!(std::process::Command::new("sh").args(["-c", &command]).status().unwrap().success(), "{command}");
    let _ = sandbox.run(&["climb"]).passed();
    // What is on the shelf is brought anew where its manifest is no good.
    let manifest = sandbox.leftovers().into_iter().find(|path| path.ends_with("manifest.json")).unwrap();
    sandbox.write(&manifest, "{\"format\": 9}");
    assert_eq!(sandbox.run(&["verify"]).code, 30);
    assert!(sandbox.run(&["verify", "--mend"]).passed().stdout.contains(" passed, "));
    // A landing that cannot be read, or is newer, is no obstacle for the next one.
    for (number, text) in [(2, "{"), (3, "{\"format\": 9}")] {
        sandbox.write(&landing.replace("/1/", &format!("/{number}/")), text);
        let climbed = sandbox.run(&["climb"]).passed().stdout;
        assert!(climbed.contains(&format!("desk is at landing {}", number + 1)), "{text}: {climbed}");
        assert_eq!(sandbox.run(&["verify"]).code, 0);
    }
}
