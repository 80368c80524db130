//! The launcher as it stands in a landing: under the name of a command, beside a table.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Output};

use kladder_launch::table::{Entry, Table};
use kladder_launch::{COMMANDS, PROGRAM, TABLE};

/// A landing in a folder with a space in its name.
struct Landing(tempfile::TempDir);

impl Landing {
    fn with(entries: Vec<Entry>) -> Self {
        let landing = Self(tempfile::Builder::new().prefix("a landing ").tempdir().unwrap());
        let variables = vec![("SKERROW_ROOT".into(), "/shelf/one two".into())];
        fs::create_dir(landing.path().join(COMMANDS)).unwrap();
        fs::write(landing.path().join(TABLE), Table { up: 0, variables, entries }.to_bytes()).unwrap();
        landing.put("show");
        landing
    }

    fn path(&self) -> &Path {
        self.0.path()
    }

    /// Puts the launcher there under a name. A child writes it, so that no other test's fork holds it open for writing.
    fn put(&self, name: &str) {
        let (source, link) = (self.path().join("launcher"), self.path().join(COMMANDS).join(name));
        fs::write(&source, PROGRAM).unwrap();
        let copied = Command::new("cp").arg(&source).arg(&link).status().unwrap();
        assert!(copied.success());
        fs::set_permissions(link, fs::Permissions::from_mode(0o755)).unwrap();
    }

    fn run(&self, name: &str, arguments: &[&str], path: &str) -> Output {
        Command::new(self.path().join(COMMANDS).join(name)).args(arguments).env("PATH", path).output().unwrap()
    }
}

fn shell(command: &str, first: &[&str]) -> Entry {
    Entry {
        command: command.into(),
        program: "/bin/sh".into(),
        arguments: first.iter().map(Into::into).collect(),
        variables: Vec::new(),
        fronts: vec![COMMANDS.into()],
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[test]
fn arguments_variables_and_status_pass_through_unharmed() {
    let script = "printf '%s|' \"$SKERROW_ROOT\" \"$0\" \"$@\"; exit 7";
    let landing = Landing::with(vec![shell("show", &["-c", script, "first one"])]);
    let ran = landing.run("show", &["", "a b", "*", "--version"], "/usr/bin:/bin");
    assert_eq!(text(&ran.stdout), "/shelf/one two|first one||a b|*|--version|");
    assert_eq!((ran.status.code(), text(&ran.stderr).as_str()), (Some(7), ""));
}

#[test]
fn the_ladders_commands_come_first_on_path_and_only_once() {
    let landing = Landing::with(vec![shell("show", &["-c", "printf %s \"$PATH\""])]);
    let commands = landing.path().join(COMMANDS).display().to_string();
    let ran = landing.run("show", &[], "/usr/bin:/bin");
    assert_eq!(text(&ran.stdout), format!("{commands}:/usr/bin:/bin"));
    let again = landing.run("show", &[], &text(&ran.stdout));
    assert_eq!(text(&again.stdout), text(&ran.stdout));
}

#[test]
fn what_cannot_be_started_says_why_with_the_status_that_shells_use() {
    let gone = Entry { command: "gone".into(), program: "/no/such/tool".into(), ..shell("gone", &[]) };
    let landing = Landing::with(vec![gone]);
    let unknown = landing.run("show", &[], "");
    assert_eq!(unknown.status.code(), Some(127));
    assert!(text(&unknown.stderr).contains("has no command `show`"), "{}", text(&unknown.stderr));
    landing.put("gone");
    let gone = landing.run("gone", &[], "");
    assert_eq!(gone.status.code(), Some(126));
    assert!(
        text(&gone.stderr).contains(
            "cannot start /no/such/tool: No such file or directory (os error 2); `kladder climb` brings it anew"
        ),
        "{}",
        text(&gone.stderr)
    );
    fs::write(landing.path().join(TABLE), "something else").unwrap();
    let damaged = landing.run("gone", &[], "");
    assert_eq!(damaged.status.code(), Some(126));
    assert!(text(&damaged.stderr).contains("it is not a launch table of format 2; `kladder climb` writes it anew"));
}

#[test]
fn a_landing_may_be_renamed_and_reached_through_a_link() {
    let landing = Landing::with(vec![shell("show", &["-c", "echo there"])]);
    let (moved, link) = (landing.path().join("7"), landing.path().join("current"));
    fs::create_dir(&moved).unwrap();
    for part in [COMMANDS, TABLE] {
        fs::rename(landing.path().join(part), moved.join(part)).unwrap();
    }
    std::os::unix::fs::symlink("7", &link).unwrap();
    let ran = Command::new(link.join(COMMANDS).join("show")).output().unwrap();
    assert_eq!(text(&ran.stdout), "there\n");
}

#[test]
fn a_household_comes_first_with_its_own_variables_and_the_landing_behind_it() {
    let landing = Landing::with(Vec::new());
    let script = "printf '%s|%s' \"$TIDLOW_ROOT\" \"$PATH\"";
    let own = |fronts: &[&str]| Entry {
        variables: vec![("TIDLOW_ROOT".into(), "/shelf/own".into())],
        fronts: fronts.iter().map(Into::into).collect(),
        ..shell("show", &["-c", script])
    };
    let fronts = ["private/owner/commands", "commands"];
    let shared =
        Table { up: 0, variables: vec![("TIDLOW_ROOT".into(), "/shelf/shared".into())], entries: vec![own(&fronts)] };
    fs::write(landing.path().join(TABLE), shared.to_bytes()).unwrap();
    let at = |front: &str| landing.path().join(front).display().to_string();
    let expected = format!("/shelf/own|{}:{}:/usr/bin:/bin", at(fronts[0]), at(fronts[1]));
    assert_eq!(text(&landing.run("show", &[], "/usr/bin:/bin").stdout), expected);
    // The same from inside the household, two folders further down; a PATH that has both already stays.
    let inside = landing.path().join("private/owner");
    fs::create_dir_all(inside.join(COMMANDS)).unwrap();
    fs::write(inside.join(TABLE), Table { up: 2, variables: Vec::new(), entries: vec![own(&fronts)] }.to_bytes())
        .unwrap();
    landing.put("show");
    let moved = inside.join(COMMANDS).join("show");
    assert!(Command::new("cp").arg(landing.path().join("commands/show")).arg(&moved).status().unwrap().success());
    let path = expected.split_once('|').unwrap().1;
    for path in ["/usr/bin:/bin", path] {
        assert_eq!(text(&Command::new(&moved).env("PATH", path).output().unwrap().stdout), expected);
    }
}
