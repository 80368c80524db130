//! Why a release was not entered, and a file not taken.

use kladder_core::bring::fetch::UnknownError;
use kladder_core::desk::catalogs::fetched::FetchedError;
use kladder_core::desk::keeper::{DraftError, EnterError};
use kladder_core::desk::take::{Namesake, TakeError};

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
                let problem = Self::of(Code::NoYard, index);
                at_index(index).into_iter().fold(problem, Self::next)
            }
            EnterError::Receive(UnknownError::Yard { source, .. }) => {
                let problem = Self::of(Code::NoYard, &error);
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

impl From<TakeError> for Problem {
    fn from(error: TakeError) -> Self {
        match &error {
            TakeError::File(error) => Self::file(error),
            TakeError::Cancelled(_) => Self::interrupted(),
            TakeError::NoFile(_) => Self::of(Code::Usage, &error).next("name the files that you have fetched"),
            TakeError::Unknown { digest, size, namesake, .. } => {
                let problem = Self::of(Code::Integrity, &error)
                    .why(format!("it has {}, and the digest {digest}", bytes_exactly(*size)))
                    .why("nothing was taken");
                match namesake.as_deref() {
                    None => problem.next("see that it is the file that the page was to give, and whole"),
                    Some(Namesake { tool, version, sha256, size }) => {
                        let size = size.map(|size| format!("{}, and ", bytes_exactly(size))).unwrap_or_default();
                        problem
                            .why(format!(
                                "the file of {tool} {version} that is called so has {size}the digest {sha256}"
                            ))
                            .next("fetch it again: it broke off, or is another version that bears the same name")
                    }
                }
            }
        }
    }
}

/// Lines that version control may say of one failure.
const MOST_SAID: usize = 4;

fn bytes_exactly(size: u64) -> String {
    format!("{size} bytes")
}

impl From<&FetchedError> for Problem {
    fn from(error: &FetchedError) -> Self {
        match error {
            FetchedError::Offline(_) => {
                Self::of(Code::NoYard, error).next("`kladder catalog fetch` brings it, without `--offline`")
            }
            FetchedError::Receive { source, .. } => {
                let problem = Self::of(Code::NoYard, error);
                let next = match source.as_ref() {
                    UnknownError::Yard { source, .. } => at_makers(source),
                    UnknownError::Sum { .. } | UnknownError::Here(_) => None,
                };
                problem.next(
                    next.unwrap_or_else(|| {
                        "see whether its address is right; what was fetched before stays".to_owned()
                    }),
                )
            }
            FetchedError::Repository { why, .. } => why
                .lines()
                .map(str::trim)
                .filter(|line| !line.is_empty())
                .take(MOST_SAID)
                .fold(Self::of(Code::NoYard, error), Self::why)
                .next("see whether its address is right; what was fetched before stays"),
            FetchedError::NoPath(_) => Self::of(Code::Usage, error).next("write `yard:FOLDER/CATALOG.tar.zst`"),
            FetchedError::NoYard(_) => Self::of(Code::NoYard, error).next(
                "name one with `--yard`, or under `yards` in config.toml; those of a catalog are known once it is here",
            ),
            FetchedError::NotInYards { .. } | FetchedError::Folder { .. } => {
                Self::of(Code::NoYard, error).next("see whether its address is right; what was fetched before stays")
            }
            FetchedError::Unpack { .. } => {
                Self::of(Code::Integrity, error).next("tell those who keep the catalog; what was fetched before stays")
            }
            FetchedError::NoCatalog(_) => Self::of(Code::BadFile, error)
                .next("an archive or repository has catalog.toml at its top, or in its one folder"),
            FetchedError::File(error) => Self::file(error),
            FetchedError::Record(error) => Self::memory(error),
        }
    }
}

impl From<FetchedError> for Problem {
    fn from(error: FetchedError) -> Self {
        Self::from(&error)
    }
}

impl From<DraftError> for Problem {
    fn from(error: DraftError) -> Self {
        match &error {
            DraftError::Index(index) => {
                let problem = Self::of(Code::NoYard, index);
                at_index(index).into_iter().fold(problem, Self::next)
            }
            DraftError::Receive(UnknownError::Here(error)) => fetch(error),
            DraftError::Receive(inner) => {
                let problem = Self::of(Code::NoYard, inner);
                let next = if let UnknownError::Yard { source, .. } = inner { at_makers(source) } else { None };
                next.into_iter().fold(problem, Self::next)
            }
            DraftError::NoFile { .. } => Self::of(Code::NoArtifact, &error),
            DraftError::Unpack { .. } => {
                Self::of(Code::Integrity, &error).next("see that it is an archive, a package or a program, and whole")
            }
            DraftError::NothingRuns { top, .. } => Self::of(Code::Failed, &error)
                .why(format!("at its top: {}", top.join(", ")))
                .next("what is no program (fonts, libraries) wants a definition written by hand"),
            DraftError::File(error) => Self::file(error),
        }
    }
}
