//! Gates held against a host: all of a route at once, before the first byte.
//!
//! A gate that cannot be told (a described host has no processes, a container hides its hardware) counts as closed and is told
//! as unknown. Room on the disk is a gate of the route itself: what is unpacked, what is kept in the cache, and 64 MiB beyond,
//! added up for every file system.

use std::path::PathBuf;
use std::sync::Arc;

use kladder_choose::catalog::{Anew, Artifact, Demand, Gate, Who};
use kladder_choose::names::ToolName;

use super::Site;
use super::route::Route;
use crate::bring::fetch::Yard;
pub use crate::host::demands::{Fact, Virtual};
use crate::host::demands::{PATIENCE, judge};
use crate::host::survey::{Host, Survey};
use crate::keep::chores::Chores;
use crate::tasks::Rung;

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
    /// What a person does to open it.
    pub person: Option<String>,
    /// What must be started anew before it counts as opened.
    pub after: Option<Anew>,
    /// How long opening it takes, in minutes.
    pub minutes: Option<u32>,
    /// Who can open it.
    pub who: Option<Who>,
}

impl Standing {
    /// Whether it is closed, and somebody can open it.
    pub fn is_chore(&self) -> bool {
        !self.open && self.who.is_some()
    }

    /// Whether only the person's word opens it.
    pub fn is_told(&self) -> bool {
        self.needed == Needed::Demand(Demand::Word)
    }
}

/// Looks at every gate of a route whose rungs are not in place yet, and at the disk that the route takes.
pub fn check(route: &Route, survey: &Survey, host: &Host, yards: &[Arc<dyn Yard>], told: &Chores) -> Vec<Standing> {
    let left: Vec<&Rung> = route.rungs.iter().filter(|rung| !rung.todo.is_empty()).collect();
    let mut standings: Vec<Standing> = left.iter().flat_map(|rung| of_rung(rung, survey, host, yards, told)).collect();
    standings.extend(disk(&left, survey));
    standings
}

impl Site<'_> {
    /// How the gates of a rung stand, whether it stands itself or not.
    pub fn gates_of(&self, rung: &Rung, survey: &Survey) -> Vec<Standing> {
        // What is not known to be done is to be done.
        let told = Chores::read(&self.home.data).unwrap_or_default();
        of_rung(rung, survey, self.host, self.yards, &told)
    }
}

/// How the gates of one rung stand.
pub(super) fn of_rung(
    rung: &Rung,
    survey: &Survey,
    host: &Host,
    yards: &[Arc<dyn Yard>],
    told: &Chores,
) -> Vec<Standing> {
    let judged = |gate: &Gate| match &gate.demand {
        Demand::Reach(address) if address == "yard" => any_yard(yards),
        Demand::Word if told.has(&rung.key.tool, gate) => (Fact::Answers(None), true),
        Demand::Word => (Fact::Nothing, false),
        demand => judge(demand, survey, host),
    };
    let one = |gate: &Gate| {
        let due = told.due(&rung.key.tool, gate, &survey.identity);
        let found = match (judged(gate), due) {
            ((_, true), Some(anew)) => (Fact::After(anew), false),
            (found, _) => found,
        };
        stand(gate, &rung.key.tool, found)
    };
    // Packages bring what the host has; where it is there in another way, they are not missed.
    let is_met = |gate: &&Gate| rung.shelved().is_none() && matches!(gate.demand, Demand::Packages(_));
    rung.definition.says.gates.iter().filter(|gate| !is_met(gate)).map(one).collect()
}

fn stand(gate: &Gate, tool: &ToolName, (found, open): (Fact, bool)) -> Standing {
    Standing {
        gate: gate.name.clone(),
        tool: Some(tool.clone()),
        needed: Needed::Demand(gate.demand.clone()),
        found,
        open,
        advice: gate.advice.clone(),
        admin: gate.admin.clone(),
        person: gate.person.clone(),
        after: gate.after,
        minutes: gate.minutes,
        who: gate.who(),
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
            person: None,
            after: None,
            minutes: None,
            who: None,
        });
    }
    standings
}
