//! Editors: which tools they choose, what extends them, brought by the ladder or the host's own.

use std::fs;
use std::process::Stdio;
use std::time::Duration;

use kladder_pack::Entry;

use crate::sandbox::{Ran, Sandbox};

const SETTINGS: &str = "user/.config/whimbrow/tools.toml";

/// The verdicts on what the editor chooses and has read: whether each holds, and why not.
fn chosen(sandbox: &Sandbox) -> Vec<(bool, String)> {
    let told = sandbox.run(&["verify", "--json"]).json();
    let of =
        |one: &&serde_json::Value| ["choice", "settings"].map(|kind| one["subject"]["kind"] == kind).contains(&true);
    let told = told["verdicts"].as_array().unwrap().iter().filter(of);
    told.map(|one| (one["outcome"] == "passed", one["why"].as_str().unwrap_or_default().to_owned())).collect()
}

fn climbed(sandbox: &Sandbox, rungs: &str) -> Ran {
    sandbox.wish(rungs);
    sandbox.run(&["climb"]).passed()
}

#[test]
fn an_editor_chooses_the_ladders_tools_and_says_which_it_would_start() {
    let sandbox = Sandbox::new();
    let told = climbed(&sandbox, "whimbrow = \"any\"");
    assert!(told.stdout.contains("whimbrow/tools.toml"), "{}", told.stdout);
    let ours = sandbox.path("home/data/wired/commands/turnsedge");
    let wanted = format!("[servers]\nskerrow = \"{}\"\n", ours.display());
    assert_eq!(sandbox.read(SETTINGS), wanted);
    assert_eq!(chosen(&sandbox), [(true, String::new())]);

    // Another server of that name, which the person chose: it stays theirs, is told, and one command brings the ladder's.
    sandbox.host_command("turnsedge", "exit 0");
    let theirs = format!("[servers]\nskerrow = \"{}\"\n", sandbox.path("bin/turnsedge").display());
    sandbox.write(SETTINGS, &theirs);
    assert_eq!(chosen(&sandbox), [(false, "it chooses SANDBOX/bin/turnsedge".to_owned())]);
    let told = sandbox.run(&["verify"]);
    assert!(told.stdout.contains("`kladder climb --take-settings` lets the ladder's settings"), "{}", told.stdout);
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.read(SETTINGS), theirs);
    let _ = sandbox.run(&["climb", "--take-settings"]).passed();
    assert_eq!((sandbox.read(SETTINGS), chosen(&sandbox)), (wanted.clone(), vec![(true, String::new())]));

    // A name alone is what answers to it where the editor runs; one that is nobody's is no tool.
    sandbox.write(SETTINGS, "skerrow = \"turnsedge\"\n");
    assert_eq!(chosen(&sandbox), [(true, String::new())]);
    sandbox.write(SETTINGS, "skerrow = \"harbour\u{1b}[31m\"\n");
    assert_eq!(chosen(&sandbox), [(false, "it chooses harbour\\u{1b}[31m".to_owned())]);

    // One that nobody can read is kept beside the ladder's by one command.
    for _ in 0..2 {
        sandbox.write(SETTINGS, "junk\n");
        let _ = sandbox.run(&["climb"]).passed();
        let _ = sandbox.run(&["verify", "--mend", "--yes"]).passed();
    }
    assert_eq!(sandbox.read(&[SETTINGS, ".before-2"].concat()), "junk\n");
    sandbox.write(SETTINGS, "junk\n");
    let _ = climbed(&sandbox, "turnsedge = \"any\"");
    assert_eq!((sandbox.read(SETTINGS), chosen(&sandbox)), ("junk\n".to_owned(), Vec::new()));
    let _ = sandbox.run(&["verify"]).passed();
    sandbox.write(SETTINGS, "skerrow = \"low\"\n");
    let _ = climbed(&sandbox, "whimbrow = \"any\"");

    // The way back takes it away and brings it again, as the landing had it.
    let _ = climbed(&sandbox, "skerroc = \"any\"");
    assert_eq!(sandbox.read(SETTINGS), "skerrow = \"low\"\n");
    let told = sandbox.run(&["back"]).passed();
    assert!(told.stdout.contains("whimbrow/tools.toml"), "{}", told.stdout);
    assert!(sandbox.read(SETTINGS).contains("wired/commands/turnsedge"));

    // Without the editor the file is what the person had before.
    let _ = climbed(&sandbox, "turnsedge = \"any\"");
    assert_eq!(sandbox.read(SETTINGS), "skerrow = \"low\"\n");
    assert_eq!(chosen(&sandbox), []);
}

#[test]
fn what_two_ladders_want_stays_until_neither_does_and_is_then_as_it_was() {
    for own in [Some("theme = \"dark\"\n"), None] {
        let sandbox = Sandbox::new();
        if let Some(text) = own {
            sandbox.write(SETTINGS, text);
        }
        let now = || fs::read_to_string(sandbox.path(SETTINGS)).ok();
        let whole = |wish: &str, file: &str| {
            let more = format!("[settings.\"~/{file}\"]\ntext = \"calm\\n\"\n");
            format!("[ladder]\ncatalog = \"../catalog\"\n[rungs]\n{wish} = \"any\"\n{more}")
        };
        let climb = |desk: &str, wish: &str, file: &str| {
            sandbox.write(&format!("{desk}/ladder.toml"), &whole(wish, file));
            let mut climb = sandbox.command(&["climb"]);
            let _ = sandbox.finished(climb.current_dir(sandbox.path(desk)).output().unwrap()).passed();
            let mut verify = sandbox.command(&["verify"]);
            sandbox.finished(verify.current_dir(sandbox.path(desk)).output().unwrap()).passed()
        };
        sandbox.write("second/x", "");
        let _ = climb("desk", "whimbrow", ".both");
        let _ = climb("second", "whimbrow", ".both");
        for (first, other) in [("desk", "second"), ("second", "desk"), ("desk", "second")] {
            let _ = climb(first, "skerroc", ".one");
            assert!(now().unwrap().contains("wired/commands/turnsedge"), "{:?}", now());
            assert_eq!(sandbox.read("user/.both"), "calm\n");
            let _ = climb(other, "whimbrow", ".both");
            let _ = climb(first, "whimbrow", ".both");
        }
        let _ = climb("desk", "skerroc", ".one");
        let _ = climb("second", "skerroc", ".one");
        assert_eq!((now().as_deref(), sandbox.path("user/.both").exists()), (own, false));
    }
}

#[test]
fn what_the_ladder_says_itself_comes_before_what_its_editor_wants() {
    let sandbox = Sandbox::new();
    sandbox.write(SETTINGS, "theme = \"dark\" # at night\n");
    let own =
        "whimbrow = \"any\"\n[settings.\"~/.config/whimbrow/tools.toml\"]\nkeys = { \"servers/tides\" = \"ebb\" }";
    let _ = climbed(&sandbox, own);
    let text = sandbox.read(SETTINGS);
    for part in ["theme = \"dark\" # at night", "tides = \"ebb\"", "wired/commands/turnsedge"] {
        assert!(text.contains(part), "{text}");
    }
    let other = own.replace("servers/tides", "servers/skerrow");
    let _ = climbed(&sandbox, &other);
    assert!(sandbox.read(SETTINGS).contains("skerrow = \"ebb\""), "{}", sandbox.read(SETTINGS));
    assert_eq!(chosen(&sandbox), [(false, "it chooses ebb".to_owned())]);
    let _ = climbed(&sandbox, "skerroc = \"any\"");
    assert_eq!(sandbox.read(SETTINGS), "theme = \"dark\" # at night\n");
}

#[test]
fn an_extension_is_a_rung_that_its_editor_finds_in_its_own_folder() {
    let sandbox = Sandbox::new();
    sandbox.write("desk/m.skw", "module m\nexport low()\ngive 36\nend\n");
    sandbox.write("desk/lay.edits", "godwisp\n");
    let lay_out = || sandbox.run(&["run", "--", "whimbrow", "--batch", "lay.edits", "m.skw"]);
    // It brings its editor along.
    let _ = climbed(&sandbox, "godwisp = \"any\"");
    let _ = lay_out().passed();
    assert_eq!(sandbox.read("desk/m.skw"), "module m\nexport low()\n    give 36\nend\n");
    assert!(sandbox.run(&["verify"]).passed().stdout.contains("godwisp"));
    // One that the editor is too old for is refused before anything is fetched.
    sandbox.edit("catalog/tools/godwisp.toml", "\">=6\"", "\">=7\"");
    sandbox.wish("godwisp = \"any\"\nwhimbrow = \"any\"");
    let told = sandbox.run(&["pin"]);
    assert!(told.code != 0 && told.stderr.contains("whimbrow"), "{}", told.complaint());
    sandbox.edit("catalog/tools/godwisp.toml", "\">=7\"", "\">=6\"");
    let _ = climbed(&sandbox, "whimbrow = \"any\"");
    assert!(lay_out().stderr.contains("`godwisp` is no editing command"));
    // What takes no extensions cannot be extended, which a keeper is told.
    sandbox.edit("catalog/tools/godwisp.toml", "whimbrow", "turnsedge");
    let told = sandbox.run(&["catalog", "check", "../catalog"]);
    assert!(told.stdout.contains("turnsedge takes no extensions"), "{}\n{}", told.stdout, told.complaint());
    // Unless it lends its files itself.
    let lends = "[[lends]]\nto = \"turnsedge\"\nfiles = \"bin\"\nat = \"more\"\n\n";
    sandbox.edit("catalog/tools/godwisp.toml", "[[releases]]", &[lends, "[[releases]]"].concat());
    let told = sandbox.run(&["catalog", "check", "../catalog"]);
    assert!(!told.stdout.contains("takes no extensions"), "{}", told.stdout);
}

#[test]
fn an_extension_comes_before_its_editor_whatever_their_names_are() {
    let sandbox = Sandbox::new();
    let text =
        sandbox.read("catalog/tools/godwisp.toml").replace("godwisp", "zeal").replace("zeal-1.2.0", "godwisp-1.2.0");
    let lends = "[[lends]]\nto = \"whimbrow\"\nfiles = \"bin\"\nat = \"more\"\n\n";
    sandbox.write("catalog/tools/zeal.toml", &text.replacen("[[releases]]", &[lends, "[[releases]]"].concat(), 1));
    let _ = climbed(&sandbox, "zeal = \"any\"");
    sandbox.write("desk/m.skw", "module m\nexport low()\ngive 36\nend\n");
    sandbox.write("desk/lay.edits", "zeal\n");
    let _ = sandbox.run(&["run", "--", "whimbrow", "--batch", "lay.edits", "m.skw"]).passed();
    assert_eq!(sandbox.read("desk/m.skw"), "module m\nexport low()\n    give 36\nend\n");
}

#[test]
fn the_hosts_own_editor_has_the_same_settings_extensions_and_questions() {
    let sandbox = Sandbox::new();
    let own = "case $1 in\n--version) echo 'whimbrow 6.3.0' ;;\n--which) sed -n 's/^skerrow = \"\\(.*\\)\"/\\1/p' \"$HOME/.config/whimbrow/tools.toml\" ;;\n\
               *) ls \"$HOME/.local/share/whimbrow/extensions\" ;;\nesac";
    sandbox.host_command("whimbrow", own);
    sandbox.edit("catalog/tools/whimbrow.toml", "[[checks]]", "[host]\ncommand = \"whimbrow\"\n[[checks]]");
    let rungs = "whimbrow = { host = \"only\" }\nturnsedge = \"any\"\ngodwisp = \"any\"";
    let _ = climbed(&sandbox, rungs);
    assert_eq!(chosen(&sandbox), [(true, String::new())]);
    let link = sandbox.path("user/.local/share/whimbrow/extensions/godwisp");
    assert!(link.join("bin/command").is_file());
    assert_eq!(sandbox.run(&["run", "--", "whimbrow", "extensions"]).passed().stdout, "godwisp\n");
    // A person's own of that name stays, and is told.
    fs::remove_file(&link).unwrap();
    fs::create_dir(&link).unwrap();
    let told = sandbox.run(&["verify"]);
    assert!(
        told.stdout.contains("extensions/godwisp") && told.stdout.contains("something else is there"),
        "{}",
        told.stdout
    );
    fs::remove_dir(&link).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    assert!(link.join("bin/command").is_file());
    let _ = climbed(&sandbox, "turnsedge = \"any\"");
    assert!(fs::symlink_metadata(&link).is_err() && !sandbox.path(SETTINGS).exists());
    assert!(!sandbox.path("user/.local/share/whimbrow").exists());
}

#[test]
fn an_editor_that_runs_and_has_read_other_settings_is_named() {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\ncase $1 in --which) echo helper ;; stay) sleep 60 & wait ;; esac\n";
    let choice = |value: &str| {
        format!(
            "commands.plank = \"plank\"\n[[chooses]]\nwhat = \"helper\"\ncommand = \"helper\"\nread = \"at-start\"\n\
             settings.\"~/.plank\" = {{ text = \"{value} @command@\\n\" }}\nask = {{ run = [\"plank\", \"--which\"], like = '(?<file>\\w+)' }}"
        )
    };
    let entries = [Entry::program("plank", script)];
    sandbox
        .write("catalog/tools/helper.toml", "tool = \"helper\"\nsummary = \"Helps\"\n[host]\ncommand = \"helper\"\n");
    sandbox.host_command("helper", "echo 1.0");
    sandbox.plank("plank.tar.gz", &entries, &choice("low"));
    let _ = climbed(&sandbox, "plank = \"any\"\nhelper = \"any\"");
    let start = || {
        let mut command = sandbox.command(&["run", "--", "plank", "stay"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let mut running = start();
    std::thread::sleep(Duration::from_millis(300));
    assert_eq!(chosen(&sandbox), [(true, String::new())]);
    sandbox.plank("plank.tar.gz", &entries, &choice("high"));
    let told = sandbox.run(&["climb"]).passed();
    let process = running.id();
    let wanted = format!("plank runs (process {process}) and reads its settings only when it starts: start it again.");
    assert!(told.stdout.contains(&wanted), "{}", told.stdout);
    let why = format!("it runs (process {process}) and has read them before they were changed");
    assert_eq!(chosen(&sandbox), [(true, String::new()), (false, why)]);
    running.kill().unwrap();
    running.wait().unwrap();
    assert_eq!(chosen(&sandbox), [(true, String::new())]);
    // A path that could end the marks around it is put into no text.
    sandbox.write("o'neil/config/config.toml", &sandbox.read("home/config/config.toml"));
    fs::write(sandbox.path("user/.plank"), "mine\n").unwrap();
    sandbox.plank("plank.tar.gz", &entries, &choice("low").replace("\"helper\"\nread", "\"plank\"\nread"));
    let mut climb = sandbox.command(&["climb", "--take-settings"]);
    let _ = sandbox.finished(climb.env("KLADDER_HOME", sandbox.path("o'neil")).output().unwrap()).passed();
    assert_eq!(sandbox.read("user/.plank"), "mine\n");
}

#[test]
fn a_catalog_may_not_write_what_shells_or_sessions_run_nor_say_what_cannot_be() {
    let sandbox = Sandbox::new();
    sandbox.wish("whimbrow = \"any\"");
    let whole = sandbox.read("catalog/tools/whimbrow.toml");
    let file = "~/.config/whimbrow/tools.toml";
    let nowhere = "no tool may write there";
    let home = "begins with `~/`";
    let wrong = [
        (file, "~/.bashrc", nowhere),
        (file, "~/.ssh/authorized_keys", nowhere),
        (file, "~/.config/./autostart/a.toml", nowhere),
        (file, "~/.SSH/config.toml", nowhere),
        (file, "~/../other/x.toml", home),
        (file, "/etc/x.toml", home),
        ("~/.local/share/whimbrow/extensions", "~/.local/bin", nowhere),
        ("at = \"extensions\"", "at = \"../extensions\"", "does not stay below"),
        ("(?<file>\\S.*)", "\\S.*", "as a group"),
        ("run = [\"whimbrow\", \"--which\", \"skerrow\"]", "run = []", "nothing to run"),
        ("keys = { \"servers/skerrow\" = \"@command@\" }", "from = \"x\"", "has `text` or `keys`"),
        ("read = \"at-start\"", "read = \"never\"", "`always`"),
    ];
    for (old, new, why) in wrong {
        sandbox.write("catalog/tools/whimbrow.toml", &whole.replacen(old, new, 1));
        let told = sandbox.run(&["climb"]);
        assert!(told.code != 0 && told.stderr.contains(why), "{new}: {}", told.complaint());
        assert!(told.stderr.contains("whimbrow.toml, line"), "{}", told.complaint());
    }
    assert!(!sandbox.path("user").exists());
    // One that says nothing, and one that does not end, are told as such.
    for (run, why) in [
        ("[\"true\"]", "has nothing like"),
        ("[\"sleep\", \"9\"]", "still running after 1 s"),
        ("[\"not-there\"]", "no command"),
    ] {
        let text =
            whole.replacen("run = [\"whimbrow\", \"--which\", \"skerrow\"]", &format!("limit = 1, run = {run}"), 1);
        sandbox.write("catalog/tools/whimbrow.toml", &text);
        let _ = sandbox.run(&["climb"]).passed();
        let told = chosen(&sandbox);
        assert!(told.len() == 1 && told[0].1.contains(why), "{told:?}");
    }
}
