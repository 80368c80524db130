//! Launch tables and the folders of commands made from them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Command, Definition};
use kladder_choose::version::Version;
use kladder_core::tasks::launch::{WireError, Wired, check_files, fill, wiring, write};
use kladder_launch::table::find;

fn definition(tool: &str, lines: &str) -> Definition {
    toml::from_str(&format!("tool = \"{tool}\"\nkind = \"k\"\nsummary = \"s\"\n{lines}")).unwrap()
}

fn version() -> Version {
    "1.4.3".parse().unwrap()
}

fn wired<'w>(definition: &'w Definition, version: &'w Version, folder: &str) -> Wired<'w> {
    let commands: &BTreeMap<String, Command> = &definition.commands;
    Wired { definition, commands, version, folder: PathBuf::from(folder), kept_by: None }
}

#[test]
fn folder_and_version_are_filled_in_wherever_they_stand() {
    let text = |template: &str| fill(template, &version(), Path::new("/a shelf")).into_string().unwrap();
    assert_eq!(text("{folder}/lib:{folder}/lib-{version}"), "/a shelf/lib:/a shelf/lib-1.4.3");
    assert_eq!(text("nothing { } {other}"), "nothing { } {other}");
}

#[test]
fn a_table_has_the_commands_with_their_arguments_and_all_variables() {
    let (compiler, v) = (
        definition(
            "skerroc",
            "commands = { skerroc = \"bin/skerroc-{version}\", scc = [\"bin/skerroc\", \"--root\", \"{folder}\"] }\nvariables = { SKERROW_ROOT = \"{folder}\" }\n",
        ),
        version(),
    );
    let runtime = definition("tidlow", "commands = { tidlow = \"tidlow\" }\n");
    let made = wiring([wired(&compiler, &v, "/s/skerroc"), wired(&runtime, &v, "/s/tidlow")].into_iter()).unwrap();
    let found = find(&made.shared.to_bytes(), "scc".as_ref()).unwrap().unwrap();
    assert_eq!(found.entry.program, Path::new("/s/skerroc/bin/skerroc"));
    assert_eq!(found.entry.arguments, ["--root", "/s/skerroc"]);
    assert_eq!(found.variables, [("SKERROW_ROOT".into(), "/s/skerroc".into())]);
    let found = find(&made.shared.to_bytes(), "skerroc".as_ref()).unwrap().unwrap();
    assert_eq!(found.entry.program, Path::new("/s/skerroc/bin/skerroc-1.4.3"));
}

#[test]
fn two_rungs_with_one_command_or_variable_are_told() {
    let v = version();
    let cases =
        [("commands = { cc = \"cc\" }\n", "the command `cc`"), ("variables = { ROOT = \"/\" }\n", "the variable ROOT")];
    for (lines, told) in cases {
        let (one, other) = (definition("one", lines), definition("other", lines));
        let result = wiring([wired(&one, &v, "/1"), wired(&other, &v, "/2")].into_iter());
        match result.unwrap_err() {
            WireError::Twice { one, other, what } => {
                assert_eq!((one.as_str(), other.as_str(), what.as_str()), ("one", "other", told));
            }
            error => panic!("{error}"),
        }
    }
}

#[test]
fn every_command_is_the_same_small_program() {
    let folder = tempfile::tempdir().unwrap();
    let (tool, v) = (definition("skerroc", "commands = { skerroc = \"a\", scc = \"b\" }\n"), version());
    let made = wiring(std::iter::once(wired(&tool, &v, "/s"))).unwrap();
    for landing in ["1", "2"] {
        write(&made, &folder.path().join(landing), folder.path()).unwrap();
    }
    let inode = |path: &str| fs::metadata(folder.path().join(path)).unwrap().ino();
    assert_eq!(inode("1/commands/skerroc"), inode("2/commands/scc"));
    assert_eq!(fs::read_dir(folder.path().join("launchers")).unwrap().count(), 1);
    assert_eq!(fs::read(folder.path().join("2/launch.table")).unwrap(), made.shared.to_bytes());
}

#[test]
fn a_command_without_a_file_is_named_with_the_place_it_should_have() {
    let folder = tempfile::tempdir().unwrap();
    let (tool, v) = (definition("skerroc", "commands = { skerroc = \"bin/skerroc\" }\n"), version());
    let at = folder.path().display().to_string();
    let error = check_files(&wired(&tool, &v, &at)).unwrap_err();
    assert_eq!(
        error.to_string(),
        format!("skerroc should bring the command `skerroc`, but has no file {at}/bin/skerroc")
    );
    fs::create_dir(folder.path().join("bin")).unwrap();
    fs::write(folder.path().join("bin/skerroc"), "").unwrap();
    assert!(check_files(&wired(&tool, &v, &at)).is_ok());
}
