//! Facts, asked of sysctl(8); the names are those of sysctl(3) and of the kernel's public headers.

use std::process::{Command, Stdio};

use crate::sys::Told;

/// Where the system keeps fonts, from its root on.
pub(crate) const FONTS: [&str; 2] = ["System/Library/Fonts", "Library/Fonts"];
/// Where a person does, from their home on.
pub(crate) const FONTS_OF_PERSON: [&str; 1] = ["Library/Fonts"];

const SYSCTL: &str = "/usr/sbin/sysctl";
/// What is asked; `hw.optional` stands for all below it. A name that a release does not know is left out by sysctl.
const NAMES: [&str; 8] = [
    "kern.osproductversion",
    "kern.osrelease",
    "kern.bootsessionuuid",
    "kern.hv_vmm_present",
    "kern.hv_support",
    "machdep.cpu.brand_string",
    "hw.memsize",
    "hw.optional",
];

/// What the running system tells; nothing where it cannot be asked.
pub(crate) fn told() -> Told {
    let asked = Command::new(SYSCTL).args(NAMES).stdin(Stdio::null()).stderr(Stdio::null()).output();
    asked.map(|answer| Told::of_sysctl(&String::from_utf8_lossy(&answer.stdout))).unwrap_or_default()
}

/// Whether musl is this system's C library: it never is.
pub(crate) fn is_musl() -> bool {
    false
}
