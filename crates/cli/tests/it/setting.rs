//! Settings that a ladder brings along: placed, kept apart from a person's own changes, and taken back.

use std::fs;

use kladder_pack::Entry;

use crate::sandbox::{Ran, Sandbox, not_tested, walkdir};

const HEAD: &str = "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nskerroc = \"=1.4.2\"\n";

/// By file name: how each file stood, and whether it was changed.
#[track_caller]
fn states(ran: &Ran) -> Vec<(String, String, bool)> {
    let json = ran.json();
    let one = |file: &serde_json::Value| {
        let name = file["path"].as_str().unwrap().rsplit('/').next().unwrap().to_owned();
        (name, file["state"].as_str().unwrap().to_owned(), file["changed"].as_bool().unwrap())
    };
    json["settings"].as_array().unwrap().iter().map(one).collect()
}

fn climb(sandbox: &Sandbox, arguments: &[&str]) -> Vec<(String, String, bool)> {
    states(&sandbox.run(&[&["climb", "--json"], arguments].concat()).passed())
}

fn stood(name: &str, state: &str, changed: bool) -> (String, String, bool) {
    (name.to_owned(), state.to_owned(), changed)
}

fn home(sandbox: &Sandbox) -> Vec<(String, Vec<u8>)> {
    let user = sandbox.path("user");
    let all = walkdir(&user).into_iter();
    all.map(|path| (path.strip_prefix(&user).unwrap().display().to_string(), fs::read(&path).unwrap())).collect()
}

#[test]
fn settings_go_in_follow_the_ladder_and_come_out_again() {
    let sandbox = Sandbox::new();
    sandbox.write("user/.gitconfig", "[core]\n\tpager = less ; mine\n");
    sandbox.write("user/.config/whimbrow/look.json", "{\n  // mine\n  \"size\": 12\n}\n");
    let before = home(&sandbox);
    sandbox.write(
        "desk/settings/keys.toml",
        "compiler = \"@skerroc.folder@\"\nversion = \"@skerroc.version@\"\nat = \"a@b\"\n",
    );
    let settings = "[settings.\"~/.config/whimbrow/keys.toml\"]\nfrom = \"settings/keys.toml\"\nfill = true\n\
                    [settings.\"~/.config/whimbrow/look.json\"]\nkeys = { theme = \"dark\", \"tools/compiler\" = \"@skerroc.folder@/bin\" }\n\
                    [settings.\"~/.gitconfig\"]\nkeys = { \"user/name\" = \"A Gauge Keeper\" }\n";
    sandbox.write("desk/ladder.toml", HEAD);
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.write("desk/ladder.toml", &format!("{HEAD}{settings}"));
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("All rungs stand") && route.contains("  + version = \"1.4.2\""), "{route}");
    assert_eq!(home(&sandbox), before, "the route only shows it");
    let placed = climb(&sandbox, &[]);
    let all = |state: &str, changed| [".gitconfig", "keys.toml", "look.json"].map(|_| (state.to_owned(), changed));
    let of = |placed: &[(String, String, bool)]| [0, 1, 2].map(|at| (placed[at].1.clone(), placed[at].2));
    assert_eq!(of(&placed), all("to-write", true));
    let keys = sandbox.read("user/.config/whimbrow/keys.toml");
    assert!(
        keys.contains("version = \"1.4.2\"") && keys.contains("at = \"a@b\"") && keys.contains("compiler = \"/"),
        "{keys}"
    );
    let look = sandbox.read("user/.config/whimbrow/look.json");
    assert!(look.contains("// mine") && look.contains("\"theme\": \"dark\""), "{look}");
    assert_eq!(sandbox.read("user/.gitconfig"), "[core]\n\tpager = less ; mine\n[user]\n\tname = A Gauge Keeper\n");
    assert_eq!(of(&climb(&sandbox, &[])), all("stands", false), "a second climb does nothing");
    // Another version of the rung is another text; a person's own line stays.
    fs::write(sandbox.path("user/.config/whimbrow/keys.toml"), keys + "mine = 1\n").unwrap();
    sandbox.edit("desk/ladder.toml", "=1.4.2", "=1.4.3");
    let _ = climb(&sandbox, &[]);
    let keys = sandbox.read("user/.config/whimbrow/keys.toml");
    assert!(keys.contains("version = \"1.4.3\"") && keys.ends_with("mine = 1\n"), "{keys}");
    // The way back takes it back: that landing's ladder had no settings.
    let told = sandbox.run(&["back", "1"]).passed().stdout;
    assert!(told.contains("keys.toml  you and the ladder changed the same place; yours stays"), "{told}");
    let left: Vec<_> = home(&sandbox);
    assert_eq!(
        left.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>(),
        [".config/whimbrow/keys.toml", ".config/whimbrow/look.json", ".gitconfig"]
    );
    assert_eq!(sandbox.read("user/.config/whimbrow/keys.toml"), keys, "who went on with a file has it");
    assert_eq!((&left[1..], &before[..]), (&before[..], &left[1..]));
}

#[test]
fn a_persons_own_file_is_not_replaced_unless_they_agree() {
    let sandbox = Sandbox::new();
    sandbox.write("user/.look", "mine\n");
    sandbox.write("user/.theme.json", "{ \"theme\": \"mine\" }\n");
    let settings = "[settings.\"~/.look\"]\ntext = \"theirs\\n\"\n[settings.\"~/.theme.json\"]\nkeys = { theme = \"dark\" }\n\
                    [settings.\"~/.gone\"]\nfrom = \"nowhere\"\n";
    sandbox.write("desk/ladder.toml", &format!("{HEAD}{settings}"));
    let missing = sandbox.run(&["climb"]);
    assert!(missing.code != 0 && missing.stderr.contains("nowhere"), "{} {}", missing.code, missing.stderr);
    assert!(missing.stdout.contains("landing 1") && missing.stderr.contains("landing 1 stands all the same"));
    sandbox.write("desk/nowhere", "here\n");
    let differs =
        [stood(".gone", "to-write", true), stood(".look", "differs", false), stood(".theme.json", "differs", false)];
    assert_eq!(climb(&sandbox, &[]), differs);
    assert_eq!(
        (sandbox.read("user/.look").as_str(), sandbox.read("user/.theme.json").contains("mine")),
        ("mine\n", true)
    );
    let text = sandbox.run(&["climb"]).passed().stdout;
    assert!(text.contains("`kladder climb --take-settings`"), "{text}");
    let _ = climb(&sandbox, &["--take-settings"]);
    assert_eq!(
        (sandbox.read("user/.look").as_str(), sandbox.read("user/.theme.json").contains("dark")),
        ("theirs\n", true)
    );
    // What cannot be read or written is told, and keeps nothing else.
    sandbox.edit("desk/ladder.toml", "\"dark\"", "\"light\"");
    fs::write(sandbox.path("user/.theme.json"), "{ not json").unwrap();
    let left = climb(&sandbox, &[]);
    assert_eq!(left[2].1, "left", "{left:?}");
    fs::write(sandbox.path("user/.theme.json"), "{ \"theme\": \"dark\" }\n").unwrap();
    // Taking all out brings back what was there.
    let shown = sandbox.run(&["unwire", "--yes"]).passed().stdout;
    assert!(shown.contains("  - theirs") && shown.contains("  + mine"), "{shown}");
    assert_eq!(sandbox.read("user/.look"), "mine\n");
    assert!(sandbox.read("user/.theme.json").contains("\"mine\"") && !sandbox.path("user/.gone").exists());
}

#[test]
fn a_ladder_that_is_gone_leaves_no_settings_behind_once_it_is_cleared() {
    let sandbox = Sandbox::new();
    let head = HEAD.replace("../catalog", &sandbox.path("catalog").display().to_string());
    sandbox.write("project/ladder.toml", &format!("{head}[settings.\"~/.look\"]\ntext = \"theirs\\n\"\n"));
    sandbox.write("user/.look", "mine\n");
    let climb = sandbox.command(&["climb", "--take-settings"]).current_dir(sandbox.path("project")).output().unwrap();
    let _ = sandbox.finished(climb).passed();
    assert_eq!(sandbox.read("user/.look"), "theirs\n");
    fs::remove_dir_all(sandbox.path("project")).unwrap();
    let _ = sandbox.run(&["clear", "--yes"]).passed();
    assert_eq!(sandbox.read("user/.look"), "mine\n");
    assert!(!sandbox.path("home/data/wired/commands/skerroc").exists(), "nor commands");
}

#[test]
fn a_record_that_is_damaged_is_told_with_what_helps_and_nothing_is_written() {
    let sandbox = Sandbox::new();
    sandbox.write("desk/ladder.toml", &format!("{HEAD}[settings.\"~/.look\"]\ntext = \"theirs\\n\"\n"));
    let _ = sandbox.run(&["climb"]).passed();
    let ladders = sandbox.path("home/data/ladders");
    let record = walkdir(&ladders).into_iter().find(|path| path.ends_with("placed/placed.json")).unwrap();
    fs::write(&record, "{").unwrap();
    fs::write(sandbox.path("user/.look"), "mine\n").unwrap();
    let damaged = sandbox.run(&["climb"]);
    assert!(
        damaged.code == 43
            && damaged.stderr.contains("count as yours from then on")
            && !damaged.stderr.contains("licences"),
        "{} {}",
        damaged.code,
        damaged.stderr
    );
    fs::remove_dir_all(record.parent().unwrap()).unwrap();
    assert_eq!(climb(&sandbox, &[]), [stood(".look", "differs", false)]);
    assert_eq!(sandbox.read("user/.look"), "mine\n");
}

#[test]
fn a_graphical_rung_is_in_the_menu_as_long_as_it_is_on_the_ladder() {
    let sandbox = Sandbox::new();
    let desktop = "[[desktop]]\nname = \"Plank & Co\"\ncommand = \"plank\"\nicon = \"share/plank.png\"\n\
                   categories = [\"Development\"]\nopens = { \"text/x-plank\" = \"*.plank\", \"text/plain\" = \"\" }";
    let entries = [Entry::program("plank", "#!/bin/sh\necho \"opened $*\"\n"), Entry::file("share/plank.png", "png")];
    sandbox.plank("plank.tar.gz", &entries, &format!("commands = {{ plank = \"plank\" }}\n{desktop}"));
    sandbox.wish("plank = \"any\"");
    let before = home(&sandbox);
    let placed = climb(&sandbox, &[]);
    assert_eq!(
        placed.iter().map(|(_, state, changed)| (state.as_str(), *changed)).collect::<Vec<_>>(),
        [("to-write", true); 3]
    );
    let file = |ending: &str| {
        let found = home(&sandbox).into_iter().find(|(name, _)| name.ends_with(ending)).unwrap();
        String::from_utf8(found.1).unwrap()
    };
    let entry = file("plank-plank.desktop");
    assert!(entry.contains("Name=Plank & Co\n") && entry.contains("MimeType=text/plain;text/x-plank;\n"), "{entry}");
    assert!(
        file("plank-plank.xml").contains("<glob pattern=\"*.plank\"/>")
            && file("plank-plank.xml").contains("Plank &amp; Co")
    );
    let of = |key: &str| entry.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('=')).unwrap().to_owned();
    assert!(fs::metadata(of("Icon")).is_ok() && fs::metadata(of("TryExec")).is_ok());
    // What a desktop does with it: the word in quotes, and the files in place of %F.
    let exec = of("Exec").replace("%F", "a.plank");
    let ran = std::process::Command::new("/bin/sh")
        .arg("-c")
        .arg(exec)
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "opened a.plank\n", "{ran:?}");
    assert!(file("terminal.desktop").contains("Terminal=true\n"));
    assert!(climb(&sandbox, &[]).iter().all(|(_, state, changed)| state == "stands" && !changed));
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(home(&sandbox), before, "the entries go with the rung");
    let wrong = sandbox.read("catalog/tools/plank.toml").replace("command = \"plank\"", "command = \"blank\"");
    sandbox.write("catalog/tools/plank.toml", &wrong);
    sandbox.wish("plank = \"any\"");
    assert!(sandbox.run(&["pin"]).stderr.contains("starts `blank`, which is none of its commands"));
}

/// Some font of this machine, and whether the system can be asked what it knows.
fn some_font() -> Option<Vec<u8>> {
    let asked = std::process::Command::new("fc-list").arg("--format=%{file}\n").output().ok()?;
    let text = String::from_utf8_lossy(&asked.stdout).into_owned();
    text.lines()
        .find(|file| file.trim().rsplit_once('.').is_some_and(|(_, ending)| ending == "ttf"))
        .and_then(|file| fs::read(file.trim()).ok())
}

#[cfg(target_os = "linux")]
#[test]
fn the_system_knows_the_fonts_of_a_rung_until_it_goes() {
    let Some(font) = some_font() else { return not_tested("this machine has no fc-list, or no font") };
    let sandbox = Sandbox::new();
    let entries = [Entry::program("plank", "#!/bin/sh\n"), Entry::file("share/fonts/a/Plank.ttf", font)];
    sandbox.plank("plank.tar.gz", &entries, "commands = { plank = \"plank\" }\nfonts = [\"share/fonts\"]");
    sandbox.wish("plank = \"any\"");
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("/fontconfig/conf.d/60-kite-ladder-"), "{route}");
    let _ = sandbox.run(&["climb", "--yes"]).passed();
    let verified = sandbox.run(&["verify", "--json"]).passed().stdout;
    assert!(verified.contains("its fonts are known to the system"), "{verified}");
    let known = || {
        let mut asked = std::process::Command::new("fc-list");
        let asked = asked.arg("--format=%{file}\n").env_clear().env("HOME", sandbox.path("user")).output().unwrap();
        String::from_utf8_lossy(&asked.stdout).contains("Plank.ttf")
    };
    assert!(known());
    let folder = sandbox.path("user/.config/fontconfig/conf.d");
    let file = fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace("/share/fonts<", "/share/font<")).unwrap();
    let unknown = sandbox.run(&["verify"]);
    assert!(unknown.code == 30 && unknown.stdout.contains("the system does not know the font"), "{}", unknown.stdout);
    fs::write(&file, text).unwrap();
    sandbox.wish("");
    let _ = sandbox.run(&["climb", "--yes"]).passed();
    assert!(!known() && !file.exists());
}

#[test]
fn an_ssh_key_is_made_if_there_is_none_and_never_changed() {
    if !["/usr/bin/ssh-keygen", "/bin/ssh-keygen"].iter().any(|maker| std::path::Path::new(maker).exists()) {
        return not_tested("this machine has no ssh-keygen");
    }
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"\n[ssh-key]\nat = \"https://harbour.example/keys\"");
    let told = sandbox.run(&["climb"]).passed().stdout;
    assert!(told.contains("ssh-keygen -t ed25519 -f") && !sandbox.path("user/.ssh").exists(), "{told}");
    let made = sandbox.run(&["climb", "--yes"]).passed().stdout;
    let line = sandbox.read("user/.ssh/id_ed25519.pub");
    assert!(
        made.contains("Its public half goes to https://harbour.example/keys:") && made.contains(line.trim()),
        "{made}"
    );
    let private = fs::metadata(sandbox.path("user/.ssh/id_ed25519")).unwrap();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&private.permissions()) & 0o777, 0o600);
    let before = home(&sandbox);
    assert!(
        !sandbox.run(&["climb", "--yes"]).passed().stdout.contains("SSH"),
        "what is there is not told again and again"
    );
    sandbox.wish("skerroc = \"1.4\"\n[ssh-key]");
    assert!(sandbox.run(&["climb", "--yes"]).passed().stdout.contains("and keep it"));
    assert_eq!(home(&sandbox), before);
}

#[cfg(target_os = "linux")]
#[test]
fn a_window_is_seen_to_come_up_on_a_display_that_nobody_sees() {
    let there = |program: &str| std::path::Path::new("/usr/bin").join(program).exists();
    if !there("Xvfb") || !there("xmessage") {
        return not_tested("this machine has no Xvfb, or no xmessage");
    }
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\n[ -e \"$PLANK_BROKEN\" ] && exit 3\nexec xmessage -title 'Tide table' high\n";
    let entry = "[[desktop]]\nname = \"Plank\"\ncommand = \"plank\"\nwindow = '^Tide'\n";
    let definition = format!(
        "calls = [\"xmessage\"]\ncommands.plank = \"plank\"\nvariables.PLANK_BROKEN = \"{{folder}}/broken\"\n{entry}"
    );
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], &definition);
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb", "--yes"]).passed();
    let verified = sandbox.run(&["verify", "--json"]).passed().json();
    let verdicts = verified["verdicts"].as_array().unwrap();
    let window = verdicts.iter().find(|verdict| verdict.to_string().contains("a window of `plank` comes up")).unwrap();
    assert_eq!(window["outcome"], "passed", "{window}");
    let fails = |old: &str, new: &str, told: &str| {
        sandbox.edit("catalog/tools/plank.toml", old, new);
        let _ = sandbox.run(&["climb", "--yes"]).passed();
        let failed = sandbox.run(&["verify"]);
        assert!(failed.code == 30 && failed.stdout.contains(told), "{}", failed.stdout);
    };
    fails("{folder}/broken", "{folder}/plank", "it should have run on, and ended with status 3");
    let bare = sandbox.command(&["verify"]).env("PATH", sandbox.path("bin")).output().unwrap();
    assert!(sandbox.finished(bare).stdout.contains("there is no Xvfb here"));
}

/// With the system's own program, and a backend that is a file.
#[test]
fn the_desktop_is_dark_as_long_as_the_ladder_says_so() {
    let sandbox = Sandbox::new();
    let asked = |arguments: &[&str]| {
        let mut command = std::process::Command::new("gsettings");
        let command = command.args(arguments).env("HOME", sandbox.path("user")).env("GSETTINGS_BACKEND", "keyfile");
        let ran = command.env("XDG_CONFIG_HOME", sandbox.path("user/.config")).output().ok()?;
        ran.status.success().then(|| String::from_utf8_lossy(&ran.stdout).trim().to_owned())
    };
    let key = ["org.gnome.desktop.interface", "color-scheme"];
    let now = || asked(&["get", key[0], key[1]]);
    if now().is_none() {
        return not_tested("this machine has no gsettings, or no schema for the desktop");
    }
    let ladder = |wanted: &str| {
        let catalog = sandbox.path("catalog").display().to_string();
        let text = format!("[ladder]\ncatalog = \"{catalog}\"\n{wanted}[rungs]\ntombolet = \"any\"\n");
        sandbox.write("home/config/ladder.toml", &text);
    };
    fs::remove_file(sandbox.path("desk/ladder.toml")).unwrap();
    let run = |arguments: &[&str]| {
        let mut command = sandbox.command(arguments);
        command.env("GSETTINGS_BACKEND", "keyfile").env("XDG_CONFIG_HOME", sandbox.path("user/.config"));
        sandbox.finished(command.stdin(std::process::Stdio::null()).output().unwrap()).passed().stdout
    };
    let was = now();
    ladder("[desktop]\nlook = \"dark\"\n");
    assert!(run(&["climb"]).contains("`kladder climb --yes` lets it") && now() == was);
    assert!(run(&["climb", "--yes"]).contains("is prefer-dark now"));
    assert_eq!(now().as_deref(), Some("'prefer-dark'"));
    assert!(!run(&["climb", "--yes"]).contains("desktop"));
    // A person's own choice since then stays.
    let _ = asked(&["set", key[0], key[1], "prefer-light"]);
    for _ in 0..2 {
        assert!(!run(&["climb", "--yes"]).contains("desktop") && now().as_deref() == Some("'prefer-light'"));
    }
    let _ = asked(&["set", key[0], key[1], "prefer-dark"]);
    ladder("");
    assert!(run(&["climb", "--yes"]).contains("again") && now() == was);
    ladder("[desktop]\nlook = \"dark\"\n");
    let _ = run(&["climb", "--yes"]);
    let _ = run(&["clear", "--all", "--yes"]);
    assert_eq!(now(), was);
}
