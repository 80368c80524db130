//! Chores: what only an administrator or a person can do, told before the first byte, handed over, waited for.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};
use std::thread;
use std::time::Duration;

use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

const GATES: &str = "[[gates]]\npackages = { debian = [\"libtide-dev\", \"gauge-rules\"], alpine = [\"tide-dev\"] }\nminutes = 2\n\
    [[gates]]\nname = \"serial\"\ngroup = \"tty-gauge\"\nadmin = ['groupadd -f tty-gauge', 'usermod -aG tty-gauge \"$WHO\"']\nafter = \"session\"\n\
    [[gates]]\nname = \"rules\"\nfile = \"/etc/gauge.rules\"\nadmin = [\"echo gauge >> /etc/gauge.rules\"]\n\
    [[gates]]\nname = \"account\"\nperson = \"sign up at the harbour office\"\nminutes = 15\n\
    [[gates]]\nname = \"gauge\"\ndevice = \"1209:2C01\"\nperson = \"plug the gauge in\"\n";

fn desk(gates: &str) -> Sandbox {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    sandbox.define("tombolet", gates);
    sandbox
}

#[test]
fn a_route_lists_every_chore_and_prints_a_script_for_the_administrator() {
    let sandbox = desk(GATES);
    let host = sandbox.host("old-debian");
    sandbox.write("host/var/lib/dpkg/status", "Package: gauge-rules\nStatus: install ok installed\nVersion: 1.0\n");
    sandbox.write("host/sys/bus/usb/devices/1-1/idVendor", "1d6b\n");
    let route = sandbox.run(&["route", &host]);
    assert_eq!(route.code, 32);
    let chores = route.stdout.split_once("\n\n").unwrap().1.split_once("plug the gauge in").unwrap();
    let (_, listed) = chores.0.split_once("chore").unwrap();
    assert_data_eq!(
        listed.lines().map(str::trim_end).collect::<Vec<_>>().join("\n"),
        str![[r#"
     who               what                              for       how long
  packages  an administrator  install libtide-dev               tombolet  2 minutes
  serial    an administrator  put you into the group tty-gauge  tombolet  then log out and in again
  rules     an administrator  see to the file /etc/gauge.rules  tombolet
  account   you               sign up at the harbour office     tombolet  15 minutes
  gauge     you
"#]]
    );
    let script = sandbox.run(&["route", "--admin-script", &host]).passed().stdout;
    assert_data_eq!(
        &script,
        str![[r##"
#!/bin/sh
# For an administrator of this machine: what must be done before the climb can go on.
# It can be run again: what is done already is passed over.
set -eu

# The person who works here.
WHO=keeper

# packages: tombolet needs packages of the system (alpine, debian); found: libtide-dev not installed.
if ! { dpkg-query -W -f='${db:Status-Status}/n' libtide-dev 2>/dev/null | grep -qx installed && dpkg-query -W -f='${db:Status-Status}/n' gauge-rules 2>/dev/null | grep -qx installed; }; then
    DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=600 install -y -- libtide-dev gauge-rules
fi

# serial: tombolet needs membership in the group tty-gauge; found: in dialout, keeper.
if ! { id -nG "$WHO" | tr ' ' '/n' | grep -qxF -e tty-gauge; }; then
    groupadd -f tty-gauge
    usermod -aG tty-gauge "$WHO"
fi

# rules: tombolet needs the file /etc/gauge.rules; found: none.
if ! { test -e /etc/gauge.rules; }; then
    echo gauge >> /etc/gauge.rules
fi

# After serial: log out and in again.


"##]]
    );
    let checked = Command::new("sh").arg("-n").arg(file(&sandbox, &script)).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    // A system that is like another one is served as that is, and one that nobody named is told as unknown.
    sandbox.edit("host/etc/os-release", "ID=debian", "ID=harbouros\nID_LIKE=debian");
    assert!(sandbox.run(&["route", "--admin-script", &host]).stdout.contains("apt-get"));
    sandbox.edit("host/etc/os-release", "ID_LIKE=debian", "ID_LIKE=fedora");
    assert!(
        sandbox.run(&["route", &host]).stdout.contains("packages of the system (alpine, debian); found: not known")
    );
}

fn file(sandbox: &Sandbox, script: &str) -> std::path::PathBuf {
    sandbox.write("admin.sh", script);
    sandbox.path("admin.sh")
}

/// A system of its own over this one's files: what is changed in it is gone with it.
const ROOT: &str = r#"set -e
mount -t tmpfs tmpfs "$1"
mkdir "$1/up" "$1/work" "$1/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$1/up,workdir=$1/work" "$1/root"
mount --rbind /dev "$1/root/dev"
mount -t proc proc "$1/root/proc"
cd "$1/root"
mkdir -p repo
for package in libtide-dev gauge-rules; do
    mkdir -p "repo/$package/DEBIAN" "repo/$package/usr/share/$package"
    printf 'Package: %s\nVersion: 2.1-4\nArchitecture: all\nMaintainer: None <none@harbour.example>\nDescription: made up\n' \
        "$package" > "repo/$package/DEBIAN/control"
    dpkg-deb --build "repo/$package" "repo/$package.deb" > /dev/null
    cat "repo/$package/DEBIAN/control"
    echo "Filename: ./$package.deb"
    echo "Size: $(stat -c %s "repo/$package.deb")"
    echo "SHA256: $(sha256sum "repo/$package.deb" | cut -d' ' -f1)"
    echo
done > repo/Packages
rm -rf etc/apt/sources.list etc/apt/sources.list.d etc/apt/apt.conf.d
echo 'deb [trusted=yes] file:/repo ./' > etc/apt/sources.list
chroot . apt-get update > /dev/null 2>&1
useradd --root "$1/root" keeper 2>/dev/null || chroot . useradd keeper
cp "$2" admin.sh
chroot . sh /admin.sh > first 2>&1
chroot . sh /admin.sh > second 2>&1
echo "second: $(cat second)"
chroot . dpkg-query -W -f='${Package} ${db:Status-Status}\n' libtide-dev gauge-rules
chroot . id -nG keeper
cat etc/gauge.rules
"#;

#[test]
fn the_administrators_script_does_its_work_in_a_fresh_system_and_a_second_run_changes_nothing() {
    let sandbox = desk(GATES);
    let host = sandbox.host("old-debian");
    sandbox.write("host/var/lib/dpkg/status", "");
    let script = file(&sandbox, &sandbox.run(&["route", "--admin-script", &host]).stdout);
    fs::create_dir(sandbox.path("root")).unwrap();
    let in_namespace = |script: &str, arguments: &[&Path]| -> Output {
        Command::new("unshare").args(["-m", "sh", "-c", script, "sh"]).args(arguments).output().unwrap()
    };
    let probe = "mount -t tmpfs tmpfs \"$1\" && mkdir \"$1/u\" \"$1/w\" \"$1/r\" && command -v dpkg-deb apt-get && \
        mount -t overlay overlay -o \"lowerdir=/,upperdir=$1/u,workdir=$1/w\" \"$1/r\"";
    let root = sandbox.path("root");
    if !Path::new("/usr/bin/unshare").exists() || !in_namespace(probe, &[&root]).status.success() {
        eprintln!("NOT TESTED: a system of its own cannot be made here, or it has no packages of this kind");
        return;
    }
    let ran = in_namespace(ROOT, &[&root, &script]);
    let (told, error) = (String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    assert!(ran.status.success(), "{told}{error}");
    assert_data_eq!(
        told.as_ref(),
        str![[r#"
second: 
gauge-rules installed
libtide-dev installed
keeper tty-gauge
gauge

"#]]
    );
}

#[test]
fn the_word_of_a_person_opens_what_nobody_can_see_until_something_else_is_asked() {
    let sandbox = desk("[[gates]]\nname = \"account\"\nperson = \"sign up at the harbour office\"\n");
    let closed = sandbox.run(&["climb"]);
    assert_eq!(closed.code, 32);
    assert!(closed.stderr.contains("sign up at the harbour office; then `kladder climb --chore-done account`"));
    let other = sandbox.run(&["climb", "--chore-done", "acount"]);
    assert!(
        other.code != 0 && other.stderr.contains("`acount`") && other.stderr.contains("account"),
        "{}",
        other.stderr
    );
    assert!(sandbox.leftovers().is_empty());
    let _ = sandbox.run(&["climb", "--chore-done", "account"]).passed();
    sandbox.edit("catalog/tools/tombolet.toml", "harbour office", "lighthouse");
    sandbox.edit("desk/ladder.toml", "tombolet = \"any\"", "tombolet = \"1.0\"");
    assert_eq!(sandbox.run(&["climb"]).code, 32, "another text is another chore");
    sandbox.edit("catalog/tools/tombolet.toml", "lighthouse", "harbour office");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["clear", "--all", "--yes"]).passed();
    assert!(!sandbox.path("home/data").exists(), "what was said goes with all the rest");
}

#[test]
fn a_climb_that_waits_for_chores_goes_on_by_itself() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let rules = sandbox.path("gauge.rules");
    let gate = format!("[[gates]]\nname = \"rules\"\nfile = \"{}\"\nadmin = [\"true\"]\n", rules.display());
    sandbox.define("tombolet", &gate);
    let waiting = sandbox.start(&["climb", "--wait-for-chores"]);
    thread::sleep(Duration::from_millis(700));
    assert!(sandbox.leftovers().is_empty(), "nothing is fetched before");
    fs::write(&rules, "").unwrap();
    let ran = sandbox.finished(waiting.wait_with_output().unwrap()).passed();
    assert!(ran.stdout.contains("Waiting for rules"), "{}", ran.stdout);
    assert!(ran.stdout.contains("is at landing 1"), "{}", ran.stdout);
    // An end that a person asks for is one.
    fs::remove_file(&rules).unwrap();
    sandbox.edit("desk/ladder.toml", "tombolet = \"any\"", "tombolet = \"1.0\"");
    let waiting = sandbox.start(&["climb", "--wait-for-chores"]);
    thread::sleep(Duration::from_millis(500));
    let _ = Command::new("kill").args(["-INT", &waiting.id().to_string()]).status().unwrap();
    assert_eq!(sandbox.finished(waiting.wait_with_output().unwrap()).code, 130);
}

#[test]
fn what_counts_after_a_restart_only_stays_closed_until_the_boot_is_another_one() {
    let sandbox =
        desk("[[gates]]\nname = \"driver\"\nfile = \"/etc/driver\"\nadmin = [\"true\"]\nafter = \"restart\"\n");
    let host = sandbox.host("old-debian");
    let boot = |id: &str| sandbox.write("host/proc/sys/kernel/random/boot_id", id);
    boot("one\n");
    assert!(sandbox.run(&["climb", &host]).stderr.contains("needs the file /etc/driver; found: none"));
    sandbox.write("host/etc/driver", "");
    let due = sandbox.run(&["climb", &host]);
    assert!(due.code == 32 && due.stderr.contains("done, but the machine must be restarted"), "{}", due.stderr);
    let script = sandbox.run(&["route", "--admin-script", &host]).stdout;
    assert!(script.contains("nothing for an administrator"), "{script}");
    boot("two\n");
    let _ = sandbox.run(&["climb", &host]).passed();
}

#[test]
fn restarts_of_rungs_that_do_not_stand_on_each_other_are_one_and_a_system_that_tells_none_is_told() {
    let sandbox = Sandbox::new();
    sandbox.wish("oarweld = \"any\"");
    sandbox.plank("plank.tar.gz", &[Entry::file("a", "")], "after = \"session\"");
    sandbox.edit("catalog/tools/tombolet.toml", "\nkind = ", "\nafter = \"restart\"\nkind = ");
    sandbox.edit(
        "catalog/tools/oarweld.toml",
        "\nkind = ",
        "\nneeds = { plank = \"any\", tombolet = \"any\" }\nkind = ",
    );
    let host = sandbox.host("old-debian");
    let route = sandbox.run(&["route", &host]).stdout;
    let told: Vec<&str> = route.lines().filter(|line| line.starts_with("After ")).collect();
    assert_eq!(told.len(), 1, "{route}");
    assert!(told[0].contains("plank and tombolet") && told[0].contains("restarted"), "{told:?}");
    fs::remove_file(sandbox.path("host/proc/sys/kernel/random/boot_id")).unwrap_or_default();
    sandbox.edit("host/host.toml", "session", "# session");
    let stopped = sandbox.run(&["climb", &host]);
    assert!(stopped.code == 34 && stopped.stderr.contains("does not tell"), "{}", stopped.complaint());
    assert_eq!(sandbox.run(&["climb", &host]).code, 34);
    let gone_on = sandbox.run(&["climb", &host, "--chore-done", "tombolet", "--chore-done", "plank"]);
    let _ = gone_on.passed();
}

#[test]
fn what_only_the_host_can_have_is_brought_by_an_administrator() {
    let sandbox = Sandbox::new();
    sandbox.write(
        "catalog/tools/tidelib.toml",
        "tool = \"tidelib\"\nsummary = \"A library of the system\"\nhost = { command = \"tidelib-config\" }\n\
         [[gates]]\npackages = { debian = [\"libtide-dev\"] }\n",
    );
    sandbox.wish("tidelib = \">=2\"");
    let host = sandbox.host("old-debian");
    let missing = sandbox.run(&["pin", &host]);
    assert!(missing.code == 11 && missing.stderr.contains("an administrator can bring it"), "{}", missing.complaint());
    let script = sandbox.run(&["route", "--admin-script", &host]).passed().stdout;
    assert!(script.contains("install -y -- libtide-dev"), "{script}");
    sandbox.host_command("tidelib-config", "echo 2.1.4");
    sandbox.wish("tidelib = \">=2\"");
    sandbox.edit("catalog/tools/tidelib.toml", "[[gates]]\npackages = { debian = [\"libtide-dev\"] }\n", "");
    let _ = sandbox.run(&["climb"]).passed();
}
