//! What a workstation is, as a value that can be written, read, shown and compared.

mod layers;
mod sbom;
mod timeline;

pub use self::layers::{Box as LayerBox, Layers, Line as LayerLine, heights};
pub use self::sbom::{cyclonedx, spdx};
pub use self::timeline::{Doing, Span, Timeline, TimelineRung};

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use kladder_choose::catalog::{Artifact, Definition, Who};
use kladder_choose::names::RungKey;
use kladder_choose::pins::Pins;
use kladder_choose::sets::Library;
use serde::{Deserialize, Serialize};

use crate::base::event::Subject;
use crate::climb::gates::Standing;
use crate::climb::{ClimbError, Remembered, Site};
use crate::desk::Desk;
use crate::host::survey::{HostTool, Survey};
use crate::keep::landing::{LandedRung, Landing, LandingError};
use crate::keep::state::{Journal, Kind, Run, Step};
use crate::prove::together::Proof;
use crate::serve::Served;
use crate::tasks::{Because, Rung};

/// Why a report cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum ReportError {
    /// There is no route.
    #[error(transparent)]
    Climb(#[from] Box<ClimbError>),
    /// A landing cannot be read.
    #[error(transparent)]
    Landing(#[from] LandingError),
}

/// What a workstation is: a machine, a ladder, and how it stands.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Report {
    /// `kladder.report/1`
    pub format: String,
    /// What the machine is called.
    pub machine: String,
    /// When it was made (RFC 3339).
    pub made: String,
    /// The version of Kite Ladder that made it.
    pub kladder: String,
    /// The ladder's title.
    pub title: String,
    /// By name: what the machine is and has, as far as it matters to tools.
    pub host: BTreeMap<String, String>,
    /// The number of the landing that is current; null before the first.
    pub landing: Option<u32>,
    /// When that was made (RFC 3339).
    pub landed: Option<String>,
    /// The rungs that are pinned for this machine, bottom first.
    pub rungs: Vec<ReportRung>,
    /// When it was verified the last time (RFC 3339); null where it never was.
    pub verified: Option<String>,
    /// What failed then.
    pub failed: Vec<Subject>,
    /// How much was looked at then.
    pub looked_at: usize,
    /// The climb that made the landing; null where the log has forgotten it.
    #[serde(default)]
    pub climb: Option<Timeline>,
    /// The needs between rungs, and whether a rehearsal proved them the last time.
    #[serde(default)]
    pub together: Vec<ReportNeed>,
    /// What only an administrator or a person can do, of all rungs.
    #[serde(default)]
    pub chores: Vec<ReportChore>,
    /// Programs that run while one works.
    #[serde(default)]
    pub services: Vec<ReportService>,
    /// Tools that the machine has of its own.
    #[serde(default)]
    pub found: Vec<ReportFound>,
}

/// A need between two rungs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportNeed {
    /// Who needs.
    pub rung: String,
    /// Whom.
    pub needs: String,
    /// Whether that was seen to work.
    pub proof: Proof,
}

/// A chore.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportChore {
    /// The name of its gate.
    pub gate: String,
    /// The rung that needs it.
    pub rung: String,
    /// Who does it: `administrator` or `person`.
    pub who: String,
    /// What is to be done, as the definition says it.
    pub advice: Option<String>,
    /// It is done.
    pub done: bool,
}

/// A service.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportService {
    /// Its name.
    pub service: String,
    /// Whose it is.
    pub rung: String,
    /// Where it listens.
    pub port: Option<u16>,
}

/// A tool of the machine's own.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportFound {
    /// The tool or capability.
    pub tool: String,
    /// The version that it says.
    pub version: Option<String>,
    /// Where it is.
    pub path: String,
}

/// A rung of a report.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportRung {
    /// Its tool; OWNER/TOOL where a tool keeps it to itself.
    pub rung: String,
    /// Its version.
    pub version: String,
    /// The version in the landing; null where it does not stand yet.
    pub stands: Option<String>,
    /// What sort of tool it is.
    pub kind: String,
    /// What it does.
    pub summary: String,
    /// Its licence, an SPDX expression; null where nobody says.
    pub licence: Option<String>,
    /// The host has it.
    pub on_host: bool,
    /// The ladder itself wishes for it.
    pub wished: bool,
    /// The rungs that it needs.
    pub needs: Vec<String>,
    /// Its pieces that are there.
    pub pieces: Vec<String>,
    /// Its commands.
    pub commands: Vec<String>,
    /// Its files, as they are fetched.
    pub files: Vec<ReportFile>,
    /// Its libraries, where it is a set.
    pub libraries: Vec<ReportLibrary>,
}

/// A file that is fetched.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportFile {
    /// Its path in a yard.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: String,
    /// Where its maker publishes it, as the catalog says it.
    pub origins: Vec<String>,
}

/// A library of a set.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReportLibrary {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The kind of index that it is from: `python` or `npm`.
    pub index: String,
    /// The libraries that it needs, by name.
    pub depends: Vec<String>,
}

impl Report {
    /// The format's name and version.
    pub const FORMAT: &'static str = "kladder.report/1";

    /// The report of a ladder on this machine, which `survey` tells of.
    ///
    /// # Errors
    /// [`ReportError`].
    pub fn of(desk: &Desk, pins: &Pins, machine: &str, survey: &Survey) -> Result<Self, ReportError> {
        let site = desk.site(pins);
        let route = site.route().map_err(Box::new)?;
        let landing = site.landings().current()?;
        let remembered = site.remembered();
        let failed = remembered.iter().flat_map(Remembered::all).filter(|(_, failed)| *failed);
        let failed = failed.map(|(subject, _)| subject).collect();
        Ok(Self {
            format: Self::FORMAT.to_owned(),
            machine: machine.to_owned(),
            made: jiff::Timestamp::now().strftime(MOMENT).to_string(),
            kladder: env!("CARGO_PKG_VERSION").to_owned(),
            title: desk.ladder.title.clone(),
            host: facts(survey, desk),
            landing: landing.as_ref().map(|landing| landing.number),
            landed: landing.as_ref().map(|landing| landing.made.strftime(MOMENT).to_string()),
            rungs: route.rungs.iter().map(|rung| told(rung, landing.as_ref(), desk)).collect(),
            verified: remembered.as_ref().map(|one| one.at.strftime(MOMENT).to_string()),
            failed,
            looked_at: remembered.as_ref().map_or(0, |one| one.all().count()),
            climb: landing.as_ref().and_then(|landing| climbed(desk, &route.rungs, landing)),
            together: remembered.map(|one| one.needs().map(need).collect()).unwrap_or_default(),
            chores: chores(&site, &route.rungs, survey),
            services: services(&route.rungs, site.landings().folder()),
            found: survey.tools.iter().map(found).collect(),
        })
    }
}

impl Report {
    /// The report of an earlier landing: what stood in it, and nothing else.
    pub fn of_landing(landing: &Landing, title: &str) -> Self {
        let rung = |rung: &LandedRung| ReportRung {
            rung: rung.key.to_string(),
            version: rung.version.to_string(),
            stands: Some(rung.version.to_string()),
            on_host: !rung.is_shelved(),
            ..ReportRung::default()
        };
        let moment = landing.made.strftime(MOMENT).to_string();
        Self {
            format: Self::FORMAT.to_owned(),
            machine: format!("landing {}", landing.number),
            made: moment.clone(),
            kladder: env!("CARGO_PKG_VERSION").to_owned(),
            title: title.to_owned(),
            host: BTreeMap::new(),
            landing: Some(landing.number),
            landed: Some(moment),
            rungs: landing.rungs.iter().map(rung).collect(),
            verified: None,
            ..Self::default()
        }
    }
}

/// The climb that made a landing, as the log has it.
fn climbed(desk: &Desk, rungs: &[Rung], landing: &Landing) -> Option<Timeline> {
    let journal = Journal::read(&desk.surroundings.home.data).ok()??;
    let path = desk.ladder.path.canonicalize().unwrap_or_else(|_| desk.ladder.path.clone());
    let landed = |run: &Run| {
        let steps = journal.steps(run).ok()?;
        let is_it = steps.iter().any(|(_, step)| *step == Step::Landed { number: landing.number });
        is_it.then_some(steps)
    };
    let runs = journal.runs(Some(&path)).ok()?;
    let (run, steps) = runs.iter().filter(|run| run.kind == Kind::Climb).find_map(|run| Some((run, landed(run)?)))?;
    let needs = rungs.iter().map(|rung| (rung.key.clone(), rung.needs.clone())).collect();
    Some(Timeline::of(run.id, run.took.unwrap_or_default(), &steps, &needs))
}

fn need(need: &(RungKey, RungKey, Proof)) -> ReportNeed {
    ReportNeed { rung: need.0.to_string(), needs: need.1.to_string(), proof: need.2 }
}

fn chores(site: &Site<'_>, rungs: &[Rung], survey: &Survey) -> Vec<ReportChore> {
    let one = |(rung, gate): (&Rung, Standing)| {
        let who = match gate.who? {
            Who::Administrator => "administrator",
            Who::Person => "person",
        };
        let (rung, advice) = (rung.key.to_string(), gate.advice.clone().or(gate.person.clone()));
        Some(ReportChore { gate: gate.gate, rung, who: who.to_owned(), advice, done: gate.open })
    };
    let all = rungs.iter().flat_map(|rung| site.gates_of(rung, survey).into_iter().map(move |gate| (rung, gate)));
    all.filter_map(one).collect()
}

fn services(rungs: &[Rung], ladder: &Path) -> Vec<ReportService> {
    let one = |served: &Served<'_>| ReportService {
        service: served.service.name.clone(),
        rung: served.rung.key.to_string(),
        port: served.port.map(|listening| listening.port),
    };
    crate::serve::all(rungs, ladder).iter().map(one).collect()
}

fn found(tool: &HostTool) -> ReportFound {
    let (name, path) = (tool.tool.clone(), tool.path.to_string_lossy().into_owned());
    ReportFound { tool: name, version: tool.version.clone(), path }
}

/// RFC 3339, whole seconds.
const MOMENT: &str = "%Y-%m-%dT%H:%M:%SZ";

fn told(rung: &Rung, landing: Option<&Landing>, desk: &Desk) -> ReportRung {
    let Definition { kind, summary, spdx, .. } = &*rung.definition;
    let name = |key: &RungKey| key.to_string();
    let shelved = rung.shelved();
    let file = |artifact: &Artifact| ReportFile {
        file: artifact.file.to_string(),
        size: artifact.size,
        sha256: artifact.sha256.to_string(),
        origins: artifact.origins.clone(),
    };
    let set = desk.ladder.sets.iter().find(|set| set.name == rung.key.tool);
    let index = if set.is_some_and(|set| set.packages.is_some()) { "npm" } else { "python" };
    let libraries = set.and_then(|set| desk.libraries(set.name.as_str())).unwrap_or_default();
    let library = |library: Library| ReportLibrary {
        name: library.name,
        version: library.version.unwrap_or_default(),
        index: index.to_owned(),
        depends: library.depends,
    };
    // What moved since stands at its old version; what is damaged does not stand.
    let standing = landing.and_then(|landing| landing.rung(&rung.key));
    let standing = standing.filter(|landed| landed.version != rung.version || rung.todo.is_empty());
    let mut files: Vec<ReportFile> = shelved.iter().flat_map(|shelved| &shelved.artifacts).map(file).collect();
    let mut seen = BTreeSet::new();
    files.retain(|file| seen.insert(file.sha256.clone()));
    ReportRung {
        rung: name(&rung.key),
        version: rung.version.to_string(),
        stands: standing.map(|landed| landed.version.to_string()),
        kind: kind.clone(),
        summary: summary.clone(),
        licence: spdx.clone(),
        on_host: shelved.is_none(),
        wished: rung.because.iter().any(|because| matches!(because, Because::Wished { .. })),
        needs: rung.needs.iter().map(name).collect(),
        pieces: rung.pieces.iter().map(|(piece, _)| piece.clone()).collect(),
        commands: rung.commands.keys().map(ToString::to_string).collect(),
        files,
        libraries: libraries.into_iter().map(library).collect(),
    }
}

/// What of a machine matters to tools, in words that can be compared.
fn facts(survey: &Survey, desk: &Desk) -> BTreeMap<String, String> {
    let mut facts = BTreeMap::new();
    let mut put = |name: &str, value: Option<String>| {
        if let Some(value) = value {
            facts.insert(name.to_owned(), value);
        }
    };
    let joined = |parts: [&Option<String>; 2]| {
        let parts: Vec<&str> = parts.into_iter().flatten().map(String::as_str).collect();
        (!parts.is_empty()).then(|| parts.join(" "))
    };
    let system = &survey.system;
    put("platform", Some(desk.here.platform.to_string()));
    put("system", joined([&system.name.as_ref().or(system.id.as_ref()).cloned(), &None]));
    put("release", system.release.clone());
    put("kernel", system.kernel.clone());
    put("processor", joined([&survey.processor.kind, &survey.processor.model]));
    put("processors", Some(survey.processor.count.to_string()));
    put("c-library", survey.libc.as_ref().and_then(|libc| joined([&Some(libc.kind.clone()), &libc.version])));
    put("memory", survey.memory.map(|memory| format!("{} GB", memory.total.div_ceil(1_000_000_000))));
    let graphics: Vec<String> = survey.graphics.iter().filter_map(|one| joined([&one.driver, &one.version])).collect();
    put("graphics", (!graphics.is_empty()).then(|| graphics.join(", ")));
    facts
}
