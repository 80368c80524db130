//! `kladder`: arguments, rendering, progress and exit codes. No decisions: those are the core's.

mod args;
mod commands;
mod complete;
mod context;
mod habits;
mod pages;
mod person;
mod render;

use std::process::ExitCode;
use std::sync::Arc;

use clap::{CommandFactory, FromArgMatches};
use kladder_core::host::enclosed;
use kladder_core::serve::watcher;
use rustix::fs::Mode;

fn main() -> ExitCode {
    if let Some(code) = enclosed::answer(std::env::args_os()) {
        return code.into();
    }
    if let Some(folder) = watcher::asked(std::env::args_os()) {
        return keep(&folder);
    }
    // A prompt asks this before each of its lines, and does not wait until a whole command line is built.
    let asks = std::env::args_os().skip(1).eq(["vars", "--badge"]);
    if asks
        && let Ok(code) = context::Here::from_environment().and_then(|here| commands::badge(&here.home, &here.folder))
    {
        return code;
    }
    complete::answer();
    // Held until the end: with it goes what the environment set.
    #[cfg(feature = "failpoints")]
    let _points = fail::FailScenario::setup();
    let command = args::Arguments::command().mut_subcommands(|command| command.after_help(args::MORE));
    let parsed = command.try_get_matches().and_then(|matches| args::Arguments::from_arg_matches(&matches));
    let arguments = match parsed {
        Ok(arguments) => arguments,
        Err(error) => return habits::answer(&error),
    };
    settle_in(&arguments);
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

/// Keeps a service until somebody wants it to end.
fn keep(folder: &std::path::Path) -> ExitCode {
    let ends = Arc::default();
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT, signal_hook::consts::SIGHUP] {
        // Where it cannot be heard, the service is ended by its file.
        let _ = signal_hook::flag::register(signal, Arc::clone(&ends));
    }
    let kept = watcher::keep(folder, std::env::vars_os().collect(), &ends);
    if kept { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// What the caller's shell may have set, and must not decide how files come out.
fn settle_in(arguments: &args::Arguments) {
    // A limit on the size of files is an error of the write, and no crash; where that cannot be had, it is a crash.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::default());
    // What is run for the caller has the caller's own.
    if !matches!(arguments.command, Some(args::Command::Run { .. })) {
        let callers = rustix::process::umask(Mode::empty());
        rustix::process::umask((callers - Mode::RWXU) | Mode::WGRP | Mode::WOTH);
    }
}
