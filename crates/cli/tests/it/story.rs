//! The whole way: ladder, pins, route, climb, verify, run.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::sandbox::Sandbox;

#[test]
fn the_demo_ends_well_and_leaves_nothing() {
    let sandbox = Sandbox::new();
    let temporary = sandbox.path("tmp");
    fs::create_dir(&temporary).unwrap();
    // As a build tool starts it, with its own libraries in front.
    let mut demo = sandbox.command(&["demo"]);
    let demo = demo.env("TMPDIR", &temporary).env("LD_LIBRARY_PATH", "/nowhere").output().unwrap();
    let demo = sandbox.finished(demo).passed();
    for told in [
        "needs between rungs seen to work",
        "Tide range at Skerry Point, in cm:\n  376\n",
        "All rungs stand: landing 1",
        "these wishes cannot be met together",
        "skerroc was damaged, and brought anew",
        "is at landing 1 again",
        "All of it worked.",
    ] {
        assert!(demo.stdout.contains(told), "no `{told}` in\n{}", demo.stdout);
    }
    assert_eq!(fs::read_dir(&temporary).unwrap().count(), 0);
}

#[test]
fn a_kept_demo_goes_on_without_its_server() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["demo", "--keep", "kept"]).passed();
    let again = sandbox.run(&["demo", "--keep", "kept"]);
    assert!(again.code == 1 && again.stderr.contains("a folder of its own"), "{}", again.stderr);
    let desk = sandbox.path("desk/kept/desk");
    let kladder = |arguments: &[&str]| {
        let mut command = sandbox.command(arguments);
        command.current_dir(&desk).env("KLADDER_HOME", sandbox.path("desk/kept/home"));
        sandbox.finished(command.output().unwrap()).passed()
    };
    assert!(kladder(&["run", "--", "skerroc", "--version"]).stdout.starts_with("skerroc 1.4.3 ("));
    let ladder = fs::read_to_string(desk.join("ladder.toml")).unwrap();
    fs::write(desk.join("ladder.toml"), ladder.replace("tidlow = \"long-term\"", "tidlow = \"current\"")).unwrap();
    assert!(kladder(&["climb"]).stdout.contains("landing 3"));
    assert!(kladder(&["run", "--", "tidlow", "--version"]).stdout.starts_with("tidlow 4.2.1 ("));
}

#[test]
fn a_climb_brings_every_rung_and_a_second_one_does_nothing() {
    let sandbox = Sandbox::new();
    let first = sandbox.run(&["climb"]).passed();
    assert_eq!(first.stdout.lines().filter(|line| line.contains(" of 11  ")).count(), 11, "{}", first.stdout);
    let requests = sandbox.yard.requests();
    assert_eq!(requests, 11);
    let second = sandbox.run(&["climb"]).passed();
    assert_eq!(second.stdout, "All rungs stand: landing 1 is what the pins say.\n");
    assert_eq!(sandbox.yard.requests(), requests);
    assert!(sandbox.run(&["route"]).passed().stdout.contains("All rungs stand"));
}

#[test]
fn what_is_climbed_is_read_only_and_stands_in_a_path_with_spaces() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.folder.display().to_string().contains(' '));
    let climbed = sandbox.run(&["climb", "--json"]).passed().json();
    let folder =
        climbed["rungs"][0]["folder"].as_str().unwrap().replace("SANDBOX", &sandbox.folder.display().to_string());
    let mode = fs::metadata(format!("{folder}/files/bin")).unwrap().permissions().mode();
    assert_eq!(mode & 0o222, 0, "{mode:o}");
}

#[test]
fn run_gives_the_ladders_commands_variables_and_exit_codes() {
    let sandbox = Sandbox::new();
    let before = sandbox.run(&["run", "--", "skerroc", "--version"]);
    assert_eq!(before.code, 31, "{}", before.stderr);
    let _ = sandbox.run(&["climb"]).passed();
    let root = sandbox.run(&["run", "--", "sh", "-c", "echo $SKERROW_ROOT; command -v oarweld"]).passed();
    assert!(root.stdout.contains("/shelf/skerroc/1.4.3-") && root.stdout.contains("/current/commands/oarweld"));
    assert_eq!(sandbox.run(&["run", "--", "sh", "-c", "exit 7"]).code, 7);
    assert_eq!(sandbox.run(&["run", "--", "no-such-command"]).code, 127);
    let failed = sandbox.run(&["run", "--", "skerroc", "missing.skw"]);
    assert_eq!((failed.code, failed.stderr.as_str()), (1, "skerroc: cannot read missing.skw\n"));
}

#[test]
fn a_climbed_command_finds_its_fellows_when_started_from_anywhere() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["climb"]).passed();
    let commands = sandbox.run(&["climb", "--json"]).passed().json()["commands"].as_str().unwrap().to_owned();
    let commands = commands.replace("SANDBOX", &sandbox.folder.display().to_string());
    // wrackle starts skerroc and tombolet; nothing but the system's own folders is on PATH.
    let started = std::process::Command::new(format!("{commands}/wrackle"))
        .args(["install", "marrambit", "out"])
        .current_dir(sandbox.path("desk"))
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .output()
        .unwrap();
    assert!(started.status.success(), "{}", String::from_utf8_lossy(&started.stderr));
    assert!(sandbox.read("desk/out/marrambit.ska").starts_with("skerrow-archive 1\nmember marrambit.sko "));
}
