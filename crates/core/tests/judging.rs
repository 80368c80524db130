//! Checks, rehearsals and answers on a bench: what passes, what fails, and what is said of it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Catalog, Rehearsal};
use kladder_core::climb::{Decide, Request, Site};
use kladder_core::base::event::Silent;
use kladder_core::bring::fetch::{Network, Yard};
use kladder_core::settings::Home;
use kladder_choose::ladder::Ladder;
use kladder_core::keep::landing::Landings;
use kladder_core::settings::Manners;
use kladder_choose::pins::{Pins, settle};
use kladder_core::climb::route::Route;
use kladder_core::host::survey::Host;
use kladder_core::base::event::{Outcome, Verdict};
use kladder_core::prove::verify::Bench;
use kladder_core::tasks::launch::Wiring;
use kladder_launch::table::Table;
use kladder_pack::{Entry, Format, pack};

/// A machine on which the tool `plank` was climbed, with what its checks and rehearsals say.
struct Desk {
    folder: tempfile::TempDir,
    home: Home,
    host: Host,
    ladder: Ladder,
    catalog: Catalog,
    pins: Pins,
    yards: Vec<Yard>,
    network: Network,
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
        let (digest, size) = kladder_core::base::digest::Digest::of_file(&at("yard/plank.zip")).unwrap();
        fs::write(at("catalog/catalog.toml"), "[catalog]\nformat = 1\nname = \"t\"\ntitle = \"T\"\n").unwrap();
        let head = "tool = \"plank\"\nkind = \"test\"\nsummary = \"\"\ncommands = { plank = \"plank\" }\nvariables = { PLANK_ROOT = \"{folder}\" }\n";
        let release = format!(
            "[[releases]]\nversion = \"1.0\"\nartifacts.any = {{ file = \"plank.zip\", size = {size}, sha256 = \"{digest}\" }}\n"
        );
        fs::write(at("catalog/tools/plank.toml"), format!("{head}{checks}\n{release}")).unwrap();
        fs::write(at("ladder.toml"), "[ladder]\ncatalog = \"catalog\"\n[rungs]\nplank = \"any\"\n").unwrap();
        let ladder = Ladder::read(&at("ladder.toml")).unwrap();
        let catalog = Catalog::open(&at("catalog"), None).unwrap();
        let host = Host::new("/usr/bin:/bin".into(), &at("tmp"));
        let pins = settle(&ladder, &catalog, &host, None).unwrap().pins;
        let (home, yards) = (Home::within(&at("home")), vec![Yard::parse(&at("yard").display().to_string())]);
        let network = Network::new(&Manners::default()).unwrap();
        Self { folder, home, host, ladder, catalog, pins, yards, network }
    }

    fn site(&self) -> Site<'_> {
        let Self { ladder, pins, catalog, host, home, yards, network, .. } = self;
        Site { ladder, pins, catalog, host, home, yards, network, offline: false }
    }

    fn climb(self) -> Self {
        self.site().climb(&Request::default(), &Nobody, &Silent).unwrap();
        self
    }

    fn landing(&self) -> PathBuf {
        Landings::of(&self.home.ladders(), &self.ladder.path).current_link()
    }

    fn route(&self) -> Route {
        self.site().route().unwrap()
    }

    /// Rehearses with these steps and files.
    fn rehearse(&self, text: &str) -> Vec<Verdict> {
        let rehearsal: Rehearsal = toml::from_str(&format!("rehearsal = \"r\"\nsummary = \"\"\n{text}")).unwrap();
        let landing = self.landing();
        let wiring = Wiring::default();
        let bench = Bench::new(&landing, &wiring, &self.host, &Silent).unwrap();
        bench.rehearse(&rehearsal, &self.route().rungs).unwrap()
    }
}

/// `passed`, or why not.
fn said(verdict: &Verdict) -> String {
    match &verdict.outcome {
        Outcome::Passed => "passed".into(),
        Outcome::Failed { why, .. } => format!("failed: {why}"),
        Outcome::Skipped { why } => format!("skipped: {why}"),
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
            "failed: its output has nothing like `beam`",
        ),
        ("run = [\"plank\", \"fail\"]", "failed: it ended with status 3, and 0 was expected"),
        ("run = [\"plank\", \"fail\"]\nexpect = { status = 3, stderr = 'oh no' }", "passed"),
        (
            "run = [\"plank\", \"fail\"]\nexpect = { status = 3, stderr = 'oh yes' }",
            "failed: its error output has nothing like `oh yes`",
        ),
        ("run = [\"plank\", \"read\"]\ninput = \"tide\\n\"\nexpect = { stdout = '^tide$' }", "passed"),
        ("run = [\"sh\", \"-c\", \"kill -9 $$\"]\nexpect = { status = 137 }", "passed"),
        ("run = [\"no-such-command\"]", "failed: there is no command `no-such-command`"),
        ("run = [\"sleep\", \"60\"]\nlimit = 1", "failed: it was still running after 1 s"),
        ("run = []", "failed: `` could not be started: there is no command"),
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
    let lying = Desk::with(&check("lie"));
    let error = lying.site().climb(&Request::default(), &Nobody, &Silent).unwrap_err();
    assert_eq!(error.to_string(), "a check of plank failed");
    assert!(lying.site().landings().current().unwrap().is_none());
}

#[test]
fn after_a_failed_step_the_rest_is_skipped_and_missing_tools_skip_all() {
    let desk = Desk::with("").climb();
    let two = "[[steps]]\nname = \"t\"\nrun = [\"plank\", \"--version\"]\n";
    let verdicts = desk.rehearse(&(step("run = [\"plank\", \"fail\"]") + two + two));
    let said: Vec<String> = verdicts.iter().map(said).collect();
    assert_eq!(said[1..], ["skipped: the step before it failed", "skipped: the step before it failed"]);
    let missing = desk.rehearse("tools = [\"plank\", \"beam\"]\nsteps = []\n");
    assert_eq!(missing.len(), 1);
    assert!(matches!(&missing[0].outcome, Outcome::Skipped { why } if why == "beam not on the ladder"));
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
    assert!(output.chars().count() <= 2001, "{}", output.len());
    let behind = "run = [\"sh\", \"-c\", \"sleep 600 & echo started\"]\nexpect = { stdout = 'started' }";
    let verdict = &desk.rehearse(&step(behind))[0];
    assert_eq!(said(verdict), "passed");
    assert!(verdict.took.as_secs() < 10, "{:?}", verdict.took);
}

#[test]
fn verifying_sees_what_answers_and_what_is_on_the_shelf() {
    let desk = Desk::with("").climb();
    let route = desk.route();
    let verify = || -> Vec<String> { desk.site().verify(&route, &Silent).unwrap().iter().map(said).collect() };
    assert_eq!(verify(), ["passed", "passed"]);
    let launcher = desk.landing().join("commands/plank");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o644)).unwrap();
    assert_eq!(verify()[1], "failed: no file answers");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(desk.landing().join("launch.table"), "kladder launch table 2\n0\x000\0").unwrap();
    assert_eq!(verify()[1], "failed: the launch table does not have it");
    fs::write(desk.landing().join("launch.table"), "???").unwrap();
    assert!(verify()[1].contains("it is not a launch table of format 2"));
    let shelved = route.rungs[0].files();
    fs::set_permissions(&shelved, fs::Permissions::from_mode(0o755)).unwrap();
    fs::remove_file(shelved.join("plank")).unwrap();
    assert_eq!(verify()[0], "failed: 1 of its files are not as they were unpacked");
}

#[test]
fn the_callers_variables_do_not_reach_a_check() {
    let desk = Desk::with("").climb();
    let landing = desk.landing();
    let variables = vec![("PLANK_ROOT".into(), "/shelf".into())];
    let shared = Table { variables, ..Table::default() };
    let wiring = Wiring { shared, ..Wiring::default() };
    let bench = Bench::new(&landing, &wiring, &desk.host, &Silent).unwrap();
    let text = "rehearsal = \"r\"\nsummary = \"\"\n".to_owned()
        + &step(
            "run = [\"sh\", \"-c\", \"env | cut -d= -f1 | sort | tr '\\\\n' ' '\"]\nexpect = { stdout = '^HOME LC_ALL (OLDPWD )?PATH PLANK_ROOT PWD (SHLVL )?TMPDIR (_ )?$' }",
        );
    let rehearsal: Rehearsal = toml::from_str(&text).unwrap();
    let verdicts = bench.rehearse(&rehearsal, &desk.route().rungs).unwrap();
    assert_eq!(said(&verdicts[0]), "passed", "{:?}", verdicts[0]);
    assert!(Path::new(&landing).exists());
}
