//! What the host has: several copies, beside PATH, and things that are no commands.

use std::io::{BufRead, BufReader};
use std::process::Stdio;

use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::{Ran, Sandbox, not_tested};

/// A catalog with the tool `plank`, which the host may have in many ways and the catalog has at 1.0.
fn planks(sandbox: &Sandbox) {
    let definition = r#"commands = { plank = "bin/plank", peg = "bin/peg" }
variables.PLANK_ROOT = "{folder}"
[host]
command = "plank"
places = ["$YARD_OF_PLANKS/plank-*", "~/plank", { in = "$YARD_OF_PLANKS/installed", like = '(?m)^at=(?<place>.+)$' }]
ask = ["-v"]
version = 'plank (?<version>[0-9.]+)'"#;
    sandbox.plank(
        "plank.tar.gz",
        &[program("bin/plank", "echo plank 1.0"), program("bin/peg", "echo a peg")],
        definition,
    );
}

fn program(path: &str, script: &str) -> Entry {
    Entry::program(path, format!("#!/bin/sh\n{script}\n"))
}

fn install(sandbox: &Sandbox, file: &str, script: &str) {
    sandbox.write(file, &format!("#!/bin/sh\n{script}\n"));
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(sandbox.path(file), mode).unwrap();
}

/// A run with the variable that the definition looks at.
fn run(sandbox: &Sandbox, arguments: &[&str]) -> Ran {
    let mut command = sandbox.command(arguments);
    command.env("YARD_OF_PLANKS", sandbox.path("yard-of-planks")).stdin(Stdio::null());
    sandbox.finished(command.output().unwrap())
}

fn pinned(sandbox: &Sandbox, wish: &str) -> String {
    sandbox.wish(wish);
    let _ = std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml"));
    let ran = run(sandbox, &["pin"]);
    assert_eq!(ran.code, 0, "{}", ran.complaint());
    let pins = sandbox.read("desk/ladder.pinned.toml").replace(&sandbox.path("").display().to_string(), "SANDBOX/");
    let lines = pins.lines().filter(|line| line.starts_with("version") || line.starts_with("host"));
    lines.collect::<Vec<_>>().join("; ")
}

#[test]
fn each_copy_on_the_host_is_a_candidate_with_its_version() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    install(&sandbox, "bin/plank", "echo plank 2.5");
    install(&sandbox, "yard-of-planks/plank-a/bin/plank", "echo plank 2.9");
    install(&sandbox, "yard-of-planks/plank-b/bin/plank", "echo plank 2.10");
    install(&sandbox, "elsewhere/planks/plank", "echo plank 3.1");
    sandbox.write(
        "yard-of-planks/installed",
        &format!("at={}\nat=/nowhere\n", sandbox.path("elsewhere/planks").display()),
    );
    // The same file by another way is no other copy, and what says nothing is none.
    std::os::unix::fs::symlink("plank-b", sandbox.path("yard-of-planks/plank-c")).unwrap();
    install(&sandbox, "yard-of-planks/plank-d/bin/plank", "exit 1");
    // A folder that happens to be called so is none either.
    sandbox.write("yard-of-planks/plank-9.9/readme", "");

    let prefer = |range: &str| pinned(&sandbox, &format!("plank = {{ version = \"{range}\", host = \"prefer\" }}"));
    assert_eq!(prefer("any"), r#"version = "2.5"; host = "SANDBOX/bin/plank""#);
    assert_eq!(prefer(">2.5, <3"), r#"version = "2.10"; host = { folder = "SANDBOX/yard-of-planks/plank-b" }"#);
    assert_eq!(prefer("=2.9"), r#"version = "2.9"; host = { folder = "SANDBOX/yard-of-planks/plank-a" }"#);
    assert_eq!(prefer("3"), r#"version = "3.1"; host = { folder = "SANDBOX/elsewhere/planks" }"#);
    assert_eq!(
        pinned(&sandbox, "plank = \"any\""),
        r#"version = "1.0""#,
        "the catalog's own comes first unless it is said"
    );
    sandbox.wish("plank = { version = \"4\", host = \"only\" }");
    assert_data_eq!(
        run(&sandbox, &["pin"]).complaint(),
        str![[r#"
exit 11
kladder: this host has no plank 4
  where  ladder.toml, line 5, column 9
         5 | plank = { version = "4", host = "only" }
           |         ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
  why    it has 2.5 (SANDBOX/bin/plank)
         it has 3.1 (SANDBOX/elsewhere/planks)
         it has 2.10 (SANDBOX/yard-of-planks/plank-b)
         it has 2.9 (SANDBOX/yard-of-planks/plank-a)
         SANDBOX/yard-of-planks/plank-d is there, and its version is not known: it ended with status 1
  next   install it with the system's own means, or wish for something else

"#]]
    );
}

#[test]
fn a_copy_off_path_is_launched_with_its_variables_and_looked_at_again() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    install(&sandbox, "yard-of-planks/plank-a/bin/plank", "echo plank 2.9; echo $PLANK_ROOT");
    sandbox.wish("plank = { host = \"only\" }");
    let climbed = run(&sandbox, &["climb"]).passed().stdout;
    assert!(climbed.contains("the host's own, SANDBOX/yard-of-planks/plank-a"), "{climbed}");
    let ran = run(&sandbox, &["run", "--", "plank"]).passed().stdout;
    assert_eq!(ran, "plank 2.9\nSANDBOX/yard-of-planks/plank-a\n");
    // A command that this copy does not have is none.
    assert_eq!(run(&sandbox, &["run", "--", "peg"]).code, 127);
    assert_eq!(run(&sandbox, &["verify"]).code, 0);
    assert_eq!(run(&sandbox, &["climb"]).passed().stdout, "All rungs stand: landing 1 is what the pins say.\n");

    install(&sandbox, "yard-of-planks/plank-a/bin/plank", "exit 7");
    sandbox.wish("plank = { host = \"prefer\" }");
    let silent = run(&sandbox, &["climb"]).passed().stdout;
    assert!(silent.contains("which says no version any more: it ended with status 7; chosen anew."), "{silent}");
    assert_eq!(run(&sandbox, &["run", "--", "peg"]).passed().stdout, "a peg\n");
    // What the host has is no place on the shelf, and no less there to go back to.
    let _ = run(&sandbox, &["back", "1"]).passed();
    assert_eq!(run(&sandbox, &["run", "--", "plank"]).code, 7);
}

#[test]
fn what_is_behind_another_on_path_can_be_wished_for() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    install(&sandbox, "bin/plank", "echo plank 2.5");
    install(&sandbox, "older/plank", "echo plank 2.1");
    let run = |arguments: &[&str]| {
        let mut command = sandbox.command(arguments);
        let folders = [sandbox.path("bin"), sandbox.path("older"), "/usr/bin".into(), "/bin".into()];
        command.env("PATH", std::env::join_paths(folders).unwrap()).stdin(Stdio::null());
        sandbox.finished(command.output().unwrap())
    };
    sandbox.wish("plank = { version = \"2.1\", host = \"only\" }");
    let _ = run(&["climb"]).passed();
    assert_eq!(run(&["run", "--", "plank"]).passed().stdout, "plank 2.1\n");
    // Our own launcher is in front of PATH there, and no copy of the host's.
    let kladder = assert_cmd::cargo::cargo_bin!("kladder");
    let inside = run(&["run", "--", kladder.to_str().unwrap(), "pin", "--json"]).passed();
    assert_eq!(inside.json()["rungs"][0]["version"], "2.1", "{}", inside.stdout);
    sandbox.wish("plank = { host = \"only\" }");
    std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    let inside = run(&["run", "--", kladder.to_str().unwrap(), "pin", "--json"]).passed();
    assert_eq!(inside.json()["rungs"][0]["version"], "2.5", "{}", inside.stdout);
}

/// A library that only the host can have, and what brings it.
const LIBRARY: &str = r#"tool = "marrambit"
summary = "Library of the harbour"
[host]
library = "libmarrambit.so.3"
package = { ubuntu = "libmarrambit3", fedora = "marrambit-libs" }
[[gates]]
packages = { ubuntu = ["libmarrambit3", "libmarrambit-dev"] }
minutes = 1
"#;

const STATUS: &str = "Package: libmarrambit3\nStatus: install ok installed\nVersion: 1:3.2.1-4ubuntu1\n\n\
Package: libmarrambit-dev\nStatus: install ok installed\nVersion: 1:3.2.1-4ubuntu1\n";

#[test]
fn a_library_of_the_host_is_a_rung_that_an_administrator_brings() {
    let sandbox = Sandbox::new();
    sandbox.write("catalog/tools/marrambit.toml", LIBRARY);
    sandbox.wish("marrambit = \"3\"\ntombolet = \"any\"");
    let host = sandbox.host("guest-inside");
    sandbox.write("host/var/lib/dpkg/status", "Package: other\nStatus: install ok installed\nVersion: 1\n");
    let route = sandbox.run(&["route", &host]);
    assert_data_eq!(
        format!("{}\n{}", route.stdout, route.complaint()),
        str![[r#"

exit 11
kladder: this host has no marrambit 3
  where  ladder.toml, line 5, column 13
         5 | marrambit = "3"
           |             ^^^
  why    looked for: the library libmarrambit.so.3, the package marrambit-libs (fedora), the package libmarrambit3 (ubuntu)
  next   an administrator can bring it (the packages libmarrambit3, libmarrambit-dev (ubuntu), 1 minute): `kladder route --admin-script` prints the script
         `kladder climb --wait-for-chores` goes on by itself once it is there

"#]]
    );
    let script = sandbox.run(&["route", "--admin-script", &host]).passed().stdout;
    assert!(script.contains("libmarrambit3"), "{script}");

    sandbox.write("host/var/lib/dpkg/status", STATUS);
    let climbed = sandbox.run(&["climb", &host]).passed().stdout;
    assert!(climbed.contains("the host's own, the package libmarrambit3"), "{climbed}");
    assert!(sandbox.read("desk/ladder.pinned.toml").contains("host = { package = \"libmarrambit3\" }\n"));
    assert_eq!(sandbox.run(&["climb", &host]).passed().stdout, "All rungs stand: landing 1 is what the pins say.\n");

    // The loader's own file counts before the package, says its version by its name, and does not miss what would bring it.
    sandbox.write("host/usr/lib/x86_64-linux-gnu/libmarrambit.so.3.4.0", "");
    let soname = sandbox.path("host/usr/lib/x86_64-linux-gnu/libmarrambit.so.3");
    std::os::unix::fs::symlink("libmarrambit.so.3.4.0", soname).unwrap();
    sandbox.write("host/var/lib/dpkg/status", "");
    let moved = sandbox.run(&["climb", &host]).passed().stdout;
    assert!(
        moved.contains(
            "marrambit was pinned to 3.2.1 on this host, the package libmarrambit3, which is not what answers"
        ),
        "{moved}"
    );
    assert!(moved.contains("/usr/lib/x86_64-linux-gnu/libmarrambit.so.3 3.4.0 is; chosen anew."), "{moved}");
    let _ = sandbox.run(&["back", "1", &host]).passed();
    let _ = sandbox.run(&["landings", &host]).passed();
}

#[test]
fn a_climb_waits_for_what_only_the_host_can_have() {
    let sandbox = Sandbox::new();
    sandbox.write("catalog/tools/marrambit.toml", LIBRARY);
    sandbox.edit("catalog/tools/tombolet.toml", "kind = ", "needs = { marrambit = \">=3\" }\nkind = ");
    sandbox.wish("tombolet = \"any\"");
    let host = sandbox.host("guest-inside");
    sandbox.write("host/var/lib/dpkg/status", "");
    assert_data_eq!(
        sandbox.run(&["climb", &host]).complaint(),
        str![[r#"
exit 12
kladder: nothing meets the wish for tombolet
  where  ladder.toml, line 5, column 12
         5 | tombolet = "any"
           |            ^^^^^
  why    tombolet 1.1.0 down to 1.0.2 (3 releases) need marrambit >=3
         only this host could have marrambit, and has none that is >=3: looked for: the library libmarrambit.so.3, the package marrambit-libs (fedora), the package libmarrambit3 (ubuntu)
  next   an administrator can bring it (the packages libmarrambit3, libmarrambit-dev (ubuntu), 1 minute): `kladder route --admin-script` prints the script
         `kladder climb --wait-for-chores` goes on by itself once it is there
         leaving out tombolet on line 5 solves it

"#]]
    );
    assert!(sandbox.run(&["route", "--admin-script", &host]).passed().stdout.contains("libmarrambit3"));
    let mut climb = sandbox.start(&["climb", "--wait-for-chores", &host]);
    let mut told = String::new();
    BufReader::new(climb.stdout.as_mut().unwrap()).read_line(&mut told).unwrap();
    assert_eq!(told, "Waiting for packages (the packages libmarrambit3, libmarrambit-dev (ubuntu)).\n");
    sandbox.write("host/var/lib/dpkg/status", STATUS);
    let climbed = sandbox.finished(climb.wait_with_output().unwrap()).passed().stdout;
    assert!(climbed.contains("is at landing 1"), "{climbed}");
    // One that may be left out is not waited for, and what would bring it is handed over all the same.
    sandbox.write("host/var/lib/dpkg/status", "");
    sandbox.wish("marrambit = { version = \"3\", optional = true }\ntidlow = \"any\"");
    let without = sandbox.run(&["climb", "--wait-for-chores", &host]).passed().stdout;
    assert!(without.contains("is at landing 2"), "{without}");
    assert!(sandbox.run(&["route", "--admin-script", &host]).passed().stdout.contains("libmarrambit3"));
}

/// The script for each packager, run with stand-ins for its programs: what is missing is installed, what is there is passed over.
#[test]
fn the_script_asks_and_installs_in_the_words_of_each_packager() {
    let sandbox = Sandbox::new();
    let host = sandbox.host("guest-inside");
    sandbox.wish("marrambit = \"3\"");
    let systems = [
        ("debian", "dpkg-query", "apt-get"),
        ("fedora", "rpm", "dnf"),
        ("alpine", "apk", "apk"),
        ("arch", "pacman", "pacman"),
        ("opensuse", "rpm", "zypper"),
    ];
    for (system, asks, installs) in systems {
        let packages = format!("packages = {{ {system} = [\"libmarrambit3\", \"libmarrambit-dev\"] }}");
        let definition =
            LIBRARY.replace("packages = { ubuntu = [\"libmarrambit3\", \"libmarrambit-dev\"] }", &packages);
        sandbox.write("catalog/tools/marrambit.toml", &definition);
        sandbox.write("host/etc/os-release", &format!("ID={system}\n"));
        let script = sandbox.run(&["route", "--admin-script", &host]).passed().stdout;
        sandbox.write("admin.sh", &script);
        // A package is there once it was installed; asking says so by its status, or by what it prints.
        let stub = "for last; do :; done\ncase \"$*\" in *install*|*\" add \"*|\"-S \"*) echo \"$0 $*\" >>log; touch installed;; *) [ -e installed ] && echo installed;; esac";
        for program in [asks, installs] {
            install(&sandbox, &format!("{system}/{program}"), stub);
        }
        let run = || {
            let path = format!("{}:/usr/bin:/bin", sandbox.path(system).display());
            let mut command = std::process::Command::new("/bin/sh");
            let ran = command
                .arg(sandbox.path("admin.sh"))
                .env("PATH", path)
                .current_dir(sandbox.path(system))
                .output()
                .unwrap();
            assert!(ran.status.success(), "{system}: {}", String::from_utf8_lossy(&ran.stderr));
        };
        run();
        run();
        let log = sandbox.read(&format!("{system}/log"));
        assert_eq!(log.lines().count(), 1, "{system}: a second time does nothing\n{log}");
        assert!(
            log.contains(&format!("{system}/{installs} ")) && log.contains("libmarrambit3 libmarrambit-dev"),
            "{log}"
        );
    }
}

#[test]
fn a_kit_without_commands_says_its_version_in_a_file_or_by_its_name() {
    let sandbox = Sandbox::new();
    let kit = |host: &str| {
        let text = format!(
            "tool = \"gannick\"\nsummary = \"Headers\"\nvariables.GANNICK = \"{{folder}}/include\"\n[host]\nplaces = [\"~/kits/gannick-*\"]\n{host}\n"
        );
        sandbox.write("catalog/tools/gannick.toml", &text);
    };
    sandbox.write("user/kits/gannick-2.1/include/gannick.h", "#define GANNICK \"2.1.7\"\n");
    sandbox.write("user/kits/gannick-3.0/include/other.h", "");
    let climbed = |wish: &str| {
        sandbox.wish(wish);
        let _ = std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml"));
        let ran = sandbox.run(&["climb"]);
        assert_eq!(ran.code, 0, "{}", ran.complaint());
        sandbox.run(&["run", "--", "sh", "-c", "echo $GANNICK"]).passed().stdout
    };
    kit("");
    assert_eq!(climbed("gannick = \"any\""), "SANDBOX/user/kits/gannick-3.0/include\n");
    assert_eq!(climbed("gannick = \"2\""), "SANDBOX/user/kits/gannick-2.1/include\n");
    kit("read = \"include/gannick.h\"\nversion = 'GANNICK \"(?<version>[^\"]+)'");
    assert_eq!(climbed("gannick = \"any\""), "SANDBOX/user/kits/gannick-2.1/include\n");
    let without = sandbox.run(&["why", "gannick"]).passed().stdout;
    assert!(without.contains("2.1.7"), "{without}");
    let survey = sandbox.run(&["survey"]).passed().stdout;
    assert!(survey.contains("gannick") && survey.contains("it says no version"), "{survey}");
}

#[test]
fn a_strangers_program_is_not_run_to_ask_it() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    install(&sandbox, "yard-of-planks/plank-a/bin/plank", "touch ran; echo plank 2.9");
    let program = sandbox.path("yard-of-planks/plank-a/bin/plank");
    if std::os::unix::fs::chown(&program, Some(65_534), None).is_err() {
        return not_tested("only root can give a file to somebody else");
    }
    sandbox.wish("plank = { host = \"only\" }");
    let refused = run(&sandbox, &["pin"]);
    let told = "plank-a is there, and its version is not known: it belongs to another person, and is not run";
    assert!(refused.code == 11 && refused.stderr.contains(told), "{}", refused.complaint());
}
