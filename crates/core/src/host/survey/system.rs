//! The operating system, its C library, and what it runs on.

use std::sync::LazyLock;

use regex::bytes::Regex;

use super::root::{Root, value};
use super::{Guest, Libc, Odd, Survey, System};

/// Where the GNU C library stands, by distribution.
const GNU: [&str; 8] = [
    "/lib/x86_64-linux-gnu/libc.so.6",
    "/usr/lib/x86_64-linux-gnu/libc.so.6",
    "/lib/aarch64-linux-gnu/libc.so.6",
    "/usr/lib/aarch64-linux-gnu/libc.so.6",
    "/lib64/libc.so.6",
    "/usr/lib64/libc.so.6",
    "/lib/libc.so.6",
    "/usr/lib/libc.so.6",
];

static GNU_VERSION: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"GNU C Library [^\n]*?version (\d+\.\d+(?:\.\d+)?)").ok());
/// musl has its version as a string of its own.
static MUSL_VERSION: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"(?-u)\x00(1\.\d+\.\d+)\x00").ok());

pub(super) fn system(root: &Root) -> System {
    let release = root.text("/etc/os-release").or_else(|| root.text("/usr/lib/os-release")).unwrap_or_default();
    let field = |key: &str| value(&release, key, '=').map(str::to_owned);
    let described = root.described.as_ref().and_then(|described| described.os.clone());
    let os = if root.described.is_some() { "linux" } else { std::env::consts::OS };
    System {
        os: described.unwrap_or_else(|| os.to_owned()),
        id: field("ID"),
        like: field("ID_LIKE").unwrap_or_default().split_whitespace().map(str::to_owned).collect(),
        name: field("PRETTY_NAME").or_else(|| field("NAME")),
        release: field("VERSION_ID"),
        kernel: root.line("/proc/sys/kernel/osrelease"),
    }
}

pub(super) fn libc(root: &Root, odd: &mut Vec<Odd>) -> Option<Libc> {
    let gnu = GNU.iter().find(|path| root.has(path));
    let musl = root.names("/lib").into_iter().find(|name| name.starts_with("ld-musl-"));
    if gnu.is_some() && musl.is_some() {
        odd.push(Odd::TwoCLibraries);
    }
    let found = |path: &str, pattern: &LazyLock<Option<Regex>>| {
        let (bytes, pattern) = (root.bytes(path)?, pattern.as_ref()?);
        let captures = pattern.captures(&bytes)?;
        String::from_utf8(captures.get(1)?.as_bytes().to_vec()).ok()
    };
    match (gnu, musl) {
        (Some(path), _) => Some(Libc { kind: "gnu".into(), version: found(path, &GNU_VERSION) }),
        (None, Some(name)) => {
            Some(Libc { kind: "musl".into(), version: found(&format!("/lib/{name}"), &MUSL_VERSION) })
        }
        (None, None) => None,
    }
}

/// Linux inside another system says so in its kernel's name; containers leave marks; machines name their vendor.
pub(super) fn guest(root: &Root) -> Guest {
    let kernel = root.line("/proc/sys/kernel/osrelease").unwrap_or_default().to_lowercase();
    if kernel.contains("microsoft") {
        return Guest::Inside("windows".into());
    }
    let marks = ["/.dockerenv", "/run/.containerenv", "/run/systemd/container"];
    if marks.iter().any(|mark| root.has(mark)) {
        return Guest::Container;
    }
    let Some(processor) = root.text("/proc/cpuinfo") else { return Guest::Unknown };
    let flags = value(&processor, "flags", ':').unwrap_or_default();
    if flags.split_whitespace().any(|flag| flag == "hypervisor") || root.has("/sys/hypervisor/type") {
        let vendor = root.line("/sys/class/dmi/id/sys_vendor").or_else(|| root.line("/sys/hypervisor/type"));
        return Guest::Machine(vendor.unwrap_or_else(|| "unknown".into()));
    }
    Guest::Metal
}

/// Notes what cannot be true together.
pub(super) fn contradictions(survey: &mut Survey) {
    let kind = survey.processor.kind.as_deref().unwrap_or_default();
    let has = |feature: &str| survey.processor.features.iter().any(|known| known == feature);
    if kind == "aarch64" && has("sse2") || kind == "x86_64" && has("asimd") {
        survey.odd.push(Odd::OtherFeatures { kind: kind.to_owned() });
    }
    if let Some(memory) = survey.memory.filter(|memory| memory.available > memory.total) {
        survey.odd.push(Odd::MoreMemory { available: memory.available, total: memory.total });
    }
}
