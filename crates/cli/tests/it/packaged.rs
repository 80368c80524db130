//! A tool out of a Debian archive, with what its package depends on: entered, climbed, and entered again when it moves on.

use std::fmt::Write as _;
use std::time::{Duration, Instant};

use kladder_core::base::digest::Digest;
use kladder_pack::{Entry, Format, pack};
use kladder_yard::{Fault, Rule, Settings, Yard};

use crate::sandbox::Sandbox;

const DEFINITION: &str = r#"tool = "plank"
summary = "A tool made by a test"
origins = ["index:harbour/plank"]
unpack = { layout = "debian", absolute-links = "leave-out" }
commands = { plank = "bin/plank" }
[[checks]]
run = ["plank"]
expect = { stdout = 'plank (?<version>\S+)' }
"#;

/// A package: its name, its version, its processor, what it depends on, and what is in it.
struct Package<'p> {
    name: &'p str,
    version: &'p str,
    processor: &'p str,
    depends: &'p str,
    entries: Vec<Entry>,
}

fn plank(version: &str, processor: &'static str) -> Package<'static> {
    let upstream = version.split('-').next().unwrap().rsplit(':').next().unwrap();
    let script =
        format!("#!/bin/sh\nhere=$(dirname \"$0\")/..\ntest -f \"$here/libs/libnail.so.2\" && echo plank {upstream}\n");
    Package {
        name: "plank",
        version: Box::leak(version.to_owned().into_boxed_str()),
        processor,
        depends: "libnail2 (>= 2.0), debconf, rope | string, no\"\nname",
        entries: vec![
            Entry::program("./usr/bin/plank", script),
            Entry::file("./usr/share/doc/plank/changelog", "much"),
            Entry::link("./usr/share/plank/conf", "/etc/plank"),
        ],
    }
}

fn nail(version: &'static str, processor: &'static str) -> Package<'static> {
    let folder = if processor == "amd64" { "x86_64" } else { "aarch64" };
    let path = format!("./usr/lib/{folder}-linux-gnu/libnail.so.2");
    Package { name: "libnail2", version, processor, depends: "libc6", entries: vec![Entry::file(&path, version)] }
}

fn rope(version: &'static str) -> Package<'static> {
    Package {
        name: "rope",
        version,
        processor: "all",
        depends: "plank",
        entries: vec![Entry::file("./usr/share/rope/a", "a")],
    }
}

/// Publishes packages, unsigned.
fn publish(sandbox: &Sandbox, packages: &[Package<'_>]) {
    let mut release = "Suite: calm\nCodename: calm\nSHA256:\n".to_owned();
    std::fs::create_dir_all(sandbox.path("archive/pool")).unwrap();
    for processor in ["amd64", "arm64"] {
        let mut list = String::new();
        for Package { name, version, processor: of, depends, entries } in packages {
            if *of != processor && *of != "all" {
                continue;
            }
            let file = format!("pool/{name}_{}_{of}.deb", version.rsplit(':').next().unwrap());
            let path = sandbox.path("archive").join(&file);
            pack(Format::Deb, entries, &path).unwrap();
            let bytes = std::fs::read(path).unwrap();
            let depends = depends.replace('\n', "\n ");
            let _ = write!(
                list,
                "Package: {name}\nVersion: {version}\nArchitecture: {of}\nDepends: {depends}\nFilename: {file}\nSize: {}\nSHA256: {}\n\n",
                bytes.len(),
                Digest::of(&bytes)
            );
        }
        let place = format!("main/binary-{processor}/Packages");
        let _ = writeln!(release, " {} {} {place}", Digest::of(list.as_bytes()), list.len());
        sandbox.write(&format!("archive/dists/calm/{place}"), &list);
    }
    sandbox.write("archive/dists/calm/InRelease", &release);
}

fn scene(packages: &[Package<'_>]) -> (Sandbox, Yard) {
    let sandbox = Sandbox::new();
    let _ = std::fs::remove_dir_all(sandbox.path("catalog/tools"));
    let _ = std::fs::remove_dir_all(sandbox.path("catalog/presets"));
    let _ = std::fs::remove_dir_all(sandbox.path("catalog/rehearsals"));
    sandbox.write("catalog/tools/plank.toml", DEFINITION);
    let head = sandbox.read("catalog/catalog.toml");
    let yards = head.lines().find(|line| line.starts_with("yards")).unwrap();
    sandbox.edit("catalog/catalog.toml", yards, "yards = []");
    publish(&sandbox, packages);
    let server = Yard::serve(&sandbox.path("archive"), ([127, 0, 0, 1], 0).into()).unwrap();
    config(&sandbox, &server, ", unsigned = true");
    (sandbox, server)
}

fn config(sandbox: &Sandbox, server: &Yard, more: &str) {
    let index = format!(
        "kind = \"debian\", address = \"{}\", suites = [\"calm\"], components = [\"main\"]{more}",
        server.url()
    );
    sandbox.write("home/config/config.toml", &format!("[indexes]\nharbour = {{ {index} }}\n"));
}

#[test]
fn a_package_comes_with_what_it_depends_on_and_moves_on_with_it() {
    let both = ["amd64", "arm64"];
    let mut packages: Vec<Package<'_>> = both.map(|of| plank("1:1.0-2", of)).into();
    packages.extend(both.map(|of| nail("2.1-1", of)));
    packages.push(rope("0.9-1"));
    let (sandbox, server) = scene(&packages);
    assert!(sandbox.run(&["catalog", "look"]).passed().stdout.contains("plank  none         1.0"));
    let entered = sandbox.run(&["catalog", "enter", "plank", "1.0", "--as-listed"]).passed().stdout;
    // What only the system's package manager needs is left out, and so is what is no name; what is nobody's is told.
    assert!(entered.contains("libc6") && entered.contains("has no file of this version"), "{entered}");
    assert!(!entered.contains("debconf") && !entered.contains("name\""), "{entered}");
    let text = sandbox.read("catalog/tools/plank.toml");
    assert_eq!(text.matches("for = [\"linux/x86_64\"]").count(), 1);
    for file in ["plank_1.0-2_amd64.deb", "libnail2_2.1-1_amd64.deb", "libnail2_2.1-1_arm64.deb", "rope_0.9-1_all.deb"]
    {
        assert!(text.contains(&format!("file = \"{file}\"")), "{file}: {text}");
    }
    assert!(sandbox.run(&["catalog", "try"]).passed().stdout.contains("all of them stand"));
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank 1.0\n");

    // The archive moves on: what was pinned is still in its pool, and the index has another version.
    packages.extend(both.map(|of| plank("1:1.1-1", of)));
    packages.extend(both.map(|of| nail("2.2-1", of)));
    publish(&sandbox, &packages);
    let entered = sandbox.run(&["catalog", "enter", "plank", "1.1"]).passed().stdout;
    assert!(entered.contains("libnail2_2.2-1_amd64.deb") && entered.contains("hashed here"), "{entered}");
    let text = sandbox.read("catalog/tools/plank.toml");
    let (new, old) = text.split_at(text.rfind("[[releases]]\n").unwrap());
    assert!(
        new.contains("libnail2_2.2-1") && !new.contains("libnail2_2.1-1") && old.contains("libnail2_2.1-1"),
        "{text}"
    );
    assert_eq!(new.matches("origins = [\"index:harbour/libnail2\"]").count(), 2, "{new}");
    let newer = sandbox.run(&["newer", "--take"]).passed().stdout;
    assert!(newer.contains("1.1"), "{newer}");
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank 1.1\n");
    drop(server);
}

#[test]
fn an_archive_that_nobody_vouches_for_is_refused_unless_that_is_said() {
    let (sandbox, server) = scene(&[plank("1.0-1", "amd64"), nail("2.0-1", "amd64")]);
    let _ = sandbox.run(&["catalog", "enter", "plank", "1.0", "--as-listed"]).passed();
    sandbox.wish("plank = \"any\"");
    config(&sandbox, &server, "");
    let refused = sandbox.run(&["climb"]);
    assert!(refused.code == 20 && refused.stderr.contains("is not vouched for"), "{}", refused.complaint());
    assert!(refused.stderr.contains("`keyring` there names others"), "{}", refused.complaint());
    config(&sandbox, &server, ", unsigned = true");
    let _ = std::fs::remove_dir_all(sandbox.path("home/cache"));
    // A list that is not the one of the release, and a package that is not the one of the list.
    let list = sandbox.read("archive/dists/calm/main/binary-amd64/Packages");
    sandbox.write("archive/dists/calm/main/binary-amd64/Packages", &list.replace("Version: 1.0-1", "Version: 1.0-9"));
    let refused = sandbox.run(&["climb"]);
    assert!(refused.stderr.contains("its bytes are not those that InRelease vouches for"), "{}", refused.complaint());
    sandbox.write("archive/dists/calm/main/binary-amd64/Packages", &list);
    let package = sandbox.path("archive/pool/plank_1.0-1_amd64.deb");
    let good = std::fs::read(&package).unwrap();
    std::fs::write(&package, good.iter().rev().copied().collect::<Vec<u8>>()).unwrap();
    let refused = sandbox.run(&["climb"]);
    assert!(refused.code == 21, "{}", refused.complaint());
    std::fs::write(&package, good).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
}

#[test]
fn an_archive_that_does_not_answer_is_told_with_its_address() {
    let (sandbox, server) = scene(&[plank("1.0-1", "amd64"), nail("2.0-1", "amd64")]);
    let _ = sandbox.run(&["catalog", "enter", "plank", "1.0", "--as-listed"]).passed();
    drop(server);
    // An index that does not answer is told with its address, and climbs end soon.
    sandbox.wish("plank = \"any\"");
    let text = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/config.toml", &format!("{text}[network]\nretries = 0\npatience = 2\n"));
    let refused = sandbox.run(&["climb"]);
    assert!(refused.code == 20 && refused.stderr.contains("did not answer"), "{}", refused.complaint());
    assert!(refused.stderr.contains("dists/calm/InRelease"), "{}", refused.complaint());
}

#[test]
fn an_index_that_is_down_is_not_waited_for_once_for_each_file() {
    let (sandbox, server) = scene(&[plank("1.0-1", "amd64"), nail("2.0-1", "amd64")]);
    let _ = sandbox.run(&["catalog", "enter", "plank", "1.0", "--as-listed"]).passed();
    let text = sandbox.read("catalog/tools/plank.toml");
    let unsized_ones: Vec<&str> = text.lines().filter(|line| !line.starts_with("size")).collect();
    let one = unsized_ones.join("\n");
    // Many tools of which no size is known, behind an index that says nothing for a long time.
    let mut wishes = String::new();
    for number in 0..20 {
        let name = format!("plank{number}");
        let digest = Digest::of(name.as_bytes()).to_string();
        let own = one
            .lines()
            .map(|line| if line.starts_with("sha256") { format!("sha256 = \"{digest}\"") } else { line.to_owned() });
        let own = own.collect::<Vec<_>>().join("\n").replace("tool = \"plank\"", &format!("tool = \"{name}\""));
        sandbox.write(
            &format!("catalog/tools/{name}.toml"),
            &own.replace("commands = { plank =", &format!("commands = {{ {name} =")),
        );
        let _ = writeln!(wishes, "{name} = \"any\"");
    }
    drop(server);
    let stalls = Settings {
        folder: sandbox.path("archive"),
        rules: vec![Rule::new("", Fault::Stall(Duration::from_secs(30)))],
        ..Settings::default()
    };
    let stalling = Yard::with(stalls, ([127, 0, 0, 1], 0).into()).unwrap();
    config(&sandbox, &stalling, ", unsigned = true");
    let text = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/config.toml", &format!("{text}[network]\nretries = 0\npatience = 1\n"));
    let _ = std::fs::remove_dir_all(sandbox.path("home/cache"));
    sandbox.wish(&wishes);
    let begun = Instant::now();
    let pinned = sandbox.run(&["pin"]).passed().stdout;
    assert!(pinned.contains("is not known") && pinned.contains("did not answer"), "{pinned}");
    assert!(begun.elapsed() < Duration::from_mins(2), "{:?}", begun.elapsed());
    assert!(stalling.requests() <= 4, "{}", stalling.requests());
}
