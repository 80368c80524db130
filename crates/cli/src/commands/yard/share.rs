//! `kladder yard share`

use std::process::ExitCode;
use std::thread;
use std::time::Duration;

use kladder_core::base::event::{Observer, check_cancelled};
use kladder_core::bring::fetch::Cache;
use kladder_core::bring::neighbours::Neighbours;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{bytes, count};

use crate::context::Context;
use crate::render::{Out, Progress};

/// How often it is looked who is there.
const GLANCE: Duration = Duration::from_millis(200);

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let settings = context.around.home.settings()?;
    let network = context.around.network(&settings)?;
    let setting = settings.neighbours.unwrap_or_default();
    let neighbours = Neighbours::new(&setting, Cache::new(&context.around.home.artifacts), &network);
    let entered = neighbours.enter().map_err(|error| {
        Problem::of(Code::Failed, &*error).next("`port` under `[neighbours]` in config.toml names another one")
    })?;
    out.value(&shapes::Shared { format: shapes::Shared::FORMAT, port: entered.port })?;
    out.say(format!("Neighbours get what the cache has at port {}. Ctrl-C ends it.", entered.port))?;
    let progress = Progress::new(out)?;
    let (mut known, mut given) = (entered.others.len(), 0);
    while check_cancelled(&progress as &dyn Observer).is_ok() {
        thread::sleep(GLANCE);
        let there = neighbours.enter().map_or(0, |found| found.others.len());
        if there != known {
            out.say(format!("{} there.", count(there, "neighbour")))?;
            known = there;
        }
        if neighbours.given() != given && !neighbours.gives() {
            given = neighbours.given();
            out.say(format!("Gave {} so far.", bytes(given)))?;
        }
    }
    progress.finish();
    Ok(ExitCode::SUCCESS)
}
