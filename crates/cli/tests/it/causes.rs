//! Why a real archive's programs do not run here, told with what mends it, before anything of it was run.

use std::fs;

use kladder_pack::Entry;

use crate::sandbox::{Sandbox, not_tested};

const DEFINITION: &str = "commands = { plank = \"bin/plank\" }";

/// A program of this host, as it is and with some of its words replaced by others of the same length.
fn program(changes: &[(&str, &str)]) -> Vec<u8> {
    let file = ["/bin/true", "/usr/bin/true"].iter().find_map(|path| fs::read(path).ok()).unwrap();
    changes.iter().fold(file, |mut bytes, (from, to)| {
        assert_eq!(from.len(), to.len());
        let places: Vec<usize> =
            bytes.windows(from.len()).enumerate().filter(|(_, w)| *w == from.as_bytes()).map(|(at, _)| at).collect();
        assert!(!places.is_empty(), "this host's program does not have {from}");
        for at in places {
            bytes[at..at + to.len()].copy_from_slice(to.as_bytes());
        }
        bytes
    })
}

/// What a climb over an archive with these entries complains about, as one line.
fn complaint(entries: &[Entry], more: &str) -> String {
    let sandbox = Sandbox::new();
    sandbox.write(
        "catalog/tools/tidewater.toml",
        "tool = \"tidewater\"\nsummary = \"A library\"\nprovides = [\"libt.so.6\"]\n",
    );
    sandbox.plank("plank.tar", entries, &[DEFINITION, "\n", more].concat());
    sandbox.wish("plank = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert_ne!(ran.code, 0, "{}", ran.stdout);
    assert_eq!(sandbox.run(&["--json"]).passed().json()["landing"], serde_json::Value::Null);
    ran.stderr.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A check that would leave a trace if it was run.
const CHECK: &str = "[[checks]]\nrun = [\"plank\"]\nexpect = { stdout = \"never\" }";

#[test]
#[cfg(target_os = "linux")]
fn what_the_loader_would_refuse_is_told_before_the_first_check() {
    let whole = program(&[]);
    let version = b"GLIBC_2.34\0";
    if !whole.windows(version.len()).any(|window| window == version) {
        not_tested("this host's programs have no GLIBC_2.34");
        return;
    }
    let newer = complaint(&[Entry::program("bin/plank", program(&[("GLIBC_2.34\0", "GLIBC_2.99\0")]))], CHECK);
    let told = "it wants a C library of 2.99 or newer; this host has 2.";
    assert!(newer.contains(told) && newer.contains("`c-library = \"gnu >=2.99\"` under [[gates]]"), "{newer}");
    assert!(newer.contains("would refuse to start") && !newer.contains("nothing like `never`"), "{newer}");
    let library = complaint(&[Entry::program("bin/plank", program(&[("libc.so.6\0", "libt.so.6\0")]))], "");
    assert!(library.contains("nobody here provides the library libt.so.6; in the catalog tidewater does"), "{library}");
    let loader = complaint(&[Entry::program("bin/plank", program(&[("/ld-linux", "/ld-tidal")]))], "");
    assert!(loader.contains("its interpreter /lib") && loader.contains("ld-tidal"), "{loader}");
    // One that brings its library along is fine, and so is one that needs nothing new.
    let own = program(&[("libc.so.6\0", "libt.so.6\0")]);
    let maps = fs::read_to_string("/proc/self/maps").unwrap();
    let libc = maps.split_whitespace().find(|word| word.ends_with("/libc.so.6")).unwrap();
    let sandbox = Sandbox::new();
    let entries = [Entry::program("bin/plank", own), Entry::program("lib/libt.so.6", fs::read(libc).unwrap())];
    sandbox.plank(
        "plank.tar",
        &entries,
        &[DEFINITION, "\nvariables = { LD_LIBRARY_PATH = \"{folder}/lib\" }"].concat(),
    );
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
}

#[test]
fn scripts_without_their_interpreter_and_links_that_became_text_are_known() {
    let script = |text: &str| complaint(&[Entry::program("bin/plank", text)], "");
    assert!(script("#!/opt/tidal/sh\n").contains("its interpreter /opt/tidal/sh is not there"));
    assert!(script("#!/usr/bin/env tidal\n").contains("its interpreter tidal is not there"));
    let lost = [Entry::program("bin/plank", "../lib/plank"), Entry::program("lib/plank", "#!/bin/sh\n")];
    assert!(complaint(&lost, "").contains("bin/plank should be a link to ../lib/plank"));
}

#[test]
fn a_wrong_strip_is_told_with_the_one_that_would_do() {
    let sandbox = Sandbox::new();
    let entries = [Entry::file("plank-1.0/bin/plank", "#!/bin/sh\n"), Entry::file("plank-1.0/README", "")];
    sandbox.plank("plank.tar", &entries, DEFINITION);
    sandbox.edit("catalog/tools/plank.toml", "[{ file = ", "[{ unpack = { strip = 2 }, file = ");
    sandbox.wish("plank = \"any\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 21 && ran.stderr.contains("at the archive's top: plank-1.0"), "{} {}", ran.code, ran.stderr);
    sandbox.edit("catalog/tools/plank.toml", "strip = 2", "strip = 1");
    assert!(ran.stderr.contains("`strip = 1` under `unpack`"), "{}", ran.stderr);
    let _ = sandbox.run(&["climb"]).passed();
}

/// Libraries and a program, built as real ones are: the program wants `libtide`, which wants `libmoon`.
#[cfg(target_os = "linux")]
fn built(folder: &std::path::Path) -> [Vec<u8>; 3] {
    let cc = |source: &str, out: &str, more: &[&str]| {
        let file = folder.join(format!("{out}.c"));
        fs::write(&file, source).unwrap();
        let mut cc = std::process::Command::new("cc");
        cc.current_dir(folder).arg(&file).args(["-o", out]).args(more);
        assert!(cc.status().unwrap().success(), "the C compiler that links Rust programs cannot make {out}");
        fs::read(folder.join(out)).unwrap()
    };
    let moon = cc("int moon(void) { return 28; }", "libmoon.so.1", &["-shared", "-fPIC", "-Wl,-soname,libmoon.so.1"]);
    let tide = "int moon(void); int tide(void) { return moon() / 2; }";
    let wants = ["-shared", "-fPIC", "-Wl,-soname,libtide.so.1", "-Wl,-rpath,$ORIGIN", "libmoon.so.1"];
    let tide = cc(tide, "libtide.so.1", &wants);
    let main = "#include <stdio.h>\nint tide(void); int main(void) { printf(\"plank %d\\n\", tide()); return 0; }";
    let program = cc(main, "plank", &["-Wl,-rpath,$ORIGIN/../lib", "-Wl,-rpath-link,.", "libtide.so.1"]);
    [program, tide, moon]
}

#[test]
#[cfg(target_os = "linux")]
fn libraries_are_found_where_the_program_says_and_missed_wherever_they_lie() {
    let folder = tempfile::tempdir().unwrap();
    let [program, tide, moon] = built(folder.path());
    let plank = || Entry::program("bin/plank", program.clone());
    let check = "[[checks]]\nrun = [\"plank\"]\nexpect = { stdout = \"plank 14\" }";
    let sandbox = Sandbox::new();
    let all = [plank(), Entry::file("lib/libtide.so.1", tide.clone()), Entry::file("lib/libmoon.so.1", moon.clone())];
    sandbox.plank("plank.tar", &all, &[DEFINITION, "\n", check].concat());
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank 14\n");
    // The library that a library wants is missed as well, and each once.
    let without_moon = complaint(&[plank(), Entry::file("lib/libtide.so.1", tide)], check);
    assert!(without_moon.contains("nobody provides the library libmoon.so.1"), "{without_moon}");
    assert!(!without_moon.contains("library libtide"), "{without_moon}");
    let without_tide = complaint(&[plank(), Entry::file("lib/libmoon.so.1", moon.clone())], check);
    assert_eq!(without_tide.matches("nobody provides the library libtide.so.1").count(), 1, "{without_tide}");
    // A library that a rung below brings counts, even where the program itself would not look.
    let sandbox = Sandbox::new();
    let lib = [
        Entry::file("lib/libtide.so.1", fs::read(folder.path().join("libtide.so.1")).unwrap()),
        Entry::file("lib/libmoon.so.1", moon),
    ];
    sandbox.plank("tide.tar", &lib, "");
    let below = sandbox.read("catalog/tools/plank.toml").replace("\"plank\"", "\"tidewater\"");
    sandbox.write("catalog/tools/tidewater.toml", &below);
    let paths = "variables = { LD_LIBRARY_PATH = \"/nowhere\" }";
    sandbox.plank("plank.tar", &[plank()], &[DEFINITION, "\n", paths].concat());
    sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"1.0\"\nneeds = { tidewater = \"any\" }");
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
}

#[test]
fn deep_looks_at_what_no_command_starts_and_remembers_what_it_saw() {
    let sandbox = Sandbox::new();
    let entries = [
        Entry::program("plank", "#!/bin/sh\n"),
        Entry::program("share/sound.rc", "#!/no/such/rc\n"),
        Entry::program("share/well", "#!/usr/bin/env sh\n"),
        // No program, whatever it says.
        Entry::file("share/note", "#!/no/such/note\n"),
    ];
    sandbox.plank("plank.tar.gz", &entries, "commands = { plank = \"plank\" }");
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["verify"]).passed();
    let deep = || sandbox.run(&["verify", "--deep"]);
    let told = |ran: &crate::sandbox::Ran| {
        assert!(ran.code == 30, "{}", ran.complaint());
        assert!(ran.stdout.contains("share/sound.rc wants the interpreter /no/such/rc"), "{}", ran.stdout);
        assert!(ran.stdout.contains("1 file could not") && !ran.stdout.contains("share/note"), "{}", ran.stdout);
    };
    told(&deep());
    // The second time it is remembered; whatever stands there instead is looked at anew.
    let all = crate::sandbox::walkdir(&sandbox.path("home/data"));
    let record = all.into_iter().find(|path| path.ends_with("loaded.json")).unwrap();
    told(&deep());
    for text in ["", "{", "{\"format\": 9}"] {
        fs::write(&record, text).unwrap();
        told(&deep());
    }
    fs::remove_file(&record).unwrap();
    fs::create_dir(&record).unwrap();
    told(&deep());
    sandbox.edit("catalog/tools/plank.toml", "commands", "does-without = [\"/no/such/rc\"]\ncommands");
    let _ = deep().passed();
}

#[test]
fn variables_that_mislead_programs_are_named_unless_the_ladder_sets_them() {
    let sandbox = Sandbox::new();
    let definition = "misled-by = [\"PLANK_HOME\"]\ncommands = { plank = \"plank\" }\n";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], definition);
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let verify = |name: &str, value: &str| {
        let output = sandbox.command(&["verify"]).env(name, value).output().unwrap();
        sandbox.finished(output)
    };
    let _ = verify("PLANK_HOME", "").passed();
    let misled = verify("PLANK_HOME", "/elsewhere");
    assert!(misled.code == 30 && misled.stdout.contains("PLANK_HOME changes what plank does"), "{}", misled.stdout);
    let loader = verify("LD_LIBRARY_PATH", "/elsewhere");
    assert!(loader.stdout.contains("LD_LIBRARY_PATH changes what every program loads"), "{}", loader.stdout);
    sandbox.edit("catalog/tools/plank.toml", "commands", "variables.PLANK_HOME = \"{folder}\"\ncommands");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = verify("PLANK_HOME", "/elsewhere").passed();
}
