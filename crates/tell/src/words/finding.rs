//! What was seen where something else was expected, in words.

use kladder_choose::names::RungKey;
use kladder_core::base::event::{Finding, Looked, Much, Shadow, Undeclared};

use crate::text::{both, bytes, clean, count, either, quoted};

/// What was seen instead, in one sentence.
pub fn finding(finding: &Finding) -> String {
    match finding {
        Finding::Differs { all: 1, .. } => "1 of its files is not as it was".to_owned(),
        Finding::Differs { all, .. } => format!("{all} of its files are not as they were"),
        Finding::NoManifest => "there is no record of its files, or it cannot be read".into(),
        Finding::Status { status: status @ 129..=192, expected } => {
            format!("signal {} ended it, and status {} was expected", status - 128, either(expected))
        }
        Finding::Status { status, expected } => {
            format!("it ended with status {status}, and {} was expected", either(expected))
        }
        Finding::TooMuch { of: Much::Processes, limit } => {
            format!("it had more than {limit} processes at one time, and was ended")
        }
        Finding::TooMuch { of: Much::Memory, limit } => {
            format!("it took more than {} of memory, and was ended", bytes(*limit))
        }
        Finding::CannotLoad { all, .. } => {
            format!("{} could not; `does-without` in its definition names what it can do without", count(*all, "file"))
        }
        Finding::Shadowed { commands } => shadowed(commands),
        Finding::Unasked => "it did not come to an end".into(),
        Finding::NotWired { .. }
        | Finding::Closed
        | Finding::NotAccepted
        | Finding::Due { .. }
        | Finding::NotPlaced
        | Finding::OtherKernel
        | Finding::Stale
        | Finding::Unusable { .. }
        | Finding::Behind { .. }
        | Finding::Little { .. } => condition(finding),
        Finding::NoMatch { .. }
        | Finding::Unwanted { .. }
        | Finding::NoFile { .. }
        | Finding::NoJson { .. }
        | Finding::OtherValue { .. }
        | Finding::OtherDevices { .. }
        | Finding::Holds
        | Finding::OtherVersion { .. } => claimed(finding),
        Finding::Misled { variables } => misled(variables),
        Finding::Undeclared { programs } => undeclared(programs),
        Finding::TooLong { limit } => format!("it was still running after {limit} s"),
        Finding::EndedEarly { status } => format!("it should have run on, and ended with status {status}"),
        Finding::NotUp { limit, pattern } => format!("it said nothing like `{pattern}` within {limit} s"),
        Finding::NotReady { limit } => format!("it runs, and was not ready after {limit} s"),
        Finding::Silent { to, limit } => format!("it gave no answer to `{to}` within {limit} s"),
        Finding::Refused { to, said } => format!("it refused `{to}`: {said}"),
        Finding::NoneLike { pattern, seen } if seen.is_empty() => format!("it told nothing like `{pattern}`"),
        Finding::NoneLike { pattern, seen } => {
            format!("it told nothing like `{pattern}`, but {}", either(&quoted(seen)))
        }
        Finding::OutOfForm { said } => format!("what it wrote is no message of its protocol: {said}"),
        Finding::Reached { whom } => format!("it tried to reach {}", both(whom)),
        Finding::Open => "other machines can reach it, which the ladder does not want".into(),
        Finding::Fails => "it ends by itself, and is started again and again".into(),
        Finding::NobodyKeeps => "it runs, and nobody would start it again".into(),
        Finding::UnknownFont { file } => format!("the system does not know the font {}", file.display()),
        Finding::NoWindow { pattern, seen } if seen.is_empty() => {
            format!("no window came up; one with a title like `{pattern}` should have")
        }
        Finding::NoWindow { pattern, seen } => {
            format!("no window with a title like `{pattern}` came up, but {}", either(&quoted(seen)))
        }
        Finding::NoCommand { command } => format!("there is no command `{command}`"),
        Finding::NotStarted { command, error } => format!("`{command}` could not be started: {error}"),
        Finding::CannotStart { file } => format!("this system would refuse to start {}", file.display()),
        Finding::NobodyAnswers => "no file answers".into(),
        Finding::OtherAnswers { file } => format!("{} answers", file.display()),
        Finding::OtherChosen { file } => format!("it chooses {}", clean(file)),
        Finding::Outdated { process } => {
            format!("it runs (process {process}) and has read them before they were changed")
        }
        Finding::OtherLauncher => "its launcher is another program than the one that was put there".into(),
        Finding::NoEntry => "the launch table cannot be used, or does not have it".into(),
        Finding::OtherEntry { program } => format!("it starts {}", program.display()),
    }
}

/// What came of something that was claimed.
fn claimed(finding: &Finding) -> String {
    match finding {
        Finding::NoMatch { looked: what, pattern } => format!("{} has nothing like `{pattern}`", looked(what)),
        Finding::Unwanted { looked: what, pattern, found } => {
            format!("{} has `{found}`, and nothing like `{pattern}` may be there", looked(what))
        }
        Finding::NoFile { file, error } => format!("{file} cannot be read: {error}"),
        Finding::NoJson { looked: what, error } => format!("{} is no JSON: {error}", looked(what)),
        Finding::OtherValue { looked: what, pointer, found: Some(found), wanted } => {
            format!("{} has {found} at `{pointer}`, and {wanted} was expected", looked(what))
        }
        Finding::OtherValue { looked: what, pointer, found: None, wanted } => {
            format!("{} has nothing at `{pointer}`, and {wanted} was expected", looked(what))
        }
        Finding::OtherDevices { seen, there } => {
            let all = |all: &[String]| if all.is_empty() { "none".to_owned() } else { both(all) };
            format!("it sees {}, and the system has {}", all(seen), all(there))
        }
        Finding::Holds => "it holds, and must not".into(),
        Finding::OtherVersion { said, pinned } => format!("it says that it is {said}, and {pinned} is pinned"),
        _ => "it does not hold".into(),
    }
}

/// What became of something that a landing stands on.
fn condition(finding: &Finding) -> String {
    match finding {
        Finding::NotWired { file } => {
            format!("{} has lost the lines that put the ladder into it", file.display())
        }
        Finding::NotAccepted => "its text was not accepted, or is another one now".into(),
        Finding::Due { anew } => super::anew(*anew).to_owned(),
        Finding::OtherKernel => "notebooks have a kernel of this name that starts something else".into(),
        Finding::NotPlaced => "it is not as the ladder wants it, and not by your hand".into(),
        Finding::Stale => "it is not as the landings want it".into(),
        Finding::Unusable { error } => format!("it cannot be used: {error}"),
        Finding::Behind { landing } => {
            format!("it is earlier than the landing, which was made {}", landing.strftime("%Y-%m-%d %H:%M UTC"))
        }
        Finding::Little { free, at } => format!("{} are free at {}", bytes(*free), at.display()),
        _ => "it is closed".into(),
    }
}

fn shadowed(commands: &[Shadow]) -> String {
    let one = |shadow: &Shadow| match &shadow.by {
        Some(by) => format!("to `{}` answers {by}", shadow.command),
        None => format!("to `{}` nothing answers", shadow.command),
    };
    commands.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn misled(variables: &[(String, Option<RungKey>)]) -> String {
    let one = |(name, rung): &(String, Option<RungKey>)| match rung {
        Some(rung) => format!("{name} changes what {rung} does"),
        None => format!("{name} changes what every program loads"),
    };
    let all: Vec<String> = variables.iter().map(one).collect();
    all.join(", ")
}

fn undeclared(programs: &[Undeclared]) -> String {
    let one = |one: &Undeclared| match &one.by {
        Some(by) => format!("{by} started {}", one.program.display()),
        None => format!("a step started {}", one.program.display()),
    };
    let all: Vec<String> = programs.iter().map(one).collect();
    format!("{}; `calls` in the definition or rehearsal declares what is meant", all.join(", "))
}

fn looked(looked: &Looked) -> String {
    match looked {
        Looked::Output => "its output".to_owned(),
        Looked::Error => "its error output".to_owned(),
        Looked::Outputs => "what it wrote".to_owned(),
        Looked::Screen => "its screen".to_owned(),
        Looked::File { file } => file.clone(),
    }
}
