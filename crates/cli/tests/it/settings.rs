//! Where things are looked for: ladders, homes, catalogs, yards; and how problems reach programs.

use std::fs;
use std::io::Read;
use std::process::Stdio;

use crate::sandbox::Sandbox;

#[test]
fn the_nearest_ladder_upwards_is_taken_then_the_workstations_own() {
    let sandbox = Sandbox::new();
    fs::create_dir_all(sandbox.path("desk/deep/er")).unwrap();
    let here = |folder: &str| {
        let output = sandbox.command(&["--json"]).current_dir(sandbox.path(folder)).output().unwrap();
        sandbox.finished(output).passed().json()["ladder"].clone()
    };
    assert_eq!(here("desk/deep/er"), "SANDBOX/desk/ladder.toml");
    assert_eq!(here("yard"), serde_json::Value::Null);
    fs::copy(sandbox.path("desk/ladder.toml"), sandbox.path("home/config/ladder.toml")).unwrap();
    sandbox.edit("home/config/ladder.toml", "../catalog", &sandbox.path("catalog").display().to_string());
    assert_eq!(here("yard"), "SANDBOX/home/config/ladder.toml");
}

#[test]
fn without_kladder_home_the_platforms_usual_folders_are_used() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let user = sandbox.path("user");
    let mut command = sandbox.command(&["climb", "--yard", "../yard"]);
    command.env_remove("KLADDER_HOME").env("XDG_CACHE_HOME", user.join("elsewhere"));
    let _ = sandbox.finished(command.output().unwrap()).passed();
    assert!(user.join("elsewhere/kite-ladder/artifacts").is_dir());
    assert!(user.join(".local/share/kite-ladder/shelf/tombolet").is_dir());
    assert!(!sandbox.path("home/data").exists());
}

#[test]
fn settings_name_catalog_and_yards_and_are_checked_like_any_file() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    sandbox.edit("desk/ladder.toml", "catalog = \"../catalog\"\n", "");
    let starter = sandbox.run(&["climb"]);
    assert!(starter.code == 11 && starter.stderr.contains("the catalog has no tool `tombolet`"), "{}", starter.stderr);
    assert!(sandbox.run(&["search", "compiler"]).passed().stdout.contains("Toolchain for Go"));
    sandbox.write("home/config/config.toml", "catalog = \"../../catalog\"\nyards = [\"../../yard\"]\n");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.yard.requests(), 0, "the folder was used");
    sandbox.write("home/config/config.toml", "catalogue = \"x\"\n");
    let wrong = sandbox.run(&["climb"]);
    assert!(wrong.code == 10 && wrong.stderr.contains("did you mean `catalog`?"), "{}", wrong.stderr);
}

#[test]
fn problems_reach_programs_as_json() {
    let sandbox = Sandbox::new();
    sandbox.wish("skeroc = \"any\"");
    let ran = sandbox.run(&["climb", "--json"]);
    let problem: serde_json::Value = serde_json::from_str(&ran.stderr).unwrap();
    assert_eq!((ran.code, ran.stdout.as_str(), problem["code"].as_i64()), (11, "", Some(11)));
    assert_eq!(
        (problem["format"].as_str(), problem["where"][0]["line"].as_i64()),
        (Some("kladder.problem/1"), Some(5))
    );
    assert_eq!(problem["next"][0], "did you mean `skerroc`?");
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let sandbox = Sandbox::new();
    let mut child = sandbox.command(&["route"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    let mut stderr = String::new();
    child.stderr.take().unwrap().read_to_string(&mut stderr).unwrap();
    assert!(child.wait().unwrap().success() && stderr.is_empty(), "{stderr}");
}

#[test]
fn a_yard_is_served_until_interrupted() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let mut serving = sandbox.start(&["yard", "serve", "../yard", "--listen", "0.0.0.0:0", "--log", "--json"]);
    let mut line = Vec::new();
    let mut out = serving.stdout.take().unwrap();
    while !line.ends_with(b"}\n") {
        let mut byte = [0];
        assert_eq!(out.read(&mut byte).unwrap(), 1);
        line.push(byte[0]);
    }
    let told: serde_json::Value = serde_json::from_slice(&line).unwrap();
    let _ = sandbox.run(&["climb", "--yard", told["address"].as_str().unwrap()]).passed();
    serving.kill().unwrap();
    let log = sandbox.finished(serving.wait_with_output().unwrap()).stderr;
    assert!(log.lines().any(|line| line.contains(" 200 ") && line.contains("/tombolet-")), "{log}");
    let wrong = sandbox.run(&["yard", "serve", "no such folder"]);
    assert!(wrong.code == 1 && wrong.stderr.contains("cannot serve no such folder"), "{}", wrong.stderr);
}

#[test]
fn foreign_text_in_the_catalog_cannot_drive_the_terminal() {
    let sandbox = Sandbox::new();
    sandbox.edit("catalog/tools/tombolet.toml", "Packs", "\\u001b[2JPacks");
    let about = sandbox.run(&["about", "tombolet"]).passed().stdout;
    assert!(about.contains("\\u{1b}[2JPacks") && !about.contains('\x1b'), "{about}");
}
