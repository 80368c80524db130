//! What gates demand, held against a host, and what a host is known to have.
//!
//! What cannot be told (a described host has no processes, a container hides its hardware) is told as unknown.

use std::net::{Ipv4Addr, TcpListener, TcpStream, ToSocketAddrs};
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use kladder_choose::catalog::{Anew, Demand, Facts, Machine, OfSystem, Ranged};
use kladder_choose::version::{Requirement, Scheme, Version};

use super::fonts::has_font;
use super::survey::{Host, Root, Survey, Untold, facts, version_of};
use super::system::{self, Found};

/// How long an address may take to answer.
pub const PATIENCE: Duration = Duration::from_secs(5);

/// How virtualisation stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Virtual {
    /// The caller may use it.
    Usable,
    /// It is there, and the caller may not use it.
    NotAllowed,
    /// The processor has it, and the kernel offers no device.
    NoDevice,
    /// There is none, or it is switched off in firmware.
    None,
}

/// What was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fact {
    /// Something of this name, at this version where it says one.
    Named {
        /// Its name.
        name: String,
        /// Its version.
        version: Option<String>,
    },
    /// A command of the host.
    Command {
        /// The file that answers.
        file: PathBuf,
        /// The version it says.
        version: Option<String>,
        /// Why it says none.
        untold: Option<Untold>,
    },
    /// Nothing of the kind.
    Nothing,
    /// What cannot be told.
    Unknown,
    /// So many bytes.
    Bytes(u64),
    /// What is demanded was done, and counts once this was started anew.
    After(Anew),
    /// These are not there.
    Lacking(Vec<String>),
    /// So many of what is counted.
    Count(u64),
    /// Virtualisation.
    Virtual(Virtual),
    /// The caller's groups.
    Groups(Vec<String>),
    /// It answers; which one, where there are several.
    Answers(Option<String>),
    /// It does not answer, and why.
    Silent(String),
    /// Whether a port is free.
    PortFree(bool),
}

/// Holds a demand against a host: what was found, and whether that will do.
pub fn judge(demand: &Demand, survey: &Survey, host: &Host) -> (Fact, bool) {
    match demand {
        Demand::Os(os) => (named(&survey.system.os, None), *os == survey.system.os),
        Demand::Kernel(wanted) => match survey.system.kernel.as_deref().map(leading) {
            Some(kernel) => {
                let open = kernel.parse().is_ok_and(|version: Version| wanted.allows(&version));
                (named("kernel", Some(kernel)), open)
            }
            None => (Fact::Unknown, false),
        },
        Demand::Release(wanted) => {
            let (id, release) = (survey.system.id.as_deref(), survey.system.release.as_deref());
            id.map_or((Fact::Unknown, false), |id| ranged(wanted, Some(id), release))
        }
        Demand::CLibrary(wanted) => match &survey.libc {
            Some(library) => ranged(wanted, Some(&library.kind), library.version.as_deref()),
            None => (Fact::Unknown, false),
        },
        Demand::Feature(feature) => {
            let there = survey.processor.features.iter().any(|known| known == feature);
            (if there { named(feature, None) } else { Fact::Nothing }, there)
        }
        Demand::Memory(bytes) => amount(*bytes, survey.memory.map(|memory| memory.total)),
        Demand::Disk(bytes) => amount(*bytes, survey.disks.first().and_then(|disk| disk.free)),
        Demand::Virtualisation { usable } => virtualisation(*usable, survey),
        Demand::Driver(wanted) => {
            let card = survey.graphics.iter().find(|card| card.driver.as_deref() == Some(wanted.name.as_str()));
            let version = card.and_then(|card| card.version.as_deref());
            ranged(wanted, card.and_then(|card| card.driver.as_deref()), version)
        }
        Demand::Command(wanted) => command(wanted, host),
        Demand::Library(wanted) => within(wanted, system::library(host, &wanted.name)),
        Demand::Package(wanted) => packaged(wanted, system::package(host, &wanted.name)),
        Demand::File(path) => there(path, Some(Root::open(host).has(path))),
        Demand::Module(name) => there(name, system::module(host, name)),
        Demand::Locale(name) => there(name, system::locale(host, name)),
        Demand::Font(family) => there(family, Some(has_font(host, family))),
        Demand::Limit { what, least } => match system::limit(host, what) {
            Some(most) => (Fact::Count(most), most >= *least),
            None => (Fact::Unknown, false),
        },
        Demand::Desktop => there("desktop", system::desktop(host)),
        Demand::Packages(all) => packages(all, survey, host),
        Demand::Device(device) => there(device, system::device(host, device)),
        // Whoever asks knows what the person has said.
        Demand::Word => (Fact::Unknown, false),
        Demand::Group(group) => {
            let there = survey.rights.root || survey.rights.groups.contains(group);
            let is_coming = || system::is_listed(host, survey.rights.user.as_deref(), group);
            if !there && is_coming() {
                return (Fact::After(Anew::Session), false);
            }
            (Fact::Groups(survey.rights.groups.clone()), there)
        }
        Demand::Reach(address) => reach(address),
        Demand::HostName(name) => there(name, Some(system::is_loopback(host, name))),
        Demand::Port(port) => {
            let free = TcpListener::bind((Ipv4Addr::LOCALHOST, *port)).is_ok();
            (Fact::PortFree(free), free)
        }
    }
}

/// A kernel's release up to what its builder added: `6.8.0-31-generic`.
fn leading(kernel: &str) -> &str {
    kernel.split_once(|c: char| !c.is_ascii_digit() && c != '.').map_or(kernel, |(version, _)| version)
}

/// What was looked for by name, at the version it has.
fn within(wanted: &Ranged, found: Found) -> (Fact, bool) {
    match found {
        Found::Unknown => (Fact::Unknown, false),
        Found::Nothing => (Fact::Nothing, false),
        Found::There(version) => ranged(wanted, Some(&wanted.name), version.as_deref()),
    }
}

/// A package at the version its makers gave it, or with the packager's revision; an epoch counts where one is asked for.
fn packaged(wanted: &Ranged, found: Found) -> (Fact, bool) {
    let Found::There(Some(version)) = &found else { return within(wanted, found) };
    let without_epoch = version.split_once(':').map_or(version.as_str(), |(_, rest)| rest);
    let upstream = system::of_makers(version);
    let has_epoch = wanted.range.named().any(|version| version.as_str().contains(':'));
    let readings = if has_epoch { vec![version.as_str()] } else { vec![without_epoch, upstream] };
    let allows = |text: &str| text.parse().is_ok_and(|version| wanted.range.allows_by(Scheme::Packaged, &version));
    (named(&wanted.name, Some(version)), readings.into_iter().any(allows))
}

/// The packages named for this system, else those for one that it is like; without any nothing can be told.
fn packages(all: &[OfSystem], survey: &Survey, host: &Host) -> (Fact, bool) {
    let Some(named) = of_system(all, survey) else { return (Fact::Unknown, false) };
    let found: Vec<(&String, Found)> = named.packages.iter().map(|name| (name, system::package(host, name))).collect();
    if found.iter().any(|(_, found)| *found == Found::Unknown) {
        return (Fact::Unknown, false);
    }
    let lacking: Vec<String> =
        found.iter().filter(|(_, found)| *found == Found::Nothing).map(|(name, _)| (*name).clone()).collect();
    if lacking.is_empty() { (named_fact(&named.packages), true) } else { (Fact::Lacking(lacking), false) }
}

fn named_fact(packages: &[String]) -> Fact {
    named(&packages.join(", "), None)
}

/// What is named for a system.
pub fn of_system<'a>(all: &'a [OfSystem], survey: &Survey) -> Option<&'a OfSystem> {
    let release = survey.system.release.as_deref();
    let own = survey.system.id.iter().map(|id| (id, release));
    // The release of a system that is like another one is not the other's.
    let names = own.chain(survey.system.like.iter().map(|like| (like, None)));
    let mut names = names.map(|(name, release)| (name.clone(), release));
    names.find_map(|(name, release)| all.iter().find(|of| of.system.name == name && in_range(&of.system, release)))
}

fn there(name: &str, found: Option<bool>) -> (Fact, bool) {
    match found {
        None => (Fact::Unknown, false),
        Some(false) => (Fact::Nothing, false),
        Some(true) => (named(name, None), true),
    }
}

fn named(name: &str, version: Option<&str>) -> Fact {
    Fact::Named { name: name.to_owned(), version: version.map(str::to_owned) }
}

fn amount(wanted: u64, found: Option<u64>) -> (Fact, bool) {
    (found.map_or(Fact::Unknown, Fact::Bytes), found.is_some_and(|found| found >= wanted))
}

/// A name and a version against what there is of it.
fn ranged(wanted: &Ranged, name: Option<&str>, version: Option<&str>) -> (Fact, bool) {
    let Some(name) = name else { return (Fact::Nothing, false) };
    (named(name, version), name == wanted.name && in_range(wanted, version))
}

fn in_range(wanted: &Ranged, version: Option<&str>) -> bool {
    let fits = |text: &str| text.parse::<Version>().is_ok_and(|version| wanted.range.allows(&version));
    wanted.range == Requirement::any() || version.is_some_and(fits)
}

fn virtualisation(usable: bool, survey: &Survey) -> (Fact, bool) {
    let facts = survey.virtualisation;
    let found = match (facts.flag, facts.device, facts.reachable) {
        (_, _, true) => Virtual::Usable,
        (_, true, false) => Virtual::NotAllowed,
        (true, false, false) => Virtual::NoDevice,
        (false, false, false) => Virtual::None,
    };
    (Fact::Virtual(found), if usable { facts.reachable } else { facts.flag || facts.device })
}

fn command(wanted: &Ranged, host: &Host) -> (Fact, bool) {
    let Some(tool) = version_of(host, &wanted.name) else { return (Fact::Nothing, false) };
    let open = in_range(wanted, tool.version.as_deref());
    (Fact::Command { file: tool.path, version: tool.version, untold: tool.untold }, open)
}

fn reach(address: &str) -> (Fact, bool) {
    let connected = address.to_socket_addrs().and_then(|mut all| {
        let first = all.next().ok_or(std::io::ErrorKind::NotFound)?;
        TcpStream::connect_timeout(&first, PATIENCE)
    });
    match connected {
        Ok(_) => (Fact::Answers(None), true),
        Err(error) => (Fact::Silent(error.to_string()), false),
    }
}

/// A host whose facts are looked at when something depends on them.
#[derive(Debug)]
struct Known {
    host: Host,
    survey: OnceLock<Survey>,
}

impl Facts for Known {
    fn holds(&self, demand: &Demand) -> Option<bool> {
        let survey = self.survey.get_or_init(|| facts(&self.host, &[]));
        let (found, open) = judge(demand, survey, &self.host);
        let is_untold = matches!(found, Fact::Unknown | Fact::Command { untold: Some(Untold::Described), .. });
        (!is_untold).then_some(open)
    }
}

impl Host {
    /// The machine that it is, for choosing.
    pub fn machine(&self) -> Machine {
        let facts = Arc::new(Known { host: self.clone(), survey: OnceLock::new() });
        Machine { facts, ..Machine::of(self.platform.clone()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_held_against_what_their_makers_call_them() {
        let open = |range: &str, version: &str| {
            let wanted = format!("tideglass {range}").parse().unwrap();
            packaged(&wanted, Found::There(Some(version.to_owned()))).1
        };
        for range in [">=12", ">=12.2, <12.3", "=12.2.0", "=12.2.0-3", ">=12.2.0-2", ">=4:12", "any"] {
            assert!(open(range, "4:12.2.0-3"), "{range}");
        }
        for range in [">=13", "<12", ">=12.2.0-4", ">=5:1", "=12.2.1"] {
            assert!(!open(range, "4:12.2.0-3"), "{range}");
        }
        assert!(open("<2.1", "2.1~rc1-1") && open(">=2.1", "2.1-r0") && open(">=1.1.1", "1.1.1w-0+deb11u1"));
    }
}
