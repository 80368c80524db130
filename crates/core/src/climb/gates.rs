//! Gates held against a host: all of a route at once, before the first byte.
//!
//! A gate that cannot be told (a described host has no processes, a container hides its hardware) counts as closed and is told
//! as unknown. Room on the disk is a gate of the route itself: what is unpacked, what is kept in the cache, and 64 MiB beyond,
//! added up for every file system.

use std::net::{Ipv4Addr, TcpListener, TcpStream, ToSocketAddrs};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use kladder_choose::catalog::{Artifact, Demand, Gate, Ranged};
use kladder_choose::names::ToolName;
use kladder_choose::version::{Requirement, Version};

use super::route::Route;
use crate::bring::fetch::Yard;
use crate::host::survey::{Host, Survey, Untold, version_of};
use crate::tasks::Rung;

/// How long an address may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// An artifact that does not say how large it gets is taken to grow so much.
const GROWTH: u64 = 5;
/// What must stay free besides, in bytes: for logs, and for the rest of the machine.
const HEADROOM: u64 = 64 << 20;

/// What is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Needed {
    /// What a definition demands.
    Demand(Demand),
    /// Room for what the route brings.
    Room {
        /// Bytes.
        bytes: u64,
        /// On the file system of this folder.
        at: PathBuf,
    },
}

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

/// How a gate stands on a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// The gate's name.
    pub gate: String,
    /// The tool that needs it; `None` for the route as a whole.
    pub tool: Option<ToolName>,
    /// What is needed.
    pub needed: Needed,
    /// What was found.
    pub found: Fact,
    /// Whether it is open.
    pub open: bool,
    /// What a person can do about it, as the definition says.
    pub advice: Option<String>,
    /// The commands with which an administrator opens it.
    pub admin: Vec<String>,
}

/// Looks at every gate of a route whose rungs are not in place yet, and at the disk that the route takes.
pub fn check(route: &Route, survey: &Survey, host: &Host, yards: &[Arc<dyn Yard>]) -> Vec<Standing> {
    let left: Vec<&Rung> = route.rungs.iter().filter(|rung| !rung.todo.is_empty()).collect();
    let of_rung = |rung: &&Rung| {
        let stand = |gate: &Gate| stand(gate, &rung.key.tool, survey, host, yards);
        rung.definition.gates.iter().map(stand).collect::<Vec<_>>()
    };
    let mut standings: Vec<Standing> = left.iter().flat_map(of_rung).collect();
    standings.extend(disk(&left, survey));
    standings
}

fn stand(gate: &Gate, tool: &ToolName, survey: &Survey, host: &Host, yards: &[Arc<dyn Yard>]) -> Standing {
    let (found, open) = match &gate.demand {
        Demand::Reach(address) if address == "yard" => any_yard(yards),
        demand => judge(demand, survey, host),
    };
    Standing {
        gate: gate.name.clone(),
        tool: Some(tool.clone()),
        needed: Needed::Demand(gate.demand.clone()),
        found,
        open,
        advice: gate.advice.clone(),
        admin: gate.admin.clone(),
    }
}

fn judge(demand: &Demand, survey: &Survey, host: &Host) -> (Fact, bool) {
    match demand {
        Demand::Os(os) => (named(&survey.system.os, None), *os == survey.system.os),
        Demand::Release(wanted) => {
            let (id, release) = (survey.system.id.as_deref(), survey.system.release.as_deref());
            ranged(wanted, id, release)
        }
        Demand::CLibrary(wanted) => {
            let library = survey.libc.as_ref();
            ranged(wanted, library.map(|it| it.kind.as_str()), library.and_then(|it| it.version.as_deref()))
        }
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
        Demand::Group(group) => {
            let there = survey.rights.root || survey.rights.groups.contains(group);
            (Fact::Groups(survey.rights.groups.clone()), there)
        }
        Demand::Reach(address) => reach(address),
        Demand::Port(port) => {
            let free = TcpListener::bind((Ipv4Addr::LOCALHOST, *port)).is_ok();
            (Fact::PortFree(free), free)
        }
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

/// Whether some yard can be reached.
fn any_yard(yards: &[Arc<dyn Yard>]) -> (Fact, bool) {
    match yards.iter().find(|yard| yard.answers(PATIENCE)) {
        Some(yard) => (Fact::Answers(Some(yard.shown())), true),
        None => (Fact::Nothing, false),
    }
}

/// Bytes that rungs take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Room {
    /// In the cache: what is to be fetched.
    pub fetched: u64,
    /// On the shelf.
    pub unpacked: u64,
}

/// The room that some rungs take.
pub fn room(rungs: &[&Rung]) -> Room {
    let to_bring = rungs.iter().filter(|rung| rung.is_to_bring());
    let fetched = to_bring.clone().filter(|rung| rung.to_fetch).map(|rung| rung.size()).sum();
    let artifacts = to_bring.filter_map(|rung| rung.shelved()).flat_map(|shelved| &shelved.artifacts);
    Room { fetched, unpacked: artifacts.map(unpacked).fold(0, u64::saturating_add) }
}

fn unpacked(artifact: &Artifact) -> u64 {
    artifact.unpacked.unwrap_or(artifact.size.saturating_mul(GROWTH))
}

/// One gate for each file system that the route writes to and that has too little room.
fn disk(left: &[&Rung], survey: &Survey) -> Vec<Standing> {
    let Room { fetched, unpacked } = room(left);
    let mut standings: Vec<Standing> = Vec::new();
    let mut seen = std::collections::BTreeSet::new();
    for disk in survey.disks.iter().filter(|disk| seen.insert(disk.device)) {
        let here = |what: &str| survey.disks.iter().any(|d| d.what == what && d.device == disk.device);
        let of = |what: &str, bytes: u64| if here(what) { bytes } else { 0 };
        let bytes = of("shelf", unpacked).saturating_add(of("cache", fetched));
        let needed = bytes.saturating_add(HEADROOM);
        if bytes == 0 || disk.free.is_none_or(|free| free >= needed) {
            continue;
        }
        standings.push(Standing {
            gate: "disk".into(),
            tool: None,
            needed: Needed::Room { bytes: needed, at: disk.path.clone() },
            found: disk.free.map_or(Fact::Unknown, Fact::Bytes),
            open: false,
            advice: None,
            admin: Vec::new(),
        });
    }
    standings
}
