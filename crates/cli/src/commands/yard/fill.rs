//! `kladder yard fill`

use std::process::ExitCode;

use kladder_choose::address::YardAddress;
use kladder_core::bring::fetch::stock_at;
use kladder_core::share::{Needed, yard};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};

use super::named;
use crate::context::Context;
use crate::render::text::{TOLD, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, text: &str, machines: &[String], out: &Out) -> Result<ExitCode, Problem> {
    let address = named(text, context)?;
    let (desk, pins, _) = context.open_pinned(out)?;
    let Some(stock) = stock_at(&address, &desk.network) else {
        let problem = Problem::new(Code::Usage, format!("{} is a server, which nothing can be put into", clean(text)));
        return Err(problem.next("fill the folder that it serves: `kladder yard fill FOLDER`"));
    };
    desk.write_pins(&pins)?;
    let needed = Needed::of(&desk, &pins, machines)?;
    let progress = Progress::new(out)?;
    let filled = yard::fill(&*stock, &needed, &desk, &progress);
    progress.finish();
    let filled = filled?;
    out.value(&shapes::YardFilled::of(&address.to_string(), filled))?;
    let there = match filled.there {
        0 => String::new(),
        there => format!("; {there} {} there already", if there == 1 { "was" } else { "were" }),
    };
    let new = count(filled.new, "file");
    let place = match &address {
        YardAddress::Folder(folder) => shown(folder),
        other => clean(&other.to_string()),
    };
    out.say(format!("{place} has {new} more, {}{there}.", bytes(filled.bytes)))?;
    out.say(format!("It is for {}.", clean(&needed.machines.join(", "))))?;
    let next = match &address {
        YardAddress::Folder(folder) => format!("kladder yard serve {}", shown(folder)),
        other => format!("kladder climb --yard {}", clean(&other.to_string())),
    };
    out.say(format!("Next: {}", styled(TOLD, next)))?;
    Ok(ExitCode::SUCCESS)
}
