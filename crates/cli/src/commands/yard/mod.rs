//! `kladder yard …`

mod check;
mod fill;
mod serve;
mod share;
mod take;

use std::process::ExitCode;

use kladder_choose::address::YardAddress;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::clean;

use crate::args::YardCommand;
use crate::context::Context;
use crate::render::Out;

/// The yard that was named.
fn named(text: &str, context: &Context) -> Result<YardAddress, Problem> {
    YardAddress::new(text, &context.around.folder)
        .map_err(|error| Problem::new(Code::Usage, format!("`{}` is no yard", clean(text))).why(error.to_string()))
}

pub(super) fn run(context: &Context, command: &YardCommand, out: &Out) -> Result<ExitCode, Problem> {
    match command {
        YardCommand::Fill { yard, machines } => fill::run(context, yard, machines, out),
        YardCommand::Check { yard, machines, mend } => check::run(context, yard, machines, *mend, out),
        YardCommand::Serve { folder, listen, collect, log } => {
            serve::run(context, folder, *listen, collect.as_deref(), *log, out)
        }
        YardCommand::Share => share::run(context, out),
        YardCommand::Take { files } => take::run(context, files, out),
    }
}
