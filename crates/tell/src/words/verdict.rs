//! Verdicts in words.

use kladder_choose::names::RungKey;
use kladder_core::base::event::{
    Cause, Difference, Finding, How, Looked, Much, Outcome, Output, Shadow, Skipped, Subject, Undeclared, Unloadable,
};

use crate::text::{both, bytes, clean, count, either, quoted};

/// The rung or rehearsal that something belongs to.
pub fn owner(subject: &Subject) -> String {
    match subject {
        Subject::Rehearsal { rehearsal, .. } | Subject::Starts { rehearsal } => rehearsal.clone(),
        Subject::Commands
        | Subject::Shell { .. }
        | Subject::Wired
        | Subject::Terminal
        | Subject::Surroundings
        | Subject::Licence { .. }
        | Subject::Setting { .. } => "the ladder".to_owned(),
        Subject::Clock | Subject::Room => "this machine".to_owned(),
        _ => subject.rung().map(ToString::to_string).unwrap_or_default(),
    }
}

/// What is claimed.
pub fn claim(subject: &Subject) -> String {
    match subject {
        Subject::Files { .. } => "its files are as they were unpacked".into(),
        Subject::Answer { command, .. } => format!("`{command}` answers from the shelf"),
        Subject::Start { command, .. } => format!("`{command}` can be started"),
        Subject::Check { name, .. } | Subject::SetUp { name, .. } | Subject::FitOut { name, .. } => name.clone(),
        Subject::Service { service, .. } => format!("the service {service}"),
        Subject::Rehearsal { step: Some(step), .. } => step.clone(),
        Subject::Rehearsal { step: None, .. } => "its tools are there".into(),
        Subject::Loads { .. } => "its programs and libraries could all be loaded".into(),
        Subject::Shell { shell, login: true } => format!("its commands answer at a login with {shell}"),
        Subject::Shell { shell, login: false } => format!("its commands answer in a new terminal with {shell}"),
        Subject::Wired => "the folder in your shells has its commands".into(),
        Subject::Terminal => "its commands answer in this terminal".into(),
        Subject::Gate { gate, .. } => format!("its gate {gate} is open"),
        Subject::Licence { licence } => format!("the licence {licence} is accepted"),
        Subject::Restart { .. } => "what it wants started anew was".into(),
        Subject::Setting { path } => format!("{} is as it wants it", path.display()),
        Subject::Clock => "its clock is right".into(),
        Subject::Room => "its disks have room".into(),
        Subject::Surroundings => "no variable of yours misleads its programs".into(),
        Subject::Starts { .. } => "it starts nothing of the host that is not declared".into(),
        Subject::Commands => "its commands are what was put there, and nothing else".into(),
    }
}

/// `passed`, `failed` or `skipped`.
pub fn outcome(outcome: &Outcome) -> &'static str {
    match outcome {
        Outcome::Passed => "passed",
        Outcome::Failed { .. } => "failed",
        Outcome::Skipped(_) => "skipped",
    }
}

/// What was seen instead, in one sentence.
pub fn finding(finding: &Finding) -> String {
    match finding {
        Finding::Differs { all, .. } => {
            if *all == 1 {
                "1 of its files is not as it was".to_owned()
            } else {
                format!("{all} of its files are not as they were")
            }
        }
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
        | Finding::Stale
        | Finding::Unusable { .. }
        | Finding::Behind { .. }
        | Finding::Little { .. } => condition(finding),
        Finding::Misled { variables } => misled(variables),
        Finding::Undeclared { programs } => undeclared(programs),
        Finding::TooLong { limit } => format!("it was still running after {limit} s"),
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
        Finding::OtherDevices { seen, there } => {
            let all = |all: &[String]| if all.is_empty() { "none".to_owned() } else { both(all) };
            format!("it sees {}, and the system has {}", all(seen), all(there))
        }
        Finding::Holds => "it holds, and must not".into(),
        Finding::OtherVersion { said, pinned } => format!("it says that it is {said}, and {pinned} is pinned"),
        Finding::NoCommand { command } => format!("there is no command `{command}`"),
        Finding::NotStarted { command, error } => format!("`{command}` could not be started: {error}"),
        Finding::CannotStart { file } => format!("this system would refuse to start {}", file.display()),
        Finding::NobodyAnswers => "no file answers".into(),
        Finding::OtherAnswers { file } => format!("{} answers", file.display()),
        Finding::OtherLauncher => "its launcher is another program than the one that was put there".into(),
        Finding::NoEntry => "the launch table cannot be used, or does not have it".into(),
        Finding::OtherEntry { program } => format!("it starts {}", program.display()),
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
        Looked::File { file } => file.clone(),
    }
}

/// How a file differs.
pub fn difference(difference: &Difference) -> String {
    let path = difference.path.display();
    match difference.how {
        How::Missing => format!("{path} is gone"),
        How::Changed => format!("{path} was changed"),
        How::Mode => format!("{path} has other rights"),
        How::Owner => format!("{path} is another user's"),
        How::Extra => format!("{path} does not belong there"),
    }
}

/// A file that could not be loaded, and what is missing.
pub fn unloadable(file: &Unloadable) -> String {
    let what = |cause: &Cause| match cause {
        Cause::NoLibrary { library, .. } => format!("the library {library}"),
        Cause::NoInterpreter { interpreter } => format!("the interpreter {interpreter}"),
        Cause::OldCLibrary { wanted, .. } => format!("a C library of {wanted} or later"),
        Cause::OldLibrary { library, wanted } => format!("{wanted} of {library}"),
        other => self::cause(other),
    };
    format!("{} wants {}", file.path.display(), both(&file.causes.iter().map(what).collect::<Vec<_>>()))
}

/// Why something was not looked at.
pub fn skipped(skipped: &Skipped) -> String {
    match skipped {
        Skipped::NotOnLadder { tools } => {
            let names: Vec<&str> = tools.iter().map(kladder_choose::names::ToolName::as_str).collect();
            format!("{} {} not on the ladder", names.join(", "), if names.len() == 1 { "is" } else { "are" })
        }
        Skipped::EarlierFailed => "the step before it failed".into(),
        Skipped::PassedOver { reason } => format!("it is passed over: {reason}"),
    }
}

/// The lines of an output, with what was cut named where it was.
pub fn output(output: &Output) -> Vec<String> {
    let mut lines: Vec<String> = output.first.lines().map(clean).collect();
    if output.left_out > 0 {
        lines.push(format!("({} left out; `kladder log` has all)", count(output.left_out, "line")));
        lines.extend(output.last.lines().map(clean));
    }
    lines
}

/// What a failure probably comes from, and what helps.
pub fn cause(cause: &Cause) -> String {
    match cause {
        Cause::OldCLibrary { wanted, found } => {
            let found = found.as_ref().map(|found| format!("; this host has {found}")).unwrap_or_default();
            format!(
                "it wants a C library of {wanted} or newer{found}: pin an older release, or have the definition say \
                 `c-library = \"gnu >={wanted}\"` under [[gates]]"
            )
        }
        Cause::OldLibrary { library, wanted } => {
            format!("it wants {wanted} of {library}, and the one that is there is older: pin an older release of it")
        }
        Cause::NoLibrary { library, by } if by.is_empty() => {
            format!(
                "nobody provides the library {library}: install the system's package that has it, or add a need for it"
            )
        }
        Cause::NoLibrary { library, by } => {
            let by: Vec<&str> = by.iter().map(kladder_choose::names::ToolName::as_str).collect();
            format!("nobody here provides the library {library}; in the catalog {} does: need it", by.join(" or "))
        }
        Cause::LostLink { file, target } => {
            format!(
                "{file} should be a link to {target}, and the archive's format lost it: have the command name the target, \
                 or pack it as one that keeps links"
            )
        }
        Cause::NoInterpreter { interpreter } => {
            format!("its interpreter {interpreter} is not there: the definition should need a tool that brings it")
        }
        Cause::UndeclaredCommand { command, file } => {
            format!("the host has `{command}`, at {file}; `calls = [\"{command}\"]` declares that it is meant")
        }
        Cause::NoCompanion { module } => {
            format!(
                "it needs the module {module}, which did not come with it: the definition should bring it as a piece"
            )
        }
        Cause::NotExecutable { file } => {
            let file = file.as_deref().unwrap_or("a file of it");
            format!("{file} may not be run: name it in `executable` under `unpack` in the definition")
        }
        Cause::OtherProcessor => "it is made for another processor or system: see `for` of the artifact".into(),
        Cause::Damaged { rungs } => {
            let rungs: Vec<String> = rungs.iter().map(ToString::to_string).collect();
            format!(
                "{} {} not as {} was put there",
                both(&rungs),
                if rungs.len() == 1 { "is" } else { "are" },
                if rungs.len() == 1 { "it" } else { "they" }
            )
        }
        Cause::DiskFull => "there was no room left on the disk".into(),
        Cause::PortTaken => "the port was taken; `kladder services` tells who holds those of the ladder".into(),
        Cause::Stopped { services } => match services.as_slice() {
            [] => "nobody listened where it wanted to connect".into(),
            [one] => format!("nobody listened, and the service {one} of the ladder does not run"),
            several => format!("nobody listened, and these services of the ladder do not run: {}", several.join(", ")),
        },
        Cause::WantsNetwork => "it wanted the network, which it does not have here".into(),
        Cause::WantsToWrite { path } if path.is_empty() => {
            "it wanted to write where it may not: name the folder in `corners` of the definition".into()
        }
        Cause::WantsToWrite { path } => {
            format!("it wanted to write {path}, which it may not: name the folder in `corners` of the definition")
        }
    }
}
