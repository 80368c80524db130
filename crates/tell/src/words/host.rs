//! What was found out about a host, in words.

use kladder_core::host::survey::{Odd, Untold};

/// Something odd about a host, as the rest of a sentence.
pub fn odd(odd: &Odd) -> String {
    match odd {
        Odd::TwoCLibraries => "two C libraries are there, gnu and musl; gnu is taken for the system's own".into(),
        Odd::MemoryUntold => "the kernel does not tell how much memory there is".into(),
        Odd::OtherFeatures { kind } => {
            format!("the processor is said to be {kind}, and its features are another kind's")
        }
        Odd::MoreMemory { available, total } => format!("{available} bytes of memory are available of {total}"),
        Odd::Description { file, error } => format!("{}: {error}", file.display()),
    }
}

/// Why a tool has not told its version.
pub fn untold(untold: &Untold) -> String {
    match untold {
        Untold::Described => "nothing is run in a described root".into(),
        Untold::NotRun { error } => error.clone(),
        Untold::TooSlow { limit } => format!("it did not answer within {limit} s"),
        Untold::Interrupted => "interrupted".into(),
        Untold::Status { status } => format!("it ended with status {status}"),
        Untold::Unsaid => "it says no version".into(),
    }
}
