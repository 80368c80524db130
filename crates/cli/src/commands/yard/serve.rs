//! `kladder yard serve`

use std::io::Write;
use std::net::SocketAddr;
use std::path::Path;
use std::process::ExitCode;

use kladder_core::base::files;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean};
use kladder_yard::{Answered, Settings, Yard};

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{TOLD, shown, styled};

/// A line for each answer, besides what the command says: `127.0.0.1 200 1.2 kB /skerroc.tar.gz`.
fn told(answered: &Answered) {
    let Answered { client, path, status, bytes: sent } = answered;
    // Whoever reads it may have gone; the yard serves on.
    let _ = writeln!(std::io::stderr(), "{client} {status} {} {}", bytes(*sent), clean(path));
}

pub(super) fn run(
    context: &Context,
    folder: &Path,
    listen: SocketAddr,
    collect: Option<&Path>,
    log: bool,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let folder = context.around.folder.join(folder);
    let failed = |why: String| {
        Problem::new(Code::Failed, format!("cannot serve {} on {listen}", shown(&folder)))
            .why(why)
            .next("name another folder, or another address with `--listen`")
    };
    if !Path::new(&folder).is_dir() {
        return Err(failed("there is no such folder".to_owned()));
    }
    let tell: Option<fn(&Answered)> = log.then_some(told);
    let collect = collect.map(|into| context.around.folder.join(into));
    if let Some(into) = &collect {
        files::create_folder(into).map_err(|error| Problem::file(&error))?;
    }
    let settings = Settings { folder: folder.clone(), tell, collect: collect.clone(), ..Settings::default() };
    let yard = Yard::with(settings, listen).map_err(|error| failed(error.to_string()))?;
    let address = yard.url();
    out.value(&shapes::Served {
        format: shapes::Served::FORMAT,
        address: address.clone(),
        folder: shapes::path(&folder),
    })?;
    out.say(format!("{} serves {}. Ctrl-C ends it.", styled(TOLD, &address), shown(&folder)))?;
    if let Some(into) = &collect {
        let told = format!("collector = \"{address}\"");
        out.say(format!(
            "Machines with {} in config.toml tell how they stand; {} shows them.",
            styled(TOLD, told),
            styled(TOLD, format!("kladder compare {}", shown(into)))
        ))?;
    }
    if listen.ip().is_unspecified() {
        out.say("It listens on every address that this machine has.")?;
    }
    yard.wait();
    Ok(ExitCode::SUCCESS)
}
