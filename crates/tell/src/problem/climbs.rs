//! What keeps a climb from its landing.

use kladder_choose::catalog::{Anew, Artifact, Who, WrongChoice};
use kladder_core::base::event::{Finding, Outcome, Subject, Verdict};
use kladder_core::base::files::FileError;
use kladder_core::base::record::RecordError;
use kladder_core::bring::fetch::{Attempt, FetchError, YardError};
use kladder_core::bring::index::IndexError;
use kladder_core::bring::inner::InnerError;
use kladder_core::bring::intake::{IntakeError, RecordFault};
use kladder_core::bring::unpack::{Refusal, UnpackError};
use kladder_core::climb::gates::Standing;
use kladder_core::climb::route::RouteError;
use kladder_core::climb::settings::SettingsError;
use kladder_core::climb::{ClimbError, Failure, RestartDue, Stopped, UnnamedIndex};
use kladder_core::keep::berth::BerthError;
use kladder_core::keep::terms::Asked;
use kladder_core::prove::verify::VerifyError;
use kladder_core::tasks::TaskError;
use kladder_core::tasks::launch::LaunchError;
use kladder_core::wire::placed::PlaceError;

use super::{Code, Problem};
use crate::text::{both, bytes, clean, count, either, quoted, shell_word};
use crate::words;

impl From<ClimbError> for Problem {
    fn from(error: ClimbError) -> Self {
        match &error {
            ClimbError::Route(error) => route(error),
            ClimbError::Failed { failures, held_up, climbed } => failed(failures, held_up.len(), *climbed),
            ClimbError::Offline(missing) => offline(&error, missing),
            ClimbError::Unnamed(indexes) => indexes
                .iter()
                .fold(Self::of(Code::NoYard, &error), |problem, index| problem.next(words::to_name(index)))
                .why("nothing was fetched; this catalog's files are found through them"),
            ClimbError::Launch(error) => launch(error),
            ClimbError::Verify(VerifyError::Cancelled(_)) => {
                Self::new(Code::Interrupted, "interrupted").why("nothing was changed")
            }
            ClimbError::Verify(error) => verify(error),
            ClimbError::State(error) => Self::state(error),
            ClimbError::Record(error) => Self::memory(error),
            ClimbError::NoSuch { there, .. } if there.is_empty() => {
                Self::of(Code::Usage, &error).why("it has none").next("leave the option out")
            }
            ClimbError::NoSuch { there, .. } => {
                Self::of(Code::Usage, &error).next(format!("there is {}", either(&quoted(there))))
            }
            ClimbError::Landing(error) => Self::landing(error),
            ClimbError::File(error) => Self::file(error),
            ClimbError::Cancelled(_) => Self::interrupted(),
        }
    }
}

/// Why a climb stopped although nothing failed.
impl From<SettingsError> for Problem {
    fn from(error: SettingsError) -> Self {
        match error {
            SettingsError::From(error) => Self::from(error)
                .why("`[settings]` in the ladder names it")
                .next("bring the file, then `kladder climb`"),
            SettingsError::NoHome => Self::of(Code::Failed, &error).next("set HOME"),
            SettingsError::Route(error) => route(&error),
            SettingsError::Climb(error) => error.into(),
            SettingsError::Place(PlaceError::Wire(error)) => error.into(),
            SettingsError::Place(PlaceError::Record(error)) => {
                let folder = match &error {
                    RecordError::Damaged { path, .. }
                    | RecordError::Newer { path, .. }
                    | RecordError::File(FileError { path, .. }) => shell_word(path.parent().unwrap_or(path)),
                };
                let cure = "forgets it: the files in your home stay as they are, and count as yours from then on";
                Self::record(&error, &format!("`rm -r {folder}` {cure}"))
            }
        }
    }
}

impl From<&Stopped> for Problem {
    fn from(stopped: &Stopped) -> Self {
        match stopped {
            Stopped::Gates(closed) => gates(closed),
            Stopped::Licences(asked) => licences(asked),
            Stopped::Declined => Self::new(Code::Declined, "not wanted; nothing was fetched")
                .next("`kladder climb --yes` does not ask; `kladder route` shows again what it would do"),
            Stopped::Restart(due) => restart(due),
        }
    }
}

/// One restart does for all that wait for one.
fn restart(due: &[RestartDue]) -> Problem {
    let anew = if due.iter().any(|due| due.anew == Anew::Restart) { Anew::Restart } else { Anew::Session };
    let mut rungs: Vec<String> = due.iter().map(|due| due.rung.to_string()).collect();
    let mut above: Vec<String> = due.iter().map(|due| due.above.to_string()).collect();
    rungs.dedup();
    above.dedup();
    let verb = if rungs.len() == 1 { "is" } else { "are" };
    let what = format!("{} {verb} in place; {} before {} can follow", both(&rungs), words::anew(anew), both(&above));
    Problem::new(Code::RestartNeeded, what)
        .why("what was put on the shelf stays there; the landing that was current still is")
        .next(format!("{}, then `kladder climb`: it sees by itself whether that has happened", words::anew_do(anew)))
        .next(format!("where this system does not tell, `kladder climb --chore-done {}` says that it has", rungs[0]))
}

fn gates(closed: &[Standing]) -> Problem {
    let what = if closed.len() == 1 { "a gate is closed" } else { "gates are closed" };
    let mut problem = Problem::new(Code::GateClosed, format!("{what}; nothing was fetched"));
    for gate in closed {
        let tool = gate.tool.as_deref().unwrap_or("the route");
        let (needed, found) = (words::needed(&gate.needed), words::found(&gate.found));
        problem = problem.why(format!("{}: {tool} needs {needed}; found: {found}", gate.gate));
        problem = gate.advice.iter().fold(problem, |problem, advice| problem.next(format!("{}: {advice}", gate.gate)));
        if gate.is_told() {
            let person = gate.person.as_deref().unwrap_or_default();
            problem = problem.next(format!("{person}; then `kladder climb --chore-done {}`", gate.gate));
        }
        if gate.tool.is_none() {
            problem = problem.next("make room, or move what is kept to another disk with KLADDER_HOME");
        }
    }
    if closed.iter().any(|gate| gate.who == Some(Who::Administrator)) {
        problem = problem.next("`kladder route --admin-script` prints a script to hand to an administrator");
    }
    if closed.iter().any(|gate| gate.is_chore() && !gate.is_told()) {
        problem = problem.next("`kladder climb --wait-for-chores` goes on by itself once they are done");
    }
    let skips: Vec<String> = closed.iter().map(|gate| format!("--skip-gate {}", gate.gate)).collect();
    problem.next(format!("`kladder climb {}` goes on all the same", skips.join(" ")))
}

fn licences(asked: &[Asked]) -> Problem {
    let what = if asked.len() == 1 { "a licence is" } else { "licences are" };
    let mut problem = Problem::new(Code::LicenceMissing, format!("{what} not accepted; nothing was fetched"));
    for one in asked {
        problem = problem
            .why(format!("{} comes under `{}`", both(&one.tools), one.licence.id))
            .next(format!("read it: `kladder terms show {}`", one.licence.id))
            .next(format!("accept it: `kladder climb --accept-licence {}`", one.licence.id));
    }
    problem
}

/// The first failure decides about the code; all are told.
fn failed(failures: &[Failure], held_up: usize, climbed: usize) -> Problem {
    let mut problems = failures.iter().map(task);
    let Some(mut first) = problems.next() else { return Problem::new(Code::Failed, "the climb failed") };
    let rest: Vec<Problem> = problems.collect();
    if !rest.is_empty() {
        let what = format!("{} failed", count(failures.len(), "rung"));
        let told = std::mem::replace(&mut first.what, what);
        first.why.insert(0, told);
    }
    for other in rest {
        first.why.push(other.what);
        first.why.extend(other.why);
        for next in other.next {
            if !first.next.contains(&next) {
                first.next.push(next);
            }
        }
    }
    if held_up > 0 {
        let stand = if held_up == 1 { "stands" } else { "stand" };
        first.why.push(format!(
            "{} that {stand} on what failed {} not tried",
            count(held_up, "rung"),
            if held_up == 1 { "was" } else { "were" }
        ));
    }
    if climbed > 0 {
        let others =
            if climbed == 1 { "the other rung stands".to_owned() } else { format!("the other {climbed} rungs stand") };
        first.why.push(format!("{others}, and the next climb goes on from there"));
    }
    first.why.push("the landing that was current still is; nothing on PATH has changed".to_owned());
    first
}

fn task(failure: &Failure) -> Problem {
    let Failure { rung, version, error } = failure;
    let named = format!("{rung} {version}");
    match error {
        TaskError::Intake(IntakeError::Fetch(error)) => fetch(error),
        TaskError::Intake(IntakeError::Unpack(error)) => unpack(error, &named),
        TaskError::Intake(IntakeError::Inner(error)) => inner(error, &named),
        TaskError::Intake(IntakeError::Record(RecordFault::File(error)) | IntakeError::File(error))
        | TaskError::File(error) => Problem::file(error),
        TaskError::Intake(IntakeError::Record(fault @ RecordFault::Clash { .. })) => {
            Problem::of(Code::Integrity, fault)
                .why(format!("one of them would be broken in {named} without a word"))
                .next("leave one of the two out, or take another version of it")
        }
        TaskError::Intake(IntakeError::Record(fault)) => Problem::of(Code::Integrity, fault)
            .why(format!("{named} was not unpacked: what a wheel has must be what it lists"))
            .next("take another version of it; then tell those who make it"),
        TaskError::SetUp(verdict) => check("a set-up command", verdict),
        TaskError::FitOut(verdict) => check("a fit-out", verdict),
        TaskError::Left { path, .. } => Problem::of(Code::Integrity, error)
            .why(format!("{named} left it there: {}", path.display()))
            .next("tell those who keep the catalog: a set-up command must stay in its folder"),
        TaskError::Berth(error) => berth(error),
        TaskError::NoFile { file, near, not_executable, .. } => {
            let problem = Problem::of(Code::BadFile, error).why(format!("in what {named} unpacked"));
            if *not_executable {
                return problem.next(format!(
                    "it is there and may not be run: write `executable = [\"{}\"]` under `unpack` in the definition; \
                     what a set-up makes, it has to make executable itself",
                    file.display()
                ));
            }
            let near: Vec<String> = near.iter().map(|path| format!("`{}`", path.display())).collect();
            match near.as_slice() {
                [] => problem.next("mend `commands` in the definition, or `strip` under `unpack`"),
                near => problem.next(format!("write {} in `commands` of the definition", either(near))),
            }
        }
        TaskError::Checks(verdicts) => checks(verdicts),
        TaskError::Journal(error) => Problem::of(Code::Failed, error),
        TaskError::Cancelled(_) => Problem::interrupted(),
    }
}

/// An archive inside another one.
fn inner(error: &InnerError, named: &str) -> Problem {
    match error {
        InnerError::Missing { .. } => {
            Problem::of(Code::BadFile, error).next(format!("mend `inner` under `unpack` in the definition of {named}"))
        }
        InnerError::Unpack { source, .. } => {
            let problem = unpack(source, named);
            let why = problem.what.clone();
            Problem { what: error.to_string(), ..problem }.why(why)
        }
        InnerError::InTheWay { .. } => Problem::of(Code::Integrity, error)
            .next(format!("leave one of them out, or move it, under `unpack` in the definition of {named}")),
        InnerError::File(error) => Problem::file(error),
    }
}

fn route(error: &RouteError) -> Problem {
    match error {
        RouteError::Catalog(error) => Problem::catalog(error),
        RouteError::Gone { .. } => Problem::of(Code::NotInCatalog, error)
            .next("bring the catalog up to date, or delete the pins' file and run `kladder pin`"),
        RouteError::NoArtifact { there, platform, piece, .. } => {
            let what = piece.as_ref().map_or_else(|| "it".to_owned(), |piece| format!("its piece {piece}"));
            Problem::of(Code::NoArtifact, error)
                .why(format!("{what} is pinned for {}", either(there)))
                .next(format!("add a machine with \"{platform}\" under [machines] in the ladder and run `kladder pin`"))
        }
        RouteError::NoSize { .. } => Problem::of(Code::PinsStale, error)
            .why("its definition does not say it, and no yard did when it was pinned")
            .next("`kladder pin` asks the yards again; or write `size` beside its digest in the definition"),
        RouteError::Choice { tool, source } => {
            let problem = Problem::of(Code::BadFile, error);
            match source {
                WrongChoice::Unknown { there, .. } if there.is_empty() => {
                    problem.next(format!("{tool} offers no choice"))
                }
                WrongChoice::Unknown { there, .. } => problem.next(format!("what it offers: {}", there.join(", "))),
                WrongChoice::Refused { .. } => problem.next(format!("change it under [choices.{tool}] in the ladder")),
            }
        }
        RouteError::ServiceTwice { .. } => {
            Problem::of(Code::NoSolution, error).next("leave one of them out, or tell those who keep the catalog")
        }
        RouteError::NoSuchService { there, .. } => {
            let problem = Problem::of(Code::BadFile, error).why("it stands under `[services]`");
            if there.is_empty() {
                problem
            } else {
                problem.next(format!("services that there are: {}", there.join(", ")))
            }
        }
        RouteError::ChoiceOfNone { tool } => {
            Problem::of(Code::BadFile, error).next(format!("put {tool} on the ladder, or take [choices.{tool}] out"))
        }
        RouteError::Unmet { .. } => Problem::of(Code::PinsStale, error)
            .why("pins are made by `kladder pin`; these were changed by hand, or the catalog was since")
            .next("`kladder pin` makes them whole"),
    }
}

pub(super) fn fetch(error: &FetchError) -> Problem {
    match error {
        FetchError::NoYard { .. } => Problem::of(Code::NoYard, error)
            .next("name one with `--yard FOLDER-OR-ADDRESS`, or `yards` in config.toml or in the catalog")
            .next("`origins` in config.toml says which makers may be asked"),
        FetchError::ByPerson { file, size, visit } => {
            let problem = Problem::of(Code::ByPerson, error).why(words::to_visit(file, *size, visit));
            problem.next(format!(
                "fetch it with a browser, and `kladder yard take {}`; then climb again",
                shell_word(file)
            ))
        }
        FetchError::AllFailed { attempts, .. } => {
            let code = if error.is_integrity() { Code::Integrity } else { Code::NoYard };
            let problem = attempts.iter().fold(Problem::of(code, error), tried);
            if let Some(next) = attempts.iter().find_map(|attempt| at_makers(&attempt.error)) {
                return problem.next(next);
            }
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
            if attempts.iter().all(|attempt| matches!(attempt.error, YardError::NotThere | YardError::Folder { .. })) {
                return problem.next("put the file there, or name another yard with `--yard`; then climb again");
            }
            problem.next("see that the yard is up, or name another one with `--yard`; then climb again")
        }
        FetchError::File(error) => Problem::file(error),
        FetchError::Cancelled(_) => Problem::interrupted(),
    }
}

/// What to do about a maker or an index that the settings have something to say of.
pub(super) fn at_makers(error: &YardError) -> Option<String> {
    Some(match error {
        YardError::WhoAsks { host, told: false, .. } => {
            format!("`[sign-in]` in config.toml says how: \"{host}\" = {{ netrc = true }}, or a `secret` of its own")
        }
        YardError::WhoAsks { host, told: true, .. } | YardError::SignIn { host, .. } => {
            format!("see what stands for \"{host}\" under `[sign-in]` in config.toml, and whether it still holds")
        }
        YardError::SendsOn { host } => format!("add \"{host}\" to `origins` in config.toml, where it may be asked"),
        YardError::Index(error) => at_index(error)?,
        _ => return None,
    })
}

/// What to do about an index.
pub(super) fn at_index(error: &IndexError) -> Option<String> {
    Some(match error {
        IndexError::Unknown { index } => words::to_name(&UnnamedIndex { name: index.clone(), speaks: None }),
        IndexError::NotConfigured { index, client } => {
            format!("configure {client}, or say `address` for {index} under `[indexes]` in config.toml")
        }
        IndexError::Forbidden { .. } => "`origins` in config.toml says what may be asked".to_owned(),
        IndexError::Unsigned { .. } => {
            "see whether the address under `[indexes]` is right, and bring the system's keys up to date; \
             `keyring` there names others"
                .to_owned()
        }
        IndexError::Asked { source, .. } => return at_makers(source),
        IndexError::NoSuch { .. } | IndexError::Wrong { .. } => {
            "see whether the address under `[indexes]` in config.toml is the index's; then tell the catalog's keeper"
                .to_owned()
        }
        IndexError::OtherDigest { .. } | IndexError::File(_) => return None,
    })
}

fn tried(problem: Problem, Attempt { yard, times, error }: &Attempt) -> Problem {
    let times = if *times > 1 { format!(" (tried {times} times)") } else { String::new() };
    let causes = std::iter::successors(std::error::Error::source(error), |error| error.source());
    let cause: String = causes.map(|cause| format!(": {cause}")).collect();
    let problem = problem.why(format!("{yard}: {error}{cause}{times}"));
    let (what, got, expected) = match error {
        YardError::OtherDigest { got, expected } => ("came  ", got, expected),
        YardError::Index(error) => match error.as_ref() {
            IndexError::OtherDigest { listed, expected } => ("listed", listed, expected),
            _ => return problem,
        },
        _ => return problem,
    };
    let pinned = format!("  pinned  {expected}");
    // It is the same for all places.
    let problem = if problem.why.contains(&pinned) { problem } else { problem.why(pinned) };
    problem.why(format!("  {what}  {got}"))
}

fn offline(error: &ClimbError, missing: &[Artifact]) -> Problem {
    let file = |problem: Problem, file: &Artifact| {
        problem.why(format!("{}  {}  sha256 {}", clean(file.file.as_str()), bytes(file.size), file.sha256))
    };
    let total = missing.iter().map(|file| file.size).fold(0, u64::saturating_add);
    missing
        .iter()
        .fold(Problem::of(Code::NoYard, error), file)
        .next(format!("bring them ({}) in a folder, and name it with `--yard FOLDER`", bytes(total)))
        .next("or climb without `--offline`")
}

fn unpack(error: &UnpackError, named: &str) -> Problem {
    match error {
        UnpackError::Refused { reason, .. } => refused(error, reason),
        UnpackError::Damaged { .. } => Problem::of(Code::Integrity, error)
            .why(format!("it is the pinned file of {named}"))
            .next("tell those who keep the catalog: the pinned file is no whole archive"),
        UnpackError::Pattern { .. } => Problem::of(Code::BadFile, error).next("mend `unpack` in the definition"),
        UnpackError::File(error) => Problem::file(error),
        UnpackError::Cancelled(_) => Problem::interrupted(),
    }
}

/// What is not safe is called so; what the definition could allow is told with its key.
fn refused(error: &UnpackError, reason: &Refusal) -> Problem {
    let problem = Problem::of(Code::Integrity, error).why("nothing of it was kept");
    match reason {
        Refusal::LinkAbsolute(_) => problem.next(
            "the definition decides about such links: `absolute-links = \"leave-out\"` or `\"inside\"` under `unpack`",
        ),
        Refusal::Case(_) => {
            problem.next("where the file system tells them apart, `case-clashes = true` under `unpack` takes them")
        }
        Refusal::Stripped { top, fits, .. } => problem
            .why(format!("at the archive's top: {}", top.join(", ")))
            .next(format!("`strip = {fits}` under `unpack` in the definition would do")),
        Refusal::EndRecord { .. } | Refusal::Encrypted | Refusal::Sparse | Refusal::Unknown(_) => {
            problem.next("tell those who keep the catalog: this archive cannot be unpacked here")
        }
        Refusal::Image(_) => problem.next(
            "name another file of the release in the definition: an archive or a flat package; or, with `layout = \"whole\"` under \
             `unpack`, have a set-up command take this one apart",
        ),
        Refusal::Limit(_) => {
            problem.next("where it is so large on purpose, `unpacked = BYTES` in the definition says how large it gets")
        }
        _ => {
            problem.next("tell those who keep the catalog: the archive is the pinned one, and it is not safe to unpack")
        }
    }
}

fn berth(error: &BerthError) -> Problem {
    match error {
        BerthError::Taken { .. } => {
            Problem::of(Code::NoSolution, error).next("lend it elsewhere, or `only` what is not there yet, in `lends`")
        }
        BerthError::LentTwice { one, other, .. } => Problem::of(Code::NoSolution, error)
            .next(format!("leave {one} or {other} off the ladder, or lend elsewhere")),
        BerthError::NothingToLend { .. } => {
            Problem::of(Code::BadFile, error).next("mend `lends` in the lender's definition")
        }
        BerthError::CornerInTheWay { .. } | BerthError::CornerIsLink { .. } => {
            Problem::of(Code::BadFile, error).next("mend `corners` in the definition")
        }
        BerthError::File(error) => Problem::file(error),
    }
}

fn launch(error: &LaunchError) -> Problem {
    match error {
        LaunchError::Twice { one, other, what } => Problem::of(Code::NoSolution, error).brought_twice(one, other, what),
        LaunchError::NoRunner { tool, by, .. } => Problem::of(Code::BadFile, error)
            .next(format!("have the definition of {tool} need a tool that has the command `{by}`")),
        LaunchError::NoSuchCommand { name, near, .. } => {
            let table = if name == "login-shell" { "[ladder]" } else { "[names]" };
            let problem = Problem::of(Code::BadFile, error).why(format!("it stands under `{table}`"));
            near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")))
        }
        LaunchError::NameTaken { .. } => {
            Problem::of(Code::BadFile, error).why("it stands under `[names]`").next("take another name")
        }
        LaunchError::File(error) => Problem::file(error),
    }
}

pub(super) fn verify(error: &VerifyError) -> Problem {
    match error {
        VerifyError::File(error) => Problem::file(error),
        VerifyError::Cancelled(_) => Problem::interrupted(),
    }
}

fn checks(verdicts: &[Verdict]) -> Problem {
    let mut all = verdicts.iter().map(|verdict| check("a check", verdict));
    let Some(first) = all.next() else { return Problem::new(Code::CheckFailed, "a check failed") };
    all.fold(first, |mut problem, other| {
        problem.why.push(other.what);
        problem.why.extend(other.why);
        let new: Vec<String> = other.next.into_iter().filter(|next| !problem.next.contains(next)).collect();
        problem.next.extend(new);
        problem
    })
}

fn check(what: &str, verdict: &Verdict) -> Problem {
    let owner = words::owner(&verdict.subject);
    let what = match &verdict.subject {
        Subject::Start { command, .. } => format!("the command `{command}` of {owner} cannot be started"),
        _ => format!("{what} of {owner} failed: {}", words::claim(&verdict.subject)),
    };
    let mut problem = Problem::new(Code::CheckFailed, what);
    let mut known = false;
    if let Outcome::Failed { finding, output, causes } = &verdict.outcome {
        problem = problem.why(words::finding(finding));
        if let Finding::Differs { differences, .. } = finding {
            problem =
                differences.iter().fold(problem, |problem, one| problem.why(format!("  {}", words::difference(one))));
        }
        problem = words::output(output).into_iter().fold(problem, |problem, line| problem.why(format!("  {line}")));
        known = !causes.is_empty();
        problem = causes.iter().fold(problem, |problem, cause| problem.next(words::cause(cause)));
        if let Finding::OtherVersion { .. } = finding {
            known = true;
            problem = problem
                .next("the archive holds another version than the definition says: mend the release in the catalog");
        }
    }
    if known { problem } else { problem.next("pin another version of it, or mend its definition") }
}
