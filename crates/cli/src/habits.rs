//! What cannot be understood on the command line, and words that people type out of habit: each gets one answer.

use std::process::ExitCode;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, Parser};
use kladder_choose::near::near;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::either;

use crate::args::Arguments;
use crate::render::Out;

/// Verbs from elsewhere, and what does it here.
const VERBS: [(&[&str], &str); 20] = [
    (
        &["install", "get", "setup", "use"],
        "`kladder add TOOL` wishes for a tool; `kladder climb` then brings the machine there",
    ),
    (&["sync", "apply", "up", "build", "deploy"], "`kladder climb` takes the machine to what the pins say"),
    (&["lock", "resolve", "freeze"], "`kladder pin` resolves the wishes to exact versions"),
    (&["update", "upgrade", "outdated"], "`kladder newer` tells what has come out; `kladder newer --take` takes it"),
    (
        &["remove", "rm", "uninstall", "delete"],
        "`kladder drop TOOL` takes a wish back; `kladder climb` then lands without it",
    ),
    (&["find"], "`kladder search WORD` finds tools of the catalog"),
    (&["list", "ls"], "`kladder route` lists the ladder's rungs; `kladder search` the catalog's tools"),
    (&["info", "show"], "`kladder about TOOL` tells of a tool; `kladder why TOOL` of a rung"),
    (&["explain"], "`kladder why TOOL` tells why a rung is there, and at that version"),
    (&["plan", "diff", "tree"], "`kladder route` tells what a climb would do"),
    (&["check", "test", "validate"], "`kladder verify` runs every check and rehearsal"),
    (&["exec", "x"], "`kladder run -- CMD` runs a command with the ladder's tools"),
    (
        &["shell", "env", "activate", "hook", "path"],
        "`kladder wire` puts the commands into your shells; `kladder vars` tells the ladder's variables",
    ),
    (&["deactivate", "unhook"], "`kladder unwire` takes the commands out of your shells"),
    (&["which", "where"], "`kladder why COMMAND` tells who answers to a command"),
    (&["serve", "server"], "`kladder yard serve FOLDER` serves artifacts to other machines"),
    (&["init", "new", "create"], "`kladder start` asks a few questions and writes a ladder.toml"),
    (&["undo", "rollback", "revert"], "`kladder back` returns to an earlier landing"),
    (&["history", "status"], "`kladder` alone tells where this machine stands; `kladder landings` where it stood"),
    (
        &["config", "clean"],
        "`kladder clear` removes what nothing uses; settings stand in config.toml, see docs/files.md",
    ),
];

/// The same for options.
const OPTIONS: [(&[&str], &str); 3] = [
    (&["--dry-run", "-n"], "`kladder route` tells what a climb would do, and changes nothing"),
    (&["--verbose", "-v"], "`kladder log` tells step by step what was done"),
    (
        &["--force", "-f"],
        "nothing is forced: `kladder verify --mend` brings anew what is damaged, `--skip-gate` passes a gate",
    ),
];

/// Prints what was asked for, or what cannot be understood and why.
pub(crate) fn answer(error: &clap::Error) -> ExitCode {
    if !error.use_stderr() {
        // There is nowhere to tell it if the terminal is gone.
        let _ = error.print();
        return ExitCode::SUCCESS;
    }
    let wants_json = std::env::args().take_while(|word| word != "--").any(|word| word == "--json");
    let plain = ["kladder", "--json"];
    if let Ok(arguments) = Arguments::try_parse_from(&plain[..if wants_json { 2 } else { 1 }]) {
        Out::new(&arguments.global).problem(&problem(error));
    }
    Code::Usage.into()
}

fn problem(error: &clap::Error) -> Problem {
    let text = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => text.clone(),
        Some(ContextValue::Strings(texts)) => texts.join(", "),
        _ => String::new(),
    };
    let (argument, value) = (text(ContextKind::InvalidArg), text(ContextKind::InvalidValue));
    let said = |what: String| Problem::new(Code::Usage, what);
    match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let typed = text(ContextKind::InvalidSubcommand);
            said(format!("there is no command `{typed}`")).next(for_verb(&typed))
        }
        ErrorKind::UnknownArgument => said(format!("`{argument}` means nothing here"))
            .next(for_option(&argument, &text(ContextKind::SuggestedArg))),
        ErrorKind::MissingRequiredArgument => said(format!("{argument} is missing")).why(usage(error)),
        ErrorKind::InvalidValue if value.is_empty() => said(format!("{argument} wants a value")).why(usage(error)),
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            let problem = said(format!("`{value}` cannot stand for {argument}"));
            let problem = match std::error::Error::source(error) {
                Some(source) => problem.why(source.to_string()),
                None => problem,
            };
            match error.get(ContextKind::ValidValue) {
                Some(ContextValue::Strings(valid)) if !valid.is_empty() => {
                    problem.why(format!("what can: {}", either(valid)))
                }
                _ => problem,
            }
        }
        ErrorKind::ArgumentConflict => {
            said(format!("{argument} and {} do not go together", text(ContextKind::PriorArg)))
        }
        ErrorKind::MissingSubcommand => said("a word is missing".to_owned()).why(usage(error)),
        // Rare ones keep their first line.
        _ => said(error.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned()),
    }
}

fn usage(error: &clap::Error) -> String {
    let text = error.to_string();
    let line = text.lines().find_map(|line| line.strip_prefix("Usage: "));
    format!("it is typed so: {}", line.unwrap_or("kladder [OPTIONS] [COMMAND]"))
}

/// What to type in the place of a verb that is none of ours.
fn for_verb(typed: &str) -> String {
    let habit = VERBS.iter().find(|(verbs, _)| verbs.contains(&typed));
    if let Some((_, ours)) = habit {
        return (*ours).to_owned();
    }
    let command = Arguments::command();
    let near = near(typed, command.get_subcommands().map(clap::Command::get_name));
    match near.first() {
        Some(near) => format!("did you mean `kladder {near}`?"),
        None => "`kladder --help` lists them all".to_owned(),
    }
}

fn for_option(typed: &str, near: &str) -> String {
    let habit = OPTIONS.iter().find(|(options, _)| options.contains(&typed));
    match habit {
        Some((_, ours)) => (*ours).to_owned(),
        None if near.is_empty() => "`kladder COMMAND --help` lists what does".to_owned(),
        None => format!("did you mean `{near}`?"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_habit_is_a_command_of_ours_or_stands_there_twice() {
        let command = Arguments::command();
        let verbs: Vec<&str> = VERBS.iter().flat_map(|(verbs, _)| verbs.iter().copied()).collect();
        for (at, verb) in verbs.iter().enumerate() {
            assert!(command.find_subcommand(verb).is_none(), "`{verb}` is ours");
            assert!(!verbs[at + 1..].contains(verb), "`{verb}` has two answers");
        }
        // Whatever is named as an answer can be typed.
        for (_, answer) in VERBS.iter().chain(&OPTIONS) {
            for named in answer.split('`').filter_map(|part| part.strip_prefix("kladder ")) {
                let name = named.split(' ').next().unwrap();
                assert!(command.find_subcommand(name).is_some(), "`{named}`");
            }
        }
    }
}
