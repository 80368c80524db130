//! What is printed, for people and for programs.

use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

#[test]
fn bare_kladder_tells_where_the_machine_stands_and_what_is_next() {
    let sandbox = Sandbox::new();
    let nothing = sandbox.command(&[]).current_dir(&sandbox.folder).output().unwrap();
    assert!(sandbox.finished(nothing).passed().stdout.contains("kladder demo --keep FOLDER"));
    assert_data_eq!(
        sandbox.run(&[]).passed().stdout,
        str![[r#"
Tide-gauge desk

  ┃ ╌ whimbrow 6.0.2                                                                    ┃
  ┃ ╌ brinwright 2.4.1   ╌ neapstone 7.2      ╌ turnsedge 0.12.0   ╌ wrackle 1.0.0      ┃
  ┃ ╌ skerroc 1.4.3                                                                     ┃
  ┃ ╌ oarweld 2.2.1      ╌ seichebox 2.4                                                ┃
  ┃ ╌ tombolet 1.1.0     ╌ cc 12.2.0          ╌ tidlow 4.0.8                            ┃
    ╌ to climb

  ladder   ladder.toml, 8 wishes
  pins     none yet
  landing  none yet
  rungs    11, 11 to climb, 12.5 kB to fetch
  next     kladder route, then kladder climb

"#]]
    );
    let _ = sandbox.run(&["climb"]).passed();
    assert_data_eq!(
        sandbox.run(&[]).passed().stdout,
        str![[r#"
Tide-gauge desk

  ┃ ━ whimbrow 6.0.2                                                                    ┃
  ┃ ━ brinwright 2.4.1   ━ neapstone 7.2      ━ turnsedge 0.12.0   ━ wrackle 1.0.0      ┃
  ┃ ━ skerroc 1.4.3                                                                     ┃
  ┃ ━ oarweld 2.2.1      ━ seichebox 2.4                                                ┃
  ┃ ━ tombolet 1.1.0     ━ cc 12.2.0          ━ tidlow 4.0.8                            ┃

  ladder   ladder.toml, 8 wishes
  pins     fit the ladder
  landing  1, made [..] UTC
  rungs    11, all stand
  next     kladder verify

"#]]
    );
    sandbox.edit("desk/ladder.toml", "tidlow = \"long-term\"", "tidlow = \"current\"");
    assert_data_eq!(
        sandbox.run(&[]).passed().stdout,
        str![[r#"
Tide-gauge desk

  ┃ ━ whimbrow 6.0.2                                                                    ┃
  ┃ ━ brinwright 2.4.1   ━ neapstone 7.2      ━ turnsedge 0.12.0   ━ wrackle 1.0.0      ┃
  ┃ ━ skerroc 1.4.3                                                                     ┃
  ┃ ━ oarweld 2.2.1      ━ seichebox 2.4                                                ┃
  ┃ ━ tombolet 1.1.0     ━ cc 12.2.0          ╌ tidlow 4.2.1                            ┃
    ━ stands   ╌ to climb

  ladder   ladder.toml, 8 wishes
  pins     are older than the ladder
  landing  1, made [..] UTC
  rungs    11, 1 to climb, 1.3 kB to fetch
  next     kladder climb

"#]]
    );
    let json = sandbox.run(&["--json"]).passed().json();
    assert_eq!((json["pins"].as_str(), json["to_climb"].as_u64()), (Some("stale"), Some(1)));
}

#[test]
fn the_route_names_every_rung_with_why_size_and_work() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let route = sandbox.run(&["route", "--json"]).passed().json();
    let rungs: Vec<_> = route["rungs"].as_array().unwrap().iter().map(|r| r["rung"].as_str().unwrap()).collect();
    assert_eq!(rungs, ["tombolet", "oarweld", "skerroc"]);
    assert_eq!(route["rungs"][2]["wished_at"][0], 5);
    assert_eq!(route["rungs"][0]["needed_by"][0], "oarweld");
    let sum: u64 = route["rungs"].as_array().unwrap().iter().map(|r| r["size"].as_u64().unwrap()).sum();
    assert_eq!(route["bytes_to_fetch"], sum);
    assert!(!sandbox.path("desk/ladder.pinned.toml").exists(), "route changed something");
}

#[test]
fn every_reading_command_has_a_versioned_shape() {
    let sandbox = Sandbox::new();
    let formats =
        [("pin", "pin/3"), ("route", "route/2"), ("climb", "climb/2"), ("verify", "verify/4"), ("", "standing/1")];
    for (command, format) in formats {
        let arguments: Vec<&str> = [command, "--json"].into_iter().filter(|word| !word.is_empty()).collect();
        assert_eq!(sandbox.run(&arguments).passed().json()["format"], format!("kladder.{format}"));
    }
    let run = sandbox.run(&["run", "--json", "--", "tidlow", "--version"]).passed().json();
    assert_eq!(run["format"], "kladder.run/1");
    assert!(run["climbed"] == true && run["stdout"].as_str().unwrap().starts_with("tidlow 4.0.8"), "{run}");
}

#[test]
fn quiet_is_quiet_and_colour_comes_only_when_asked_for() {
    let sandbox = Sandbox::new();
    let quiet = sandbox.run(&["climb", "--quiet"]).passed();
    assert_eq!((quiet.stdout.as_str(), quiet.stderr.as_str()), ("", ""));
    assert!(!sandbox.run(&["route"]).passed().stdout.contains('\x1b'));
    assert!(sandbox.run(&["route", "--color", "always"]).passed().stdout.contains('\x1b'));
}

#[test]
fn help_lists_every_command_and_habits_get_our_word() {
    let sandbox = Sandbox::new();
    let help = sandbox.run(&["--help"]).passed().stdout;
    let listed: Vec<&str> = help
        .lines()
        .filter(|line| line.starts_with("  ") && line.as_bytes().get(2).is_some_and(u8::is_ascii_lowercase))
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert_eq!(listed.len(), 29, "{listed:?}");
    for command in listed {
        let own = sandbox.run(&[command, "--help"]).passed().stdout;
        assert!(own.contains(&format!("Usage: kladder {command}")), "{own}");
    }
    assert!(help.contains("--offline") && !sandbox.run(&["pin", "--help"]).passed().stdout.contains("--offline   "));
    let codes = sandbox.run(&["help", "codes"]).passed().stdout;
    assert!(codes.contains("32  a gate is closed") && codes.lines().count() >= 24, "{codes}");
    let formats = sandbox.run(&["help", "formats"]).passed().stdout;
    for (format, _) in kladder_tell::shapes::schemas() {
        assert!(formats.contains(format), "{format} is not in\n{formats}");
    }
    assert!(sandbox.run(&["help", "route/2"]).passed().json()["properties"].is_object());
    assert!(sandbox.run(&["help", "clim"]).stderr.contains("did you mean `kladder help climb`?"));
    assert_eq!(sandbox.run(&["help", "climb"]).passed().stdout, sandbox.run(&["climb", "--help"]).passed().stdout);
    let next = |arguments: &[&str]| {
        let ran = sandbox.run(arguments);
        assert_eq!((ran.code, ran.stderr.matches("  next ").count()), (2, 1), "{}", ran.stderr);
        ran.stderr.split_once("  next   ").unwrap().1.trim_end().to_owned()
    };
    assert!(next(&["install", "tidlow"]).starts_with("`kladder add TOOL` wishes for a tool; `kladder climb`"));
    assert_eq!(next(&["verfy"]), "did you mean `kladder verify`?");
    assert_eq!(next(&["qqqqqq"]), "`kladder --help` lists them all");
    assert_eq!(next(&["climb", "--dry-run"]), "`kladder route` tells what a climb would do, and changes nothing");
    assert_eq!(next(&["climb", "--skip-gat", "x"]), "did you mean `--skip-gate`?");
    let json: serde_json::Value = serde_json::from_str(&sandbox.run(&["about", "--json"]).stderr).unwrap();
    assert_eq!((json["format"].as_str(), json["code"].as_u64()), (Some("kladder.problem/1"), Some(2)), "{json}");
}

#[test]
fn pins_are_stable_and_one_moved_rung_is_one_small_diff() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    let before = sandbox.read("desk/ladder.pinned.toml");
    assert!(sandbox.run(&["pin"]).passed().stdout.contains("nothing moved"));
    assert_eq!(sandbox.read("desk/ladder.pinned.toml"), before);
    sandbox.edit("desk/ladder.toml", "skerroc = \"1.4\" ", "skerroc = \"=1.4.2\" ");
    let pin = sandbox.run(&["pin"]).passed().stdout;
    assert!(pin.contains("  skerroc  1.4.2    was 1.4.3\n") && pin.contains("; 10 of them stayed."), "{pin}");
    let after = sandbox.read("desk/ladder.pinned.toml");
    let same = before.lines().filter(|line| after.lines().any(|other| other == *line)).count();
    // The version, four digests, and the digests of ladder and catalog at most.
    assert!(before.lines().count() - same <= 7, "{after}");
}

#[test]
fn a_pinned_version_stays_when_a_newer_one_comes_out() {
    let sandbox = Sandbox::new();
    sandbox.wish("tidlow = \"=4.0.7\"");
    let _ = sandbox.run(&["pin"]).passed();
    sandbox.wish("tidlow = \"any\"");
    let _ = sandbox.run(&["pin"]).passed();
    assert!(sandbox.read("desk/ladder.pinned.toml").contains("version = \"4.0.7\""));
}
