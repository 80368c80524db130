//! `kladder yard …`

mod check;
mod fill;
mod serve;
mod take;

use std::process::ExitCode;

use kladder_tell::problem::Problem;

use crate::args::YardCommand;
use crate::context::Context;
use crate::render::Out;

pub(super) fn run(context: &Context, command: &YardCommand, out: &Out) -> Result<ExitCode, Problem> {
    match command {
        YardCommand::Fill { folder, machines } => fill::run(context, folder, machines, out),
        YardCommand::Check { yard, machines, mend } => check::run(context, yard, machines, *mend, out),
        YardCommand::Serve { folder, listen, log } => serve::run(context, folder, *listen, *log, out),
        YardCommand::Take { files } => take::run(context, files, out),
    }
}
