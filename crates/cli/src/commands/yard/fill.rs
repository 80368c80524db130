//! `kladder yard fill`

use std::path::Path;
use std::process::ExitCode;

use kladder_core::share::{Needed, yard};
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};

use crate::context::Context;
use crate::render::text::{TOLD, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, folder: &Path, machines: &[String], out: &Out) -> Result<ExitCode, Problem> {
    let folder = context.around.folder.join(folder);
    let (desk, pins, _) = context.open_pinned(out)?;
    desk.write_pins(&pins)?;
    let needed = Needed::of(&desk, &pins, machines)?;
    let progress = Progress::new(out)?;
    let filled = yard::fill(&folder, &needed, &desk, &progress);
    progress.finish();
    let filled = filled?;
    out.value(&shapes::YardFilled::of(&folder, filled))?;
    let there = match filled.there {
        0 => String::new(),
        there => format!("; {there} {} there already", if there == 1 { "was" } else { "were" }),
    };
    let new = count(filled.new, "file");
    out.say(format!("{} has {new} more, {}{there}.", shown(&folder), bytes(filled.bytes)))?;
    out.say(format!("It is for {}.", clean(&needed.machines.join(", "))))?;
    out.say(format!("Next: {}", styled(TOLD, format!("kladder yard serve {}", shown(&folder)))))?;
    Ok(ExitCode::SUCCESS)
}
