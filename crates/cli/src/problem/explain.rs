//! From the core's errors to problems. Option and command names appear here and nowhere below.

use std::io;

use kladder_core::berth::BerthError;
use kladder_core::catalog::{Artifact, CatalogError};
use kladder_core::climb::ClimbError;
use kladder_core::document::DocumentError;
use kladder_core::fetch::{Attempt, FetchError, NetworkError, YardError};
use kladder_core::files::FileError;
use kladder_core::gates::Standing;
use kladder_core::landing::LandingError;
use kladder_core::pins::PinsFileError;
use kladder_core::record::RecordError;
use kladder_core::route::RouteError;
use kladder_core::start::StartError;
use kladder_core::state::{JournalError, StateError};
use kladder_core::terms::Asked;
use kladder_core::unpack::UnpackError;
use kladder_core::verdict::{Outcome, Verdict};
use kladder_core::verify::VerifyError;
use kladder_core::wire::WireError;

use super::{Code, Problem};
use crate::render::text::{bytes, clean};

/// `a`, `a or b`, `a, b or c`.
pub(super) fn either(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} or {last}", most.join(", ")),
    }
}

pub(super) fn quoted<T: ToString>(names: &[T]) -> Vec<String> {
    names.iter().map(|name| format!("`{}`", name.to_string())).collect()
}

pub(super) fn plain<T: ToString>(names: &[T]) -> Vec<String> {
    names.iter().map(ToString::to_string).collect()
}

impl From<FileError> for Problem {
    fn from(error: FileError) -> Self {
        Self::file(&error)
    }
}

impl From<StateError> for Problem {
    fn from(error: StateError) -> Self {
        state(&error)
    }
}

impl From<JournalError> for Problem {
    fn from(error: JournalError) -> Self {
        state(&StateError::Journal(error))
    }
}

pub(crate) fn state(error: &StateError) -> Problem {
    match error {
        StateError::Busy { .. } => {
            Problem::of(Code::Busy, error).next("wait for it, or give it more time with `--wait SECONDS`")
        }
        StateError::Journal(journal) => match journal.io_kind() {
            Some(kind) => Problem::io(kind, journal),
            None if matches!(journal, JournalError::Newer { .. }) => {
                Problem::of(Code::BadFile, journal).next("use a newer kladder")
            }
            None => Problem::of(Code::Integrity, journal).next("move it away: only the log is lost"),
        },
        StateError::File(error) => Problem::file(error),
        StateError::Cancelled(_) => Problem::interrupted(),
    }
}

impl Problem {
    pub(crate) fn file(error: &FileError) -> Self {
        Self::io(error.source.kind(), error)
    }

    fn io(kind: io::ErrorKind, error: &dyn std::error::Error) -> Self {
        let problem = |code| Self::of(code, error);
        match kind {
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => problem(Code::NoPermission)
                .next("check who owns the folder; kladder never asks for more rights than you have")
                .next("or set KLADDER_HOME to a folder that you may write to"),
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                problem(Code::DiskFull).next("make room, then run the same command again: nothing half-done is left")
            }
            _ => problem(Code::Failed),
        }
    }
}

impl From<DocumentError> for Problem {
    fn from(error: DocumentError) -> Self {
        Self::document(&error)
    }
}

impl Problem {
    fn document(error: &DocumentError) -> Self {
        match error {
            DocumentError::File(file) if file.source.kind() == io::ErrorKind::NotFound => {
                Self::file(file).with_code(Code::BadFile).next("check the path")
            }
            DocumentError::File(file) => Self::file(file),
            DocumentError::Invalid { place, message } => {
                let mut lines = message.lines();
                let what = lines.next().unwrap_or("the file cannot be understood");
                let problem = Self::new(Code::BadFile, what).at_place(place);
                lines.fold(problem, super::Problem::why)
            }
            DocumentError::UnknownKey { place, key, near, known } => {
                let problem = Self::new(Code::BadFile, error.to_string()).at_place(place);
                match near.first() {
                    Some(near) => problem.next(format!("did you mean `{near}`?")),
                    None if known.is_empty() => problem.next(format!("leave `{key}` out")),
                    None => problem.why(format!("what can stand here: {}", quoted(known).join(", "))),
                }
            }
        }
    }

    fn with_code(mut self, code: Code) -> Self {
        self.code = code;
        self
    }
}

impl From<CatalogError> for Problem {
    fn from(error: CatalogError) -> Self {
        Self::catalog(&error)
    }
}

impl Problem {
    pub(super) fn catalog(error: &CatalogError) -> Self {
        match error {
            CatalogError::Missing(_) => Self::of(Code::BadFile, error)
                .why("a catalog is a folder with a catalog.toml in it")
                .next("check `catalog` in the ladder"),
            CatalogError::Document(error) => Self::document(error),
            CatalogError::File(error) => Self::file(error),
            CatalogError::Newer { .. } => newer(error),
            CatalogError::NoLicence { path, .. } => {
                Self::of(Code::BadFile, error).at(path).next("tell those who keep the catalog")
            }
            CatalogError::Wrong { path, message } => {
                Self::new(Code::BadFile, "the catalog has a mistake").at(path).why(message)
            }
        }
    }
}

fn newer(error: &dyn std::error::Error) -> Problem {
    Problem::of(Code::BadFile, error).next("use a newer kladder")
}

impl From<PinsFileError> for Problem {
    fn from(error: PinsFileError) -> Self {
        match &error {
            PinsFileError::Document(error) => {
                Self::document(error).next("restore it, or delete it and run `kladder pin`")
            }
            PinsFileError::Unmerged { path, .. } => Self::of(Code::BadFile, &error)
                .next("finish the merge of the ladder, then delete the pins' file and run `kladder pin`")
                .next(format!("the pins' file is {}", path.display())),
            PinsFileError::Newer { .. } => newer(&error),
        }
    }
}

impl From<ClimbError> for Problem {
    fn from(error: ClimbError) -> Self {
        match &error {
            ClimbError::Route(error) => route(error),
            ClimbError::Fetch(error) => fetch(error),
            ClimbError::Offline(missing) => offline(&error, missing),
            ClimbError::Unpack(error) => unpack(error),
            ClimbError::Wire(error) => wire(error),
            ClimbError::Verify(error) => verify(error),
            ClimbError::State(error) => state(error),
            ClimbError::Check(verdict) => check("a check", verdict),
            ClimbError::SetUp(verdict) => check("a set-up command", verdict),
            ClimbError::Gates(closed) => gates(closed),
            ClimbError::Licences(asked) => licences(asked),
            ClimbError::Terms(error) => record(error, REMOVE_FILE),
            ClimbError::Declined => Self::new(Code::Declined, "not climbed, as you said").why("nothing has changed"),
            ClimbError::Restart { .. } => Self::of(Code::RestartNeeded, &error)
                .why("what was climbed so far stays on the shelf; the landing that was current still is")
                .next("do that, then `kladder climb`: it sees by itself whether it has happened"),
            ClimbError::Landing(error) => landing(error),
            ClimbError::File(error) | ClimbError::Berth(BerthError::File(error)) => Self::file(error),
            ClimbError::Berth(error) => Self::of(Code::NoSolution, error)
                .next("leave one of them off the ladder, or tell those who keep the catalog"),
            ClimbError::Cancelled(_) => Problem::interrupted(),
        }
    }
}

fn gates(closed: &[Standing]) -> Problem {
    let what = if closed.len() == 1 { "a gate is closed" } else { "gates are closed" };
    let mut problem = Problem::new(Code::GateClosed, format!("{what}; nothing was fetched"));
    for gate in closed {
        let tool = gate.tool.as_deref().unwrap_or("the route");
        problem = problem.why(format!("{}: {tool} needs {}; found: {}", gate.gate, gate.needed, gate.found));
        problem = gate.advice.iter().fold(problem, |problem, advice| problem.next(format!("{}: {advice}", gate.gate)));
    }
    if closed.iter().any(|gate| !gate.admin.is_empty()) {
        problem = problem.next("`kladder route --admin-script` prints a script to hand to an administrator");
    }
    let skips: Vec<String> = closed.iter().map(|gate| format!("--skip-gate {}", gate.gate)).collect();
    problem.next(format!("`kladder climb {}` goes on all the same", skips.join(" ")))
}

fn licences(asked: &[Asked]) -> Problem {
    let mut problem = Problem::new(Code::LicenceMissing, "a licence is not accepted; nothing was fetched");
    for one in asked {
        problem = problem
            .why(format!("{} comes under `{}`", one.tools.join(", "), one.licence.id))
            .next(format!("read it: `kladder terms show {}`", one.licence.id))
            .next(format!("accept it: `kladder climb --accept-licence {}`", one.licence.id));
    }
    problem
}

/// A record of our own; `cure` says what helps when it is damaged.
fn record(error: &RecordError, cure: &str) -> Problem {
    match error {
        RecordError::File(error) => Problem::file(error),
        RecordError::Newer { .. } => newer(error),
        RecordError::Damaged { .. } => Problem::of(Code::Integrity, error).next(cure),
    }
}

const REMOVE_FOLDER: &str = "remove the folder it is in and climb again";
const REMOVE_FILE: &str = "remove the file; licences will be asked for again";

impl From<StartError> for Problem {
    fn from(error: StartError) -> Self {
        match &error {
            StartError::Catalog(error) => Self::catalog(error),
            StartError::NoPreset { near, .. } if near.is_empty() => {
                Self::of(Code::NotInCatalog, &error).why("it has no presets at all").next("write ladder.toml by hand")
            }
            StartError::NoPreset { near, .. } => {
                Self::of(Code::NotInCatalog, &error).next(format!("there is {}", either(&quoted(near))))
            }
            StartError::Answer { fits, .. } if fits.is_empty() => Self::of(Code::BadFile, &error),
            StartError::Answer { fits, .. } => {
                Self::of(Code::BadFile, &error).why(format!("what fits: {}", quoted(fits).join(", ")))
            }
        }
    }
}

impl From<RecordError> for Problem {
    fn from(error: RecordError) -> Self {
        record(&error, REMOVE_FILE)
    }
}

impl Problem {
    pub(crate) fn interrupted() -> Self {
        Self::new(Code::Interrupted, "interrupted")
            .why("nothing half-done is left, and the landing that was current still is")
            .next("`kladder climb` goes on; what was fetched whole is kept")
    }
}

fn route(error: &RouteError) -> Problem {
    match error {
        RouteError::Catalog(error) => Problem::catalog(error),
        RouteError::Gone { .. } => Problem::of(Code::NotInCatalog, error)
            .next("bring the catalog up to date, or delete the pins' file and run `kladder pin`"),
        RouteError::NoArtifact { there, platform, .. } => Problem::of(Code::NoArtifact, error)
            .why(format!("it is pinned for {}", either(&plain(there))))
            .next(format!("add \"{platform}\" to `platforms` in the ladder and run `kladder pin`")),
    }
}

fn fetch(error: &FetchError) -> Problem {
    match error {
        FetchError::NoYard { .. } => Problem::of(Code::NoYard, error)
            .next("name one with `--yard FOLDER-OR-ADDRESS`, or `yards` in config.toml or in the catalog"),
        FetchError::AllFailed { attempts, .. } => {
            let code = if error.is_integrity() { Code::Integrity } else { Code::NoYard };
            let problem = attempts.iter().fold(Problem::of(code, error), tried);
            if error.is_integrity() {
                return problem
                    .why("nothing of it was kept")
                    .next("do not use the file: the yard has another one than was pinned, or someone changed it on the way")
                    .next("try another yard with `--yard`, and tell those who keep this one");
            }
            if attempts.iter().any(|attempt| matches!(attempt.error, YardError::Distrusted { .. })) {
                return problem
                    .next("where a company signs for its own servers, name its certificates: `certificates` under `[network]` in config.toml")
                    .next("otherwise tell those who keep the yard, or name another one with `--yard`");
            }
            problem.next("see that the yard is up, or name another one with `--yard`; then climb again")
        }
        FetchError::File(error) => Problem::file(error),
        FetchError::Cancelled(_) => Problem::interrupted(),
    }
}

fn tried(problem: Problem, Attempt { yard, times, error }: &Attempt) -> Problem {
    let times = if *times > 1 { format!(" (tried {times} times)") } else { String::new() };
    let problem = problem.why(format!("{yard}: {error}{times}"));
    match error {
        YardError::OtherDigest { got, expected } => {
            problem.why(format!("  pinned  {expected}")).why(format!("  came    {got}"))
        }
        _ => problem,
    }
}

fn offline(error: &ClimbError, missing: &[Artifact]) -> Problem {
    let file = |problem: Problem, file: &Artifact| {
        problem.why(format!("{}  {}  sha256 {}", clean(&file.file), bytes(file.size), file.sha256))
    };
    let total = missing.iter().map(|file| file.size).sum();
    missing
        .iter()
        .fold(Problem::of(Code::NoYard, error), file)
        .next(format!("bring them ({}) in a folder, and name it with `--yard FOLDER`", bytes(total)))
        .next("or climb without `--offline`")
}

impl From<NetworkError> for Problem {
    fn from(error: NetworkError) -> Self {
        match &error {
            NetworkError::File(error) => Self::file(error),
            other => Self::of(Code::BadFile, other).next("mend [network] in config.toml"),
        }
    }
}

fn unpack(error: &UnpackError) -> Problem {
    match error {
        UnpackError::Refused { .. } => Problem::of(Code::Integrity, error)
            .why("nothing of it was kept")
            .next("tell those who keep the catalog: the archive is the pinned one, and it is not safe to unpack"),
        UnpackError::Damaged { .. } => Problem::of(Code::Integrity, error)
            .next("tell those who keep the catalog: the pinned file is no whole archive"),
        UnpackError::Pattern { .. } => Problem::of(Code::BadFile, error).next("mend `unpack` in the definition"),
        UnpackError::File(error) => Problem::file(error),
        UnpackError::Cancelled(_) => Problem::interrupted(),
    }
}

fn wire(error: &WireError) -> Problem {
    match error {
        WireError::Twice { .. } => Problem::of(Code::NoSolution, error).next("leave one of them off the ladder"),
        WireError::NoFile { .. } => Problem::of(Code::BadFile, error).next("mend `commands` in the definition"),
        WireError::File(error) => Problem::file(error),
    }
}

fn verify(error: &VerifyError) -> Problem {
    match error {
        VerifyError::File(error) => Problem::file(error),
        VerifyError::Manifest(error) => record(error, REMOVE_FOLDER),
        VerifyError::Cancelled(_) => Problem::interrupted(),
    }
}

fn check(what: &str, verdict: &Verdict) -> Problem {
    let what = format!("{what} of {} failed: {}", verdict.subject.owner(), verdict.subject.claim());
    let mut problem = Problem::new(Code::CheckFailed, what);
    if let Outcome::Failed { why, output } = &verdict.outcome {
        problem = problem.why(why);
        problem = output.lines().take(10).fold(problem, |problem, line| problem.why(format!("  {line}")));
    }
    problem
        .next("the landing that was current still is; nothing on PATH has changed")
        .next("pin another version of it, or mend its definition")
}

pub(crate) fn landing(error: &LandingError) -> Problem {
    match error {
        LandingError::Record(error) => record(error, REMOVE_FOLDER),
        LandingError::File(error) => Problem::file(error),
        LandingError::Table { .. } => Problem::of(Code::Integrity, error).next(REMOVE_FOLDER),
    }
}

impl From<LandingError> for Problem {
    fn from(error: LandingError) -> Self {
        landing(&error)
    }
}
