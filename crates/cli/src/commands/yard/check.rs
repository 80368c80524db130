//! `kladder yard check`

use std::process::ExitCode;

use kladder_choose::address::YardAddress;
use kladder_core::base::event::chain;
use kladder_core::bring::fetch::{at, stock_at};
use kladder_core::share::Needed;
use kladder_core::share::yard::{self, InYard, Kept};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{clean, count};

use super::named;

use crate::context::Context;
use crate::render::text::{BAD, styled};
use crate::render::{Out, Progress};

pub(super) fn run(
    context: &Context,
    text: &str,
    machines: &[String],
    mend: bool,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let address = named(text, context)?;
    let (desk, pins, _) = context.open_pinned(out)?;
    let needed = Needed::of(&desk, &pins, machines)?;
    let place = at(&address, &desk.network);
    let look = || {
        let progress = Progress::new(out)?;
        let all = yard::check(&*place, &needed, &progress);
        progress.finish();
        all.map_err(Problem::from)
    };
    let mut all = look()?;
    let is_wrong = |one: &&InYard| !matches!(one.kept, Kept::Whole);
    let stock = stock_at(&address, &desk.network).filter(|_| mend && all.iter().any(|one| is_wrong(&one)));
    if let Some(stock) = stock {
        yard::drop_damaged(&*stock, &needed, &all)?;
        let progress = Progress::new(out)?;
        let filled = yard::fill(&*stock, &needed, &desk, &progress);
        progress.finish();
        let filled = filled?;
        out.say(format!("Brought {} anew.", count(filled.new, "file")))?;
        all = look()?;
    }
    out.value(&shapes::YardCheck::of(&place.shown(), &all))?;
    let wrong: Vec<&InYard> = all.iter().filter(is_wrong).collect();
    for InYard { file, of, kept } in &wrong {
        let why = match kept {
            Kept::Whole => continue,
            Kept::Damaged => "its bytes are others than are pinned".to_owned(),
            Kept::Missing(error) => chain(error),
        };
        out.say(format!("{}, of {}: {}", styled(BAD, clean(file.as_str())), clean(&of.join(", ")), clean(&why)))?;
    }
    if wrong.is_empty() {
        out.say(format!("{} has all {} that the pins need, whole.", clean(&place.shown()), count(all.len(), "file")))?;
        return Ok(ExitCode::SUCCESS);
    }
    let damaged = wrong.iter().any(|one| matches!(one.kept, Kept::Damaged));
    let code = if damaged { Code::Integrity } else { Code::NoYard };
    let are = if wrong.len() == 1 { "is" } else { "are" };
    let what = format!("{} of {} {are} missing or damaged there", wrong.len(), count(all.len(), "file"));
    let problem = Problem::new(code, what);
    Err(match address {
        YardAddress::Server(_) => {
            problem.next("`kladder yard fill FOLDER` where the yard is kept brings what is missing")
        }
        _ => problem.next("`--mend` brings them anew"),
    })
}
