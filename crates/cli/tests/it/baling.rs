//! Bales and yards: what a ladder needs, carried to machines that have nothing.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use kladder_core::base::digest::Digest;

use crate::sandbox::{Ran, Sandbox};

const DESK: &str = "skerroc = \"1.4\"\ntidlow = { series = \"long-term\", pieces = [\"tracer\"] }";

/// A machine with a home of its own, no yard and no settings.
struct There<'s> {
    sandbox: &'s Sandbox,
    name: &'static str,
}

impl There<'_> {
    fn folder(&self) -> PathBuf {
        self.sandbox.path(self.name)
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        let desk = self.folder().join("desk");
        fs::create_dir_all(&desk).unwrap();
        let mut command = self.sandbox.command(arguments);
        command
            .current_dir(desk)
            .env("KLADDER_HOME", self.folder().join("home"))
            .env("HOME", self.folder().join("user"));
        self.sandbox.finished(command.output().unwrap())
    }

    fn read(&self, file: &str) -> String {
        fs::read_to_string(self.folder().join("desk").join(file)).unwrap()
    }
}

fn baled(sandbox: &Sandbox, arguments: &[&str]) -> Ran {
    sandbox.run(&[&["bale", "../tides.bale"], arguments].concat()).passed()
}

#[test]
fn a_bale_is_everything_that_a_machine_without_a_network_needs() {
    let sandbox = Sandbox::new();
    sandbox.wish(DESK);
    let told = baled(&sandbox, &[]);
    assert!(told.stdout.contains("kladder climb --from BALE"), "{}", told.stdout);
    let bytes = fs::read(sandbox.path("tides.bale")).unwrap();
    // Again, from a cache that has all and where all of it stands, it is the same; and nothing is left beside it.
    let _ = sandbox.run(&["climb"]).passed();
    let _ = baled(&sandbox, &[]);
    assert_eq!(fs::read(sandbox.path("tides.bale")).unwrap(), bytes);
    assert!(!sandbox.path("tides.bale.part").exists());

    let there = There { sandbox: &sandbox, name: "there" };
    let told = there.run(&["climb", "--from", "../../tides.bale"]).passed();
    assert!(told.stdout.contains("landing 1"), "{}", told.stdout);
    let version = there.run(&["run", "--", "skerroc", "--version"]).passed();
    assert!(version.stdout.contains("1.4"), "{}", version.stdout);
    let _ = there.run(&["verify", "--offline"]).passed();
    assert_eq!(there.read("ladder.pinned.toml"), sandbox.read("desk/ladder.pinned.toml"));
    // What it came out of is remembered: what is damaged comes from there again.
    let shelf = there.folder().join("home/data/shelf");
    let plain = |entry: &walkdir::DirEntry| entry.file_type().is_file() && entry.path().ends_with("bin/skerroc");
    let damaged = walkdir::WalkDir::new(shelf).into_iter().map(Result::unwrap).find(plain).unwrap();
    fs::remove_dir_all(there.folder().join("home/cache")).unwrap();
    fs::set_permissions(damaged.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    fs::write(damaged.path(), "#!/bin/sh\nexit 1\n").unwrap();
    let told = there.run(&["climb"]).passed();
    assert!(told.stdout.contains("brought anew"), "{}", told.stdout);

    // Unpacked by the plain archiver it is a ladder and a yard.
    let plain = sandbox.path("plain");
    fs::create_dir(&plain).unwrap();
    let tar = std::process::Command::new("tar").args(["-xf", "../tides.bale"]).current_dir(&plain).status().unwrap();
    assert!(tar.success());
    let mut command = sandbox.command(&["climb", "--offline", "--yard", "../yard"]);
    command.current_dir(plain.join("ladder")).env("KLADDER_HOME", plain.join("home"));
    let _ = sandbox.finished(command.output().unwrap()).passed();
}

#[test]
fn a_later_bale_has_what_is_new_and_takes_the_place_of_the_earlier_one_alone() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let _ = baled(&sandbox, &[]);
    sandbox.wish(DESK);
    let told = sandbox.run(&["bale", "../more.bale", "--since", "../tides.bale"]).passed();
    assert!(told.stdout.contains("that the other bale has"), "{}", told.stdout);
    let listed = sandbox.run(&["bale", "../more.bale", "--list", "--json"]).passed().json();
    let paths = |key: &str| -> Vec<String> {
        listed[key].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap().to_owned()).collect()
    };
    assert!(paths("elsewhere").iter().any(|path| path.contains("skerroc")), "{listed}");
    assert!(paths("files").iter().any(|path| path.contains("tracer")), "{listed}");
    assert!(!paths("files").iter().any(|path| path.contains("yard/skerroc")), "{listed}");

    let there = There { sandbox: &sandbox, name: "there" };
    let _ = there.run(&["climb", "--from", "../../tides.bale"]).passed();
    let alone = There { sandbox: &sandbox, name: "alone" };
    let told = alone.run(&["climb", "--from", "../../more.bale"]);
    assert!(told.code != 0 && told.stderr.contains("could not be fetched"), "{}", told.complaint());
    let _ = alone.run(&["climb", "--from", "../../tides.bale", "--from", "../../more.bale"]).passed();

    // Over there it takes the place of what the earlier one put there, and of nothing that a person wrote.
    let _ = there.run(&["climb", "--from", "../../more.bale"]).passed();
    assert!(there.read("ladder.toml").contains("tracer"));
    let own = there.read("ladder.toml").replace("skerroc = \"1.4\"", "skerroc = \"any\"");
    fs::write(there.folder().join("desk/ladder.toml"), &own).unwrap();
    let told = there.run(&["climb", "--from", "../../tides.bale"]);
    assert_eq!(told.code, 35, "{}", told.complaint());
    for part in ["there is another ladder in", "desk/ladder.toml is not what the bale has", "--replace"] {
        assert!(told.stderr.contains(part), "{part}: {}", told.stderr);
    }
    assert_eq!(there.read("ladder.toml"), own);
    let _ = there.run(&["climb", "--from", "../../tides.bale", "--replace"]).passed();
    assert_eq!(there.read("ladder.toml.before"), own);
    assert!(!there.read("ladder.toml").contains("tracer"));
    // A machine of the ladder, by its name.
    let told = sandbox.run(&["bale", "../x.bale", "--for", "nobody"]);
    assert!(told.code == 2 && told.stderr.contains("it is pinned for PLATFORM"), "{}", told.complaint());
}

#[test]
fn volumes_are_one_bale_and_a_missing_or_damaged_part_harms_itself_alone() {
    let sandbox = Sandbox::new();
    sandbox.wish(DESK);
    let heavy: Vec<u8> =
        (0..3_000_000_u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).take(2_500_000).collect();
    let entries = [
        kladder_pack::Entry::file("data", heavy),
        kladder_pack::Entry::program("bin/plank", "#!/bin/sh\necho plank 1.0\n"),
    ];
    sandbox.plank("plank.tar", &entries, "commands.plank = \"bin/plank\"");
    sandbox.edit("desk/ladder.toml", "[rungs]", "[rungs]\nplank = \"any\"");
    let _ = baled(&sandbox, &["--volume", "1 MB"]);
    let volume = |number: usize| sandbox.path(&format!("tides.bale.{number}"));
    assert!(volume(3).exists() && !volume(4).exists() && !sandbox.path("tides.bale").exists());
    let told = sandbox.run(&["bale", "../tides.bale", "--check"]).passed();
    assert!(told.stdout.contains("are whole"), "{}", told.stdout);
    let whole = There { sandbox: &sandbox, name: "whole" };
    let _ = whole.run(&["climb", "--from", "../../tides.bale.1"]).passed();
    let together: Vec<u8> = (1..4).flat_map(|number| fs::read(volume(number)).unwrap()).collect();

    // Without one of them the rest can be climbed, and what is missing is fetched from elsewhere, where that can be.
    fs::rename(volume(2), sandbox.path("kept")).unwrap();
    let told = sandbox.run(&["bale", "../tides.bale", "--check"]);
    assert!(
        told.code == 21 && told.stdout.contains("yard/plank.tar, of plank 1.0"),
        "{}{}",
        told.stdout,
        told.complaint()
    );
    assert!(told.stdout.contains("tides.bale.2"), "{}", told.stdout);
    let lacking = There { sandbox: &sandbox, name: "lacking" };
    let told = lacking.run(&["climb", "--from", "../../tides.bale"]);
    assert!(told.code != 0 && told.stderr.contains("tides.bale.2"), "{}", told.complaint());
    assert!(told.stdout.contains("skerroc"), "what is whole stands: {}", told.stdout);
    let yard = sandbox.path("yard").display().to_string();
    let _ = lacking.run(&["climb", "--from", "../../tides.bale", "--yard", &yard]).passed();

    // Of one file, the same, and a byte of an artifact that is another one.
    let at = together.windows(6).rposition(|bytes| bytes == b"ustar\0").unwrap();
    fs::write(sandbox.path("one.bale"), &together).unwrap();
    let file = fs::File::options().write(true).open(sandbox.path("one.bale")).unwrap();
    file.write_all_at(b"?", at as u64 + 400).unwrap();
    let told = sandbox.run(&["bale", "../one.bale", "--check", "--json"]);
    let damaged = &told.json()["damaged"];
    assert_eq!((told.code, damaged.as_array().unwrap().len()), (21, 1), "{damaged}");
    let path = damaged[0]["path"].as_str().unwrap().to_owned();
    let hurt = There { sandbox: &sandbox, name: "hurt" };
    let told = hurt.run(&["climb", "--from", "../../one.bale"]);
    assert!(told.code == 21 && told.stderr.contains(path.trim_start_matches("yard/")), "{path}: {}", told.complaint());
}

#[test]
fn what_is_no_bale_or_would_lead_out_of_it_is_refused() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let _ = baled(&sandbox, &[]);
    let bytes = fs::read(sandbox.path("tides.bale")).unwrap();
    let there = There { sandbox: &sandbox, name: "there" };
    let told = |bytes: &[u8], part: &str| {
        fs::write(sandbox.path("other.bale"), bytes).unwrap();
        let told = there.run(&["climb", "--from", "../../other.bale"]);
        assert!(told.code != 0 && told.stderr.contains(part), "{part}: {}", told.complaint());
        assert!(told.stderr.contains("other.bale"), "{}", told.complaint());
        let listed = sandbox.run(&["bale", "../other.bale", "--list"]);
        let is_of_one_file = ["no ladder", "ladder.pinned.toml is damaged"].contains(&part);
        assert_eq!(listed.code, if is_of_one_file { 0 } else { told.code }, "{}", listed.complaint());
        let left = walkdir::WalkDir::new(there.folder().join("desk")).into_iter().count();
        assert_eq!(left, 1, "something was written: {part}");
    };
    told(b"", "this is no bale");
    told(&[0; 4096], "this is no bale");
    told(&bytes[..300], "this is no bale");
    told(&bytes[..700], "ends too early");
    told(&bytes[512..], "this is no bale");
    told(&bytes[..700], "copy it anew from where it was made");
    let size = usize::from_str_radix(std::str::from_utf8(&bytes[124..135]).unwrap(), 8).unwrap();
    let index = std::str::from_utf8(&bytes[512..512 + size]).unwrap();
    // An index that somebody wrote anew, digest and all.
    let with = |old: &str, new: &str| {
        assert!(index.contains(old), "{old}");
        let text = index.replacen(old, new, 1);
        let (before, rest) = text.split_once("whole = \"").unwrap();
        let after = rest.split_once('"').unwrap().1;
        let digest = Digest::of(format!("{before}whole = \"\"{after}").as_bytes());
        let text = format!("{before}whole = \"{digest}\"{after}");
        let mut header = tar::Header::from_byte_slice(&bytes[..512]).clone();
        header.set_size(text.len() as u64);
        header.set_cksum();
        let padded = [text.as_bytes(), &vec![0; text.len().next_multiple_of(512) - text.len()]].concat();
        [header.as_bytes().as_slice(), &padded, &bytes[512 + size.next_multiple_of(512)..]].concat()
    };
    told(
        &bytes.iter().enumerate().map(|(at, byte)| if at == 700 { b'?' } else { *byte }).collect::<Vec<_>>(),
        "damaged",
    );
    for path in ["../ladder.toml", "/ladder.toml", "ladder/../../x", "ladder//x", "index.toml"] {
        told(&with("\"ladder/ladder.toml\"", &format!("\"{path}\"")), "cannot be the path of a file in it");
    }
    told(&with("format = 1", "format = 9"), "reads up to 1");
    told(
        &with("[files]\n", "[files]\n\"a\" = { size = 18446744073709551, sha256 = \"\" }\n"),
        "the bale cannot be used",
    );
    told(&with("\"ladder/ladder.toml\"", "\"yard/ladder.toml\""), "no ladder");
    told(
        &with("\"ladder/ladder.pinned.toml\" = { size = ", "\"ladder/ladder.pinned.toml\" = { size = 1"),
        "ladder.pinned.toml is damaged",
    );
    assert!(Path::new(&there.folder().join("desk")).read_dir().unwrap().next().is_none());
}

#[test]
fn a_machine_with_a_shell_alone_begins_with_what_the_bale_brings() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let _ = baled(&sandbox, &["--with-kladder", "--volume", "20 MB", "--program", "macos/aarch64=ladder.toml"]);
    let fresh = sandbox.path("fresh");
    fs::create_dir(&fresh).unwrap();
    let shell = |script: &str| {
        let mut command = std::process::Command::new("/bin/sh");
        command.args(["-c", script]).current_dir(&fresh).env_clear().env("PATH", "/usr/bin:/bin");
        command.env("HOME", fresh.join("user")).env("KLADDER_HOME", fresh.join("home"));
        sandbox.finished(command.output().unwrap())
    };
    let _ = shell("tar -xf ../tides.bale.1 begin 2>/dev/null; sh begin ../tides.bale").passed();
    let told = shell("user/.local/bin/kladder run -- skerroc --version").passed();
    assert!(told.stdout.contains("1.4"), "{}", told.stdout);
    let told = shell("sh begin ../nothing");
    assert!(told.code == 1 && told.stderr.contains("there is no kladder for"), "{}", told.complaint());
}

#[test]
fn a_yard_has_what_the_pins_need_and_tells_what_it_lacks() {
    let sandbox = Sandbox::new();
    sandbox.wish(DESK);
    let fill = ["yard", "fill", "../served"];
    // Two at once.
    let both = [sandbox.start(&fill), sandbox.start(&fill)];
    for one in both {
        let _ = sandbox.finished(one.wait_with_output().unwrap()).passed();
    }
    let again = sandbox.run(&[&fill[..], &["--json"]].concat()).passed().json();
    assert_eq!(again["new"], 0);
    let _ = sandbox.run(&["yard", "check", "../served"]).passed();
    let names: Vec<_> = fs::read_dir(sandbox.path("served")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(names.iter().all(|name| !name.to_string_lossy().starts_with('.')), "{names:?}");
    let there = There { sandbox: &sandbox, name: "there" };
    fs::create_dir_all(there.folder().join("desk")).unwrap();
    for file in ["ladder.toml", "ladder.pinned.toml"] {
        fs::copy(sandbox.path("desk").join(file), there.folder().join("desk").join(file)).unwrap();
    }
    let catalog = sandbox.path("catalog").display().to_string();
    let _ = there.run(&["climb", "--yard", "../../served", "--catalog", &catalog]).passed();

    let file = |start: &str| {
        let name = names.iter().find(|name| name.to_string_lossy().starts_with(start)).unwrap();
        sandbox.path("served").join(name)
    };
    let bytes = fs::read(file("skerroc")).unwrap();
    fs::write(file("skerroc"), vec![b'?'; bytes.len()]).unwrap();
    fs::remove_file(file("tidlow-tracer")).unwrap();
    let told = sandbox.run(&["yard", "check", "../served"]);
    assert_eq!(told.code, 21, "{}", told.complaint());
    assert!(
        told.stdout.contains("its bytes are others") && told.stdout.contains("it does not have the file"),
        "{}",
        told.stdout
    );
    let told = sandbox.run(&["yard", "check", "../served", "--mend"]).passed();
    assert!(told.stdout.contains("Brought 2 files anew"), "{}", told.stdout);
    assert_eq!(fs::read(file("skerroc")).unwrap(), bytes);
    // One file by two names is in a yard twice, and in a bale once.
    let double = |second: &str| {
        let text = sandbox.read("catalog/tools/tombolet.toml");
        let other = text.replace("tool = \"tombolet\"", "tool = \"packer\"").replace("tombolet-", second);
        sandbox.write(
            "catalog/tools/packer.toml",
            &other.replace("{ tombolet =", "{ packer =").replace("[\"tombolet\",", "[\"packer\","),
        );
        for entry in fs::read_dir(sandbox.path("yard")).unwrap().map(Result::unwrap) {
            let name = entry.file_name().into_string().unwrap();
            if let Some(rest) = name.strip_prefix("tombolet-") {
                fs::copy(entry.path(), sandbox.path("yard").join([second, rest].concat())).unwrap();
            }
        }
    };
    double("packer-");
    sandbox.wish("tombolet = \"1.1\"\npacker = \"1.1\"");
    let _ = sandbox.run(&["yard", "fill", "../both"]).passed();
    let both = fs::read_dir(sandbox.path("both")).unwrap().count();
    assert_eq!(both, 2);
    let _ = sandbox.run(&["bale", "../both.bale"]).passed();
    let listed = sandbox.run(&["bale", "../both.bale", "--list"]).passed().stdout;
    assert_eq!(listed.matches("yard/").count(), 1, "{listed}");
    let alone = There { sandbox: &sandbox, name: "alone" };
    let _ = alone.run(&["climb", "--from", "../../both.bale"]).passed();
    // A server likewise; one that is not there is told for each file.
    let _ = sandbox.run(&["yard", "check", &sandbox.yard.url()]).passed();
    let told = sandbox.run(&["yard", "check", "../nothing"]);
    assert!(told.code == 20 && told.stdout.contains("the folder cannot be read"), "{}", told.complaint());
}
