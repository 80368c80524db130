//! `kladder catalog fetch`

use std::process::ExitCode;

use kladder_choose::ladder::address_of;
use kladder_core::desk::catalogs::fetched;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{clean, count};

use super::list::{self, told};
use crate::context::Context;
use crate::render::text::{STRONG, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let all = context.around.catalog_folders()?;
    let addresses: Vec<&str> = all.iter().filter_map(|catalog| address_of(catalog)).collect();
    if addresses.is_empty() {
        return Err(Problem::new(Code::Failed, "no catalog is from elsewhere")
            .why("what lies on this machine, or comes with the program, is as it is")
            .next("name one by its address: `catalog = \"https://…\"` under [ladder], or in config.toml"));
    }
    let network = context.around.network(&context.around.home.settings()?)?;
    let progress = Progress::new(out)?;
    for address in addresses {
        let before = told(context, address.as_ref());
        let fetched = fetched::fetch(address, &context.around, &network, &progress);
        progress.finish();
        let fetched = fetched?;
        let now = told(context, address.as_ref());
        let what = styled(STRONG, clean(&fetched.address));
        out.say(match (before.digest, now.digest) {
            (Some(before), Some(now)) if before == now => format!("{what} is as it was."),
            (Some(_), _) => format!("{what} has changed; {} now.", count(now.tools, "tool")),
            (None, _) => format!("{what} is here; {}.", count(now.tools, "tool")),
        })?;
    }
    list::value(context, &all, out)?;
    Ok(ExitCode::SUCCESS)
}
