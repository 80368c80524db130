//! `kladder-stress`: kills climbs, crowds a home, and lets yards misbehave; checks what is left each time.
//!
//! ```text
//! kladder-stress kills  KLADDER [RANDOM] [SEED]   each named point, then RANDOM kills at random moments (500)
//! kladder-stress crowd  KLADDER [TIMES]           eight climbs at once on one home (10 times)
//! kladder-stress seeds  FOLDER                    seeds for the fuzz targets, in FOLDER
//! kladder-stress faults KLADDER                   each misbehaviour of a yard: what was said, how long it took
//! kladder-stress room   KLADDER [MACHINES] [MBIT] [MB]   a room of machines among neighbours (40, 100, 240); needs root
//! ```
//!
//! KLADDER is a program that was built with the feature `failpoints`. Everything happens in a temporary folder and on
//! loopback. It ends with status 1 at the first thing that is not as it should be, and says what.

mod faults;
#[allow(dead_code, reason = "what must be said of them is the tests' affair")]
#[path = "../../core/tests/it/hostile/mod.rs"]
mod hostile;
mod kills;
mod room;
mod scene;
mod seeds;

use std::path::PathBuf;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let number = |at: usize, usual: u64| arguments.get(at).map_or(Some(usual), |text| text.parse().ok());
    let done = match (arguments.first().map(String::as_str), arguments.get(1).map(PathBuf::from)) {
        (Some("kills"), Some(kladder)) => number(2, 500)
            .zip(number(3, 412))
            .map(|(times, seed)| kills::points(&kladder).and_then(|()| kills::random(&kladder, times, seed))),
        (Some("crowd"), Some(kladder)) => number(2, 10).map(|times| kills::crowd(&kladder, times)),
        (Some("seeds"), Some(folder)) => Some(seeds::write(&folder)),
        (Some("faults"), Some(kladder)) => Some(faults::table(&kladder)),
        (Some("room"), Some(kladder)) => number(2, 40)
            .zip(number(3, 100))
            .zip(number(4, 240))
            .map(|((machines, rate), size)| room::climb(&kladder, machines, rate, size)),
        _ => None,
    };
    match done {
        None => {
            eprintln!(
                "usage: kladder-stress kills KLADDER [RANDOM] [SEED] | crowd KLADDER [TIMES] | faults KLADDER | seeds FOLDER | room KLADDER [MACHINES] [MBIT] [MB]"
            );
            ExitCode::from(2)
        }
        Some(Ok(())) => ExitCode::SUCCESS,
        Some(Err(what)) => {
            eprintln!("NOT AS IT SHOULD BE: {what}");
            ExitCode::FAILURE
        }
    }
}
