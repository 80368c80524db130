//! The desk, the start, the way back, clearing: errors that belong to one command each.

use kladder_choose::catalog::NotFilled;
use kladder_core::bring::fetch::NetworkError;
use kladder_core::climb::BackError;
use kladder_core::desk::DeskError;
use kladder_core::desk::start::{ColleagueError, StartError};
use kladder_core::keep::clear::ClearError;
use kladder_core::prove::project::ProjectError;

use super::{Code, Problem};
use crate::text::{either, quoted};

impl From<DeskError> for Problem {
    fn from(error: DeskError) -> Self {
        match &error {
            DeskError::NoLadder { folder, own } => Self::of(Code::BadFile, &error)
                .at(folder)
                .why(format!("no ladder.toml here or in a folder above, nor {}", own.display()))
                .next("`kladder start` writes one after a few questions; `kladder demo` shows what it is about")
                .next("or name one with `--ladder FILE`"),
            DeskError::Fetched(error) => Self::from(error),
            DeskError::Home { .. } => {
                Self::of(Code::BadFile, &error).next("set KLADDER_HOME to another folder, or move the home")
            }
            DeskError::Yard { .. } => {
                Self::of(Code::Usage, &error).next("`--yard FOLDER` or `--yard https://HOST/PATH`")
            }
            DeskError::Set(problem) => super::sets::problem(problem),
            DeskError::Document(error) => Self::document(error),
            DeskError::Catalog(error) => Self::catalog(error),
            DeskError::Pins(error) => Self::pins_file(error),
            DeskError::Network(error) => Self::network(error),
        }
    }
}

impl From<NetworkError> for Problem {
    fn from(error: NetworkError) -> Self {
        Self::network(&error)
    }
}

impl Problem {
    fn network(error: &NetworkError) -> Self {
        match error {
            NetworkError::File(error) => Self::file(error),
            other => Self::of(Code::BadFile, other).next("mend [network] in config.toml"),
        }
    }
}

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

impl From<ProjectError> for Problem {
    fn from(error: ProjectError) -> Self {
        match error {
            ProjectError::NotEmpty(_) | ProjectError::Other { .. } => Self::of(Code::Failed, &error)
                .why("a project is laid out in a folder that is empty, or not there, or that has it already")
                .next("name another folder: `kladder rehearse NAME FOLDER`"),
            ProjectError::NotFilled(error) => {
                let problem = Self::of(Code::Usage, &error);
                match &error {
                    NotFilled::NotAsked { asked, .. } if !asked.is_empty() => {
                        problem.next(format!("it asks for {}", either(&quoted(asked))))
                    }
                    NotFilled::NoPart { parts, .. } if !parts.is_empty() => {
                        problem.next(format!("there is {}", either(&quoted(parts))))
                    }
                    _ => problem,
                }
            }
            ProjectError::Record(error) => {
                let cure = "`kladder rehearse NAME FOLDER` lays it out anew in another folder; what is here stays";
                Self::record(&error, cure)
            }
            ProjectError::File(error) => error.into(),
        }
    }
}

impl From<ColleagueError> for Problem {
    fn from(error: ColleagueError) -> Self {
        match &error {
            ColleagueError::NoSuch(path) => Self::of(Code::BadFile, &error)
                .at(path)
                .why("it is neither a file, an http(s) address nor a repository"),
            ColleagueError::NoLadder(_) | ColleagueError::Address { .. } => Self::of(Code::BadFile, &error),
            ColleagueError::Repository { why, .. } => Self::of(Code::Failed, &error).why(why),
            ColleagueError::Catalog { .. } => Self::of(Code::BadFile, &error)
                .why("nothing was written")
                .next("take the repository or the folder that has both, or ask for the catalog's address")
                .next("or copy the ladder by hand, and write its `catalog` anew"),
            ColleagueError::InTheWay(_) => Self::of(Code::Failed, &error).next("start in another folder"),
            ColleagueError::Document(error) => Self::document(error),
            ColleagueError::File(error) => Self::file(error),
        }
    }
}

impl From<BackError> for Problem {
    fn from(error: BackError) -> Self {
        let problem = |code| Self::of(code, &error);
        match &error {
            BackError::NoSuch { there, .. } if there.is_empty() => {
                problem(Code::NotClimbed).next("`kladder climb` makes the first")
            }
            BackError::NoSuch { there, .. } => {
                let there: Vec<String> = there.iter().map(u32::to_string).collect();
                problem(Code::Usage)
                    .next(format!("there are {}; `kladder landings` tells what they are", there.join(", ")))
            }
            BackError::Nowhere { current: None } => problem(Code::NotClimbed).next("`kladder climb` makes the first"),
            BackError::Nowhere { .. } => problem(Code::Usage).next("`kladder landings` lists those that there are"),
            BackError::Cleared { rungs, .. } => rungs.iter().fold(problem(Code::Failed), |problem, rung| {
                problem.next(format!("`kladder add {} ={}`, then `kladder climb`", rung.tool, rung.version))
            }),
            BackError::LoginShell { .. } => problem(Code::Failed)
                .why("without it nobody could log in to your account")
                .next("take another login shell first: `chsh -s /bin/sh`"),
            BackError::Pins { .. } => problem(Code::Damaged)
                .next("go back to another one, or stay: `kladder climb` keeps to the pins beside the ladder"),
            BackError::Landing(error) => Self::landing(error),
            BackError::State(error) => Self::state(error),
            BackError::File(error) => Self::file(error),
        }
    }
}

impl From<ClearError> for Problem {
    fn from(error: ClearError) -> Self {
        match &error {
            ClearError::Landing(error) => {
                Self::landing(error).why("what a landing that cannot be read uses is not known, so nothing was removed")
            }
            ClearError::State(error) => Self::state(error),
            ClearError::File(error) => Self::file(error),
            ClearError::Cancelled(_) => Self::interrupted(),
        }
    }
}
