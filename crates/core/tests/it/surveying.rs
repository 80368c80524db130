//! What is found out about hosts: six described ones, and tools that answer, hang, flood and crash.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use kladder_core::host::survey::{Guest, Host, Known, Odd, Survey, Untold, Virtualisation, facts, look};

fn host(root: &Path) -> Host {
    Host::new("/nowhere".into(), Path::new("/tmp")).described(root.to_path_buf())
}

fn described(name: &str) -> Survey {
    let root = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/hosts").join(name);
    facts(&host(&root), &[("shelf", "/shelf".into())])
}

/// Distribution and release, C library and version, memory in GB, logical processors, free disk in GB.
fn short(survey: &Survey) -> String {
    let (system, libc) = (&survey.system, survey.libc.as_ref());
    let text = |value: &Option<String>| value.clone().unwrap_or_else(|| "?".into());
    let libc = libc.map_or_else(|| "?".into(), |libc| format!("{} {}", libc.kind, text(&libc.version)));
    let memory = survey.memory.map_or(0, |memory| memory.total / 1_000_000_000);
    let free = survey.disks[0].free.unwrap_or(0) / 1_000_000_000;
    format!("{} {}, {libc}, {memory}, {}, {free}", text(&system.id), text(&system.release), survey.processor.count)
}

#[test]
fn six_hosts_are_told_apart() {
    let expected = [
        ("old-debian", "debian 10, gnu 2.28, 2, 2, 3", Guest::Metal),
        ("new-fedora", "fedora 44, gnu 2.42, 32, 8, 400", Guest::Metal),
        ("musl-alpine", "alpine 3.24.1, musl 1.2.6, 0, 1, 0", Guest::Machine("Made-up Machines".into())),
        ("guest-inside", "ubuntu 24.04, gnu 2.39, 8, 4, 50", Guest::Inside("windows".into())),
        ("graphics-desk", "debian 13, gnu 2.41, 65, 16, 900", Guest::Metal),
        ("bare", "? ?, ?, 0, 0, 0", Guest::Unknown),
    ];
    for (name, line, guest) in expected {
        let survey = described(name);
        assert_eq!((short(&survey).as_str(), &survey.guest), (line, &guest), "{name}");
    }
}

#[test]
fn rights_shells_and_sessions_come_from_the_described_user() {
    let fedora = described("new-fedora");
    assert_eq!(fedora.rights.groups, ["keeper", "kvm", "wheel"]);
    assert_eq!((fedora.rights.root, fedora.rights.admin_group()), (false, Some("wheel")));
    assert_eq!(fedora.shells.installed, [Path::new("/bin/bash"), Path::new("/bin/sh")], "/bin/not-there is not");
    assert_eq!(fedora.shells.login.as_deref(), Some(Path::new("/bin/bash")));
    assert_eq!(fedora.identity.session.as_deref(), Some("3"));
    let alpine = described("musl-alpine");
    assert!(alpine.rights.root && alpine.rights.user.as_deref() == Some("root"));
}

#[test]
fn virtualisation_and_graphics_are_seen_in_their_three_stages() {
    let stages = |name| described(name).virtualisation;
    assert_eq!(stages("musl-alpine"), Virtualisation::default());
    assert_eq!(stages("old-debian"), Virtualisation { flag: true, device: false, reachable: false });
    assert_eq!(stages("graphics-desk"), Virtualisation { flag: true, device: true, reachable: false });
    assert_eq!(stages("new-fedora"), Virtualisation { flag: true, device: true, reachable: true });
    let cards = described("graphics-desk").graphics;
    assert_eq!(cards.len(), 1, "connectors are no devices");
    assert_eq!((cards[0].device.as_deref(), cards[0].version.as_deref()), (Some("1b1b:2c2c"), Some("535.129.3")));
}

#[test]
fn files_that_make_no_sense_leave_a_note_and_no_fact() {
    let folder = tempfile::tempdir().unwrap();
    let write = |path: &str, bytes: &[u8]| {
        fs::create_dir_all(folder.path().join(path).parent().unwrap()).unwrap();
        fs::write(folder.path().join(path), bytes).unwrap();
    };
    write("proc/meminfo", b"MemTotal: a lot\n");
    write("proc/cpuinfo", b"processor : 0\nflags : sse2 \xff\xfe\n");
    write("etc/os-release", &[0xff; 100]);
    write("etc/passwd", b"::::\nnot a line\n");
    write("lib64/libc.so.6", b"no version here");
    write("lib/ld-musl-x86_64.so.1", b"none here either");
    write("host.toml", b"processor = \"aarch64\"\nuser = 3\n");
    let survey = facts(&host(folder.path()), &[]);
    assert!(matches!(&survey.odd[0], Odd::Description { file, .. } if file.ends_with("host.toml")), "{:?}", survey.odd);
    assert_eq!(survey.odd[1..], [Odd::TwoCLibraries, Odd::MemoryUntold]);
    assert_eq!((survey.memory, survey.system.id.as_deref()), (None, None));
    write("host.toml", b"processor = \"aarch64\"\n");
    write("proc/meminfo", b"MemTotal: 10 kB\nMemAvailable: 99 kB\n");
    let odd = facts(&host(folder.path()), &[]).odd;
    let more = Odd::MoreMemory { available: 99 << 10, total: 10 << 10 };
    assert_eq!(odd, [Odd::TwoCLibraries, Odd::OtherFeatures { kind: "aarch64".into() }, more]);
}

#[test]
fn the_real_machine_tells_at_least_who_asks_and_how_much_there_is() {
    let survey =
        facts(&Host::new("/usr/bin:/bin".into(), Path::new("/tmp")), &[("shelf", "/tmp/not/there/yet".into())]);
    assert!(survey.disks[0].free.is_some_and(|free| free > 0));
    assert_eq!(survey.processor.kind.as_deref(), Some(std::env::consts::ARCH));
    assert!(survey.processor.count > 0);
}

/// A folder of commands, each a shell script.
fn commands(folder: &Path, scripts: &[(&str, &str)]) {
    fs::create_dir_all(folder).unwrap();
    for (name, script) in scripts {
        let path = folder.join(name);
        fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    }
}

fn known(command: &str) -> Known {
    let pattern = regex::Regex::new(r"version (?<version>\d[\d.]*)").unwrap();
    Known { tool: command.parse().unwrap(), command: command.into(), arguments: vec!["--version".into()], pattern }
}

#[test]
fn tools_that_hang_flood_or_crash_hold_nobody_up() {
    let folder = tempfile::tempdir().unwrap();
    let scripts = [
        ("good", "echo version 4.0.8"),
        ("hangs", "sleep 600"),
        ("floods", "yes 'version' "),
        ("crashes", "kill -SEGV $$"),
        ("mute", "exit 0"),
        ("stderr", "echo version 2.1 >&2"),
    ];
    commands(&folder.path().join("bin"), &scripts);
    let path = format!("{}:/usr/bin:/bin", folder.path().join("bin").display());
    let host = Host::new(path.into(), folder.path());
    let started = Instant::now();
    let survey = look(&host, &[], &["good", "hangs", "floods", "crashes", "mute", "stderr", "absent"].map(known));
    assert!(started.elapsed() < Duration::from_secs(30));
    let said = |command: &str| {
        let tool = survey.tools.iter().find(|tool| tool.command == command).unwrap();
        tool.version.clone().ok_or_else(|| tool.untold.clone().unwrap())
    };
    assert_eq!((said("good"), said("stderr")), (Ok("4.0.8".into()), Ok("2.1".into())));
    assert_eq!(said("hangs"), Err(Untold::TooSlow { limit: 5 }));
    assert_eq!(said("floods"), Err(Untold::TooSlow { limit: 5 }));
    assert_eq!(said("crashes"), Err(Untold::Status { status: 139 }));
    assert_eq!(said("mute"), Err(Untold::Unsaid));
    assert_eq!(survey.tools.len(), 6, "what is not there is not listed");
}

#[test]
fn commands_there_twice_are_found_with_the_one_that_wins() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    commands(&at("one"), &[("tidlow", "echo 1"), ("oarweld", "echo 1"), ("alone", "echo")]);
    commands(&at("two"), &[("tidlow", "echo 2"), ("oarweld", "echo 2")]);
    fs::remove_file(at("two/oarweld")).unwrap();
    std::os::unix::fs::symlink(at("one/oarweld"), at("two/oarweld")).unwrap();
    std::os::unix::fs::symlink(at("one"), at("again")).unwrap();
    let path = std::env::join_paths([at("one"), at("again"), at("missing"), at("two")]).unwrap();
    let survey = look(&Host::new(path, folder.path()), &[], &[]);
    assert_eq!(survey.twice.len(), 1, "{:?}", survey.twice);
    assert_eq!((&survey.twice[0].wins, &survey.twice[0].others), (&at("one/tidlow"), &vec![at("two/tidlow")]));
}
