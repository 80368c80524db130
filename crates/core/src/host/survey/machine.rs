//! Processor, memory, disk, virtualisation, graphics.

use std::path::{Path, PathBuf};

use super::root::{Root, value};
use super::{Disk, Graphics, Memory, Odd, Processor, Virtualisation};

const DEVICE: &str = "/dev/kvm";

pub(super) fn processor(root: &Root) -> Processor {
    let text = root.text("/proc/cpuinfo").unwrap_or_default();
    let field = |key: &str| value(&text, key, ':');
    let features = field("flags").or_else(|| field("Features")).unwrap_or_default();
    let mut features: Vec<String> = features.split_whitespace().map(str::to_owned).collect();
    features.sort();
    let described = root.described.as_ref();
    let kind = root.line("/proc/sys/kernel/arch").or_else(|| described.and_then(|d| d.processor.clone()));
    let here = || described.is_none().then(|| std::env::consts::ARCH.to_owned());
    let lines = text.lines().filter(|line| line.starts_with("processor") && line.contains(':')).count();
    let count = if lines == 0 && described.is_none() { threads() } else { lines };
    Processor { kind: kind.or_else(here), model: field("model name").map(str::to_owned), count, features }
}

fn threads() -> usize {
    std::thread::available_parallelism().map_or(0, std::num::NonZero::get)
}

pub(super) fn memory(root: &Root, odd: &mut Vec<Odd>) -> Option<Memory> {
    let text = root.text("/proc/meminfo")?;
    let kibibytes = |key: &str| value(&text, key, ':')?.strip_suffix("kB")?.trim().parse::<u64>().ok();
    let Some(total) = kibibytes("MemTotal") else {
        odd.push(Odd::MemoryUntold);
        return None;
    };
    let available = kibibytes("MemAvailable").or_else(|| kibibytes("MemFree")).unwrap_or(total);
    Some(Memory { total: total.saturating_mul(1024), available: available.saturating_mul(1024) })
}

pub(super) fn disks(root: &Root, folders: &[(&str, PathBuf)]) -> Vec<Disk> {
    let disk = |(what, path): &(&str, PathBuf)| {
        let (free, device) = match &root.described {
            Some(described) => (described.free, 0),
            None => free(path).map_or((None, 0), |(free, device)| (Some(free), device)),
        };
        Disk { what: (*what).to_owned(), path: path.clone(), free, device }
    };
    folders.iter().map(disk).collect()
}

/// Free bytes and file system at a path, or at the nearest folder above it that is there.
fn free(path: &Path) -> Option<(u64, u64)> {
    let there = path.ancestors().find(|folder| folder.exists())?;
    let space = rustix::fs::statvfs(there).ok()?;
    Some((space.f_bavail.saturating_mul(space.f_frsize), space.f_fsid))
}

pub(super) fn virtualisation(root: &Root) -> Virtualisation {
    let text = root.text("/proc/cpuinfo").unwrap_or_default();
    let flags = value(&text, "flags", ':').unwrap_or_default();
    let flag = flags.split_whitespace().any(|flag| matches!(flag, "vmx" | "svm"));
    let device = root.has(DEVICE);
    let opens = || std::fs::OpenOptions::new().read(true).write(true).open(root.at(DEVICE)).is_ok();
    let reachable = root.described.as_ref().map_or_else(|| device && opens(), |d| device && d.virtualisation_reachable);
    Virtualisation { flag, device, reachable }
}

/// The graphics cards (`/sys/class/drm` of the kernel's ABI).
pub(crate) fn graphics(root: &Root) -> Vec<Graphics> {
    let cards = root.names("/sys/class/drm").into_iter().filter(|name| {
        name.strip_prefix("card").is_some_and(|number| !number.is_empty() && number.bytes().all(|b| b.is_ascii_digit()))
    });
    cards.map(|card| graphics_card(root, &format!("/sys/class/drm/{card}/device"))).collect()
}

fn graphics_card(root: &Root, folder: &str) -> Graphics {
    let number = |name: &str| root.line(&format!("{folder}/{name}")).map(|n| n.trim_start_matches("0x").to_owned());
    let named = root.text(&format!("{folder}/uevent")).and_then(|text| value(&text, "DRIVER", '=').map(str::to_owned));
    let driver = named.or_else(|| root.link_name(&format!("{folder}/driver")));
    let version = driver.as_ref().and_then(|driver| root.line(&format!("/sys/module/{driver}/version")));
    let device = number("vendor").zip(number("device")).map(|(vendor, device)| format!("{vendor}:{device}"));
    Graphics { device, driver, version }
}
