//! Why a release was not entered.

use kladder_core::bring::fetch::UnknownError;
use kladder_core::desk::keeper::EnterError;

use super::climbs::{at_index, at_makers, fetch};
use super::{Code, Problem};
use crate::text::plain;

impl From<EnterError> for Problem {
    fn from(error: EnterError) -> Self {
        match &error {
            EnterError::NoSource { .. } => Self::of(Code::BadFile, &error)
                .next("name an index: `origins = [\"index:NAME/PROJECT\"]` in the definition"),
            EnterError::NoFile { there, .. } => {
                let problem = Self::of(Code::NotInCatalog, &error);
                if there.is_empty() {
                    problem
                } else {
                    problem.next(format!("what is there: {}", plain(there).join(", ")))
                }
            }
            EnterError::Index(index) => {
                let problem = caused(Self::of(Code::NoYard, index), index);
                at_index(index).into_iter().fold(problem, Self::next)
            }
            EnterError::Receive(UnknownError::Yard { source, .. }) => {
                let problem = caused(Self::of(Code::NoYard, &error), &error);
                at_makers(source).into_iter().fold(problem, Self::next)
            }
            EnterError::Receive(UnknownError::Sum { .. }) => Self::of(Code::Integrity, &error)
                .why("nothing was written, and nothing of it is kept")
                .next("ask again later: a mirror may lag behind; then tell those who keep the index"),
            EnterError::Receive(UnknownError::Here(error)) => fetch(error),
            EnterError::Written { source, .. } => {
                let inner = Self::catalog(source);
                let why = inner.what.clone();
                Self { what: error.to_string(), ..inner }.why(why)
            }
            EnterError::InOneLine { .. } => Self::of(Code::BadFile, &error),
        }
    }
}

/// All causes of an error, as reasons.
fn caused(problem: Problem, error: &dyn std::error::Error) -> Problem {
    std::iter::successors(error.source(), |error| error.source())
        .fold(problem, |problem, cause| problem.why(cause.to_string()))
}
