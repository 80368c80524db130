//! Gates in words: what is needed, and what was found.

use kladder_choose::catalog::{Demand, OfSystem, Ranged};
use kladder_core::climb::gates::{Fact, Needed, Virtual};

use crate::text::both;

/// What is needed, as it follows "needs".
pub fn needed(needed: &Needed) -> String {
    match needed {
        Needed::Room { bytes: room, at } => format!("{} free at {}", power_of_two(*room), at.display()),
        Needed::Demand(demand) => demanded(demand),
    }
}

/// What a definition demands of a host.
pub fn demanded(demand: &Demand) -> String {
    let of = |kind: &str, wanted: &Ranged| format!("{kind} {wanted}");
    match demand {
        Demand::Os(os) => format!("the system {os}"),
        Demand::Kernel(wanted) => format!("a kernel {wanted}"),
        Demand::Release(wanted) => of("the system", wanted),
        Demand::CLibrary(wanted) => of("the C library", wanted),
        Demand::Feature(feature) => format!("the processor's feature {feature}"),
        Demand::Memory(amount) => format!("{} of memory", power_of_two(*amount)),
        Demand::Disk(amount) => format!("{} free", power_of_two(*amount)),
        Demand::Virtualisation { usable: true } => "virtualisation that you may use".to_owned(),
        Demand::Virtualisation { usable: false } => "virtualisation".to_owned(),
        Demand::Driver(wanted) => of("the driver", wanted),
        Demand::Command(wanted) => of("the command", wanted),
        Demand::Library(wanted) => of("the library", wanted),
        Demand::Package(wanted) => of("the system's package", wanted),
        Demand::File(path) => format!("the file {path}"),
        Demand::Module(name) => format!("the kernel's module {name}"),
        Demand::Locale(name) => format!("the locale {name}"),
        Demand::Font(family) => format!("the font {family}"),
        Demand::Limit { what, least } => format!("a limit of {least} or more for {}", what.replace('-', " ")),
        Demand::Desktop => "a graphical session".to_owned(),
        Demand::Packages(all) => match all.as_slice() {
            [one] => format!("the packages {} ({})", one.packages.join(", "), one.system),
            several => format!("packages of the system ({})", plain_systems(several)),
        },
        Demand::Device(device) => format!("the device {device}"),
        Demand::Word => "something that only you can do".to_owned(),
        Demand::Group(group) => format!("membership in the group {group}"),
        Demand::Reach(address) if address == "yard" => "that a yard answers".to_owned(),
        Demand::Reach(address) => format!("that {address} answers"),
        Demand::HostName(name) => format!("the host name {name} for this machine"),
        Demand::Port(port) => format!("the port {port} free"),
    }
}

fn plain_systems(all: &[OfSystem]) -> String {
    all.iter().map(|of| of.system.to_string()).collect::<Vec<_>>().join(", ")
}

/// What was found.
pub fn found(found: &Fact) -> String {
    let with =
        |name: &str, version: Option<&str>| version.map_or(name.to_owned(), |version| format!("{name} {version}"));
    match found {
        Fact::Named { name, version } => with(name, version.as_deref()),
        Fact::Command { file, version, untold } => {
            let said = version
                .clone()
                .or_else(|| untold.as_ref().map(super::host::untold))
                .unwrap_or_else(|| "no version".to_owned());
            format!("{}, {said}", file.display())
        }
        Fact::Nothing => "none".to_owned(),
        Fact::Unknown => "not known".to_owned(),
        Fact::Bytes(amount) => power_of_two(*amount),
        Fact::After(anew) => format!("done, but {}", super::anew(*anew)),
        Fact::Lacking(names) => format!("{} not installed", both(names)),
        Fact::Count(u64::MAX) => "no limit".to_owned(),
        Fact::Count(count) => count.to_string(),
        Fact::Virtual(Virtual::Usable) => "usable".to_owned(),
        Fact::Virtual(Virtual::NotAllowed) => "there, but you may not use it".to_owned(),
        Fact::Virtual(Virtual::NoDevice) => "in the processor, but the kernel offers no device".to_owned(),
        Fact::Virtual(Virtual::None) => "none, or switched off in firmware".to_owned(),
        Fact::Groups(groups) if groups.is_empty() => "in no group".to_owned(),
        Fact::Groups(groups) => format!("in {}", groups.join(", ")),
        Fact::Answers(None) => "it answers".to_owned(),
        Fact::Answers(Some(who)) => format!("{who} answers"),
        Fact::Silent(why) => why.clone(),
        Fact::PortFree(true) => "free".to_owned(),
        Fact::PortFree(false) => "something listens there".to_owned(),
    }
}

/// Bytes in powers of 1024, as gates are written (IEC 80000-13).
fn power_of_two(bytes: u64) -> String {
    match bytes {
        0..1_048_576 => format!("{} KiB", bytes >> 10),
        1_048_576..1_073_741_824 => format!("{} MiB", bytes >> 20),
        _ => format!("{}.{} GiB", bytes >> 30, ((bytes >> 20) & 1023) * 10 / 1024),
    }
}
