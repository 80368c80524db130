//! `kladder`: arguments, rendering, progress and exit codes. No decisions: those are the core's.

mod args;
mod commands;
mod context;
mod habits;
mod person;
mod render;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    // Held until the end: with it goes what the environment set.
    #[cfg(feature = "failpoints")]
    let _points = fail::FailScenario::setup();
    let arguments = match args::Arguments::try_parse() {
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
