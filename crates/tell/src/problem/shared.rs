//! Bales and yards.

use kladder_core::bring::bale::{BaleError, IndexProblem};
use kladder_core::bring::fetch::YardError;
use kladder_core::share::NeededError;
use kladder_core::share::bale::MakeError;
use kladder_core::share::laid::LayError;
use kladder_core::share::report::ReportError;
use kladder_core::share::yard::FillError;

use super::climbs::{at_makers, fetch};
use super::{Code, Problem};
use crate::text::both;
use crate::words;

impl From<BaleError> for Problem {
    fn from(error: BaleError) -> Self {
        let whole = || Self::of(Code::Integrity, &error).next("copy it anew from where it was made");
        match &error {
            BaleError::Read { path, source } if source.kind() == std::io::ErrorKind::NotFound => {
                Self::of(Code::BadFile, &error)
                    .at(path)
                    .next("name the bale, or the first of its volumes; all of them lie in one folder")
            }
            BaleError::Read { path, source } if source.kind() == std::io::ErrorKind::UnexpectedEof => whole().at(path),
            BaleError::NoBale(path) => Self::of(Code::BadFile, &error).at(path).next("`kladder bale FILE` makes one"),
            BaleError::Index { path, source: IndexProblem::Newer(_) } => {
                Self::of(Code::BadFile, &error).at(path).next("take a newer kladder")
            }
            BaleError::Index { path, .. } | BaleError::Damaged { path, .. } => whole().at(path),
            BaleError::Read { path, source } | BaleError::Write { path, source } => {
                Self::io(source.kind(), &error).at(path)
            }
            BaleError::OtherBytes(_) => Self::of(Code::Integrity, &error).next("make the bale again"),
            BaleError::File(error) => Self::file(error),
            BaleError::Cancelled(_) => Self::interrupted(),
        }
    }
}

impl From<NeededError> for Problem {
    fn from(error: NeededError) -> Self {
        match &error {
            NeededError::Catalog(error) => Self::catalog(error),
            NeededError::NoSize(_) => Self::of(Code::PinsStale, &error).next("`kladder pin` asks for it"),
            NeededError::NoMachine { there, .. } => {
                Self::of(Code::Usage, &error).why(format!("it is pinned for {}", both(there)))
            }
        }
    }
}

impl From<MakeError> for Problem {
    fn from(error: MakeError) -> Self {
        match error {
            MakeError::Needed(error) => error.into(),
            MakeError::Fetch(error) => fetch(&error),
            MakeError::Bale(error) => error.into(),
            MakeError::Code { ref why, .. } => {
                let problem = Self::of(Code::NoYard, &error).why(words::code_missing(why));
                problem.next("`--without-code` leaves repositories out; each machine copies them itself then")
            }
            MakeError::Cancelled(_) => Self::interrupted(),
            MakeError::File(error) => Self::file(&error),
            MakeError::Document(error) => Self::document(&error),
            MakeError::Outside(_) => {
                Self::of(Code::BadFile, &error).next("name a file beside the ladder, under a shorter path")
            }
            MakeError::Ladder(ref why) => Self::of(Code::BadFile, &error).why(why.message().to_owned()),
        }
    }
}

impl From<LayError> for Problem {
    fn from(error: LayError) -> Self {
        match error {
            LayError::Bale(error) => error.into(),
            LayError::NoLadder(_) => {
                Self::of(Code::BadFile, &error).next("a bale that was made with `kladder bale` has one")
            }
            LayError::Others { ref files, .. } => {
                let named = files.iter().fold(Self::of(Code::Declined, &error), |problem, file| {
                    problem.why(format!("{} is not what the bale has", file.display()))
                });
                named
                    .next("go into an empty folder, and climb there")
                    .next("or let it take that one's place, which is kept under another name: `--replace`")
            }
            LayError::File(error) => Self::file(&error),
            LayError::Record(error) => error.into(),
        }
    }
}

impl From<FillError> for Problem {
    fn from(error: FillError) -> Self {
        match error {
            FillError::Twice { ref of, .. } => Self::of(Code::BadFile, &error)
                .why(format!("one is of {}, the other of {}", of[0], of[1]))
                .next("a bale has room for both: `kladder bale FILE`"),
            FillError::Yard { ref source, .. } => not_put(&error, source),
            FillError::Closed { ref source, .. } => closed(Self::of(Code::NoYard, &error), source),
            FillError::Fetch(error) => fetch(&error),
            FillError::File(error) => Self::file(&error),
            FillError::Cancelled(_) => Self::interrupted(),
        }
    }
}

/// What to do about a yard that does not answer, or not to whoever asks.
fn closed(problem: Problem, source: &YardError) -> Problem {
    problem.next(at_makers(source).unwrap_or_else(|| match source {
        YardError::Unasked { .. } => {
            "see its address, what `[sign-in]` in config.toml says of it, and the variables of its clients".to_owned()
        }
        _ => "see that it is up, and its address".to_owned(),
    }))
}

/// A yard that does not take a file.
fn not_put(error: &FillError, source: &YardError) -> Problem {
    let problem = match source {
        YardError::Unwritten { source } => Problem::io(source.kind(), error),
        _ => Problem::of(Code::NoYard, error),
    };
    if let YardError::Unasked { .. } = source {
        return closed(problem, source);
    }
    let again = "what is there by now stays: the same command goes on";
    match at_makers(source) {
        Some(next) => problem.next(next).next(again),
        None => problem.next(again),
    }
}

impl From<ReportError> for Problem {
    fn from(error: ReportError) -> Self {
        match error {
            ReportError::Climb(error) => (*error).into(),
            ReportError::Landing(error) => error.into(),
        }
    }
}
