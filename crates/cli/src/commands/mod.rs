//! One file a command: what it asks of the core, and how the answer reads.

mod about;
mod answers;
mod bale;
mod catalog;
mod clear;
mod climb;
mod compare;
mod demo;
mod edit;
mod help;
mod landings;
mod libraries;
mod log;
mod login;
mod look;
mod newer;
mod pin;
mod rehearse;
mod report;
mod route;
mod run;
mod search;
mod services;
mod settings;
mod ssh_key;
mod standing;
mod start;
mod survey;
mod terms;
mod together;
mod vars;
mod verdicts;
mod verify;
mod why;
mod wire;
mod yard;

use std::process::ExitCode;

use kladder_tell::problem::Problem;

use crate::args::{Arguments, Command};
use crate::context::Context;
use crate::render::Out;

pub(crate) use vars::badge;

/// Runs what was typed.
pub(crate) fn run(arguments: Arguments, out: &Out) -> Result<ExitCode, Problem> {
    let context = Context::from_environment(&arguments.global)?;
    match arguments.command {
        None => standing::run(&context, out),
        Some(Command::Help { topic }) => help::run(out, topic.as_deref()),
        Some(Command::Demo { keep, large }) => demo::run(&context, out, keep.as_deref(), large),
        Some(Command::Survey) => survey::run(&context, out),
        Some(Command::Start(options)) => start::run(&context, out, &options),
        Some(Command::About { tool }) => about::run(&context, out, &tool),
        Some(Command::Search { words, command }) => search::run(&context, out, &words, command.as_deref()),
        Some(Command::Add(options)) => edit::add(&context, out, &options),
        Some(Command::Drop { tool }) => edit::drop(&context, out, &tool),
        Some(Command::Why { tool, command }) => why::run(&context, out, &tool, command),
        Some(Command::Newer(options)) => newer::run(&context, out, &options),
        Some(Command::Pin(options)) => pin::run(&context, out, &options),
        Some(Command::Route { admin_script }) => route::run(&context, out, admin_script),
        Some(Command::Climb(options)) => climb::run(&context, out, &options),
        Some(Command::Terms { command }) => terms::run(&context, out, command.as_ref()),
        Some(Command::Landings) => landings::list(&context, out),
        Some(Command::Back(options)) => landings::back(&context, out, &options),
        Some(Command::Log { run, list }) => log::run(&context, out, run, list),
        Some(Command::Clear(options)) => clear::run(&context, out, &options),
        Some(Command::Verify(options)) => verify::run(&context, out, &options),
        Some(Command::Rehearse(options)) => rehearse::run(&context, out, &options),
        Some(Command::Services(options)) => services::run(&context, out, &options),
        Some(Command::Run { set, command }) => run::run(&context, out, set.as_ref(), &command),
        Some(Command::Wire(options)) => wire::run(&context, out, &options),
        Some(Command::Unwire { yes }) => wire::unwire(&context, out, yes),
        Some(Command::Vars(options)) => vars::run(&context, out, &options),
        Some(Command::Bale(options)) => bale::run(&context, out, &options),
        Some(Command::Report(options)) => report::run(&context, out, &options),
        Some(Command::Compare(options)) => compare::run(&context, out, &options),
        Some(Command::Yard(command)) => yard::run(&context, &command, out),
        Some(Command::Catalog { command }) => catalog::run(&context, command.as_ref(), out),
    }
}
