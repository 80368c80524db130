//! The launcher as it stands in a landing: under the name of a command, beside a table.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use kladder_launch::ladders::{Identity, Ladders, Project};
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
        called: None,
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
    assert!(text(&damaged.stderr).contains("it is not a launch table of format 4; `kladder climb` writes it anew"));
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

/// A home with the folder that is put into shells, a workstation's ladder and a project's.
struct Wired(tempfile::TempDir);

impl Wired {
    fn new() -> Self {
        let root = tempfile::Builder::new().prefix("a home ").tempdir().unwrap();
        let wired = Self(root);
        for folder in ["wired/commands", "project/deep", "own/landings/1", "its/landings/1", "host"] {
            fs::create_dir_all(wired.path(folder)).unwrap();
        }
        fs::write(wired.path("project/ladder.toml"), "").unwrap();
        let folder = wired.path("project");
        let project = Project { identity: Identity::of(&folder), folder, landings: wired.path("its") };
        let ladders = Ladders { own: Some(wired.path("own")), projects: vec![project] };
        fs::write(wired.path("wired/ladders.table"), ladders.to_bytes()).unwrap();
        wired
    }

    fn path(&self, below: &str) -> PathBuf {
        self.0.path().canonicalize().unwrap().join(below)
    }

    /// A landing whose only command says where it is from.
    fn land(&self, ladder: &str, number: u32, command: &str) {
        let folder = self.path(&format!("{ladder}/landings/{number}"));
        fs::create_dir_all(&folder).unwrap();
        let says = format!("echo {ladder} {number} $FROM; test \"$FROM\" = {number}");
        let variables = vec![("FROM".into(), number.to_string().into())];
        let table = Table { up: 0, variables, entries: vec![shell(command, &["-c", &says])] };
        fs::write(folder.join(TABLE), table.to_bytes()).unwrap();
        let (new, link) = (self.path(&format!("{ladder}/new")), self.path(&format!("{ladder}/current")));
        std::os::unix::fs::symlink(format!("landings/{number}"), &new).unwrap();
        fs::rename(new, link).unwrap();
        let (source, command) = (self.path("launcher"), self.path("wired/commands").join(command));
        if !command.exists() {
            fs::write(&source, PROGRAM).unwrap();
            assert!(Command::new("cp").arg(&source).arg(&command).status().unwrap().success());
            fs::set_permissions(command, fs::Permissions::from_mode(0o555)).unwrap();
        }
    }

    fn host(&self, folder: &str, name: &str) {
        let file = self.path(folder).join(name);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        let script = "#!/bin/sh\necho host \"$0\" \"$@\"\n";
        let written = Command::new("sh").args(["-c", "printf %s \"$1\" > \"$2\"", "sh", script]).arg(&file).status();
        assert!(written.unwrap().success());
        fs::set_permissions(file, fs::Permissions::from_mode(0o755)).unwrap();
    }

    fn run(&self, name: &str, folder: &str, path: &[&str]) -> Output {
        let path = std::env::join_paths(path.iter().map(|folder| self.path(folder))).unwrap();
        let command = self.path("wired/commands").join(name);
        Command::new(command).current_dir(self.path(folder)).env("PATH", path).output().unwrap()
    }
}

#[test]
fn the_nearest_ladder_that_was_climbed_answers_then_the_workstations_own_then_the_rest_of_path() {
    let wired = Wired::new();
    wired.land("own", 1, "scc");
    wired.land("its", 4, "scc");
    let said = |name: &str, folder: &str, path: &[&str]| text(&wired.run(name, folder, path).stdout);
    assert_eq!(said("scc", "project/deep", &[]), "its 4 4\n");
    assert_eq!(said("scc", "host", &[]), "own 1 1\n");
    // A folder with a ladder that nobody climbed changes nothing, whatever its file says.
    fs::write(wired.path("host/ladder.toml"), "nonsense").unwrap();
    assert_eq!(said("scc", "host", &[]), "own 1 1\n");
    // What the project lacks is the workstation's; what both lack is the next on PATH, and never one of the launchers.
    wired.land("its", 5, "else");
    assert_eq!(said("scc", "project", &[]), "own 1 1\n");
    wired.land("own", 2, "other");
    wired.host("host", "scc");
    wired.host("before", "scc");
    let path = ["before", "wired/commands", "wired/commands", "host"];
    let called = wired.run("scc", "project", &path);
    assert!(text(&called.stdout).starts_with("host ") && text(&called.stdout).contains("/host/scc"), "{called:?}");
    let nobody = wired.run("scc", "project", &["wired/commands"]);
    assert_eq!(nobody.status.code(), Some(127));
    assert!(text(&nobody.stderr).contains("there is no command `scc`"), "{nobody:?}");
    // One that is broken says which climb to run.
    fs::write(wired.path("its/landings/5/launch.table"), "").unwrap();
    let broken = wired.run("else", "project", &[]);
    assert_eq!(broken.status.code(), Some(126));
    let climb = format!("`kladder climb` in {} writes it anew", wired.path("project").display());
    assert!(text(&broken.stderr).contains(&climb), "{broken:?}");
}

#[test]
fn two_wired_folders_never_hand_a_command_back_and_forth() {
    let (one, other) = (Wired::new(), Wired::new());
    for wired in [&one, &other] {
        wired.land("own", 1, "scc");
        wired.land("own", 2, "else");
    }
    let both = std::env::join_paths([one.path("wired/commands"), other.path("wired/commands")]).unwrap();
    let ran = Command::new(one.path("wired/commands/scc")).env("PATH", both).output().unwrap();
    assert_eq!(ran.status.code(), Some(127));
}

#[test]
fn while_landings_switch_every_start_gets_a_whole_one() {
    let wired = Wired::new();
    wired.land("own", 1, "scc");
    let done = std::sync::atomic::AtomicBool::new(false);
    let all = std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut number = 1;
            while !done.load(std::sync::atomic::Ordering::Relaxed) {
                number += 1;
                wired.land("own", number, "scc");
                if number > 3 {
                    let _ = fs::remove_dir_all(wired.path(&format!("own/landings/{}", number - 2)));
                }
                std::thread::sleep(std::time::Duration::from_micros(300));
            }
        });
        let starts: Vec<_> = (0..4)
            .map(|_| scope.spawn(|| (0..100).filter(|_| !wired.run("scc", "host", &[]).status.success()).count()))
            .collect();
        let failed: usize = starts.into_iter().map(|start| start.join().unwrap()).sum();
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        failed
    });
    assert_eq!(all, 0);
}

#[test]
fn a_tool_sees_the_name_it_was_called_by_beside_its_own_files() {
    let landing = Landing::with(Vec::new());
    landing.put("ping-pong");
    let program = Entry {
        command: "ping-pong".into(),
        program: "/bin/sh".into(),
        ..shell("show", &["-c", "tr '\\0' ' ' < /proc/$$/cmdline"])
    };
    fs::write(landing.path().join(TABLE), Table { up: 0, variables: Vec::new(), entries: vec![program] }.to_bytes())
        .unwrap();
    let ran = landing.run("ping-pong", &[], "/usr/bin:/bin");
    assert!(text(&ran.stdout).starts_with("/bin/ping-pong -c"), "{ran:?}");
}

/// Starts a wired command that becomes a shell with a script.
fn wired_shell(script: &str) -> (Wired, Command) {
    let wired = Wired::new();
    wired.land("own", 1, "tool");
    let table = Table { up: 0, variables: Vec::new(), entries: vec![shell("tool", &["-c", script, "tool"])] };
    fs::write(wired.path("own/landings/1/launch.table"), table.to_bytes()).unwrap();
    let mut command = Command::new(wired.path("wired/commands/tool"));
    command.current_dir(wired.path("host")).env("PATH", "/usr/bin:/bin");
    (wired, command)
}

#[test]
fn signals_reach_the_tool_and_its_end_is_the_launchers() {
    use std::os::unix::process::ExitStatusExt;
    // Not HUP: where the tests run without a terminal it is often ignored already, and a tool inherits that.
    for (script, wanted) in [("kill -TERM $$", 15), ("kill -KILL $$", 9), ("kill -ALRM $$", 14)] {
        let (_wired, mut command) = wired_shell(script);
        assert_eq!(command.status().unwrap().signal(), Some(wanted), "{script}");
    }
    // From outside: the launcher has become the tool, so its number is the tool's.
    let (_wired, mut command) =
        wired_shell("trap 'echo caught; exit 3' TERM; echo ready $$; while :; do sleep 0.01; done");
    let mut child = command.stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    assert_eq!(lines.next().unwrap().unwrap(), format!("ready {}", child.id()));
    assert!(Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap().success());
    assert_eq!(lines.next().unwrap().unwrap(), "caught");
    assert_eq!(child.wait().unwrap().code(), Some(3));
    for code in [0, 1, 77, 126, 127, 255] {
        let (_wired, mut command) = wired_shell(&format!("exit {code}"));
        assert_eq!(command.status().unwrap().code(), Some(code));
    }
}

#[test]
fn streams_and_arguments_pass_whatever_their_bytes() {
    use std::io::Write;
    use std::os::unix::ffi::OsStrExt;
    let (_wired, mut command) = wired_shell("cat; printf '%s|' \"$@\"; echo oh >&2");
    let odd = std::ffi::OsStr::from_bytes(b"caf\xe9 \xff");
    command.arg(odd).arg("").arg("a\nb").arg("-x").arg("--").arg("*");
    command
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    let bytes: Vec<u8> = (0..=255u8).cycle().take(100_000).collect();
    let (mut input, sent) = (child.stdin.take().unwrap(), bytes.clone());
    let writing = std::thread::spawn(move || input.write_all(&sent).unwrap());
    let output = child.wait_with_output().unwrap();
    writing.join().unwrap();
    assert!(output.stdout.starts_with(&bytes));
    assert_eq!(&output.stdout[bytes.len()..], b"caf\xe9 \xff||a\nb|-x|--|*|");
    assert_eq!(text(&output.stderr), "oh\n");
    // A pipe that nobody reads ends the tool as it would without a launcher.
    let (_wired, mut command) = wired_shell("while :; do echo more; done");
    let mut child = command.stdout(std::process::Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert!(!child.wait().unwrap().success());
}

#[test]
fn a_thousand_starts_at_once_are_all_right() {
    let (wired, _) = wired_shell("test \"$1\" = \"$2\"");
    let failed: usize = std::thread::scope(|scope| {
        let starts: Vec<_> = (0..20)
            .map(|thread| {
                let path = wired.path("wired/commands/tool");
                scope.spawn(move || {
                    let start = |at: usize| {
                        let word = format!("{thread} {at}");
                        Command::new(&path)
                            .args([&word, &word])
                            .env("PATH", "/usr/bin:/bin")
                            .status()
                            .unwrap()
                            .success()
                    };
                    (0..50).filter(|at| !start(*at)).count()
                })
            })
            .collect();
        starts.into_iter().map(|start| start.join().unwrap()).sum()
    });
    assert_eq!(failed, 0);
}

#[test]
fn a_folder_that_is_gone_or_cannot_be_told_has_the_workstations_ladder() {
    let wired = Wired::new();
    wired.land("own", 1, "scc");
    wired.land("its", 1, "scc");
    fs::create_dir(wired.path("leaving")).unwrap();
    let script = "rmdir ../leaving && exec \"$1\"";
    let mut gone = Command::new("/bin/sh");
    gone.args(["-c", script, "sh"]).arg(wired.path("wired/commands/scc")).current_dir(wired.path("leaving"));
    let ran = gone.env("PATH", "/usr/bin:/bin").output().unwrap();
    assert_eq!(text(&ran.stdout), "own 1 1\n", "{ran:?}");
    // The ladder's own file went; its landings do not count any more.
    fs::remove_file(wired.path("project/ladder.toml")).unwrap();
    assert_eq!(text(&wired.run("scc", "project", &[]).stdout), "own 1 1\n");
    // No ladder at all, and a table that nobody can read.
    fs::write(wired.path("wired/ladders.table"), Ladders::default().to_bytes()).unwrap();
    assert_eq!(wired.run("scc", "project", &[]).status.code(), Some(127));
    fs::write(wired.path("wired/ladders.table"), "kladder ladders table 9\n").unwrap();
    let newer = wired.run("scc", "project", &[]);
    assert_eq!(newer.status.code(), Some(126));
    assert!(text(&newer.stderr).contains("it is not a table of ladders; `kladder climb` writes it anew"), "{newer:?}");
}
