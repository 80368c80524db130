//! The guided start: at a pseudo-terminal, from a file of answers, and from a colleague's ladder.

use std::io::{Read, Write};
use std::process::Command;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use kladder_choose::platform::Platform;
use kladder_pack::Entry;
use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

/// A program at a pseudo-terminal.
struct Terminal {
    child: Box<dyn Child + Send + Sync>,
    keys: Box<dyn Write + Send>,
    shown: Arc<Mutex<String>>,
    _master: Box<dyn MasterPty + Send>,
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

impl Terminal {
    fn start(sandbox: &Sandbox, arguments: &[&str]) -> Self {
        std::fs::create_dir_all(sandbox.path("new")).unwrap();
        let size = PtySize { rows: 40, cols: 120, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).unwrap();
        let plain = sandbox.command(arguments);
        let mut command = CommandBuilder::new(plain.get_program());
        command.args(plain.get_args());
        command.env_clear();
        plain.get_envs().for_each(|(name, value)| command.env(name, value.unwrap_or_default()));
        command.env("TERM", "xterm-256color");
        command.cwd(sandbox.path("new"));
        let child = pair.slave.spawn_command(command).unwrap();
        let (mut reader, shown) = (pair.master.try_clone_reader().unwrap(), Arc::new(Mutex::new(String::new())));
        let seen = Arc::clone(&shown);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(got @ 1..) = reader.read(&mut bytes) {
                seen.lock().unwrap().push_str(&String::from_utf8_lossy(&bytes[..got]));
            }
        });
        let keys = pair.master.take_writer().unwrap();
        Self { child, keys, shown, _master: pair.master }
    }

    /// Waits until `text` is shown after what was seen before, then presses `keys`.
    fn at(&mut self, text: &str, keys: &str) -> &mut Self {
        let started = Instant::now();
        loop {
            let mut shown = self.shown.lock().unwrap();
            if let Some(at) = shown.find(text) {
                shown.drain(..at + text.len());
                break;
            }
            assert!(started.elapsed() < Duration::from_secs(20), "`{text}` was not shown in\n{shown}");
            drop(shown);
            std::thread::sleep(Duration::from_millis(10));
        }
        // The prompt must be waiting for keys by the time they come.
        std::thread::sleep(Duration::from_millis(60));
        self.keys.write_all(keys.as_bytes()).unwrap();
        self
    }

    fn end(&mut self) -> u32 {
        let started = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.exit_code();
            }
            assert!(started.elapsed() < Duration::from_secs(30), "it goes on after\n{}", self.shown.lock().unwrap());
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

const ENTER: &str = "\r";
const UP: &str = "\x1b[A";
const DOWN: &str = "\x1b[B";
const ESCAPE: &str = "\x1b";
const CTRL_C: &str = "\x03";

#[test]
fn a_person_at_a_terminal_is_led_to_a_ladder_and_may_go_back() {
    let sandbox = Sandbox::new();
    sandbox.host_command("cc", "echo cc 9.8.7");
    let mut terminal = Terminal::start(&sandbox, &["start", "--catalog", "../catalog"]);
    terminal
        .at("What is this workstation for?", ENTER)
        .at("What is this desk called?", &format!(" of mine{ENTER}"))
        .at("For which machines besides this one", &format!(" {ENTER}"))
        .at("Which series of skerroc?", &format!("{UP}{ENTER}"))
        .at("Which series of tidlow?", &format!("{UP}{ENTER}"))
        .at("Which pieces of tidlow?", &format!(" {ENTER}"))
        .at("Which series of neapstone?", ESCAPE)
        // What was chosen before stands there when one goes back.
        .at("Which pieces of tidlow?", ESCAPE)
        .at("Which series of tidlow?", ENTER)
        .at("Which pieces of tidlow?", ENTER)
        .at("Which series of neapstone?", ENTER)
        .at("A build tool", ENTER)
        .at("An editor", &format!("n{ENTER}"))
        .at("A package manager", &format!("y{ENTER}"))
        .at("Use it as its c-compiler?", ENTER)
        .at("Your name", &format!("Gauge Keeper{ENTER}"))
        .at("Your e-mail", &format!("keeper@harbour.example{ENTER}"));
    assert_eq!(terminal.end(), 0);
    let ladder = sandbox.read("new/ladder.toml").replace(&sandbox.folder.display().to_string(), "SANDBOX");
    let (head, rest) = ladder.split_once("[machines]\n").unwrap();
    let (machines, rest) = rest.split_once("\n\n").unwrap();
    let here = Platform::built_for();
    let is_line =
        |line: &str| line.split_once(" = ").is_some_and(|(name, on)| on.trim_matches('"').replace('/', "-") == name);
    assert!(machines.lines().count() == 2 && machines.lines().all(is_line), "{machines}");
    assert!(machines.contains(here.as_str()), "{machines}");
    assert_data_eq!(
        [head, rest].concat(),
        str![[r##"
# Write, build and try firmware for gauges and buoys: what this workstation must have.

[ladder]
title = "Gauge firmware desk of mine"
catalog = "../catalog"

[rungs]
skerroc = { version = "1.4", series = "long-term" }    # the compiler; its linker comes along
tidlow = { series = "current", pieces = ["tracer"] }   # the runtime
neapstone = "any"                                      # the device SDK, with the simulator
brinwright = "any"                                     # Builds what a plan says, and no more
wrackle = "any"                                        # Installs Skerrow packages from its depot
cc = { version = "any", host = "prefer" }              # this host has SANDBOX/bin/cc 9.8.7
# whimbrow = "any"                                     # declined: Edits text, and shows what the language server says

"##]]
    );
    let settings = sandbox.read("home/config/config.toml");
    assert!(settings.contains("yards = [") && settings.contains("name = \"Gauge Keeper\""), "{settings}");
    let ran = sandbox.command(&["climb"]).current_dir(sandbox.path("new")).output().unwrap();
    let _ = sandbox.finished(ran).passed();
}

#[test]
fn leaving_in_the_middle_leaves_nothing() {
    let sandbox = Sandbox::new();
    let mut terminal = Terminal::start(&sandbox, &["start", "--catalog", "../catalog"]);
    terminal.at("What is this workstation for?", &format!("{DOWN}{ENTER}")).at("What is this desk called?", CTRL_C);
    assert_eq!(terminal.end(), 130);
    assert!(!sandbox.path("new/ladder.toml").exists());
    assert!(!sandbox.read("home/config/config.toml").contains("identity"));
}

#[test]
fn a_licence_is_shown_and_accepted_at_the_terminal() {
    let sandbox = Sandbox::new();
    sandbox.edit("catalog/tools/neapstone.toml", "variables", &format!("{}variables", crate::sandbox::LICENCE));
    sandbox.write("new/ladder.toml", "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nneapstone = \"any\"\n");
    // Whoever only presses Enter accepts nothing.
    let mut refusing = Terminal::start(&sandbox, &["climb"]);
    refusing.at("that is between you and the tide", "").at("comes under the licence neapstone-terms", ENTER);
    assert_eq!(refusing.end(), 33);
    let mut leaving = Terminal::start(&sandbox, &["climb"]);
    leaving.at("comes under the licence", CTRL_C).at("nothing half-done is left", "");
    assert_eq!(leaving.end(), 130);
    // A no at the last question takes back what was accepted on the way to it.
    for (answer, code) in [("n", 35), ("y", 0)] {
        let mut accepting = Terminal::start(&sandbox, &["climb"]);
        accepting.at("comes under the licence", &format!("{DOWN}{ENTER}")).at("to fetch, about", "");
        accepting.at("Go on?", &format!("{answer}{ENTER}"));
        if code == 0 {
            // Once, the person is offered to have the shells wired.
            accepting.at("Kite Ladder begins here", "").at("Write this?", &format!("y{ENTER}"));
            accepting.at("This one gets them with", "");
        }
        assert_eq!(accepting.end(), code);
    }
    assert!(sandbox.read("user/.profile").contains("Kite Ladder"));
    let _ = sandbox.run(&["unwire", "--yes"]).passed();
    sandbox.edit("new/ladder.toml", "neapstone", "tombolet");
    let mut again = Terminal::start(&sandbox, &["climb"]);
    again.at("or put them into your shells with", "");
    assert_eq!(again.end(), 0);
}

#[test]
fn a_question_ends_with_its_terminal() {
    let sandbox = Sandbox::new();
    let asked: [(&[&str], &str); 3] = [
        (&["start", "--catalog", "../catalog"], "What is this workstation for?"),
        (&["climb", "--ladder", "../desk/ladder.toml"], "Go on?"),
        (&["wire"], "Write this?"),
    ];
    for (arguments, question) in asked {
        let mut terminal = Terminal::start(&sandbox, arguments);
        terminal.at(question, "");
        // What the system sends when a terminal is closed.
        let number = terminal.child.process_id().unwrap().to_string();
        assert!(std::process::Command::new("kill").args(["-HUP", &number]).status().unwrap().success());
        let started = Instant::now();
        while terminal.child.try_wait().unwrap().is_none() {
            assert!(started.elapsed() < Duration::from_secs(10), "{arguments:?} goes on without a terminal");
            std::thread::sleep(Duration::from_millis(10));
        }
    }
    // What was begun is mended by the next one.
    let _ = sandbox.run(&["climb"]).passed();
}

impl Sandbox {
    fn start_in_new(&self, arguments: &[&str]) -> crate::sandbox::Ran {
        std::fs::create_dir_all(self.path("new")).unwrap();
        let mut command = self.command(arguments);
        self.finished(command.current_dir(self.path("new")).stdin(std::process::Stdio::null()).output().unwrap())
    }
}

#[test]
fn the_same_comes_of_a_preset_and_a_file_of_answers() {
    let sandbox = Sandbox::new();
    let answers = "[machines]\nbuoy = \"linux/x86_64\"\n[optional]\nwhimbrow = false\nwrackle = true\n[series]\ntidlow = \"current\"\n[pieces]\ntidlow = [\"tracer\"]\n";
    sandbox.write("new/answers.toml", answers);
    let start = ["start", "--catalog", "../catalog", "--preset", "gauge-firmware", "--answers", "answers.toml"];
    let ran = sandbox.start_in_new(&start).passed();
    assert!(ran.stdout.contains("Next: kladder route"), "{}", ran.stdout);
    assert_data_eq!(
        sandbox.read("new/ladder.toml"),
        str![[r##"
# Write, build and try firmware for gauges and buoys: what this workstation must have.

[ladder]
title = "Gauge firmware desk"
catalog = "../catalog"

[machines]
buoy = "linux/x86_64"

[rungs]
skerroc = "1.4"                                        # the compiler; its linker comes along
tidlow = { series = "current", pieces = ["tracer"] }   # the runtime
neapstone = "any"                                      # the device SDK, with the simulator
brinwright = "any"                                     # Builds what a plan says, and no more
wrackle = "any"                                        # Installs Skerrow packages from its depot
# whimbrow = "any"                                     # declined: Edits text, and shows what the language server says

"##]]
    );
    let again = sandbox.start_in_new(&start);
    assert!(again.code == 1 && again.stderr.contains("there is a ladder already"), "{}", again.stderr);
}

#[test]
fn answers_that_do_not_fit_are_told_with_those_that_would() {
    let sandbox = Sandbox::new();
    let start = |answers: &str| {
        sandbox.write("new/answers.toml", answers);
        let ran = sandbox.start_in_new(&[
            "start",
            "--catalog",
            "../catalog",
            "--preset",
            "gauge-firmware",
            "--answers",
            "answers.toml",
        ]);
        assert!(!sandbox.path("new/ladder.toml").exists());
        ran.complaint()
    };
    assert_data_eq!(
        start("[series]\ntidlow = \"longest-term\"\n"),
        str![[r#"
exit 10
kladder: `longest-term` is no series of tidlow
  why    what fits: `current`, `long-term`, `preview`

"#]]
    );
    assert_data_eq!(
        start("[optional]\nskerroc = false\n"),
        str![[r#"
exit 10
kladder: `skerroc` is no optional tool of this preset
  why    what fits: `brinwright`, `whimbrow`, `wrackle`

"#]]
    );
    assert!(start("[pieces]\nskerroc = [\"tracer\"]\n").contains("is no piece of skerroc"));
    assert!(start("[serie]\n").contains("did you mean `series`?"));
    let ran = sandbox.start_in_new(&["start", "--catalog", "../catalog", "--preset", "gauge-firmwear"]);
    assert!(ran.code == 11 && ran.stderr.contains("there is `gauge-firmware`"), "{}", ran.stderr);
    let ran = sandbox.start_in_new(&["start", "--catalog", "../catalog"]);
    assert!(ran.code == 2 && ran.stderr.contains("`lamp-keeper`"), "{}", ran.stderr);
}

#[test]
fn a_colleagues_ladder_comes_from_a_file_an_address_or_a_repository() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    let take = |source: &str| {
        let _ = std::fs::remove_dir_all(sandbox.path("new"));
        let ran = sandbox.start_in_new(&["start", "--from", source]).passed();
        assert!(ran.stdout.contains("Tide-gauge desk"), "{}", ran.stdout);
    };
    take("../desk/ladder.toml");
    assert!(sandbox.path("new/ladder.pinned.toml").exists(), "the pins come along");
    let ran = sandbox.command(&["route"]).current_dir(sandbox.path("new")).output().unwrap();
    let _ = sandbox.finished(ran).passed();
    std::fs::remove_dir_all(sandbox.path("new")).unwrap();
    // What is named by a path of that machine does not come along with an address.
    std::fs::copy(sandbox.path("desk/ladder.toml"), sandbox.path("yard/ladder.toml")).unwrap();
    let lost = sandbox.start_in_new(&["start", "--from", &format!("{}/ladder.toml", sandbox.yard.url())]);
    assert!(lost.code == 10 && lost.stderr.contains("its catalog `../catalog` does not come along"), "{}", lost.stderr);
    let absolute = format!("catalog = {:?}", sandbox.path("catalog"));
    sandbox.edit("yard/ladder.toml", "catalog = \"../catalog\"", &absolute);
    take(&format!("{}/ladder.toml", sandbox.yard.url()));
    let git = |arguments: &[&str]| {
        let identity = ["-c", "user.name=Keeper", "-c", "user.email=keeper@harbour.example"];
        let ran = Command::new("git")
            .args(identity)
            .args(arguments)
            .current_dir(sandbox.path("repository"))
            .output()
            .unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    };
    crate::sandbox::copy(&sandbox.path("catalog"), &sandbox.path("repository/catalog"));
    let text = sandbox.read("desk/ladder.toml").replace("../catalog", "catalog");
    sandbox.write("repository/ladder.toml", &text);
    git(&["init", "--quiet"]);
    git(&["add", "."]);
    git(&["commit", "--quiet", "-m", "ladder"]);
    take(&format!("{}/.git", sandbox.path("repository").display()));
    assert!(sandbox.start_in_new(&["route"]).passed().stdout.contains("skerroc"), "its catalog came along");
    let _ = std::fs::remove_dir_all(sandbox.path("new"));
    for (source, told) in [("nowhere", "there is no such ladder"), ("../yard/x.git", "cannot be copied")] {
        let ran = sandbox.start_in_new(&["start", "--from", source]);
        assert!(ran.code != 0 && ran.stderr.contains(told), "{source}: {}", ran.stderr);
        assert!(!sandbox.path("new/ladder.toml").exists());
    }
}

#[test]
fn whoever_is_asked_to_go_on_is_told_how_long_it_will_take() {
    let sandbox = Sandbox::new();
    // Longer than a moment at any pace that a machine has.
    let mut dice = fastrand::Rng::with_seed(412);
    let much: Vec<u8> = std::iter::repeat_with(|| dice.u8(..)).take(12 << 20).collect();
    let entries = [Entry::program("plank", "#!/bin/sh\n"), Entry::file("much", much)];
    sandbox.plank("plank.tar", &entries, "commands = { plank = \"plank\" }");
    sandbox.write("home/config/config.toml", "[network]\nrate = \"4 MB/s\"\n");
    sandbox.write("new/ladder.toml", "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nplank = \"any\"\n");
    let mut asked = Terminal::start(&sandbox, &["climb"]);
    asked.at("at the pace just measured", "").at("Go on?", &format!("n{ENTER}"));
    assert_eq!(asked.end(), 35);
    // What came is the beginning of the download.
    let parts: Vec<u64> = crate::sandbox::walkdir(&sandbox.path("home/cache"))
        .iter()
        .filter(|path| path.extension().is_some_and(|ending| ending == "part"))
        .map(|path| std::fs::metadata(path).unwrap().len())
        .collect();
    assert!(parts.len() == 1 && parts[0] >= 64 * 1024 && parts[0] < 9 << 20, "{parts:?}");
    let _ = sandbox.run(&["climb", "--ladder", "../new/ladder.toml"]).passed();
}
