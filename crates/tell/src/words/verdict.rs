//! Verdicts in words.

use kladder_core::base::event::{Cause, Difference, How, Outcome, Output, Skipped, Subject, Unloadable};

use crate::text::{both, clean, count};

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
        Subject::Choice { place, .. } => format!("it chooses the ladder's {place}"),
        Subject::Settings { .. } => "what runs of it has read its settings".into(),
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
