//! What the system itself has: packages, shared libraries, modules, locales, limits. Read from its files; nothing is run.
//!
//! Sources: deb-control(5) and dpkg(1) for `/var/lib/dpkg/status`, the Alpine package database `/lib/apk/db/installed`, the
//! folders of `/var/lib/pacman/local`, RPM's as module `rpm` has it; ld.so(8) for shared libraries; `proc_pid_limits(5)`; `modules.builtin` and
//! `modules.dep` of kmod. Of package databases in other forms nothing is known.

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Devices, LIMITS};

use super::rpm;
use super::survey::{Graphics, Host, Root, graphics};
use crate::base::files;
use crate::sys;

/// What was found of something with a version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Found {
    /// It cannot be told.
    Unknown,
    /// It is not there.
    Nothing,
    /// It is there, at this version where it says one.
    There(Option<String>),
}

impl Found {
    fn of(version: Option<String>) -> Self {
        version.map_or(Self::Nothing, |version| Self::There(Some(version)))
    }
}

/// A package of the system, by the database that its package manager keeps.
pub fn package(host: &Host, name: &str) -> Found {
    let root = Root::open(host);
    if let Some(lines) = lines(&root.at("/var/lib/dpkg/status")) {
        return Found::of(in_dpkg(lines, name));
    }
    if let Some(lines) = lines(&root.at("/lib/apk/db/installed")) {
        return Found::of(in_apk(lines, name));
    }
    if root.has("/var/lib/pacman/local") {
        return Found::of(root.names("/var/lib/pacman/local").iter().find_map(|entry| of_pacman(entry, name)));
    }
    if let Some(database) = RPM_DATABASES.iter().find(|database| root.has(database)) {
        return rpm::version(&root.at(database), name).map_or(Found::Unknown, Found::of);
    }
    Found::Unknown
}

/// Where systems keep the package database of RPM, as it is since `SQLite` holds it.
const RPM_DATABASES: [&str; 2] = ["/usr/lib/sysimage/rpm/rpmdb.sqlite", "/var/lib/rpm/rpmdb.sqlite"];

fn lines(file: &Path) -> Option<impl Iterator<Item = String> + use<>> {
    let file = files::open(file).ok()?;
    // A description in another encoding does not end the list.
    let lines = BufReader::new(file).split(b'\n').map_while(Result::ok);
    Some(lines.map(|line| String::from_utf8_lossy(&line).into_owned()))
}

/// The version of an installed package; paragraphs have a blank line between them.
fn in_dpkg(lines: impl Iterator<Item = String>, name: &str) -> Option<String> {
    let (mut is_it, mut installed, mut version) = (false, false, None);
    for line in lines.chain([String::new()]) {
        match line.split_once(": ") {
            Some(("Package", value)) => is_it = value == name,
            Some(("Status", value)) => installed = value.ends_with(" installed"),
            Some(("Version", value)) => version = Some(value.to_owned()),
            _ if line.is_empty() => {
                if is_it && installed {
                    return version;
                }
                (is_it, installed, version) = (false, false, None);
            }
            _ => {}
        }
    }
    None
}

fn in_apk(lines: impl Iterator<Item = String>, name: &str) -> Option<String> {
    let mut is_it = false;
    for line in lines {
        match line.split_once(':') {
            Some(("P", value)) => is_it = value == name,
            Some(("V", value)) if is_it => return Some(value.to_owned()),
            _ if line.is_empty() => is_it = false,
            _ => {}
        }
    }
    None
}

/// `NAME-VERSION-RELEASE`
fn of_pacman(entry: &str, name: &str) -> Option<String> {
    let (front, release) = entry.rsplit_once('-')?;
    let (package, version) = front.rsplit_once('-')?;
    (package == name).then(|| format!("{version}-{release}"))
}

/// A shared library by its soname, where the loader looks; its version is what its file's own name says.
pub fn library(host: &Host, soname: &str) -> Found {
    match library_file(host, soname) {
        None => Found::Unknown,
        Some(None) => Found::Nothing,
        Some(Some(file)) => Found::There(version_of_library(&file)),
    }
}

/// The file that the loader would take for a soname; `None` where libraries are found in another way.
#[allow(clippy::option_option, reason = "unknown and not there are two answers")]
pub fn library_file(host: &Host, soname: &str) -> Option<Option<PathBuf>> {
    let folders = sys::libraries::folders(&host.root)?;
    let mut files = folders.iter().map(|folder| folder.join(soname)).filter(|_| is_file_name(soname));
    Some(files.find(|file| file.exists()))
}

/// The version in the name that a shared library's file has itself.
pub fn version_of_library(file: &Path) -> Option<String> {
    let own = fs::canonicalize(file).ok()?;
    Some(own.file_name()?.to_str()?.split_once(".so.")?.1.to_owned())
}

/// The version that its makers gave a package: without an epoch, and without the packager's revision.
pub fn of_makers(version: &str) -> &str {
    let without_epoch = version.split_once(':').map_or(version, |(_, rest)| rest);
    without_epoch.rsplit_once('-').map_or(without_epoch, |(upstream, _)| upstream)
}

fn is_file_name(name: &str) -> bool {
    !name.is_empty() && !name.contains(['/', '\0']) && !name.starts_with('.')
}

/// Whether the kernel has a module: loaded, built in, or to be loaded.
pub fn module(host: &Host, name: &str) -> Option<bool> {
    let root = Root::open(host);
    let plain = |name: &str| name.replace('-', "_");
    if !is_file_name(name) {
        return Some(false);
    }
    let loaded = root.has(&format!("/sys/module/{}", plain(name)));
    let kernel = root.line("/proc/sys/kernel/osrelease")?;
    let listed = |list: &str| {
        let list = root.at(&format!("/lib/modules/{kernel}/{list}"));
        let mut lines = lines(&list)?;
        let is_it = |line: String| {
            let path = line.split(':').next().unwrap_or_default().to_owned();
            let file = path.rsplit('/').next().unwrap_or_default().split('.').next().unwrap_or_default().to_owned();
            plain(&file) == plain(name)
        };
        Some(lines.any(is_it))
    };
    let lists = [listed("modules.builtin"), listed("modules.dep")];
    if loaded || lists.contains(&Some(true)) {
        return Some(true);
    }
    // Without its lists a kernel may have more than is seen.
    lists.iter().all(Option::is_some).then_some(false)
}

/// Whether the system has a locale: one that is always there, a folder of its own, or a part of the archive of all.
pub fn locale(host: &Host, name: &str) -> Option<bool> {
    let root = Root::open(host);
    let plain = |name: &str| name.to_lowercase().replace("utf-8", "utf8");
    if matches!(plain(name).as_str(), "c" | "posix") {
        return Some(true);
    }
    let folder = "/usr/lib/locale";
    let is_folder = root.names(folder).iter().any(|entry| plain(entry) == plain(name));
    // The archive has its names in front of all else.
    let archive = root.bytes("/usr/lib/locale/locale-archive").unwrap_or_default();
    let in_archive = archive.split(|byte| *byte == 0).any(|part| {
        part.len() == plain(name).len() && std::str::from_utf8(part).is_ok_and(|part| plain(part) == plain(name))
    });
    if is_folder || in_archive { Some(true) } else { root.has(folder).then_some(false) }
}

/// How many of a thing the caller may have.
pub fn limit(host: &Host, what: &str) -> Option<u64> {
    if host.is_described() {
        return None;
    }
    let (_, name) = LIMITS.iter().find(|(known, _)| *known == what)?;
    let text = fs::read_to_string("/proc/self/limits").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix(name))?;
    match line.split_whitespace().next()? {
        "unlimited" => Some(u64::MAX),
        soft => soft.parse().ok(),
    }
}

/// Whether a device is plugged in, by the numbers that USB has for its vendor and product.
pub fn device(host: &Host, wanted: &str) -> Option<bool> {
    Some(plugged_in(&Root::open(host))?.iter().any(|numbers| numbers.eq_ignore_ascii_case(wanted)))
}

/// The numbers of vendor and product of all that is plugged in (sysfs-bus-usb of the kernel's ABI).
fn plugged_in(root: &Root) -> Option<Vec<String>> {
    const DEVICES: &str = "/sys/bus/usb/devices";
    let number = |device: &str, what: &str| root.line(&format!("{DEVICES}/{device}/{what}"));
    let numbers = |device: String| {
        let (vendor, product) = number(&device, "idVendor").zip(number(&device, "idProduct"))?;
        Some(format!("{vendor}:{product}").to_ascii_lowercase())
    };
    root.has(DEVICES).then(|| root.names(DEVICES).into_iter().filter_map(numbers).collect())
}

/// The numbers of all devices of a kind that the system tells of, in hexadecimal, `VENDOR:DEVICE`; `None` where it does not tell.
pub fn devices(host: &Host, which: &Devices) -> Option<Vec<String>> {
    let root = Root::open(host);
    match which {
        Devices::Usb { vendor, product } => {
            let is_meant = |numbers: &String| {
                let (of, which) = numbers.split_once(':').unwrap_or_default();
                of == vendor && product.as_ref().is_none_or(|product| which == product)
            };
            Some(plugged_in(&root)?.into_iter().filter(is_meant).collect())
        }
        Devices::Graphics { driver } => {
            let is_meant = |card: &Graphics| driver.is_none() || card.driver == *driver;
            let cards = graphics(&root).into_iter().filter(is_meant);
            root.has("/sys/class").then(|| cards.map(|card| card.device.unwrap_or_default()).collect())
        }
    }
}

/// Whether the list of groups has somebody in one, which counts from the next session on.
pub fn is_listed(host: &Host, user: Option<&str>, group: &str) -> bool {
    let text = Root::open(host).text("/etc/group").unwrap_or_default();
    let row = text.lines().map(|line| line.split(':').collect::<Vec<_>>()).find(|row| row.first() == Some(&group));
    row.and_then(|row| Some(row.get(3)?.split(',').any(|member| Some(member) == user))).unwrap_or(false)
}

/// Who holds the package database, so that nobody else can change it: a process by its name and number.
pub fn package_holder(host: &Host) -> Option<(String, u32)> {
    if host.is_described() {
        return None;
    }
    let locks = fs::read_to_string("/proc/locks").ok()?;
    DATABASE_LOCKS.iter().find_map(|file| {
        let inode = format!(":{}", fs::metadata(file).ok()?.ino());
        // proc_locks(5): NUMBER: KIND ADVISORY MODE PID MAJOR:MINOR:INODE START END
        let line = locks.lines().map(|line| line.split_whitespace().collect::<Vec<_>>());
        let held = line.into_iter().find(|words| words.get(5).is_some_and(|file| file.ends_with(&inode)))?;
        let process: u32 = held.get(4)?.parse().ok()?;
        let name = fs::read_to_string(format!("/proc/{process}/comm")).ok()?;
        Some((name.trim().to_owned(), process))
    })
}

/// Files that package managers lock while they change something.
const DATABASE_LOCKS: [&str; 5] = [
    "/var/lib/dpkg/lock-frontend",
    "/var/lib/dpkg/lock",
    "/lib/apk/db/lock",
    "/var/lib/rpm/.rpm.lock",
    "/usr/lib/sysimage/rpm/.rpm.lock",
];

/// Whether a graphical session is there.
pub fn desktop(host: &Host) -> Option<bool> {
    let has = |name: &str| host.variables.iter().any(|(known, value)| known == name && !value.is_empty());
    (!host.is_described()).then(|| has("DISPLAY") || has("WAYLAND_DISPLAY"))
}

/// Whether the system's table of hosts leads a name to the loopback (hosts(5)).
pub(crate) fn is_loopback(host: &Host, name: &str) -> bool {
    let text = Root::open(host).text("/etc/hosts").unwrap_or_default();
    text.lines().any(|line| {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let is_loopback = words.next().and_then(|word| word.parse::<std::net::IpAddr>().ok());
        is_loopback.is_some_and(|address| address.is_loopback()) && words.any(|word| word.eq_ignore_ascii_case(name))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_read_from_three_kinds_of_databases() {
        let root = tempfile::tempdir().unwrap();
        let host = Host::new("".into(), root.path()).described(root.path().to_path_buf());
        assert_eq!(package(&host, "tideglass"), Found::Unknown);
        let write = |path: &str, text: &str| {
            let file = root.path().join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        };
        let there = |version: &str| Found::There(Some(version.to_owned()));
        fs::create_dir_all(root.path().join("var/lib/pacman/local/tide-glass-1:2.1-3")).unwrap();
        assert_eq!((package(&host, "tide-glass"), package(&host, "tide")), (there("1:2.1-3"), Found::Nothing));
        write("lib/apk/db/installed", "P:tideglass\nV:2.1-r0\n\nP:other\nV:9\n");
        assert_eq!((package(&host, "tideglass"), package(&host, "tide")), (there("2.1-r0"), Found::Nothing));
        let gone = "Package: gone\nStatus: deinstall ok config-files\nVersion: 1\n";
        let there_too = "Package: tideglass\nStatus: install ok installed\nVersion: 1:2.1-4+b1\n";
        let odd: &[u8] = b"Package: odd\nDescription: V\xe5g\n";
        let status = [gone.as_bytes(), odd, there_too.as_bytes()].join(&b'\n');
        fs::create_dir_all(root.path().join("var/lib/dpkg")).unwrap();
        fs::write(root.path().join("var/lib/dpkg/status"), status).unwrap();
        assert_eq!((package(&host, "tideglass"), package(&host, "gone")), (there("1:2.1-4+b1"), Found::Nothing));
    }

    #[test]
    fn libraries_and_modules_are_found_where_the_system_keeps_them() {
        let root = tempfile::tempdir().unwrap();
        let host = Host::new("".into(), root.path()).described(root.path().to_path_buf());
        let write = |path: &str, text: &str| {
            let file = root.path().join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        };
        write("usr/lib/libtide.so.2.1.0", "");
        std::os::unix::fs::symlink("libtide.so.2.1.0", root.path().join("usr/lib/libtide.so.2")).unwrap();
        assert_eq!(library(&host, "libtide.so.2"), Found::There(Some("2.1.0".to_owned())));
        assert_eq!(["libtide.so.3", "../x", "..", ""].map(|name| library(&host, name)), [const { Found::Nothing }; 4]);
        assert_eq!(module(&host, "cdc-acm"), None);
        write("proc/sys/kernel/osrelease", "6.8.0\n");
        write("lib/modules/6.8.0/modules.builtin", "kernel/drivers/tty/serial.ko\n");
        assert_eq!((module(&host, "serial"), module(&host, "cdc-acm")), (Some(true), None));
        write("lib/modules/6.8.0/modules.dep", "kernel/drivers/usb/cdc-acm.ko.xz: kernel/x.ko\n");
        assert_eq!((module(&host, "cdc_acm"), module(&host, "other")), (Some(true), Some(false)));
        assert_eq!(module(&host, "../../proc"), Some(false));
        write("usr/lib/locale/C.utf8/LC_CTYPE", "");
        write("usr/lib/locale/locale-archive", "x\0de_XX.utf8\0");
        let told = ["C.UTF-8", "POSIX", "de_XX.UTF-8", "nn_XX.UTF-8"].map(|name| locale(&host, name));
        assert_eq!(told, [Some(true), Some(true), Some(true), Some(false)]);
    }
}
