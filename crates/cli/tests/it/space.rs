//! File systems that are full, or not the same.
//!
//! A small file system is mounted in a namespace of its own, which needs no rights on most Linux systems; where that is
//! not allowed, there is nothing to see here.

#![cfg(target_os = "linux")]

use std::process::{Command, Stdio};

use kladder_pack::Entry;

use crate::sandbox::{Ran, Sandbox};

/// Mounts a file system of so many bytes over a folder of the sandbox, and runs some shell lines beside it, in which `$K` is
/// the program; `None` where that is not allowed.
fn beside_small(sandbox: &Sandbox, folder: &str, size: &str, lines: &str) -> Option<Ran> {
    let allowed = Command::new("unshare").args(["-Urm", "true"]).stderr(Stdio::null()).status();
    if !allowed.is_ok_and(|status| status.success()) {
        return None;
    }
    std::fs::create_dir_all(sandbox.path(folder)).unwrap();
    let own = sandbox.command(&[]);
    let script = format!("mount -t tmpfs -o size={size} tmpfs \"$SMALL\" || exit 99\n{lines}");
    let mut command = Command::new("unshare");
    command.args(["-Urm", "sh", "-c", &script]).current_dir(sandbox.path("desk")).env_clear();
    command.envs(own.get_envs().filter_map(|(key, value)| Some((key, value?))));
    command.env("K", own.get_program()).env("SMALL", sandbox.path(folder));
    let ran = sandbox.finished(command.stdin(Stdio::null()).output().unwrap());
    (ran.code != 99).then_some(ran)
}

/// A tool of six megabytes that no packer makes smaller.
fn large(sandbox: &Sandbox) {
    let noise: Vec<u8> =
        (0..1_500_000u32).flat_map(|n| n.wrapping_mul(2_654_435_761).rotate_left(n % 31).to_le_bytes()).collect();
    let entries = [Entry::program("plank", "#!/bin/sh\n"), Entry::file("noise", noise)];
    sandbox.plank("plank.tar.gz", &entries, "commands = { plank = \"plank\" }");
    sandbox.wish("tombolet = \"any\"\nplank = \"any\"");
}

#[test]
fn a_shelf_that_fills_up_is_told_and_nothing_half_done_is_left() {
    let sandbox = Sandbox::new();
    large(&sandbox);
    let climb =
        "\"$K\" climb --skip-gate disk; echo code $?; find \"$SMALL/staging\" \"$SMALL/shelf/plank\" 2>/dev/null\n";
    let more =
        "mount -o remount,size=64m \"$SMALL\" && \"$K\" climb --skip-gate disk && \"$K\" verify --quiet; echo code $?";
    let Some(ran) = beside_small(&sandbox, "home/data", "5m", &format!("{climb}{more}")) else { return };
    assert!(ran.stderr.contains("No space left") && ran.stderr.contains("make room"), "{}", ran.stderr);
    let (first, then) = ran.stdout.split_once("code 41\n").unwrap_or_else(|| panic!("{}{}", ran.stdout, ran.stderr));
    assert!(!first.contains("at landing"), "{first}");
    assert!(then.contains("is at landing 1") && then.ends_with("code 0\n") && !then.starts_with('/'), "{then}");
}

#[test]
fn a_fit_out_that_fills_the_disk_is_what_is_told_and_is_made_with_more_room() {
    let sandbox = Sandbox::new();
    let plank = "#!/bin/sh\nhere=$(dirname \"$0\")/devices\ncase $1 in\n\
        make) dd if=/dev/zero of=\"$here/sea\" bs=1M count=6 2>/dev/null && echo whole >\"$here/whole\" ;;\n\
        look) cat \"$here/whole\" ;;\nesac\n";
    let fit_out = "corners = [\"devices\"]\ncommands = { plank = \"plank\" }\n[[fit-outs]]\nname = \"a sea\"\n\
        done = { run = [\"plank\", \"look\"] }\ndo = { run = [\"plank\", \"make\"] }\n";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", plank)], fit_out);
    sandbox.wish("plank = \"any\"");
    let lines = "\"$K\" climb --skip-gate disk; echo code $?\n\
                 mount -o remount,size=64m \"$SMALL\" && \"$K\" climb --skip-gate disk; echo code $?";
    let Some(ran) = beside_small(&sandbox, "home/data", "5m", lines) else { return };
    let (first, then) = ran.stdout.split_once("code 30\n").unwrap_or_else(|| panic!("{}{}", ran.stdout, ran.stderr));
    assert!(ran.stderr.contains("a sea") && !first.contains("at landing"), "{first}{}", ran.stderr);
    assert!(then.contains("is at landing 1") && then.ends_with("code 0\n"), "{then}");
}

#[test]
fn a_cache_that_fills_up_keeps_nothing_and_may_lie_on_another_file_system() {
    let sandbox = Sandbox::new();
    large(&sandbox);
    let lines = "\"$K\" climb --skip-gate disk; echo code $?; find \"$SMALL\" -name '*.part'\n\
                 mount -o remount,size=64m \"$SMALL\" && \"$K\" climb --skip-gate disk; echo code $?";
    let Some(ran) = beside_small(&sandbox, "home/cache", "2m", lines) else { return };
    assert!(ran.stderr.contains("No space left"), "{}", ran.stderr);
    let (_, then) = ran.stdout.split_once("code 41\n").unwrap_or_else(|| panic!("{}{}", ran.stdout, ran.stderr));
    assert!(then.contains("is at landing 1") && then.ends_with("code 0\n") && !then.contains(".part"), "{then}");
}
