//! Why wishes could not be turned into pins.

use std::path::Path;

use kladder_choose::document::Place;
use kladder_choose::names::ToolName;
use kladder_choose::pins::PinsError;

use super::{Code, Problem};
use crate::text::{either, plain, quoted};
use crate::words::{clash, demanded, host};

impl Problem {
    /// Why there are no pins for the ladder at `ladder`.
    #[must_use]
    pub fn from_pins(error: &PinsError, ladder: &Path) -> Self {
        let missing = |place: &Place| Self::new(Code::NotInCatalog, error.to_string()).at_place(place);
        match error {
            PinsError::Catalog(error) => Self::catalog(error),
            PinsError::NoVersionControl { by } => no_version_control(Self::of(Code::NoSolution, error), by),
            PinsError::UnknownTool { name, near, place } if near.is_empty() => missing(place)
                .why(format!("nor anything that looks like `{name}`"))
                .next("`kladder search WORDS` finds tools by what they do"),
            PinsError::UnknownTool { near, place, .. } => {
                missing(place).next(format!("did you mean {}?", either(&quoted(near))))
            }
            PinsError::UnknownNeed { .. } => Self::of(Code::BadFile, error).next("tell those who keep the catalog"),
            PinsError::NotOnHost { absent, elsewhere, place, .. } => {
                let problem = host::absent(absent).into_iter().fold(missing(place), Problem::why);
                let problem = not_on_host(problem, elsewhere, !absent.chores.is_empty());
                absent.chores.iter().fold(problem, host::brought_by_hand)
            }
            PinsError::NoSuchSeries { near, there, place, .. } => {
                meant(missing(place).why(format!("its series: {}", there.join(", "))), near)
            }
            PinsError::NoSuchPiece { near, there, place, .. } if there.is_empty() => {
                meant(missing(place).why("it has none"), near)
            }
            PinsError::NoSuchPiece { near, there, place, .. } => {
                meant(missing(place).why(format!("its pieces: {}", there.join(", "))), near)
            }
            PinsError::NotAProvider { capability, there, near, place, .. } => {
                let stand = if there.len() == 1 { "stands" } else { "stand" };
                meant(missing(place).why(format!("{} {stand} for {capability}", either(there))), near)
            }
            PinsError::NoSuchVersion { nearest, series, place, .. } => {
                let lists = [("the nearest versions", plain(nearest)), ("its series", series.clone())];
                let told = lists.iter().filter(|(_, names)| !names.is_empty());
                told.fold(missing(place), |problem, (what, names)| problem.why(format!("{what}: {}", names.join(", "))))
            }
            PinsError::NoArtifact { version, there, place, platform, .. } => {
                Self::new(Code::NoArtifact, error.to_string())
                    .at_place(place)
                    .why(format!("the newest that fits, {version}, is there for {}", either(there)))
                    .next(format!("wish for another version, or leave {platform} out of [machines]"))
            }
            PinsError::GateClosed { tool, version, machine, demand, place } => {
                Self::new(Code::GateClosed, error.to_string())
                    .at_place(place)
                    .why(format!("{tool} {version} needs {}, which {machine} does not have", demanded(demand)))
                    .next(format!("wish for another version, or leave {machine} out of [machines]"))
            }
            PinsError::OtherBytes { tool, platform, .. } => Self::new(Code::Integrity, error.to_string())
                .at(ladder)
                .why(format!("seen for {platform}; a release must not change once it is out"))
                .next(format!("ask those who keep the catalog; `kladder pin --move {tool}` takes what is there now")),
            PinsError::NothingToMove { near, .. } if near.is_empty() => {
                Self::new(Code::NotInCatalog, error.to_string())
                    .at(ladder)
                    .next("`kladder newer` lists what can be moved")
            }
            PinsError::NothingToMove { near, .. } => {
                meant(Self::new(Code::NotInCatalog, error.to_string()).at(ladder), near)
            }
            PinsError::NoSuchMove { nearest, .. } => Self::new(Code::NotInCatalog, error.to_string())
                .why(format!("the nearest versions: {}", plain(nearest).join(", "))),
            PinsError::Twice { one, other, what } => {
                Self::new(Code::NoSolution, error.to_string()).at(ladder).brought_twice(one, other, what)
            }
            PinsError::Clash(report) => clash::problem(report, ladder),
            PinsError::GaveUp { .. } => Self::of(Code::GaveUp, error)
                .at(ladder)
                .why("that does not mean that there is none")
                .next("narrow some wishes down, or give it more time: `kladder pin --within SECONDS`"),
        }
    }
}

fn meant(problem: Problem, near: &[String]) -> Problem {
    near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")))
}

fn not_on_host(problem: Problem, elsewhere: &[ToolName], can_be_brought: bool) -> Problem {
    if elsewhere.is_empty() && can_be_brought {
        return problem;
    }
    if elsewhere.is_empty() {
        return problem.next("install it with the system's own means, or wish for something else");
    }
    problem
        .next(format!("the catalog has {}: `host = \"prefer\"` in the wish takes that here", either(elsewhere)))
        .next("or install it with the system's own means")
}

fn no_version_control(problem: Problem, by: &[ToolName]) -> Problem {
    let problem = problem.why("`[code.sources]` in the ladder asks for them");
    let problem = by.iter().take(3).fold(problem, |problem, tool| problem.next(format!("`kladder add {tool}`")));
    problem.next("install it on this host, or take the repositories out of the ladder")
}
