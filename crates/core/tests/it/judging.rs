//! Checks, rehearsals and answers on a bench: what passes, what fails, and what is said of it.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::Rehearsal;
use kladder_choose::document::Source;
use kladder_choose::pins::Pins;
use kladder_core::base::digest::{Canonical, of_file};
use kladder_core::base::event::{Outcome, Output, Silent, Verdict};
use kladder_core::climb::route::Route;
use kladder_core::climb::{Climbed, Decide, Looking, Request, Site};
use kladder_core::desk::{self, Surroundings};
use kladder_core::host::survey::Host;
use kladder_core::keep::state::TaskName;
use kladder_core::prove::verify::Bench;
use kladder_core::settings::Home;
use kladder_core::tasks::launch::Wiring;
use kladder_pack::{Entry, Format, pack};

/// A machine on which the tool `plank` was climbed, with what its checks and rehearsals say.
struct Desk {
    folder: tempfile::TempDir,
    open: desk::Desk,
    pins: Pins,
}

struct Nobody;

impl Decide for Nobody {}

const PLANK: &str = "#!/bin/sh\ncase $1 in\n--version) echo plank 1.0;;\nlie) echo plank 0.9;;\nfail) echo oh no >&2; exit 3;;\nread) cat;;\nenv) env;;\nwrite) echo made >made;;\nesac\n";

impl Desk {
    fn with(checks: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = |path: &str| folder.path().join(path);
        for path in ["catalog/tools", "yard", "tmp"] {
            fs::create_dir_all(at(path)).unwrap();
        }
        pack(Format::Zip, &[Entry::program("plank", PLANK)], &at("yard/plank.zip")).unwrap();
        let (digest, size) = of_file(&at("yard/plank.zip")).unwrap();
        fs::write(at("catalog/catalog.toml"), "[catalog]\nformat = 2\nname = \"t\"\ntitle = \"T\"\n").unwrap();
        let head = "tool = \"plank\"\nsummary = \"\"\ncommands = { plank = \"plank\" }\nvariables = { PLANK_ROOT = \"{folder}\" }\n";
        let release = format!(
            "[[releases]]\nversion = \"1.0\"\nartifacts = [{{ file = \"plank.zip\", size = {size}, sha256 = \"{digest}\" }}]\n"
        );
        fs::write(at("catalog/tools/plank.toml"), format!("{head}{checks}\n{release}")).unwrap();
        fs::write(at("ladder.toml"), "[ladder]\ncatalog = \"catalog\"\n[rungs]\nplank = \"any\"\n").unwrap();
        let surroundings = Surroundings {
            catalogs: Vec::new(),
            home: Home::within(&at("home")),
            host: Host::new("/usr/bin:/bin".into(), &at("tmp")),
            folder: folder.path().to_path_buf(),
            ladder: None,
            yards: vec![at("yard").display().to_string()],
            neighbours: false,
            offline: false,
            wait: None,
            moving: Vec::new(),
            bales: Vec::new(),
            looking: None,
        };
        let desk = surroundings.open().unwrap();
        let pins = desk.pinned().unwrap().pins;
        Self { folder, open: desk, pins }
    }

    fn site(&self) -> Site<'_> {
        self.open.site(&self.pins)
    }

    fn climb(self) -> Self {
        self.site().climb(&Request::default(), &Nobody, &Silent).unwrap();
        self
    }

    fn landing(&self) -> PathBuf {
        self.site().landings().current_link()
    }

    fn route(&self) -> Route {
        self.site().route().unwrap()
    }

    /// Rehearses with these steps and files.
    fn rehearse(&self, text: &str) -> Vec<Verdict> {
        let rehearsal = rehearsal(text);
        let landing = self.landing();
        let wiring = Wiring::default();
        let rungs = self.route().rungs;
        let bench =
            Bench::new(&landing, &wiring, &rungs, &self.open.catalogs, &self.open.surroundings.host, &Silent).unwrap();
        bench.rehearse(&rehearsal, &rungs).unwrap()
    }
}

fn rehearsal(text: &str) -> Rehearsal {
    let text = format!("rehearsal = \"r\"\nsummary = \"\"\n{text}");
    Rehearsal::parse(&Source::new("r.toml", text), "r").unwrap()
}

/// `passed`, or the finding, as it is written down.
fn said(verdict: &Verdict) -> String {
    let text = |value: serde_json::Value| value.to_string().replace('"', "");
    match &verdict.outcome {
        Outcome::Passed => "passed".into(),
        Outcome::Failed { finding, .. } => text(serde_json::to_value(finding).unwrap()),
        Outcome::Skipped(why) => text(serde_json::to_value(why).unwrap()),
    }
}

fn step(lines: &str) -> String {
    format!("tools = [\"plank\"]\n[[steps]]\nname = \"s\"\n{lines}\n")
}

#[test]
fn a_step_is_judged_by_status_output_and_error_output() {
    let desk = Desk::with("").climb();
    let cases = [
        ("run = [\"plank\", \"--version\"]", "passed"),
        ("run = [\"plank\", \"--version\"]\nexpect = { stdout = '^plank \\d' }", "passed"),
        (
            "run = [\"plank\", \"--version\"]\nexpect = { stdout = 'beam' }",
            "{finding:no-match,looked:{in:output},pattern:beam}",
        ),
        ("run = [\"plank\", \"fail\"]", "{expected:[0],finding:status,status:3}"),
        ("run = [\"plank\", \"fail\"]\nexpect = { status = 3, stderr = 'oh no' }", "passed"),
        (
            "run = [\"plank\", \"fail\"]\nexpect = { status = 3, stderr = 'oh yes' }",
            "{finding:no-match,looked:{in:error},pattern:oh yes}",
        ),
        ("run = [\"plank\", \"read\"]\ninput = \"tide\\n\"\nexpect = { stdout = '^tide$' }", "passed"),
        ("run = [\"sh\", \"-c\", \"kill -9 $$\"]\nexpect = { status = 137 }", "passed"),
        ("run = [\"no-such-command\"]", "{command:no-such-command,finding:no-command}"),
        ("run = [\"sleep\", \"60\"]\nlimit = 1", "{finding:too-long,limit:1}"),
    ];
    for (lines, expected) in cases {
        assert_eq!(said(&desk.rehearse(&step(lines))[0]), expected, "{lines}");
    }
}

#[test]
fn a_version_that_is_said_must_be_the_pinned_one() {
    let check = |word: &str| {
        format!(
            "[[checks]]\nname = \"version\"\nrun = [\"plank\", \"{word}\"]\nexpect = {{ stdout = 'plank (?<version>\\S+)' }}\n"
        )
    };
    let _ = Desk::with(&check("--version")).climb();
    // What a check is made from must not change unnoticed.
    let recipe = Desk::with(&check("--version")).route().rungs[0].recipes()[&TaskName::Check];
    assert_eq!(recipe.to_string(), "62b3392235ea0d71a5d8fda2865fa92ab47229c5e46bf2c318b309fea9c5e812");
    let lying = Desk::with(&check("lie"));
    let error = lying.site().climb(&Request::default(), &Nobody, &Silent).unwrap_err();
    assert_eq!(error.to_string(), "a rung was not climbed");
    assert!(lying.site().landings().current().unwrap().is_none());
}

#[test]
fn after_a_failed_step_the_rest_is_skipped_and_missing_tools_skip_all() {
    let desk = Desk::with("").climb();
    let two = "[[steps]]\nname = \"t\"\nrun = [\"plank\", \"--version\"]\n";
    let verdicts = desk.rehearse(&(step("run = [\"plank\", \"fail\"]") + two + two));
    let said: Vec<String> = verdicts.iter().map(said).collect();
    assert_eq!(said[1..], ["{because:earlier-failed}"; 2]);
    let missing = desk.rehearse("tools = [\"plank\", \"beam\"]\nsteps = []\n");
    assert_eq!(missing.len(), 1);
    assert_eq!(super::judging::said(&missing[0]), "{because:not-on-ladder,tools:[beam]}");
}

#[test]
fn steps_share_a_folder_with_the_projects_files_and_an_empty_home() {
    let desk = Desk::with("").climb();
    let files = "tools = [\"plank\"]\n[files]\n\"sub/gauge.txt\" = \"412\"\n";
    let steps = "[[steps]]\nname = \"a\"\nrun = [\"sh\", \"-c\", \"plank write; cat sub/gauge.txt; ls -A $HOME\"]\nexpect = { stdout = '^412$' }\n\
                 [[steps]]\nname = \"b\"\nrun = [\"cat\", \"made\"]\nexpect = { stdout = '^made$' }\n";
    let verdicts = desk.rehearse(&(files.to_owned() + steps));
    assert_eq!(verdicts.iter().map(said).collect::<Vec<_>>(), ["passed", "passed"]);
    assert_eq!(fs::read_dir(desk.folder.path().join("tmp")).unwrap().count(), 0, "the folders are thrown away");
}

#[test]
fn output_that_never_ends_is_cut_and_children_left_behind_are_ended() {
    let desk = Desk::with("").climb();
    let flood = "run = [\"sh\", \"-c\", \"yes | head -c 30000000; exit 1\"]";
    let Outcome::Failed { output, .. } = desk.rehearse(&step(flood))[0].outcome.clone() else { panic!("passed?") };
    let Output { first, left_out, last } = output;
    assert!(first.len() + last.len() <= 100 && left_out > 100_000, "{left_out}");
    let behind = "run = [\"sh\", \"-c\", \"sleep 600 & echo started\"]\nexpect = { stdout = 'started' }";
    let verdict = &desk.rehearse(&step(behind))[0];
    assert_eq!(said(verdict), "passed");
    assert!(verdict.took.as_secs() < 10, "{:?}", verdict.took);
}

#[test]
fn verifying_sees_what_answers_and_what_is_on_the_shelf() {
    let desk = Desk::with("").climb();
    let route = desk.route();
    let verify = || -> Vec<String> {
        desk.site().verify(&route, Looking::default(), &Silent).unwrap().verdicts.iter().map(said).collect()
    };
    // The commands, the files on the shelf, who answers, the folder for shells, the clock, the disk, and the caller's variables.
    assert_eq!(verify(), ["passed"; 7]);
    let launcher = desk.landing().join("commands/plank");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o644)).unwrap();
    assert_eq!(verify()[2], "{finding:nobody-answers}");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o555)).unwrap();
    let table = desk.landing().join("launch.table");
    let whole = fs::read(&table).unwrap();
    for wrong in ["kladder launch table 2\n0\x000\0", "???"] {
        fs::write(&table, wrong).unwrap();
        assert_eq!(verify()[2], "{finding:no-entry}");
    }
    fs::write(&table, whole).unwrap();
    fs::write(desk.landing().join("commands/ls"), "#!/bin/sh\n").unwrap();
    assert!(verify()[0].starts_with("{all:1,differences:[{how:extra,path:") && verify()[0].contains("commands/ls}"));
    let shelved = route.rungs[0].files();
    fs::set_permissions(&shelved, fs::Permissions::from_mode(0o755)).unwrap();
    fs::remove_file(shelved.join("plank")).unwrap();
    assert_eq!(verify()[1], "{all:1,differences:[{how:missing,path:plank}],finding:differs}");
    // What was seen to be damaged is brought anew by the next climb.
    let mended = desk.site().climb(&Request::default(), &Nobody, &Silent).unwrap();
    assert!(matches!(mended, Climbed::Landed(_) | Climbed::Mended(..)), "{mended:?}");
    let route = desk.route();
    assert!(
        desk.site()
            .verify(&route, Looking::default(), &Silent)
            .unwrap()
            .verdicts
            .iter()
            .all(|verdict| !verdict.failed())
    );
}

#[test]
fn the_callers_variables_do_not_reach_a_check() {
    let desk = Desk::with("").climb();
    let landing = desk.landing();
    let rungs = desk.route().rungs;
    let wiring = Wiring::of(&rungs, &desk.open.ladder).unwrap();
    let bench =
        Bench::new(&landing, &wiring, &rungs, &desk.open.catalogs, &desk.open.surroundings.host, &Silent).unwrap();
    let text = step(
        "run = [\"sh\", \"-c\", \"env | cut -d= -f1 | sort | tr '\\\\n' ' '\"]\nexpect = { stdout = '^HOME KLADDER_RUN KLADDER_STARTS LC_ALL (OLDPWD )?PATH PLANK_ROOT PWD (SHLVL )?TMPDIR (_ )?$' }",
    );
    let verdicts = bench.rehearse(&rehearsal(&text), &rungs).unwrap();
    assert_eq!(said(&verdicts[0]), "passed", "{:?}", verdicts[0]);
    assert!(Path::new(&landing).exists());
}

#[test]
fn devices_that_a_program_sees_are_held_against_those_of_the_system_by_number_and_kind() {
    let desk = Desk::with("").climb();
    let (landing, rungs) = (desk.landing(), desk.route().rungs);
    let wiring = Wiring::of(&rungs, &desk.open.ladder).unwrap();
    let root = desk.folder.path().join("machine");
    let write = |path: &str, text: &str| {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    for (device, product) in [("1-1", "2c01"), ("1-2", "2C01"), ("1-3", "0007")] {
        write(&format!("sys/bus/usb/devices/{device}/idVendor"), "1209\n");
        write(&format!("sys/bus/usb/devices/{device}/idProduct"), product);
    }
    write("sys/class/drm/card0/device/uevent", "DRIVER=tidegl\n");
    write("sys/class/drm/card0/device/vendor", "0x1a2b\n");
    write("sys/class/drm/card0/device/device", "0x0001\n");
    let mut host = desk.open.surroundings.host.clone();
    host.root = root;
    let bench = Bench::new(&landing, &wiring, &rungs, &desk.open.catalogs, &host, &Silent).unwrap();
    let sees = |said: &str, each: &str, devices: &str| {
        let text = format!(
            "run = [\"printf\", {said:?}]\nclaims = [{{ name = \"sees\", stdout = '{each}', devices = \"{devices}\" }}]"
        );
        self::said(&bench.rehearse(&rehearsal(&step(&text)), &rungs).unwrap()[1])
    };
    let (any, which) = (r"^board \d+", r"^board (?<device>\S+)$");
    assert_eq!(sees("board 1\nboard 2\n", any, "usb 1209:2c01"), "passed");
    assert_eq!(sees("board 1\nboard 2\nboard 3\n", any, "usb 1209"), "passed");
    assert_eq!(
        sees("board 1\n", any, "usb 1209:2c01"),
        "{finding:other-devices,seen:[board 1],there:[1209:2c01,1209:2c01]}"
    );
    assert_eq!(sees("board 1209:2C01\nboard 1209:2c01\n", which, "usb 1209:2c01"), "passed");
    // As many, and one of them is another.
    assert!(sees("board 1209:2c01\nboard 1209:0007\n", which, "usb 1209:2c01").starts_with("{finding:other-devices"));
    assert_eq!(sees("board 1a2b:0001\n", which, "graphics tidegl"), "passed");
    assert!(sees("the processor alone\n", which, "graphics").starts_with("{finding:other-devices,seen:[]"));
    assert!(sees("none\n", which, "graphics other").contains("no such device"));
    // A simulator's board is none of the system's.
    assert!(sees("board 1\n", any, "usb 9999").starts_with("{finding:other-devices"));
}

/// What a landing remembers of the launch table's entries and of checks; a change here makes every rung climb again.
#[test]
fn recipes_of_launching_and_checking_are_these_fields_in_this_order() {
    let desk = Desk::with(
        "[[checks]]\nrun = [\"plank\", \"{version}\"]\ninput = \"tide\"\nexpect = { status = 3 }\nlimit = 7",
    );
    let route = desk.route();
    let rung = &route.rungs[0];
    let recipes = rung.recipes();
    let folder = rung.files();
    let launch = Canonical::new("kladder launch", 1)
        .field("folder", folder.as_os_str().as_encoded_bytes())
        .field("command", "plank")
        .field("file", "plank")
        .list("arguments", std::iter::empty::<&str>())
        .field("variable", "PLANK_ROOT")
        .field("value", "set all {folder}")
        .finish();
    assert_eq!(recipes[&TaskName::Launch], launch);
    let check = Canonical::new("kladder checks", 1)
        .field("name", "runs `plank {version}`")
        .list("run", ["plank", "{version}"])
        .field("input", "tide")
        .field("folder", "")
        .list("variables", std::iter::empty::<&str>())
        .list("status", [3_i32.to_le_bytes()])
        .field("stdout", "")
        .field("stderr", "")
        .field("never", "")
        .list("harmless", std::iter::empty::<&str>())
        .list("claims", std::iter::empty::<&str>())
        .field("limit", 7_u64.to_le_bytes())
        .finish();
    assert_eq!(recipes[&TaskName::Check], check);
}
