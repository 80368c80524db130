//! The code that a ladder wants: repositories and archives in one folder.

use std::fs;
use std::path::Path;
use std::process::Command;

use kladder_core::base::digest;
use kladder_pack::{Entry, Format, pack};
use snapbox::{assert_data_eq, str};

use crate::sandbox::{Sandbox, not_tested};

fn git(folder: &Path, arguments: &[&str]) -> String {
    let who = ["-c", "user.name=A Keeper", "-c", "user.email=keeper@harbour.example", "-c", "init.defaultBranch=main"];
    let mut command = Command::new("git");
    command.current_dir(folder).args(who).args(arguments).env_clear().env("PATH", "/usr/bin:/bin:/usr/local/bin");
    let output = command.env("HOME", "/nonexistent").output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {output:?}");
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

/// A sandbox with a repository of two commits, a tag and a branch; the first commit's number.
fn with_repository() -> (Sandbox, String) {
    let sandbox = Sandbox::new();
    let folder = sandbox.path("origin");
    fs::create_dir(&folder).unwrap();
    git(&folder, &["init", "--quiet"]);
    sandbox.write("origin/level.skw", "one");
    git(&folder, &["add", "."]);
    git(&folder, &["commit", "--quiet", "-m", "one"]);
    let first = git(&folder, &["rev-parse", "HEAD"]);
    git(&folder, &["tag", "v1"]);
    sandbox.write("origin/level.skw", "two");
    git(&folder, &["commit", "--quiet", "-am", "two"]);
    git(&folder, &["branch", "calm"]);
    sandbox.write("origin/level.skw", "three");
    git(&folder, &["commit", "--quiet", "-am", "three"]);
    (sandbox, first)
}

fn has_git() -> bool {
    let there = ["/usr/bin/git", "/usr/local/bin/git", "/bin/git"].iter().any(|path| Path::new(path).exists());
    if !there {
        not_tested("there is no git");
    }
    there
}

#[test]
fn code_is_brought_once_and_what_is_there_is_left_alone() {
    if !has_git() {
        return;
    }
    let (sandbox, first) = with_repository();
    let archive = sandbox.path("yard/charts.tar.gz");
    pack(Format::of_name("charts.tar.gz").unwrap(), &[Entry::file("charts-2/sound.txt", "deep")], &archive).unwrap();
    let (sha256, _) = digest::of_file(&archive).unwrap();
    let ladder = |more: &str| {
        format!(
            "[ladder]\ncatalog = \"../catalog\"\n[rungs]\ntombolet = \"any\"\n[code]\nfolder = \"~/code\"\n[code.sources]\n\
             newest = {{ repository = \"../origin\" }}\ncalm = {{ repository = \"../origin\", branch = \"calm\" }}\n\
             tagged = {{ repository = \"../origin\", tag = \"v1\" }}\n\
             first = {{ repository = \"{}\", commit = \"{first}\" }}\n\
             charts = {{ archive = \"charts.tar.gz\", sha256 = \"{sha256}\", strip = 1 }}\n{more}",
            sandbox.path("origin").display()
        )
    };
    sandbox.write("desk/ladder.toml", &ladder(""));
    sandbox.write("user/code/newest/mine.txt", "mine");
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(
        route.contains("The code of newest is in") && route.contains("The code of calm comes from ../origin"),
        "{route}"
    );
    let _ = sandbox.run(&["climb"]).passed();
    let read = |path: &str| fs::read_to_string(sandbox.path("user/code").join(path)).unwrap_or_default();
    assert_eq!(
        ["calm/level.skw", "tagged/level.skw", "first/level.skw", "charts/sound.txt"].map(read),
        ["two", "one", "one", "deep"]
    );
    assert_eq!((read("newest/mine.txt").as_str(), read("newest/level.skw").as_str()), ("mine", ""));
    // The code's own build can be a rehearsal, which runs where the code is, and not in `verify`.
    let built = "rehearsal = \"built\"\nsummary = \"The code builds\"\ntools = [\"tombolet\"]\ncode = \"tagged\"\n\
                 steps = [{ run = [\"/bin/sh\", \"-c\", \"cat level.skw > built\"] }]\n";
    sandbox.write("catalog/rehearsals/built.toml", built);
    assert!(!sandbox.run(&["verify"]).passed().stdout.contains("rehearsal built"));
    let rehearsed = sandbox.run(&["rehearse", "built"]).passed().stdout;
    assert!(rehearsed.contains("passed") && read("tagged/built") == "one", "{rehearsed}");
    fs::rename(sandbox.path("user/code/tagged"), sandbox.path("aside")).unwrap();
    assert!(sandbox.run(&["rehearse", "built"]).stderr.contains("`kladder climb` brings it"));
    fs::rename(sandbox.path("aside"), sandbox.path("user/code/tagged")).unwrap();
    // Version control is told who works here, where nothing in its own settings says so.
    assert!(!sandbox.path("user/.gitconfig").exists());
    let settings = sandbox.read("home/config/config.toml");
    sandbox.write(
        "home/config/config.toml",
        &format!("{settings}[identity]\nname = \"A Keeper\"\nemail = \"keeper@harbour.example\"\n"),
    );
    sandbox.write("user/.gitconfig", "[user]\n\tname = Another\n");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.read("user/.gitconfig"), "[user]\n\tname = Another\n", "what is there is shown and kept");
    fs::remove_file(sandbox.path("user/.gitconfig")).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.read("user/.gitconfig"), "[user]\n\temail = keeper@harbour.example\n\tname = A Keeper\n");
    // A second time nothing is done, and what was taken away comes again.
    fs::write(sandbox.path("user/code/calm/level.skw"), "changed by hand").unwrap();
    fs::remove_dir_all(sandbox.path("user/code/tagged")).unwrap();
    let again = sandbox.run(&["climb", "--json"]).json();
    let states: Vec<_> = again["code"].as_array().unwrap().iter().map(|code| code["state"].as_str().unwrap()).collect();
    assert_eq!((states[0], states[1], states[3], states[4]), ("there", "there", "there", "brought"), "{again}");
    assert_eq!(read("calm/level.skw"), "changed by hand");
}

#[test]
fn what_cannot_be_brought_is_told_and_keeps_nothing_else() {
    if !has_git() {
        return;
    }
    let (sandbox, _) = with_repository();
    let sources = "gone = { repository = \"../nowhere\" }\nnamed = { repository = \"../origin\", branch = \"storm\" }\n\
                   good = { repository = \"../origin\" }\nfar = { repository = \"https://harbour.example/far\" }\n";
    let head = "[ladder]\ncatalog = \"../catalog\"\n[rungs]\ntombolet = \"any\"\n[code]\nfolder = \"code\"\n";
    sandbox.write("desk/ladder.toml", &format!("{head}[code.sources]\n{sources}"));
    let _ = sandbox.run(&["pin"]).passed();
    let ran = sandbox.run(&["climb", "--offline", "--yard", "../yard"]);
    assert_eq!(ran.code, 20, "{}", ran.stderr);
    assert_data_eq!(
        ran.stdout.split("\n\n").nth(2).unwrap_or_default().to_owned() + "\n",
        str![[r#"
  code   folder
  far    code/far    not brought: nothing may be fetched
  gone   code/gone   not brought: fatal: repository 'SANDBOX/desk/../nowhere' does not exist
  good   code/good   brought
  named  code/named  not brought: fatal: Remote branch storm not found in upstream origin
`kladder climb` tries far, gone and named again.
Use its tools with `kladder run -- CMD`, or put them into your shells with `kladder wire`.


"#]]
    );
    assert_eq!(sandbox.read("desk/code/good/level.skw"), "three");
    let names: Vec<_> =
        fs::read_dir(sandbox.path("desk/code")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(names, ["good"], "nothing unfinished is left");
    // The folder is made even with nothing to be in it.
    sandbox.write("desk/ladder.toml", &head.replace("\"code\"", "\"empty\""));
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.path("desk/empty").is_dir());
}

#[test]
fn without_version_control_nothing_is_pinned() {
    let sandbox = Sandbox::new();
    let ladder = "[ladder]\ncatalog = \"../catalog\"\n[rungs]\ntombolet = \"any\"\n[code]\nfolder = \"code\"\n[code.sources]\na = { repository = \"../a\" }\n";
    sandbox.write("desk/ladder.toml", ladder);
    let pin = sandbox.command(&["pin"]).env("PATH", sandbox.path("bin")).output().unwrap();
    assert_data_eq!(
        sandbox.finished(pin).complaint(),
        str![[r#"
exit 12
kladder: the ladder wants code from repositories, and nothing has the command `git`
  why    `[code.sources]` in the ladder asks for them
  next   install it on this host, or take the repositories out of the ladder

"#]]
    );
    // A rung that has it will do.
    sandbox.plank("plank.tar.gz", &[Entry::program("git", "#!/bin/sh\n")], "commands = { git = \"git\" }");
    let pin = sandbox.command(&["pin"]).env("PATH", sandbox.path("bin")).output().unwrap();
    assert!(sandbox.finished(pin).stderr.contains("kladder add plank"));
    sandbox.write("desk/ladder.toml", &ladder.replace("tombolet", "plank"));
    let pin = sandbox.command(&["pin"]).env("PATH", sandbox.path("bin")).output().unwrap();
    let _ = sandbox.finished(pin).passed();
}

#[test]
fn a_bale_takes_the_code_along_for_a_machine_that_reaches_nobody() {
    if !has_git() {
        return;
    }
    let (sandbox, first) = with_repository();
    let ladder = format!(
        "[ladder]\ncatalog = \"../catalog\"\n[rungs]\ntombolet = \"any\"\n[code]\nfolder = \"code\"\n[code.sources]\n\
         newest = {{ repository = \"../origin\" }}\ncalm = {{ repository = \"../origin\", branch = \"calm\" }}\n\
         first = {{ repository = \"../origin\", commit = \"{first}\" }}\n"
    );
    sandbox.write("desk/ladder.toml", &ladder);
    let _ = sandbox.run(&["bale", "../tides.bale"]).passed();
    let bytes = fs::read(sandbox.path("tides.bale")).unwrap();
    let _ = sandbox.run(&["bale", "../tides.bale"]).passed();
    assert_eq!(fs::read(sandbox.path("tides.bale")).unwrap(), bytes, "the same contents are the same bytes");
    let listed = sandbox.run(&["bale", "../tides.bale", "--list"]).passed().stdout;
    assert_eq!(listed.matches("the ladder's code").count(), 1, "one repository, once: {listed}");

    fs::rename(sandbox.path("origin"), sandbox.path("far-away")).unwrap();
    let there = |name: &str, bale: &str| {
        let desk = sandbox.path(&format!("{name}/desk"));
        fs::create_dir_all(&desk).unwrap();
        let mut command = sandbox.command(&["climb", "--from", bale, "--offline"]);
        command.current_dir(desk).env("KLADDER_HOME", sandbox.path(&format!("{name}/home")));
        sandbox.finished(command.output().unwrap())
    };
    let _ = there("there", "../../tides.bale").passed();
    let read = |path: &str| sandbox.read(&format!("there/desk/code/{path}/level.skw"));
    assert_eq!([read("newest"), read("calm"), read("first")], ["three", "two", "one"]);
    let origin = git(&sandbox.path("there/desk/code/newest"), &["remote", "get-url", "origin"]);
    assert!(origin.ends_with("../origin"), "{origin}");
    // A bundle that is damaged is told, and keeps nothing else away.
    let at = bytes.windows(20).position(|window| window.starts_with(b"# v2 git bundle")).unwrap();
    let mut damaged = bytes.clone();
    damaged[at + 40] ^= 1;
    fs::write(sandbox.path("damaged.bale"), damaged).unwrap();
    let told = sandbox.run(&["bale", "../damaged.bale", "--check"]);
    assert!(told.code == 21 && told.stdout.contains("of the ladder's code"), "{}", told.complaint());
    let told = there("elsewhere", "../../damaged.bale");
    assert!(told.code == 20 && told.stdout.contains("not brought"), "{}", told.complaint());
    assert!(sandbox.path("elsewhere/desk/code").is_dir());

    // Where it cannot be had when the bale is made, that is told.
    let told = sandbox.run(&["bale", "../none.bale"]);
    assert!(told.code == 20 && told.stderr.contains("--without-code"), "{}", told.complaint());
    let _ = sandbox.run(&["bale", "../none.bale", "--without-code"]).passed();
}
