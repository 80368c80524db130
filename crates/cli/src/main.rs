//! `kladder`: arguments, rendering, progress and exit codes. No decisions: those are the core's.

mod args;
mod commands;
mod context;
mod habits;
mod person;
mod render;

use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches};

fn main() -> ExitCode {
    // Held until the end: with it goes what the environment set.
    #[cfg(feature = "failpoints")]
    let _points = fail::FailScenario::setup();
    let command = args::Arguments::command().mut_subcommands(|command| command.after_help(args::MORE));
    let parsed = command.try_get_matches().and_then(|matches| args::Arguments::from_arg_matches(&matches));
    let arguments = match parsed {
        Ok(arguments) => arguments,
        Err(error) => return habits::answer(&error),
    };
    let out = render::Out::new(&arguments.global);
    match commands::run(arguments, &out) {
        Ok(code) => code,
        Err(problem) if problem.is_broken_pipe() => ExitCode::SUCCESS,
        Err(problem) => {
            out.problem(&problem);
            problem.code.into()
        }
    }
}
