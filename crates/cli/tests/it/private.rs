//! A tool that keeps another version of a tool to itself, climbed and run.

use std::process::Command;

use crate::sandbox::Sandbox;

/// The build tool keeps a compiler of its own beside the ladder's.
fn climbed() -> Sandbox {
    let sandbox = Sandbox::new();
    let own = "needs = { skerroc = { version = \"=1.4.2\", private = true }, oarweld = \">=2.1\" }";
    sandbox.edit("catalog/tools/brinwright.toml", "needs = { skerrow-compiler = \">=1.3\", oarweld = \">=2.1\" }", own);
    sandbox.wish("skerroc = \"=1.4.3\"\nbrinwright = \"2.4\"");
    let climb = sandbox.run(&["climb"]).passed();
    assert!(climb.stdout.contains("5 of 5  skerroc      1.4.3"), "{}", climb.stdout);
    sandbox
}

fn landing(sandbox: &Sandbox) -> std::path::PathBuf {
    let json = sandbox.run(&["climb", "--json"]).passed().json();
    std::path::PathBuf::from(json["commands"].as_str().unwrap().replace("SANDBOX", sandbox.folder.to_str().unwrap()))
}

fn stdout(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn the_owner_finds_its_own_and_everybody_else_the_shared_one() {
    let sandbox = climbed();
    let commands = landing(&sandbox);
    let compiled = |path: &str| sandbox.read(path).contains("1.4.2");
    sandbox.write("desk/own/brin.plan", "image own.img\nmodule main.skw\n");
    sandbox.write("desk/own/main.skw", "module main\nstart\nend\n");
    let shared = sandbox.run(&["run", "--", "skerroc", "--version"]).passed().stdout;
    assert!(shared.starts_with("skerroc 1.4.3 ("), "{shared}");
    // Started by its full name, as an editor would, and with nothing else of ours on PATH.
    let mut build = Command::new(commands.join("brinwright"));
    let _ = stdout(build.current_dir(sandbox.path("desk/own")).env_clear().env("PATH", "/usr/bin:/bin"));
    assert!(compiled("desk/own/main.sko"));
    let _ = sandbox.run(&["run", "--", "skerroc", "-o", "by-hand.sko", "own/main.skw"]).passed();
    assert!(!compiled("desk/by-hand.sko"));
}

#[test]
fn both_versions_are_verified_explained_and_left_as_they_are_by_a_second_climb() {
    let sandbox = climbed();
    let verify = sandbox.run(&["verify"]).passed().stdout;
    assert!(verify.contains("1.4.2") && verify.contains("1.4.3"), "{verify}");
    assert!(sandbox.run(&["climb"]).passed().stdout.starts_with("All rungs stand"));
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("for brinwright alone"), "{route}");
    let why = sandbox.run(&["why", "skerroc"]).passed().stdout;
    assert!(why.contains("brinwright keeps another one to itself: 1.4.2"), "{why}");
    assert!(
        sandbox.read("desk/ladder.pinned.toml").contains("[rungs.brinwright.private.skerroc]\nversion = \"1.4.2\"\n")
    );
}

#[test]
fn one_version_is_enough_where_the_shared_one_will_do() {
    let sandbox = climbed();
    sandbox.wish("skerroc = \"=1.4.2\"\nbrinwright = \"2.4\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(!sandbox.read("desk/ladder.pinned.toml").contains("private"));
    assert!(!landing(&sandbox).with_file_name("private").exists());
}
