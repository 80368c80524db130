//! Who worked with whom, as `verify` draws it.

use kladder_choose::names::RungKey;
use kladder_core::prove::together::{Met, Proof};
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::count;

use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, styled};

/// More rungs than this are no drawing any more, but can be read with `--json`.
const MOST: usize = 30;
/// Needs that are named; a large ladder may have hundreds that nothing proves.
const NAMED: usize = 10;

/// Draws who was seen with whom, and names the needs that nothing proves.
pub(super) fn show(together: &shapes::Together, out: &Out) -> Result<(), Problem> {
    let Some(percent) = together.proved_percent else { return Ok(()) };
    let (proved, all) =
        (together.needs.iter().filter(|need| need.proof == Proof::Proved).count(), together.needs.len());
    out.say(format!("\n  {}", styled(STRONG, "who worked with whom")))?;
    draw(together, out)?;
    let style = if proved == all { GOOD } else { BAD };
    let needs = count(all, "need");
    out.say(format!("    {} of {needs} between rungs seen to work", styled(style, format!("{proved} ({percent} %)"))))?;
    let open: Vec<_> = together.needs.iter().filter(|need| need.proof != Proof::Proved).collect();
    for need in open.iter().take(NAMED) {
        let why = match need.proof {
            Proof::Failing => "a rehearsal with both failed",
            Proof::Proved | Proof::NotProved => "no rehearsal has both at work",
        };
        out.say(format!("    {} needs {}: {why}", need.rung, need.needs))?;
    }
    if open.len() > NAMED {
        out.say(format!("    and {} more; --json has all", open.len() - NAMED))?;
    }
    if together.watched == Some(false) {
        out.say(styled(FAINT, "    seen through launchers alone: this system does not let programs be watched"))?;
    }
    Ok(())
}

/// A row and a column for each rung that is part of a need or was seen with another.
fn draw(together: &shapes::Together, out: &Out) -> Result<(), Problem> {
    let named = together.needs.iter().flat_map(|need| [&need.rung, &need.needs]);
    let met = together.met.iter().flat_map(|pair| [&pair.rung, &pair.with]);
    let mut rungs: Vec<&RungKey> = named.chain(met).collect();
    rungs.sort();
    rungs.dedup();
    if rungs.is_empty() || rungs.len() > MOST {
        return Ok(());
    }
    let names: Vec<String> = rungs.iter().map(ToString::to_string).collect();
    let wide = names.iter().map(String::len).max().unwrap_or(0);
    let heads: String = (1..=rungs.len()).map(|number| format!("{number:>3}")).collect();
    out.say(styled(FAINT, format!("    {:wide$}    {heads}", "")))?;
    for (number, (rung, name)) in rungs.iter().zip(&names).enumerate() {
        let cells: String = rungs.iter().map(|other| format!("  {}", sign(together, rung, other))).collect();
        out.say(format!("    {name:wide$} {:>2} {cells}", number + 1))?;
    }
    out.say(styled(
        FAINT,
        "    s: the rung of the row started the one of the column; w: both were at work; !: needed, not seen",
    ))
}

fn sign(together: &shapes::Together, rung: &RungKey, other: &RungKey) -> String {
    let met = together.met.iter().find(|pair| pair.rung == *rung && pair.with == *other);
    let needed = together.needs.iter().any(|need| need.rung == *rung && need.needs == *other);
    match met {
        Some(pair) if pair.how == Met::Called => styled(GOOD, "s"),
        Some(_) => styled(GOOD, "w"),
        None if needed => styled(BAD, "!"),
        None => styled(FAINT, "."),
    }
}
