//! What was found out about a host, in words.

use kladder_choose::catalog::{Gate, HostProbe, OfSystem, Spot, Who};
use kladder_choose::pins::{Absent, Found, HostCopy, Silent};
use kladder_core::host::survey::{Odd, Untold};

use crate::problem::Problem;
use crate::text::{clean, count};
use crate::words::demanded;

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
        Untold::Foreign => "it belongs to another person, and is not run".into(),
        Untold::Status { status } => format!("it ended with status {status}"),
        Untold::Unsaid => "it says no version".into(),
    }
}

/// A copy of a tool on the host.
pub fn copy(copy: &HostCopy) -> String {
    let path = clean(&copy.path().to_string_lossy());
    if let HostCopy::Package { .. } = copy { format!("the package {path}") } else { path }
}

/// That a copy is there and says no version.
pub fn silent(silent: &Silent) -> String {
    format!("{} is there, and its version is not known: {}", copy(&silent.copy), untold(&silent.why))
}

/// Where a definition looks for a tool.
pub fn probed(probe: &HostProbe) -> Vec<String> {
    let command = probe.command.iter().map(|command| format!("`{command}` on PATH"));
    let place = |spot: &Spot| match spot {
        Spot::Path(path) => clean(path),
        Spot::Told { file, .. } => format!("where {} says", clean(file)),
    };
    let library = probe.library.iter().map(|soname| format!("the library {}", clean(soname)));
    let package = |of: &OfSystem| {
        let on = if of.system.name.is_empty() { String::new() } else { format!(" ({})", of.system) };
        format!("the package {}{on}", clean(&of.packages.join(", ")))
    };
    let all = command.chain(probe.places.iter().map(place)).chain(library);
    all.chain(probe.package.iter().map(package)).collect()
}

/// What was found of something that is not there as it is wanted, or where nothing was.
pub fn absent(absent: &Absent) -> Vec<String> {
    let has = |found: &Found| format!("it has {} ({})", found.version, copy(&found.copy));
    let told: Vec<String> = absent.found.iter().map(has).chain(absent.silent.iter().map(silent)).collect();
    if told.is_empty() {
        let looked: Vec<String> = absent.probes.iter().flat_map(probed).collect();
        if looked.is_empty() {
            return vec!["the catalog has no release of it, and does not say what to look for here".to_owned()];
        }
        return vec![format!("looked for: {}", looked.join(", "))];
    }
    told
}

/// What somebody can do so that the host has it.
pub(crate) fn brought_by_hand(problem: Problem, chore: &Gate) -> Problem {
    let takes = chore.minutes.map(|minutes| format!(", {}", count(minutes as usize, "minute"))).unwrap_or_default();
    match (chore.who(), &chore.person) {
        (Some(Who::Administrator), _) => problem
            .next(format!(
                "an administrator can bring it ({}{takes}): `kladder route --admin-script` prints the script",
                demanded(&chore.demand)
            ))
            .next("`kladder climb --wait-for-chores` goes on by itself once it is there"),
        (_, Some(person)) => problem.next(format!("{}{takes}", clean(person))),
        _ => problem,
    }
}
