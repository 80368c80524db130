//! What set-up commands and checks must not do to the person who runs them, and what the log says of it.

use std::fs;
use std::io::Read;
use std::net::UdpSocket;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::process::Command;
use std::time::Duration;

use kladder_pack::Entry;

use crate::sandbox::{Sandbox, not_tested};

/// Tries everything that a set-up command should be kept from; its first argument is a folder of the person's.
const HOSTILE: &str = r#"#!/bin/sh
mine=$1
nap=$2
try() { name=$1; shift; if ("$@") >/dev/null 2>&1; then echo "did $name"; fi; }
try writing sh -c "echo x > '$mine/written'"
try reading cat "$mine/secret"
try attributes sh -c "chmod 777 '$mine/secret'; one=\$?; touch -d 2001-01-01 '$mine/secret' || exit \$one"
try signals kill -CONT "$PPID"
try processes sh -c "tr '\0' '\n' < /proc/$PPID/environ | grep -q HARBOUR_SECRET"
try local-sockets perl -MSocket -e "socket(S, PF_UNIX, SOCK_STREAM, 0) and connect(S, pack_sockaddr_un('$mine/socket')) or exit 1"
try network perl -MSocket -e "socket(S, PF_INET, SOCK_DGRAM, 0) and send(S, 'x', 0, pack_sockaddr_in($3, inet_aton('127.0.0.1'))) or exit 1"
try tcp perl -MSocket -e "socket(S, PF_INET, SOCK_STREAM, 0) and connect(S, pack_sockaddr_in($3, inet_aton('127.0.0.1'))) or exit 1"
(setsid sleep "$nap" >/dev/null 2>&1 &)
(env -i PATH="$PATH" setsid sleep "$nap" >/dev/null 2>&1 &)
echo tried
"#;

fn is_running(nap: &str) -> bool {
    let processes = fs::read_dir("/proc").into_iter().flatten().filter_map(Result::ok);
    let mut lines = processes.filter_map(|process| fs::read(process.path().join("cmdline")).ok());
    lines.any(|line| line == format!("sleep\0{nap}\0").into_bytes())
}

#[test]
fn what_the_log_says_a_set_up_command_is_kept_from_it_cannot_do() {
    let sandbox = Sandbox::new();
    sandbox.write("user/secret", "not yours");
    fs::set_permissions(sandbox.path("user/secret"), fs::Permissions::from_mode(0o600)).unwrap();
    let socket = UnixListener::bind(sandbox.path("user/socket")).unwrap();
    let before = fs::metadata(sandbox.path("user/secret")).unwrap().modified().unwrap();
    let (nap, port) = (format!("7{}", std::process::id()), sandbox.yard.url().rsplit(':').next().unwrap().to_owned());
    let entries = [Entry::program("plank", "#!/bin/sh\n"), Entry::program("install", HOSTILE)];
    let definition = format!(
        "calls = [\"perl\"]\ncommands = {{ plank = \"plank\" }}\n[[set-up]]\nname = \"tries\"\nrun = [\"./install\", {:?}, \"{nap}\", \"{port}\"]",
        sandbox.path("user")
    );
    sandbox.plank("plank.tar.gz", &entries, &definition);
    sandbox.wish("plank = \"any\"");
    let output = sandbox.command(&["climb"]).env("HARBOUR_SECRET", "4711").output().unwrap();
    let _ = sandbox.finished(output).passed();
    let log = sandbox.run(&["log", "1", "--json"]).passed().json();
    let steps = log["runs"][0]["steps"].as_array().unwrap();
    let step = steps.iter().find(|step| step["work"] == "set-up").unwrap();
    let kept: Vec<&str> = step["confined"].as_array().unwrap().iter().map(|kept| kept.as_str().unwrap()).collect();
    let output = step["output"].as_str().unwrap();
    assert!(output.contains("tried"), "{output}");
    for what in &kept {
        assert!(!output.lines().any(|line| line == format!("did {what}")), "it is kept from {kept:?}, and\n{output}");
    }
    // Where namespaces can be had, they are used.
    let can = Command::new("unshare").args(["--user", "--mount", "--pid", "--fork", "true"]).output();
    if can.is_ok_and(|output| output.status.success()) {
        assert!(kept.contains(&"attributes") && kept.contains(&"lingering"), "{kept:?}");
    }
    if kept.contains(&"writing") {
        assert!(!sandbox.path("user/written").exists());
    }
    if kept.contains(&"attributes") {
        let after = fs::metadata(sandbox.path("user/secret")).unwrap();
        assert_eq!((after.permissions().mode() & 0o777, after.modified().unwrap()), (0o600, before));
    }
    if kept.contains(&"lingering") {
        let gone = (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(20));
            !is_running(&nap)
        });
        assert!(gone, "what it left lives on");
    }
    drop(socket);
}

#[test]
fn what_a_set_up_command_leaves_is_looked_at_like_an_archive() {
    let leaves = [
        "ln -s {mine} settings",
        "ln -s ../../../../../../../../etc/hosts inside",
        "mkdir deep; ln -s ../../up deep/link",
        "rm plank; ln -s /bin/true plank",
        "mkfifo pipe",
    ];
    for leave in leaves {
        let sandbox = Sandbox::new();
        sandbox.write("user/secret", "not yours");
        let run = leave.replace("{mine}", "$HOME/../../user");
        let definition = format!(
            "commands = {{ plank = \"plank\" }}\ncorners = [\"settings\"]\n[[set-up]]\nname = \"leaves\"\nrun = [\"/bin/sh\", \"-c\", {run:?}]"
        );
        sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &definition);
        sandbox.wish("plank = \"any\"");
        let ran = sandbox.run(&["climb"]);
        assert!(matches!(ran.code, 1 | 21), "{leave}: {} {}", ran.code, ran.stderr);
        assert!(!sandbox.leftovers().iter().any(|path| path.contains("shelf/") || path.contains("secret")), "{leave}");
    }
}

#[test]
fn set_up_writes_where_it_may_in_a_home_of_any_name_and_what_it_says_passes_through() {
    let sandbox = Sandbox::new();
    let script = "echo said; echo oh >&2; cat > made; pwd > where; test \"$(cat made)\" = asked && exit \"$1\"";
    let set_up = |code: &str| {
        format!(
            "commands = {{ plank = \"plank\" }}\n[[set-up]]\nname = \"makes\"\ninput = \"asked\"\nrun = [\"/bin/sh\", \"-c\", {script:?}, \"sh\", \"{code}\"]"
        )
    };
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &set_up("0"));
    sandbox.wish("plank = \"any\"");
    for name in ["a home", "a\\home", "a\thome", "höme", "a\nhome"] {
        let home = sandbox.path(name);
        fs::create_dir_all(home.join("config")).unwrap();
        fs::copy(sandbox.path("home/config/config.toml"), home.join("config/config.toml")).unwrap();
        let climbed = sandbox.command(&["climb", "--json"]).env("KLADDER_HOME", &home).output().unwrap();
        let climbed = sandbox.finished(climbed).passed().json();
        assert_eq!(climbed["rungs"].as_array().unwrap().len(), 1, "{name:?}");
    }
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &set_up("41"));
    let failed = sandbox.run(&["climb"]);
    assert_eq!(failed.code, 30);
    for words in ["status 41", "said", "oh"] {
        assert!(failed.stderr.contains(words), "{words}: {}", failed.stderr);
    }
    // A command that is not there is told as that, and not as something about its keeper.
    let none = set_up("0").replace("/bin/sh", "/no/such/sh");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &none);
    let none = sandbox.run(&["climb"]);
    assert!(none.stderr.contains("/no/such/sh") && !none.stderr.contains("cell"), "{}", none.stderr);
    // One that takes too long is ended, with what it started.
    let nap = format!("8{}", std::process::id());
    let slow = format!(
        "[[set-up]]\nname = \"naps\"\nlimit = 1\nrun = [\"/bin/sh\", \"-c\", \"setsid sleep {nap} & sleep {nap}\"]"
    );
    let slow = format!("commands = {{ plank = \"plank\" }}\n{slow}");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &slow);
    assert_eq!(sandbox.run(&["climb"]).code, 30);
    let gone = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(20));
        !is_running(&nap)
    });
    assert!(gone, "what it started lives on");
}

#[test]
fn checks_do_not_write_on_the_shelf_whoever_runs_them() {
    let sandbox = Sandbox::new();
    let script =
        "#!/bin/sh\necho mine > \"$BOARD/cache.bin\" 2>/dev/null || true\necho made > \"$TMPDIR/own\" && echo plank\n";
    let definition = "commands = { plank = \"plank\" }\nvariables = { BOARD = \"{folder}\" }\n\
                      [[checks]]\nname = \"answers\"\nrun = [\"plank\"]\nexpect = { stdout = 'plank' }";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], definition);
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["verify"]).passed();
    assert!(!sandbox.leftovers().iter().any(|path| path.ends_with("cache.bin")));
}

#[test]
fn no_escape_reaches_a_terminal_or_a_pipe() {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\nprintf 'oh \\033]0;owned\\007 no\\r\\233' >&2\nexit 1\n";
    let definition = "commands = { plank = \"plank\" }\n[[checks]]\nname = \"an\\u001b[31mswers\"\nrun = [\"plank\"]";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], definition);
    sandbox.write(
        "desk/ladder.toml",
        "[ladder]\ntitle = \"desk \\u001b]0;owned\\u0007\"\ncatalog = \"../catalog\"\n[rungs]\nplank = \"any\"\n",
    );
    for arguments in [&[][..], &["route"], &["climb"], &["log"], &["climb", "--color", "always"]] {
        let mut command = sandbox.command(arguments);
        let output = command.output().unwrap();
        for bytes in [output.stdout, output.stderr] {
            let mut text = String::new();
            bytes.as_slice().read_to_string(&mut text).unwrap();
            assert!(
                !text.contains("\u{1b}]") && !text.contains('\u{7}') && !text.contains('\r'),
                "{arguments:?}: {text:?}"
            );
            assert!(!text.chars().any(|char| ('\u{80}'..'\u{a0}').contains(&char)), "{arguments:?}: {text:?}");
        }
    }
}

#[test]
fn asking_the_host_for_a_version_does_no_harm() {
    let can = Command::new("unshare").args(["--user", "--mount", "--pid", "--fork", "true"]).output();
    if !can.is_ok_and(|output| output.status.success()) {
        not_tested("this system cannot be counted on to keep a process from writing");
        return;
    }
    let sandbox = Sandbox::new();
    sandbox.write("user/secret", "yours");
    let harm = format!(
        "rm -f '{0}/secret'; echo x > '{0}/written'; echo own > own; cat own; echo 2.0",
        sandbox.path("user").display()
    );
    let definition = format!(
        "commands = {{ plank = \"plank\" }}\n[host]\ncommand = \"sh\"\nask = [\"-c\", {harm:?}]\nversion = '[0-9.]+'"
    );
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], &definition);
    sandbox.wish("plank = { host = \"only\" }");
    fs::create_dir(sandbox.path("tmp")).unwrap();
    let output = sandbox.command(&["pin"]).env("TMPDIR", sandbox.path("tmp")).output().unwrap();
    let _ = sandbox.finished(output).passed();
    assert_eq!(sandbox.read("user/secret"), "yours");
    assert!(!sandbox.path("user/written").exists());
    let pins = sandbox.read("desk/ladder.pinned.toml");
    assert!(pins.contains("version = \"2.0\""), "its own folder it may write to: {pins}");
    let left = fs::read_dir(sandbox.path("tmp")).unwrap().count();
    assert_eq!(left, 0, "nothing is left among the temporary files");
}

/// What all that `verify` runs is said to be kept from: nothing of it is done, by a check or by a step of a rehearsal.
#[test]
fn what_verify_says_programs_are_kept_from_none_of_them_can_do() {
    let sandbox = Sandbox::new();
    sandbox.write("user/secret", "not yours");
    fs::set_permissions(sandbox.path("user/secret"), fs::Permissions::from_mode(0o600)).unwrap();
    let _socket = UnixListener::bind(sandbox.path("user/socket")).unwrap();
    let (nap, port) = (format!("8{}", std::process::id()), sandbox.yard.url().rsplit(':').next().unwrap().to_owned());
    let outside = UdpSocket::bind(format!("127.0.0.1:{port}")).unwrap();
    outside.set_nonblocking(true).unwrap();
    let run = format!("run = [\"plank\", {:?}, \"{nap}\", \"{port}\"]", sandbox.path("user"));
    let definition = format!(
        "calls = [\"perl\"]\ncommands = {{ plank = \"plank\" }}\n[[checks]]\n{run}\nexpect = {{ stdout = \"calm\" }}\n"
    );
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", HOSTILE)], &definition);
    let rehearsal = format!(
        "rehearsal = \"tries\"\nsummary = \"\"\ntools = [\"plank\"]\n[[steps]]\n{run}\nexpect = {{ stdout = \"calm\" }}\n"
    );
    sandbox.write("catalog/rehearsals/tries.toml", &rehearsal);
    sandbox.wish("plank = \"any\"");
    assert_eq!(sandbox.run(&["climb"]).code, 30);
    sandbox.edit("catalog/tools/plank.toml", "\"calm\"", "\"tried\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.edit("catalog/tools/plank.toml", "\"tried\"", "\"calm\"");
    let output = sandbox.command(&["verify", "--json"]).env("HARBOUR_SECRET", "4711").output().unwrap();
    let verified = sandbox.finished(output).json();
    let kept: Vec<&str> = verified["kept_from"].as_array().unwrap().iter().map(|kept| kept.as_str().unwrap()).collect();
    let said: Vec<&str> = verified["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|verdict| verdict["output"]["first"].as_str())
        .collect();
    assert!(said.len() == 2 && said.iter().all(|said| said.contains("tried")), "{verified}");
    for what in &kept {
        let did = said.iter().find(|said| said.lines().any(|line| line == format!("did {what}")));
        // A rehearsal has a network of its own to send into.
        assert!(*what == "network" || did.is_none(), "they are kept from {kept:?}, and {did:?}");
    }
    assert!(!kept.contains(&"network") || outside.recv(&mut [0; 9]).is_err(), "something came out of it");
    // Each of what is not kept from is named, and nothing is missing on a kernel that has it all.
    assert_eq!(kept.len() + verified["not_kept_from"].as_array().unwrap().len(), 9);
    if kept.contains(&"lingering") {
        let gone = (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(20));
            !is_running(&nap)
        });
        assert!(gone, "what they left lives on");
    }
}

/// Ways out of a check, each a line for a shell; `$1` is a person's home, `$2` what the ladder keeps, `$3` the desk.
const WAYS_OUT: &[(&str, &str)] = &[
    ("writing", r#"echo x > "$1/written""#),
    ("writing", r#"echo 'plank() { :; }' >> "$1/.profile""#),
    ("writing", r#": > "$1/secret""#),
    ("writing", r#"rm -f "$1/secret""#),
    ("writing", r#"mv "$1/secret" "$1/moved""#),
    ("writing", r#"mkdir "$1/folder""#),
    ("writing", r#"ln -s /etc "$1/link""#),
    ("writing", r#"ln "$1/secret" mine && echo x > mine"#),
    ("writing", r#"ln -s "$1/secret" through && echo x > through"#),
    ("writing", r#"mkfifo "$1/pipe""#),
    ("writing", r#"cp /bin/true "$2/wired/commands/ls""#),
    ("writing", r#"echo x > "$2/terms.json""#),
    ("writing", r#"for file in "$2"/shelf/plank/*/files/*; do echo x >> "$file" && exit 0; done; exit 1"#),
    ("writing", r#"for file in "$2"/ladders/*/landings/*/landing.json; do echo x > "$file" && exit 0; done; exit 1"#),
    ("writing", r#"echo x >> "$3/ladder.toml""#),
    ("writing", r#"echo x > "/dev/shm/kladder-way-out-$$""#),
    ("writing", r#"echo x > "/var/tmp/kladder-way-out-$$""#),
    ("writing", r#"unshare -Ur sh -c 'echo x > "$0/written"' "$1""#),
    ("writing", r#"unshare -Urm sh -c 'mount -t tmpfs none "$0" && umount "$0" && echo x > "$0/written"' "$1""#),
    ("writing", r#"cd /proc/self/root && echo x > ".$1/written""#),
    ("writing", r#"(echo '* * * * * true' | crontab -) && crontab -r"#),
    ("reading", r#"cat "$1/secret""#),
    ("reading", r#"ls "$1" | grep -q secret"#),
    ("reading", r#"cp "$1/secret" mine"#),
    ("reading", r#"cd /proc/self/root && cat ".$1/secret""#),
    ("reading", r#"cat "$3/ladder.toml""#),
    ("reading", r#"cat "$2/journal.db""#),
    ("reading", r#"ls "$HOME/../../..""#),
    ("reading", r#"cat "$2/ladders/another/notes""#),
    ("processes", r#"cat "/proc/$PPID/environ""#),
    ("processes", r#"ls "/proc/$PPID/fd/" && cat "/proc/$PPID/maps" | grep -q ."#),
    ("processes", r#"printf x | dd of="/proc/$PPID/mem" bs=1 seek=4096"#),
    ("signals", r#"kill -CONT "$PPID""#),
    ("signals", r#"kill -CONT 1"#),
];

#[test]
fn no_way_out_of_a_check_is_open() {
    let sandbox = Sandbox::new();
    sandbox.write("user/secret", "not yours");
    sandbox.write("user/.profile", "# mine\n");
    sandbox.write("home/data/ladders/another/notes", "another ladder's");
    sandbox.write("home/data/ladders/stray", "nobody's");
    fs::set_permissions(sandbox.path("user/secret"), fs::Permissions::from_mode(0o600)).unwrap();
    let ways = WAYS_OUT
        .iter()
        .enumerate()
        .map(|(number, (_, way))| format!("(set -e; {way}) >/dev/null 2>&1 && echo \"did {number}\"\n"));
    let script = ["#!/bin/sh\n", &ways.collect::<String>(), "echo tried\n"].concat();
    let folders = ["user", "home/data", "desk"].map(|folder| sandbox.path(folder).display().to_string());
    let run = format!("run = [\"plank\", {:?}, {:?}, {:?}]", folders[0], folders[1], folders[2]);
    let calls = "calls = [\"unshare\", \"mount\", \"umount\", \"crontab\"]\ncommands = { plank = \"plank\" }\n";
    let definition = format!("{calls}[[checks]]\n{run}\nexpect = {{ stdout = \"tried\" }}\n");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], &definition);
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    // What it wrote is only told where it fails.
    sandbox.edit("catalog/tools/plank.toml", "\"tried\"", "\"calm\"");
    let kept = |path: &str| {
        let all = crate::sandbox::walkdir(&sandbox.path(path)).into_iter();
        let is_ours = |path: &std::path::PathBuf| {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            ["journal.", "verified.json", "rates.json", "loaded.json"].iter().any(|own| name.starts_with(own))
        };
        all.filter(|path| !is_ours(path)).map(|path| (fs::read(&path).ok(), path)).collect::<Vec<_>>()
    };
    let before = ["user", "home/data", "desk"].map(kept);
    let verified = sandbox.run(&["verify", "--json"]).json();
    assert_eq!(["user", "home/data", "desk"].map(kept), before);
    let is_kept = |what: &str| verified["kept_from"].as_array().unwrap().iter().any(|kept| kept == what);
    let output =
        verified["verdicts"].as_array().unwrap().iter().find_map(|one| one["output"]["first"].as_str()).unwrap();
    assert!(output.contains("tried"), "{output}");
    assert!(WAYS_OUT.len() >= 20);
    for (number, (what, way)) in WAYS_OUT.iter().enumerate() {
        let did = output.lines().any(|line| line == format!("did {number}"));
        // What a kernel cannot keep a program from is told instead.
        assert!(!did || !is_kept(what), "{what}: {way}");
    }
}

#[test]
fn what_takes_too_much_is_ended_with_all_that_it_started() {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\ncase $1 in\nmany) for i in 1 2 3 4 5 6 7 8 9; do sleep 61 & done; sleep 61 ;;\n\
                  much) exec awk 'BEGIN { while (1) text[n++] = sprintf(\"%1000d\", n) }' ;;\nesac\n";
    let check = |run: &str, most: &str| {
        format!("commands = {{ plank = \"plank\" }}\n[[checks]]\nrun = [\"plank\", \"{run}\"]\n{most}\n")
    };
    for (run, most, told) in [
        ("many", "processes = 5", "it had more than 5 processes at one time"),
        ("much", "memory = \"100 MB\"", "it took more than 100.0 MB of memory"),
    ] {
        sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], &check(run, most));
        sandbox.wish("plank = \"any\"");
        let climbed = sandbox.run(&["climb"]);
        assert!(climbed.code == 30 && climbed.stderr.contains(told), "{}", climbed.complaint());
    }
    assert!(!is_running("61"));
}

/// A tool that falls back on the host: by a name that it finds on no PATH of its own, and by a path that it knows.
#[test]
fn what_falls_back_on_the_host_is_found_out_and_named() {
    let sandbox = Sandbox::new();
    sandbox.host_command("anemometer", "#!/bin/sh\necho calm\n");
    let (anemometer, person) = (sandbox.path("bin/anemometer"), sandbox.path("bin"));
    let script = format!("#!/bin/sh\n[ \"$1\" = by-name ] && exec anemometer\nexec '{}'\n", anemometer.display());
    let step = |how: &str| {
        format!(
            "rehearsal = \"wind\"\nsummary = \"\"\ntools = [\"plank\"]\nreads = [{person:?}]\n\
             [[steps]]\nrun = [\"plank\", \"{how}\"]\nexpect = {{ stdout = \"calm\" }}\n"
        )
    };
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], "commands = { plank = \"plank\" }");
    sandbox.wish("plank = \"any\"");
    sandbox.write("catalog/rehearsals/wind.toml", &step("by-name"));
    let _ = sandbox.run(&["climb"]).passed();
    let by_name = sandbox.run(&["verify"]);
    let told = "the host has `anemometer`, at SANDBOX/bin/anemometer";
    assert!(by_name.code == 30 && by_name.stdout.contains(told), "{}", by_name.stdout);
    sandbox.write("catalog/rehearsals/wind.toml", &step("by-path"));
    let by_path = sandbox.run(&["verify", "--json"]).json();
    if by_path["together"]["watched"] == true {
        // What the rehearsal reads is the host's still: reading is not starting.
        let told = by_path["verdicts"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["finding"]["finding"] == "undeclared")
            .unwrap();
        let named = serde_json::json!({ "program": "SANDBOX/bin/anemometer", "by": "plank" });
        assert_eq!(told["finding"]["programs"][0], named, "{told}");
    }
    // Declared, both are what is meant.
    for how in ["by-name", "by-path"] {
        sandbox.write("catalog/rehearsals/wind.toml", &step(how).replace("reads", "calls = [\"anemometer\"]\nreads"));
        assert!(sandbox.run(&["verify"]).passed().stdout.contains("wind"));
    }
}
