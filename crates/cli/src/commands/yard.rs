//! `kladder yard serve`

use std::process::ExitCode;

use kladder_yard::Yard;

use crate::args::YardCommand;
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{TOLD, styled};

pub(super) fn run(command: &YardCommand, out: &Out) -> Result<ExitCode, Problem> {
    let YardCommand::Serve { folder, listen } = command;
    let yard = Yard::serve(folder, *listen).map_err(|error| {
        Problem::new(Code::Failed, format!("cannot serve {} on {listen}", folder.display()))
            .why(error.to_string())
            .next("name another folder, or another address with `--listen`")
    })?;
    out.value(&serde_json::json!({ "format": "kladder.yard/1", "address": yard.url(), "folder": folder }))?;
    out.say(format!("{} serves {}. Ctrl-C ends it.", styled(TOLD, yard.url()), folder.display()))?;
    yard.wait();
    Ok(ExitCode::SUCCESS)
}
