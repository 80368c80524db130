//! Wiring, with real shells in a new home.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::{Sandbox, not_tested, walkdir};

/// A value that no shell may take for anything but itself.
const ODD: &str = "it's $5 `no` \\ \"x\" %d !9 * ~\nsecond  line\t#";

/// A sandbox with a climbed ladder in `desk` that has a command `plank`, and variables of odd values.
fn climbed() -> Sandbox {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\necho \"plank of $BOARD\"\n";
    let variables = format!("variables = {{ BOARD = \"{{folder}}\", ODD = {ODD:?} }}");
    sandbox.plank(
        "plank.tar.gz",
        &[Entry::program("plank", script)],
        &format!("commands = {{ plank = \"plank\" }}\n{variables}"),
    );
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    fs::create_dir_all(sandbox.path("user")).unwrap();
    sandbox
}

fn wire(sandbox: &Sandbox, arguments: &[&str]) -> String {
    sandbox.run(&[&["wire", "--yes"], arguments].concat()).passed().stdout
}

/// The shells that are here; that one is missing is told.
fn shells() -> Vec<(&'static str, PathBuf)> {
    let find = |name: &'static str| {
        let file = ["/bin", "/usr/bin", "/usr/local/bin"].map(|folder| Path::new(folder).join(name));
        let file = file.into_iter().find(|file| file.exists());
        if file.is_none() {
            not_tested(&format!("there is no {name}"));
        }
        Some((name, file?))
    };
    ["bash", "zsh", "fish", "dash"].into_iter().filter_map(find).collect()
}

/// Runs a line in a shell that starts in the sandbox's home and desk, with nothing of the caller's but `variables`.
fn shell(sandbox: &Sandbox, program: &Path, how: &[&str], line: &str, variables: &[(&str, &str)]) -> Output {
    // An interactive shell must not take the terminal that the tests are run from.
    let mut command = Command::new("setsid");
    command.arg("--wait").arg(program).args(how).arg("-c").arg(line);
    command.current_dir(sandbox.path("desk")).env_clear().env("HOME", sandbox.path("user")).env("TERM", "dumb");
    command.envs(variables.iter().copied()).stdin(std::process::Stdio::null()).output().unwrap()
}

#[test]
fn every_way_to_start_a_shell_finds_the_ladders_commands() {
    let sandbox = climbed();
    let wired = wire(&sandbox, &["--shell", "bash", "--shell", "zsh", "--shell", "fish", "--shell", "sh"]);
    assert!(wired.contains(".bashrc is new") && wired.contains("config.fish is new"), "{wired}");
    let paths = [("PATH", "/usr/bin:/bin"), ("PATH", "/opt/with a blank:/usr/bin:/bin:"), ("LANG", "C")];
    for (name, program) in shells() {
        let ways: &[&[&str]] = match name {
            "zsh" | "fish" => &[&["-i"], &["-l"], &["-i", "-l"], &[]],
            // sh reads something when it logs in, bash also when it is interactive; a script's shell has the caller's PATH.
            "dash" => &[&["-l"], &["-l", "-i"]],
            _ => &[&["-i"], &["-l"], &["-i", "-l"]],
        };
        for (how, path) in ways.iter().flat_map(|how| paths.iter().map(move |path| (how, path))) {
            let ran = shell(&sandbox, &program, how, "plank; command -v plank", &[*path]);
            let said = String::from_utf8_lossy(&ran.stdout);
            let wanted = sandbox.path("home/data/wired/commands/plank").display().to_string();
            assert!(
                said.starts_with("plank of /") && said.trim_end().ends_with(&wanted),
                "{name} {how:?} {path:?}: {ran:?}"
            );
        }
        let since =
            shell(&sandbox, &program, if name == "dash" { &["-l"] } else { &["-i"] }, "echo \"<$KLADDER_WIRED>\"", &[]);
        assert!(String::from_utf8_lossy(&since.stdout).contains("<0>"), "{name}: {since:?}");
    }
}

#[test]
fn what_is_damaged_or_gone_keeps_no_shell_from_starting() {
    let sandbox = climbed();
    wire(&sandbox, &["--shell", "bash", "--shell", "zsh", "--shell", "fish", "--shell", "sh"]);
    let wired = sandbox.path("home/data/wired");
    let damages: [&dyn Fn(&Path); 4] = [
        &|file| fs::write(file, "case ( fi\nif").unwrap(),
        &|file| fs::write(file, [0xff, 0, b'(']).unwrap(),
        &|file| {
            fs::remove_file(file).unwrap();
            fs::create_dir(file).unwrap();
        },
        &|file| fs::remove_dir(file).unwrap(),
    ];
    for (at, damage) in damages.iter().enumerate() {
        damage(&wired.join("start.sh"));
        damage(&wired.join("start.fish"));
        for (name, program) in shells() {
            for how in [&["-l"][..], &["-i"]] {
                let ran = shell(&sandbox, &program, how, "echo started", &[("PATH", "/usr/bin:/bin")]);
                assert_eq!(String::from_utf8_lossy(&ran.stdout), "started\n", "damage {at}, {name} {how:?}: {ran:?}");
            }
        }
    }
    fs::remove_dir_all(&wired).unwrap();
    // A folder of somebody else's behind a link is not walked into.
    sandbox.write("user/bin/commands/precious", "mine");
    symlink(sandbox.path("user/bin"), &wired).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.read("user/bin/commands/precious") == "mine" && !wired.is_symlink());
    let launcher = wired.join("commands/plank");
    for damage in ["", "#!/bin/sh\nexit 0\n"] {
        fs::remove_file(&launcher).unwrap();
        fs::write(&launcher, damage).unwrap();
        fs::write(wired.join("ladders.table"), damage).unwrap();
        let _ = sandbox.run(&["climb"]).passed();
    }
    fs::remove_dir_all(&wired).unwrap();
    // A climb brings all of it back.
    let _ = sandbox.run(&["climb"]).passed();
    let (_, bash) = shells().remove(0);
    let ran = shell(&sandbox, &bash, &["-i"], "plank", &[("PATH", "/usr/bin:/bin")]);
    assert!(ran.status.success(), "{ran:?}");
}

#[test]
fn in_each_folder_the_ladder_that_counts_answers_also_after_switches() {
    let sandbox = climbed();
    let own = sandbox.read("desk/ladder.toml").replace("../catalog", &sandbox.path("catalog").display().to_string());
    sandbox.write("home/config/ladder.toml", &own.replace("plank = \"any\"", "tidlow = \"4\""));
    sandbox.write("away/ladder.toml", &own);
    let away = |arguments: &[&str]| {
        let output = sandbox.command(arguments).current_dir(sandbox.path("user")).output().unwrap();
        sandbox.finished(output)
    };
    let _ = away(&["climb"]).passed();
    wire(&sandbox, &[]);
    let (_, bash) = shells().remove(0);
    let said = |line: &str| {
        let ran = shell(&sandbox, &bash, &["-i"], line, &[("PATH", "/usr/bin:/bin")]);
        String::from_utf8_lossy(&ran.stdout).into_owned() + &ran.status.code().unwrap().to_string()
    };
    assert!(said("plank").starts_with("plank of /"));
    assert!(said("tidlow --version").starts_with("tidlow 4."), "the workstation's is there in a project too");
    // A ladder that nobody climbed changes nothing; where no ladder has the command, nothing answers.
    assert!(said("cd ../away; plank").ends_with("127"));
    // A shell that is open gets what is climbed meanwhile, and loses what is left.
    sandbox.edit("desk/ladder.toml", "plank", "tombolet");
    let kladder = assert_cmd::cargo::cargo_bin!("kladder").display().to_string();
    let home = format!("KLADDER_HOME='{}'", sandbox.path("home").display());
    let line = format!("plank >/dev/null && {home} {kladder:?} climb >/dev/null; tombolet --version; hash -r; plank");
    let open = said(&line);
    assert!(open.starts_with("tombolet 1") && open.ends_with("127"), "{open}");
    let _ = sandbox.run(&["back"]).passed();
    assert!(said("plank").starts_with("plank of /"));
    // Short names are the workstation's ladder's, in interactive shells, and stand behind a person's own.
    let own = sandbox.read("home/config/ladder.toml");
    sandbox.write("home/config/ladder.toml", &format!("{own}[aliases]\ntide = \"tidlow --version\"\nll = \"false\"\n"));
    sandbox.edit("home/config/ladder.toml", "\"4\"", "\"4.0\"");
    let _ = away(&["climb"]).passed();
    sandbox.edit("user/.bashrc", "# Kite", "alias ll='echo mine'\n# Kite");
    assert!(said("shopt -s expand_aliases\ntide").starts_with("tidlow 4."), "{}", said("tide"));
    assert!(said("shopt -s expand_aliases\nll").starts_with("mine"));
    // So are the lines that a rung brings for a shell; they go with it.
    let entries = [Entry::program("board", "#!/bin/sh\n")];
    let lines = "[lines]\nbash = \"BOARD_PROMPT='{version} of bash'\"\nzsh = \"BOARD_PROMPT='of zsh'\"\nfish = \"set -g BOARD_PROMPT 'of fish'\"\n";
    sandbox.plank("board.tar.gz", &entries, &format!("commands = {{ board = \"board\" }}\n{lines}"));
    let own = sandbox.read("home/config/ladder.toml");
    sandbox.write("home/config/ladder.toml", &own.replace("[aliases]", "plank = \"any\"\n[aliases]"));
    let _ = away(&["climb"]).passed();
    wire(&sandbox, &["--shell", "zsh", "--shell", "fish"]);
    for (name, program) in shells().into_iter().filter(|(name, _)| *name != "dash") {
        let prompt = |how: &[&str]| {
            let ran = shell(&sandbox, &program, how, "echo \"<$BOARD_PROMPT>\"", &[("PATH", "/usr/bin:/bin")]);
            String::from_utf8_lossy(&ran.stdout).into_owned()
        };
        assert!(prompt(&["-i"]).contains(&format!("of {name}>")), "{name}: {}", prompt(&["-i"]));
        assert_eq!(prompt(&["-l"]), "<>\n", "{name}: not where nobody sees it");
    }
    sandbox.write("home/config/ladder.toml", &own);
    let _ = away(&["climb"]).passed();
    assert_eq!(said("echo \"<$BOARD_PROMPT>\""), "<>\n0");
    // The workstation's variables are in every shell; the badge tells which ladder counts.
    assert_eq!(sandbox.run(&["vars", "--badge"]).passed().stdout, "desk\n");
    assert_eq!(away(&["vars", "--badge"]).passed().stdout, "workstation\n");
}

/// A start-up file before it is wired, by what is odd about it.
fn shapes() -> Vec<(&'static str, Vec<u8>)> {
    let mut all: Vec<(&str, Vec<u8>)> = vec![
        ("empty", b"".to_vec()),
        ("a line", b"alias ll='ls -l'\n".to_vec()),
        ("no last end", b"alias ll='ls -l'".to_vec()),
        ("one line end", b"\n".to_vec()),
        ("line ends only", b"\n\n\n".to_vec()),
        ("CRLF", b"# one\r\n# two\r\n".to_vec()),
        ("CRLF, no last end", b"# one\r\n# two".to_vec()),
        ("not UTF-8", b"# \xff\xfe caf\xe9\n".to_vec()),
        ("NUL", b"# a\0b\n".to_vec()),
        ("a mark of byte order", b"\xef\xbb\xbf# one\n".to_vec()),
        ("an early return", b"case $- in *i*) ;; *) return;; esac\n".to_vec()),
        ("a backslash at its end", b"# one \\".to_vec()),
        ("words of ours", b"# Kite Ladder begins here\n# Kite Ladder ends here.\n".to_vec()),
        ("an end of ours alone", b"# Kite Ladder ends here.\n".to_vec()),
        ("long", b"# a long line of a start-up file\n".repeat(20_000)),
    ];
    for (name, bytes) in all.clone() {
        let more: &'static str = Box::leak(format!("{name}, and more").into_boxed_str());
        all.push((more, [b"export A=1\n".as_slice(), &bytes].concat()));
    }
    all
}

#[test]
fn thirty_shapes_of_start_up_files_are_the_same_bytes_after_wiring_and_unwiring() {
    let sandbox = climbed();
    assert_eq!(shapes().len(), 30);
    for (name, bytes) in shapes() {
        let files = ["user/.bashrc", "user/.profile"];
        for file in files {
            fs::write(sandbox.path(file), &bytes).unwrap();
            fs::set_permissions(sandbox.path(file), fs::Permissions::from_mode(0o640)).unwrap();
        }
        wire(&sandbox, &[]);
        let once = fs::read(sandbox.path(files[0])).unwrap();
        assert!(once.starts_with(&bytes) && once.len() > bytes.len(), "{name}");
        assert!(wire(&sandbox, &[]).contains("wired already"), "{name}");
        let _ = sandbox.run(&["unwire", "--yes"]).passed();
        for file in files {
            let meta = fs::metadata(sandbox.path(file)).unwrap();
            assert_eq!((fs::read(sandbox.path(file)).unwrap(), meta.mode() & 0o777), (bytes.clone(), 0o640), "{name}");
        }
    }
}

#[test]
fn links_stay_links_and_what_should_not_be_touched_is_told() {
    let sandbox = climbed();
    // A link into a repository, with a second name for the file.
    sandbox.write("dotfiles/.git/config", "");
    sandbox.write("dotfiles/bashrc", "# mine\n");
    fs::hard_link(sandbox.path("dotfiles/bashrc"), sandbox.path("dotfiles/again")).unwrap();
    symlink("../dotfiles/bashrc", sandbox.path("user/.bashrc")).unwrap();
    symlink("nowhere", sandbox.path("user/.profile")).unwrap();
    let shown = sandbox.run(&["wire"]);
    assert_data_eq!(
        shown.stdout.clone() + &shown.complaint(),
        str![[r#"
SANDBOX/user/.bashrc
  a link to SANDBOX/dotfiles/bashrc, under version control in SANDBOX/dotfiles
    # mine
  + # Kite Ladder begins here; `kladder unwire` takes these lines out.
  + if [ -r 'SANDBOX/home/data/wired/start.sh' ]; then command . 'SANDBOX/home/data/wired/start.sh'; fi
  + # Kite Ladder ends here.

Nothing is written without `--yes` where nobody can be asked.
exit 40
kladder: 1 file left as it is
  why    SANDBOX/user/.profile: it is a link to nothing
  next   `kladder wire --print SHELL` prints the lines to put there by hand

"#]]
    );
    assert_eq!(sandbox.read("dotfiles/bashrc"), "# mine\n");
    fs::remove_file(sandbox.path("user/.profile")).unwrap();
    sandbox.write("user/.profile", "# read-only\n");
    fs::set_permissions(sandbox.path("user/.profile"), fs::Permissions::from_mode(0o444)).unwrap();
    let wired = sandbox.run(&["wire", "--yes", "--json"]);
    assert_eq!(wired.code, 40, "{}", wired.stderr);
    let files = wired.json()["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|file| file["state"].as_str().unwrap().to_owned())
        .collect::<Vec<_>>();
    assert_eq!(files, ["written", "left"]);
    assert!(fs::symlink_metadata(sandbox.path("user/.bashrc")).unwrap().is_symlink());
    assert_eq!(sandbox.read("dotfiles/again"), sandbox.read("dotfiles/bashrc"), "both names still have one file");
    assert_eq!(sandbox.read("user/.profile"), "# read-only\n");
    // A block that lost its end is not guessed at.
    let whole = sandbox.read("dotfiles/bashrc");
    fs::write(sandbox.path("dotfiles/bashrc"), whole.replace("# Kite Ladder ends here.\n", "# mine too\n")).unwrap();
    let cut = sandbox.run(&["unwire", "--yes"]);
    assert!(
        cut.code == 40 && cut.stderr.contains("line 2 begins a block of Kite Ladder that has no end"),
        "{}",
        cut.stderr
    );
    fs::write(sandbox.path("dotfiles/bashrc"), whole + "# later\n").unwrap();
    let _ = sandbox.run(&["unwire", "--yes"]).passed();
    assert_eq!(sandbox.read("dotfiles/bashrc"), "# mine\n# later\n");
}

#[test]
fn a_home_is_as_it_was_after_all_is_cleared() {
    let sandbox = climbed();
    sandbox.write("user/.zshrc", "# mine\n");
    let before: Vec<_> =
        walkdir(&sandbox.path("user")).into_iter().map(|path| (fs::read(&path).unwrap(), path)).collect();
    wire(&sandbox, &["--shell", "fish", "--shell", "zsh"]);
    assert!(sandbox.path("user/.config/fish/config.fish").exists());
    let _ = sandbox.run(&["clear", "--all", "--yes"]).passed();
    let after: Vec<_> =
        walkdir(&sandbox.path("user")).into_iter().map(|path| (fs::read(&path).unwrap(), path)).collect();
    assert_eq!(after, before);
    assert!(!sandbox.path("user/.config").exists() && !sandbox.path("home/data").exists());
}

#[test]
fn variables_come_out_as_they_are_in_every_language() {
    let sandbox = climbed();
    let json = sandbox.run(&["vars", "--as", "json"]).passed().json();
    assert_eq!((&json["variables"]["ODD"], json["replaces"].as_object().unwrap().len()), (&ODD.into(), 0));
    let own = sandbox.command(&["vars"]).env("ODD", "my own").output().unwrap();
    let told = String::from_utf8_lossy(&own.stdout).into_owned();
    assert!(told.contains("ODD takes the place of my own, which this shell has."), "{told}");
    for (name, program) in shells() {
        let form = if name == "dash" { "sh" } else { name };
        let text = sandbox
            .run(&["vars", "--as", form])
            .passed()
            .stdout
            .replace("SANDBOX", &sandbox.path("").display().to_string());
        sandbox.write("user/vars", &text);
        let read = if name == "fish" { "source" } else { "." };
        let line = format!("{read} '{}'; printf '%s|' \"$ODD\"; plank", sandbox.path("user/vars").display());
        let ran = shell(&sandbox, &program, &[], &line, &[("PATH", "/usr/bin:/bin")]);
        assert!(String::from_utf8_lossy(&ran.stdout).starts_with(&format!("{ODD}|plank of /")), "{name}: {ran:?}");
    }
    let refused = sandbox.run(&["vars", "--as", "file"]);
    assert!(
        refused.code == 1 && refused.stderr.contains("ODD has a value that such a file cannot hold"),
        "{}",
        refused.stderr
    );
}

#[test]
fn a_command_that_is_not_there_is_told_of_only_where_that_is_wanted() {
    let sandbox = climbed();
    let kladder = assert_cmd::cargo::cargo_bin!("kladder").parent().unwrap().display().to_string();
    let path = format!("/usr/bin:/bin:{kladder}");
    let home = sandbox.path("home").display().to_string();
    let variables = [("PATH", path.as_str()), ("KLADDER_HOME", home.as_str())];
    wire(&sandbox, &["--shell", "bash", "--shell", "zsh", "--shell", "fish"]);
    let all = || shells().into_iter().filter(|(name, _)| *name != "dash");
    let asked = |program: &Path| {
        let ran = shell(&sandbox, program, &["-i"], "tombolet", &variables);
        (
            String::from_utf8_lossy(&ran.stdout).into_owned(),
            String::from_utf8_lossy(&ran.stderr).into_owned(),
            ran.status.code(),
        )
    };
    for (name, program) in all() {
        let (said, complained, _) = asked(&program);
        assert!(!said.contains("brought by") && !complained.contains("brought by"), "{name}");
    }
    let settings = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/config.toml", &format!("tell-commands = true\n{settings}"));
    let _ = sandbox.run(&["climb"]).passed();
    for (name, program) in all() {
        let (said, complained, code) = asked(&program);
        // fish has all of it on one stream.
        let said = said + &complained;
        assert!(
            said.contains("`tombolet` is brought by tombolet: `kladder add tombolet`"),
            "{name}: {said} {complained}"
        );
        assert!(complained.contains("tombolet") && code == Some(127), "{name}: {code:?} {complained}");
        let none = shell(&sandbox, &program, &["-i"], "no-such-tool", &variables);
        assert!(
            none.status.code() == Some(127) && !String::from_utf8_lossy(&none.stderr).contains("kladder"),
            "{name}: {none:?}"
        );
        assert!(none.stdout.is_empty(), "{name}: {none:?}");
    }
    assert_eq!(sandbox.run(&["search", "--command", "no-such-tool"]).code, 11);
}

#[test]
fn why_tells_who_answers_in_which_terminal() {
    let sandbox = climbed();
    sandbox.write("user/.bashrc", "alias plank='echo mine'\n");
    let asked = || {
        let json =
            sandbox.command(&["why", "plank", "--command", "--json"]).env("SHELL", "/bin/bash").output().unwrap();
        let json = sandbox.finished(json).passed().json();
        let row =
            |row: &serde_json::Value| format!("{} {} {}", row["place"], row["shell"], row["ladder"]).replace('"', "");
        json["answers"].as_array().unwrap().iter().map(row).collect::<Vec<_>>()
    };
    assert_eq!(asked(), ["here null false", "terminal bash false", "login bash false", "bare null false"]);
    wire(&sandbox, &[]);
    assert_eq!(asked(), ["here null false", "terminal bash false", "login bash true", "bare null false"]);
    let text = sandbox.command(&["why", "plank", "--command"]).env("SHELL", "/bin/bash").output().unwrap();
    assert!(sandbox.finished(text).passed().stdout.contains("An alias or function of yours counts more"));
}

#[test]
fn completions_and_manual_pages_of_tools_and_of_kladder_are_found() {
    let sandbox = climbed();
    let entries = [
        Entry::program("plank", "#!/bin/sh\n"),
        Entry::file("share/man/man1/plank.1", ".TH plank 1\n"),
        Entry::file("share/bash-completion/completions/plank", "complete -W 'saw nail' plank\n"),
        Entry::file("share/zsh/site-functions/_plank", "#compdef plank\n"),
        Entry::file("share/fish/vendor_completions.d/plank.fish", "complete -c plank -f -a 'saw nail'\n"),
    ];
    sandbox.plank("plank-2.tar.gz", &entries, "commands = { plank = \"plank\" }");
    fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    wire(&sandbox, &["--shell", "bash", "--shell", "zsh", "--shell", "fish"]);
    let share = sandbox.path("home/data/wired/share");
    assert_eq!(fs::read(share.join("man/man1/plank.1")).unwrap(), b".TH plank 1\n");
    let asked = [
        (
            "bash",
            "for file in plank kladder; do . \"${XDG_DATA_DIRS%%:*}/bash-completion/completions/$file\"; done; complete -p",
            "saw nail",
        ),
        ("zsh", "print -l $^fpath/_plank(N) $^fpath/_kladder(N)", "site-functions/_kladder"),
        ("fish", "complete -C 'plank '; complete -C 'kladder unw'", "unwire"),
    ];
    let kladder = assert_cmd::cargo::cargo_bin!("kladder").parent().unwrap().display().to_string();
    for (name, program) in shells() {
        let Some((_, line, wanted)) = asked.iter().find(|(shell, ..)| *shell == name) else { continue };
        let ran = shell(&sandbox, &program, &["-i"], line, &[("PATH", &format!("/usr/bin:/bin:{kladder}"))]);
        let said = String::from_utf8_lossy(&ran.stdout);
        assert!(said.contains(wanted) && (said.contains("nail") || said.contains("_plank")), "{name}: {ran:?}");
    }
    // What goes with its rung goes from here.
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(fs::symlink_metadata(share.join("man/man1/plank.1")).is_err());
    assert!(share.join("man/man1/kladder-wire.1").is_file());
}

#[test]
fn a_login_shell_of_the_ladder_is_a_chore_and_never_taken_away() {
    let sandbox = Sandbox::new();
    let host = sandbox.host("guest-inside");
    let shell = [kladder_pack::Entry::program("plank", "#!/bin/sh\nexec sh \"$@\"\n")];
    sandbox.plank("plank.tar.gz", &shell, "commands = { plank = \"plank\" }");
    let ladder = |wanted: &str, rungs: &str| {
        let catalog = sandbox.path("catalog").display().to_string();
        sandbox.write(
            "home/config/ladder.toml",
            &format!("[ladder]\ncatalog = \"{catalog}\"\n{wanted}\n[rungs]\n{rungs}\n"),
        );
    };
    std::fs::remove_file(sandbox.path("desk/ladder.toml")).unwrap();
    ladder("", "tombolet = \"any\"");
    let _ = sandbox.run(&["climb", &host]).passed();
    ladder("login-shell = \"plonk\"", "plank = \"any\"");
    let wrong = sandbox.run(&["climb", &host]);
    assert!(wrong.stderr.contains("names the command `plonk`, which no rung brings"), "{}", wrong.complaint());
    ladder("login-shell = \"plank\"", "plank = \"any\"");
    let climbed = sandbox.run(&["climb", &host]).passed().stdout;
    let told = &climbed[climbed.find("Your login shell").unwrap()..];
    assert_data_eq!(
        told,
        str![[r#"
Your login shell is /bin/bash. For that of the ladder:

    # as an administrator
    grep -qxF -e 'SANDBOX/home/data/wired/commands/plank' /etc/shells || printf '%s/n' 'SANDBOX/home/data/wired/commands/plank' >>/etc/shells
    chsh -s 'SANDBOX/home/data/wired/commands/plank'

"#]]
    );
    let path = sandbox.path("home/data/wired/commands/plank");
    sandbox.write("host/etc/shells", &format!("/bin/sh\n{}\n", path.display()));
    let bare = sandbox.run(&[host.as_str()]).passed().stdout;
    assert!(bare.contains("chsh -s") && !bare.contains("/etc/shells"), "{bare}");
    let passwd = sandbox.read("host/etc/passwd");
    let mine = passwd.lines().find(|line| line.starts_with("keeper:")).unwrap();
    let (front, _) = mine.rsplit_once(':').unwrap();
    sandbox.write("host/etc/passwd", &format!("{front}:{}\n", path.display()));
    assert!(!sandbox.run(&[host.as_str()]).passed().stdout.contains("chsh"));

    // As a login shell it is started with a hyphen in front of its name, wherever.
    let started = std::process::Command::new("bash")
        .args(["-c", "exec -a -plank \"$0\" -c 'echo in it'", path.to_str().unwrap()])
        .env("HOME", sandbox.path("user"))
        .current_dir("/")
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&started.stdout), "in it\n", "{}", String::from_utf8_lossy(&started.stderr));
    let refused = |arguments: &[&str], told: &str| {
        let ran = sandbox.run(&[arguments, &[host.as_str()]].concat());
        assert!(ran.code != 0 && ran.stderr.contains(told), "{}", ran.complaint());
        assert!(path.exists());
    };
    ladder("", "tombolet = \"any\"");
    refused(&["climb"], "you log in with `plank`");
    refused(&["clear", "--all", "--yes"], "you log in with `plank`");
    refused(&["back", "1"], "landing 1 does not have `plank`, which you log in with");
    sandbox.write("host/etc/passwd", &passwd);
    let _ = sandbox.run(&["climb", &host]).passed();
}

#[test]
fn verify_asks_the_shells_that_are_wired_and_names_what_shadows_the_ladder() {
    let sandbox = climbed();
    let verify = || sandbox.run(&["verify"]);
    assert!(!verify().passed().stdout.contains("bash"), "nothing is wired yet");
    if !Path::new("/bin/bash").exists() {
        return not_tested("there is no bash");
    }
    wire(&sandbox, &["--shell", "bash"]);
    let told = sandbox.run(&["verify", "--json"]).passed().json();
    let shells = told["verdicts"].as_array().unwrap().iter().filter(|one| one["subject"]["kind"] == "shell");
    assert!(shells.clone().count() >= 2 && shells.clone().all(|one| one["outcome"] == "passed"), "{told}");
    let rc = sandbox.read("user/.bashrc");
    let shadowed = |line: &str, by: &str| {
        sandbox.write("user/.bashrc", &format!("{rc}\n{line}\n"));
        let told = verify();
        assert!(told.code == 30 && told.stdout.contains(by), "{line}: {}", told.stdout);
        assert!(told.stdout.contains("in a new terminal with bash"), "{}", told.stdout);
    };
    shadowed("alias plank='echo mine'", "to `plank` answers alias plank='echo mine'");
    sandbox.host_command("plank", "#!/bin/sh\n");
    let bin = sandbox.path("bin");
    shadowed(&format!("PATH=\"{}:$PATH\"", bin.display()), "to `plank` answers SANDBOX/bin/plank");
    shadowed("exec sleep 30", "it did not come to an end");
    sandbox.write("user/.bashrc", &rc);
    let _ = verify().passed();
}
