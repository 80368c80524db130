//! The code that a ladder wants, in words.

use kladder_core::climb::{CodeState, WhyMissing};

/// Where a source of code stands.
pub fn code(state: &CodeState) -> &'static str {
    match state {
        CodeState::There => "there already, and left as it is",
        CodeState::ToBring => "to bring",
        CodeState::Brought => "brought",
        CodeState::Missing(_) => "not brought",
    }
}

/// Why a source of code could not be brought.
pub fn code_missing(why: &WhyMissing) -> String {
    match why {
        WhyMissing::SignIn => "not brought: whoever has it wants you to sign in".to_owned(),
        WhyMissing::NoVersionControl => "not brought: nothing has the command `git`".to_owned(),
        WhyMissing::Offline => "not brought: nothing may be fetched".to_owned(),
        WhyMissing::Failed(said) => format!("not brought: {said}"),
    }
}
