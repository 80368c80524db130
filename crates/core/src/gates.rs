//! Gates held against a host: all of a route at once, before the first byte.

use std::net::{Ipv4Addr, TcpListener, TcpStream, ToSocketAddrs};
use std::time::Duration;

use crate::catalog::{Artifact, Demand, Gate, Ranged};
use crate::fetch::Yard;
use crate::route::{Route, Rung, Work};
use crate::survey::{Host, Survey, version_of};
use crate::version::{Requirement, Version};

/// How long an address may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// An artifact that does not say how large it gets is taken to grow so much.
const GROWTH: u64 = 5;
/// What must stay free besides: for logs, and for the rest of the machine.
const HEADROOM: u64 = 64 << 20;

/// How a gate stands on a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// The gate's name.
    pub gate: String,
    /// The tool that needs it; `None` for the route as a whole.
    pub tool: Option<String>,
    /// What is needed, in words.
    pub needed: String,
    /// What was found, in words.
    pub found: String,
    /// Whether it is open.
    pub open: bool,
    /// What a person can do about it.
    pub advice: Option<String>,
    /// The commands with which an administrator opens it.
    pub admin: Vec<String>,
}

/// Looks at every gate of a route whose rungs are not in place yet, and at the disk that the route takes.
pub fn check(route: &Route, survey: &Survey, host: &Host, yards: &[Yard]) -> Vec<Standing> {
    let left: Vec<&Rung> = route.rungs.iter().filter(|rung| rung.work != Work::Nothing).collect();
    let of_rung = |rung: &&Rung| {
        let gates = rung.definition.gates.clone();
        let tool = rung.name.tool.clone();
        gates.into_iter().map(move |gate| stand(&gate, &tool, survey, host, yards)).collect::<Vec<_>>()
    };
    let mut standings: Vec<Standing> = left.iter().flat_map(of_rung).collect();
    standings.extend(disk(&left, survey));
    standings
}

fn stand(gate: &Gate, tool: &str, survey: &Survey, host: &Host, yards: &[Yard]) -> Standing {
    let judged =
        if gate.demand == Demand::Reach("yard".into()) { any_yard(yards) } else { judge(&gate.demand, survey, host) };
    let Judged { needed, found, open } = judged;
    let (advice, admin) = (gate.advice.clone(), gate.admin.clone());
    Standing { gate: gate.name.clone(), tool: Some(tool.to_owned()), needed, found, open, advice, admin }
}

struct Judged {
    needed: String,
    found: String,
    open: bool,
}

impl Judged {
    /// Says what kind of thing is needed.
    fn of(self, kind: &str) -> Self {
        Self { needed: format!("{kind} {}", self.needed), ..self }
    }
}

fn judged(needed: impl Into<String>, found: impl Into<String>, open: bool) -> Judged {
    Judged { needed: needed.into(), found: found.into(), open }
}

fn judge(demand: &Demand, survey: &Survey, host: &Host) -> Judged {
    let yes = |there: bool, text: &str| if there { text.to_owned() } else { "not there".to_owned() };
    match demand {
        Demand::Os(os) => judged(format!("the system {os}"), &survey.system.os, *os == survey.system.os),
        Demand::Release(wanted) => {
            let (id, release) = (survey.system.id.as_deref(), survey.system.release.as_deref());
            ranged(wanted, id, release, "another system").of("the system")
        }
        Demand::Libc(wanted) => {
            let libc = survey.libc.as_ref();
            ranged(wanted, libc.map(|l| l.kind.as_str()), libc.and_then(|l| l.version.as_deref()), "no C library")
                .of("the C library")
        }
        Demand::Feature(feature) => {
            let there = survey.processor.features.iter().any(|known| known == feature);
            judged(format!("the processor's feature {feature}"), yes(there, feature), there)
        }
        Demand::Memory(bytes) => {
            let total = survey.memory.map(|memory| memory.total);
            judged(
                format!("{} of memory", size(*bytes)),
                total.map_or_else(|| "not known".into(), size),
                total.is_some_and(|t| t >= *bytes),
            )
        }
        Demand::Disk(bytes) => {
            let free = survey.disks.first().and_then(|disk| disk.free);
            let open = free.is_some_and(|free| free >= *bytes);
            judged(format!("{} free", size(*bytes)), free.map_or_else(|| "not known".into(), size), open)
        }
        Demand::Virtualisation { usable } => virtualisation(*usable, survey),
        Demand::Driver(wanted) => {
            let card = survey.graphics.iter().find(|card| card.driver.as_deref() == Some(wanted.name.as_str()));
            let version = card.and_then(|card| card.version.as_deref());
            ranged(wanted, card.and_then(|card| card.driver.as_deref()), version, "no such driver").of("the driver")
        }
        Demand::Command(wanted) => command(wanted, host).of("the command"),
        Demand::Group(group) => {
            let there = survey.rights.root || survey.rights.groups.contains(group);
            let found = format!("in {}", survey.rights.groups.join(", "));
            judged(format!("membership in the group {group}"), found, there)
        }
        Demand::Reach(address) => reach(address),
        Demand::Port(port) => port_free(*port),
    }
}

/// A name and a version against what there is of it.
fn ranged(wanted: &Ranged, name: Option<&str>, version: Option<&str>, nothing: &str) -> Judged {
    let Some(name) = name else { return judged(wanted.to_string(), nothing, false) };
    let found = version.map_or_else(|| name.to_owned(), |version| format!("{name} {version}"));
    let any = wanted.range == Requirement::any();
    let fits = version.and_then(|text| text.parse::<Version>().ok()).is_some_and(|v| wanted.range.allows(&v));
    judged(wanted.to_string(), found, name == wanted.name && (any || fits))
}

fn virtualisation(usable: bool, survey: &Survey) -> Judged {
    let facts = survey.virtualisation;
    let found = match (facts.flag, facts.device, facts.reachable) {
        (_, _, true) => "usable",
        (_, true, false) => "there, but you may not use it",
        (true, false, false) => "in the processor, but the kernel offers no device",
        (false, false, false) => "none, or switched off in firmware",
    };
    let needed = if usable { "virtualisation that you may use" } else { "virtualisation" };
    judged(needed, found, if usable { facts.reachable } else { facts.flag || facts.device })
}

fn command(wanted: &Ranged, host: &Host) -> Judged {
    match version_of(host, &wanted.name) {
        None => judged(wanted.to_string(), "no such command", false),
        Some(tool) => {
            let found = ranged(wanted, Some(&wanted.name), tool.version.as_deref(), "");
            let why = tool.why.map(|why| format!(", {why}")).unwrap_or_default();
            Judged { found: format!("{} at {}{why}", found.found, tool.path.display()), ..found }
        }
    }
}

fn reach(address: &str) -> Judged {
    let connected = address.to_socket_addrs().and_then(|mut all| {
        let first = all.next().ok_or(std::io::ErrorKind::NotFound)?;
        TcpStream::connect_timeout(&first, PATIENCE)
    });
    let found = connected.as_ref().map_or_else(ToString::to_string, |_| "it answers".to_owned());
    judged(format!("that {address} answers"), found, connected.is_ok())
}

/// Whether some yard can be reached.
fn any_yard(yards: &[Yard]) -> Judged {
    let answers = |yard: &&Yard| match yard {
        Yard::Folder(folder) => folder.is_dir(),
        Yard::Server(_) => yard.socket().is_some_and(|address| reach(&address).open),
    };
    let found = yards.iter().find(answers);
    let text = found.map_or_else(|| "none answers".to_owned(), |yard| format!("{yard} answers"));
    judged("that a yard answers", text, found.is_some())
}

fn port_free(port: u16) -> Judged {
    let bound = TcpListener::bind((Ipv4Addr::LOCALHOST, port));
    let found = if bound.is_ok() { "free" } else { "something listens there" };
    judged(format!("the port {port} free"), found, bound.is_ok())
}

fn size(bytes: u64) -> String {
    match bytes {
        0..1_073_741_824 => format!("{} MiB", bytes >> 20),
        _ => format!("{}.{} GiB", bytes >> 30, ((bytes >> 20) & 1023) * 10 / 1024),
    }
}

/// Bytes that a route takes: in the cache, and on the shelf.
pub fn room(rungs: &[&Rung]) -> (u64, u64) {
    let fetched = rungs.iter().filter(|rung| rung.work == Work::Fetch).map(|rung| rung.size()).sum();
    let shelved = rungs.iter().filter(|rung| rung.work >= Work::Unpack).filter_map(|rung| rung.shelved());
    let unpacked = shelved.flat_map(|shelved| &shelved.artifacts).map(unpacked).sum();
    (fetched, unpacked)
}

fn unpacked(artifact: &Artifact) -> u64 {
    artifact.unpacked.unwrap_or(artifact.size.saturating_mul(GROWTH))
}

/// One gate for each file system that the route writes to.
fn disk(left: &[&Rung], survey: &Survey) -> Vec<Standing> {
    let (fetched, unpacked) = room(left);
    let mut standings: Vec<Standing> = Vec::new();
    let mut seen = std::collections::BTreeSet::new();
    for disk in survey.disks.iter().filter(|disk| seen.insert(disk.device)) {
        let here = |what: &str| survey.disks.iter().any(|d| d.what == what && d.device == disk.device);
        let bytes = if here("shelf") { unpacked } else { 0 } + if here("cache") { fetched } else { 0 };
        let needed = bytes.saturating_add(HEADROOM);
        if bytes == 0 || disk.free.is_none_or(|free| free >= needed) {
            continue;
        }
        let found = disk.free.map_or_else(|| "not known".into(), |free| format!("{} free", size(free)));
        standings.push(Standing {
            gate: "disk".into(),
            tool: None,
            needed: format!("{} free at {}", size(needed), disk.path.display()),
            found,
            open: false,
            advice: Some("make room, or move what is kept to another disk".into()),
            admin: Vec::new(),
        });
    }
    standings
}

/// A commented shell script with what only an administrator can do about the gates that are closed.
pub fn admin_script(standings: &[Standing]) -> Option<String> {
    let closed: Vec<&Standing> = standings.iter().filter(|s| !s.open && !s.admin.is_empty()).collect();
    if closed.is_empty() {
        return None;
    }
    let mut text = String::from(
        "#!/bin/sh\n# For an administrator of this machine: what must be done before the climb can go on.\nset -eu\n",
    );
    for standing in closed {
        let tool = standing.tool.as_deref().unwrap_or("the route");
        let head = format!("\n# {}: {tool} needs {}; found: {}.\n", standing.gate, standing.needed, standing.found);
        text.push_str(&head);
        text.push_str(&standing.admin.join("\n"));
        text.push('\n');
    }
    Some(text)
}
