//! From wishes to pins, on catalogs written by the test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fmt::Write;
use std::fs;

use kladder_core::catalog::Catalog;
use kladder_core::ladder::Ladder;
use kladder_core::pins::{Change, Choosing, HostTools, Limits, Moves, Pins, PinsError};
use kladder_core::platform::Platform;
use kladder_core::survey::Host;

/// `TOOL VERSION [series] needs…`, one release a line, newest first; `TOOL provides CAPABILITY` before them.
fn catalog(folder: &std::path::Path, lines: &str) -> Catalog {
    fs::create_dir_all(folder.join("tools")).unwrap();
    fs::write(folder.join("catalog.toml"), "[catalog]\nformat = 1\nname = \"t\"\ntitle = \"T\"\n").unwrap();
    let mut tools: std::collections::BTreeMap<&str, (String, String)> = std::collections::BTreeMap::new();
    for line in lines.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let mut words = line.split_whitespace();
        let (tool, version) = (words.next().unwrap(), words.next().unwrap());
        let (head, releases) = tools.entry(tool).or_default();
        if version == "provides" {
            writeln!(head, "provides = [\"{}\"]", words.next().unwrap()).unwrap();
            continue;
        }
        let (series, needs): (Vec<&str>, Vec<&str>) = words.partition(|word| !word.contains(':'));
        let needs: Vec<_> =
            needs.iter().map(|n| n.split_once(':').unwrap()).map(|(t, r)| format!("{t} = \"{r}\"")).collect();
        let digest = "0".repeat(64);
        writeln!(
            releases,
            "[[releases]]\nversion = \"{version}\"\nseries = {series:?}\nneeds = {{ {} }}\n\
             artifacts.any = {{ file = \"{tool}-{version}.zip\", size = 1, sha256 = \"{digest}\" }}",
            needs.join(", ")
        )
        .unwrap();
    }
    for (tool, (head, releases)) in tools {
        let text = format!("tool = \"{tool}\"\nkind = \"test\"\nsummary = \"\"\n{head}{releases}");
        fs::write(folder.join("tools").join(format!("{tool}.toml")), text).unwrap();
    }
    Catalog::open(folder, None).unwrap()
}

fn pinned(lines: &str, wishes: &str, old: Option<&Pins>) -> Result<Pins, PinsError> {
    let folder = tempfile::tempdir().unwrap();
    let catalog = catalog(folder.path(), lines);
    fs::write(folder.path().join("ladder.toml"), format!("[ladder]\n[rungs]\n{wishes}\n")).unwrap();
    let ladder = Ladder::read(&folder.path().join("ladder.toml")).unwrap();
    let here = Platform::here();
    let host = Host::new("/nowhere".into(), folder.path());
    let (host, moves) = (HostTools::of(&host), Moves::default());
    let limits = Limits::default();
    Choosing { ladder: &ladder, catalog: &catalog, here: &here, host: &host, old, moves: &moves, limits }.pins()
}

/// The pins as `tool version` in one line.
#[track_caller]
fn gives(lines: &str, wishes: &str, expected: &str) {
    assert_eq!(short(&pinned(lines, wishes, None).unwrap()), expected);
}

fn short(pins: &Pins) -> String {
    pins.rungs.iter().map(|(tool, pin)| format!("{tool} {}", pin.version)).collect::<Vec<_>>().join(", ")
}

const DESK: &str = "
    skerroc provides skerrow-compiler
    skerroc 1.5.0 stable oarweld:>=3
    skerroc 1.4.3 long-term oarweld:>=2,<3
    skerroc 1.4.2 long-term oarweld:>=2,<3
    oarweld 3.0.0 stable
    oarweld 2.2.1 long-term
    tidlow 5.0.0-rc.1 preview
    tidlow 4.2.1 current
    tidlow 4.0.8 long-term
    brinwright 2.0 stable skerrow-compiler:any";

#[test]
fn the_newest_is_taken_unless_a_series_or_a_need_says_otherwise() {
    gives(DESK, "skerroc = \"any\"", "oarweld 3.0.0, skerroc 1.5.0");
    gives(DESK, "skerroc = \"long-term\"", "oarweld 2.2.1, skerroc 1.4.3");
    gives(DESK, "oarweld = \"<3\"\nskerroc = \"any\"", "oarweld 2.2.1, skerroc 1.4.3");
    gives(DESK, "skerroc = { version = \"!=1.4.3\", series = \"long-term\" }", "oarweld 2.2.1, skerroc 1.4.2");
}

#[test]
fn previews_are_taken_only_when_asked_for() {
    gives(DESK, "tidlow = \"any\"", "tidlow 4.2.1");
    gives(DESK, "tidlow = \"preview\"", "tidlow 5.0.0-rc.1");
    gives(DESK, "tidlow = \">=5.0.0-rc.1\"", "tidlow 5.0.0-rc.1");
}

#[test]
fn a_capability_is_met_by_what_provides_it() {
    gives(DESK, "brinwright = \"any\"", "brinwright 2.0, oarweld 3.0.0, skerroc 1.5.0");
    gives(DESK, "skerrow-compiler = \"1.4\"", "oarweld 2.2.1, skerroc 1.4.3");
}

#[test]
fn pins_stay_until_a_wish_moves_them() {
    let first = pinned(DESK, "skerroc = \"=1.4.2\"", None).unwrap();
    assert_eq!(short(&pinned(DESK, "skerroc = \"any\"", Some(&first)).unwrap()), "oarweld 2.2.1, skerroc 1.4.2");
    assert_eq!(short(&pinned(DESK, "skerroc = \"1.5\"", Some(&first)).unwrap()), "oarweld 3.0.0, skerroc 1.5.0");
}

#[test]
fn pins_written_and_read_again_are_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ladder.pinned.toml");
    let pins = pinned(DESK, "brinwright = \"any\"\ntidlow = \"any\"", None).unwrap();
    assert!(pins.write(&path).unwrap() && !pins.write(&path).unwrap());
    assert_eq!(Pins::read(&path).unwrap().unwrap(), pins);
}

#[test]
fn a_clash_names_the_fewest_wishes_and_only_ways_out_that_work() {
    let wishes = "tidlow = \"any\"\nskerroc = \"1.5\"\nbrinwright = \"any\"\noarweld = \"2\"";
    let Err(PinsError::Clash(report)) = pinned(DESK, wishes, None) else { panic!("solved?") };
    let named: Vec<_> = report.wishes.iter().map(|wish| (wish.tool.as_str(), wish.place.line)).collect();
    assert_eq!(named, [("skerroc", 4), ("oarweld", 6)]);
    assert_eq!(report.steps.len(), 1);
    assert_eq!(report.ways_out.len(), 2);
    for way in &report.ways_out {
        let Change::Range { wish, range } = &way.change else { panic!("{way:?}") };
        let mut lines: Vec<String> = wishes.lines().map(str::to_owned).collect();
        let tool = lines[*wish].split_once(' ').unwrap().0.to_owned();
        lines[*wish] = format!("{tool} = \"{range}\"");
        let solved = pinned(DESK, &lines.join("\n"), None).unwrap();
        let (taken, version) = way.takes.as_ref().unwrap();
        assert_eq!(solved.rungs[taken].version, *version);
    }
}

#[test]
fn a_need_that_nothing_meets_is_the_catalogs_mistake() {
    let result = pinned("plank 1.0 nails:any", "plank = \"any\"", None);
    assert!(matches!(result, Err(PinsError::UnknownNeed { name }) if name == "nails"));
}
