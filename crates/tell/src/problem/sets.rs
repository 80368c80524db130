//! Why a set of libraries cannot be had.

use kladder_choose::sets::{
    LibraryClash, LockError, NeedsThere, OnOffer, PackagesError, SetError, Wanting, WayOut, Without,
};
use kladder_core::bring::fetch::UnknownError;
use kladder_core::desk::{InCatalogsError, LookupError, SetProblem, WhyNoSet};

use super::climbs::{at_index, at_makers, fetch};
use super::{Code, Problem};
use crate::text::count;

/// Lines that are told of what may be hundreds.
const NAMED: usize = 8;

pub(super) fn problem(problem: &SetProblem) -> Problem {
    let told = |code| Problem::new(code, problem.to_string()).at(&problem.lock);
    let bad = || told(Code::BadFile).why(problem.why.to_string());
    match &problem.why {
        WhyNoSet::Lock(LockError::Document(error)) => {
            Problem::document(error).next("move it away, then `kladder pin` where the ladder names its libraries")
        }
        WhyNoSet::Catalog(error) => Problem::catalog(error),
        WhyNoSet::Set(SetError::Without(all)) => {
            let told = all.iter().take(NAMED).map(without).fold(told(Code::BadFile), Problem::why);
            told.next("take another version of the library, or of the runtime, when you lock")
        }
        WhyNoSet::Set(SetError::NoKernel) => bad().next("add it to the set's libraries: `ipykernel = \"any\"`"),
        WhyNoSet::Packages(PackagesError::Document(error)) => Problem::document(error),
        WhyNoSet::Packages(PackagesError::Built(_)) => {
            bad().next("many do without: `unbuilt = [\"NAME\"]` in the set takes those that you name as they are")
        }
        WhyNoSet::Packages(_) => {
            bad().next("make the lock file anew with the project's own package manager, version 3")
        }
        WhyNoSet::Taken => bad().next("call the set otherwise"),
        WhyNoSet::NoRuntime(tool) => bad().next(format!("`of` names the tool; `kladder search {tool}` looks for it")),
        WhyNoSet::NotOurs => bad()
            .next("take it as it is: `lock = \"FILE\"` in place of what you wish for")
            .next("or move it away; then `kladder pin` writes a new one"),
        WhyNoSet::NotAsWritten => {
            bad().next("take the one from your repository; or move it away, then `kladder pin` chooses anew")
        }
        WhyNoSet::Clash(clash) => libraries(Problem::new(Code::NoSolution, problem.to_string()), clash),
        WhyNoSet::GaveUp => {
            told(Code::GaveUp).why(problem.why.to_string()).next("say more closely which versions you want")
        }
        WhyNoSet::Lookup(error) => lookup(Problem::new(Code::NoYard, problem.to_string()), error),
        WhyNoSet::Lock(_) | WhyNoSet::Set(_) => bad(),
    }
}

fn without(one: &Without) -> String {
    let how = one.otherwise.map(|how| format!(", only {how}")).unwrap_or_default();
    let Without { library, runtime, platform, .. } = one;
    format!("{library} has no wheel for {platform} and {runtime}{how}")
}

fn lookup(problem: Problem, error: &LookupError) -> Problem {
    match error {
        LookupError::Index { source, .. } => {
            let problem = problem.why(error.to_string()).why(kladder_core::base::event::chain(source));
            at_index(source).into_iter().fold(problem, Problem::next)
        }
        LookupError::Missing(_) => problem.why(error.to_string()),
        LookupError::NoSum(_) => Problem { code: Code::BadFile, ..problem }.why(error.to_string()),
        LookupError::Kind(_) => Problem { code: Code::BadFile, ..problem }
            .why(error.to_string())
            .next("`kind = \"python\"` under `[indexes]` in config.toml makes one"),
        LookupError::OtherKind { kind, .. } => Problem { code: Code::BadFile, ..problem }
            .why(error.to_string())
            .next(format!("`kind = \"{kind}\"` under `[indexes]` in config.toml makes one")),
        LookupError::Several { library, indexes } => Problem { code: Code::BadFile, ..problem }
            .why(error.to_string())
            .why("one of them could put a library of that name before the other's")
            .next(format!("say which one you mean: `from.{library} = \"{}\"` in the set", indexes[0])),
        LookupError::InCatalogs(InCatalogsError::Folder { file, .. }) => Problem { code: Code::BadFile, ..problem }
            .why(error.to_string())
            .next(format!("put {file} at the yard's top, or name an origin of it in its definition")),
        LookupError::InCatalogs(InCatalogsError::NoSize { .. }) => Problem { code: Code::NoYard, ..problem }
            .why(error.to_string())
            .next("see that the yard is up, or name another one with `--yard`"),
        LookupError::InCatalogs(InCatalogsError::Catalog(error)) => Problem::catalog(error),
        LookupError::Receive(UnknownError::Yard { source, .. }) => {
            let problem = problem.why(kladder_core::base::event::chain(error));
            at_makers(source).into_iter().fold(problem, Problem::next)
        }
        LookupError::OtherBytes(_) | LookupError::Receive(UnknownError::Sum { .. }) => {
            Problem { code: Code::Integrity, ..problem }
                .why(error.to_string())
                .next("ask again later: a mirror may lag behind; then tell those who keep the index")
        }
        LookupError::InCatalogs(InCatalogsError::Fetch(error)) | LookupError::Receive(UnknownError::Here(error)) => {
            fetch(error)
        }
    }
}

/// A clash in plain words: what is wished, what that needs, what there is, and what leads out of it.
fn libraries(problem: Problem, clash: &LibraryClash) -> Problem {
    let wished = |Wanting { library, versions, piece }: &Wanting| match piece {
        None => format!("the ladder wants {}", wish(library, versions)),
        Some(piece) => format!("the ladder wants the piece {piece} of {}", wish(library, versions)),
    };
    let problem = clash.wishes.iter().take(NAMED).map(wished).fold(problem, Problem::why);
    let problem = clash.needs.iter().take(NAMED).map(needs).fold(problem, Problem::why);
    let problem = match clash.needs.len().saturating_sub(NAMED) {
        0 => problem,
        more => problem.why(format!("and {} of the kind", count(more, "further need"))),
    };
    let problem = clash.offers.iter().take(NAMED).map(on_offer).fold(problem, Problem::why);
    clash.ways.iter().map(way_out).fold(problem, Problem::next)
}

fn wish(library: &str, versions: &str) -> String {
    if versions == "any" { library.to_owned() } else { format!("{library} {versions}") }
}

fn needs(NeedsThere { library, versions, needs }: &NeedsThere) -> String {
    let who = match versions.as_slice() {
        [one] => format!("{library} {one} needs"),
        [first, .., last] => {
            format!("{library} {first} to {last} ({} of its versions) need", versions.len())
        }
        [] => format!("{library} needs"),
    };
    match needs {
        Some(needs) => format!("{who} {needs}"),
        None => format!("{who} what no index has"),
    }
}

fn on_offer(offer: &OnOffer) -> String {
    let OnOffer { library, place, versions, listed, as_sources } = offer;
    let there = place.as_ref().map(|(runtime, platform)| format!(" for {runtime} on {platform}")).unwrap_or_default();
    match versions.as_slice() {
        [] if *listed == 0 => format!("no index has {library}"),
        [] if place.is_none() => format!("{library} has no release for the runtime"),
        [] if *as_sources => format!("{library} has no wheel{there}, only sources"),
        [] => format!("{library} has no wheel{there}"),
        [one] => format!("{library} is there{there} at {one} alone"),
        [one, two] => format!("{library} is there{there} at {}", [one.as_str(), two].join(" and ")),
        [first, .., last] => format!("{library} is there{there} from {first} to {last}"),
    }
}

fn way_out(WayOut { library, piece, version }: &WayOut) -> String {
    match version {
        Some(version) if piece.is_some() => {
            let piece = piece.as_deref().unwrap_or_default();
            format!("leave the piece {piece} of {library} out: without it {library} {version} goes with the others")
        }
        Some(version) => format!("let go of the wish for {library}: with `{library} = \"any\"` it would be {version}"),
        None => format!("leave {library} out: the others go together"),
    }
}
