//! `kladder yard serve`

use std::path::Path;
use std::process::ExitCode;

use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_yard::Yard;

use crate::args::YardCommand;
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{TOLD, shown, styled};

pub(super) fn run(context: &Context, command: &YardCommand, out: &Out) -> Result<ExitCode, Problem> {
    let YardCommand::Serve { folder, listen } = command;
    let folder = context.around.folder.join(folder);
    let failed = |why: String| {
        Problem::new(Code::Failed, format!("cannot serve {} on {listen}", shown(&folder)))
            .why(why)
            .next("name another folder, or another address with `--listen`")
    };
    if !Path::new(&folder).is_dir() {
        return Err(failed("there is no such folder".to_owned()));
    }
    let yard = Yard::serve(&folder, *listen).map_err(|error| failed(error.to_string()))?;
    let address = yard.url();
    out.value(&shapes::Served {
        format: shapes::Served::FORMAT,
        address: address.clone(),
        folder: shapes::path(&folder),
    })?;
    out.say(format!("{} serves {}. Ctrl-C ends it.", styled(TOLD, &address), shown(&folder)))?;
    if listen.ip().is_unspecified() {
        out.say(
            "It listens on every address of this machine: others use this machine's name or address in its place.",
        )?;
    }
    yard.wait();
    Ok(ExitCode::SUCCESS)
}
