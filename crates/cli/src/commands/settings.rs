//! The settings that a ladder brings along: what becomes of a person's files, and asking them.

use inquire::Confirm;
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_core::base::event::Observer;
use kladder_core::climb::Site;
use kladder_core::climb::settings::{Consent, SettingPlaced};
use kladder_core::desk::read_pins;
use kladder_core::wire::chosen::Outdated;
use kladder_core::wire::placed::{Placing, State};
use kladder_tell::problem::Problem;
use kladder_tell::words;

use crate::context::Context;
use crate::person::is_present;
use crate::render::text::{FAINT, STRONG, shown, styled};
use crate::render::{Out, asking, difference, look};

/// Places them; a person at the terminal is asked for each of their own files, elsewhere `agrees` counts.
pub(super) fn place(
    site: &Site<'_>,
    context: &Context,
    out: &Out,
    agrees: bool,
    yes: bool,
    observer: &dyn Observer,
) -> Result<Vec<SettingPlaced>, Problem> {
    let asks = is_present(out) && !agrees;
    if asks && !yes && !goes_on(site, out)? {
        return Ok(Vec::new());
    }
    let ask = |placing: &Placing| asks && asked(placing, out);
    let consent = if agrees { Consent::Always } else { Consent::Asked(&ask) };
    Ok(site.place_settings(consent, context.around.wait, observer)?)
}

/// Shows what would be written into the person's home, and asks once for all of it.
fn goes_on(site: &Site<'_>, out: &Out) -> Result<bool, Problem> {
    let planned = site.settings()?;
    let changes = planned.iter().filter(|placing| placing.state != State::Differs);
    let changes: Vec<_> = changes.filter_map(|placing| placing.change.as_ref()).collect();
    if changes.is_empty() {
        return Ok(true);
    }
    out.say("\nThe ladder changes these files in your home:\n")?;
    changes.iter().try_for_each(|change| out.verbatim(difference(change)))?;
    let question = Confirm::new("Write this?").with_default(true).with_render_config(look());
    Ok(asking(|| question.prompt()).unwrap_or(false))
}

fn asked(placing: &Placing, out: &Out) -> bool {
    let Some(change) = &placing.change else { return false };
    let question = format!("Let the ladder's take the place of what is in your {}?", shown(&placing.path));
    // Who is not sure says no, and nothing is lost.
    out.verbatim(format!("\n{}", difference(change))).is_ok()
        && asking(|| Confirm::new(&question).with_default(false).with_render_config(look()).prompt()).unwrap_or(false)
}

/// Tells what was done, and what was not.
pub(super) fn tell(placed: &[SettingPlaced], out: &Out) -> Result<(), Problem> {
    let told: Vec<_> = placed.iter().filter(|one| one.changed || !matches!(one.state, State::Stands)).collect();
    if told.is_empty() {
        return Ok(());
    }
    let row = |one: &&SettingPlaced| {
        vec![styled(STRONG, shown(&one.path)), styled(FAINT, words::setting(&one.state, one.changed))]
    };
    out.say(format!("\n{}", out.columns(&["settings", ""], told.iter().map(row).collect(), &[])))?;
    if placed.iter().any(|one| one.state == State::Differs && !one.changed) {
        out.say("`kladder climb --take-settings` lets the ladder's take their place; yours are kept.")?;
    }
    Ok(())
}

/// Names tools that run and have read their settings before they were changed.
pub(super) fn tell_outdated(site: &Site<'_>, placed: &[SettingPlaced], out: &Out) -> Result<(), Problem> {
    if !placed.iter().any(|one| one.changed) {
        return Ok(());
    }
    for Outdated { rung, process } in site.outdated()? {
        out.say(format!(
            "{rung} runs (process {process}) and reads its settings only when it starts: start it again."
        ))?;
    }
    Ok(())
}

/// What would become of them, in the route.
pub(super) fn ahead(site: &Site<'_>, out: &Out) -> Result<(), Problem> {
    for placing in site.settings()? {
        let Some(change) = &placing.change else { continue };
        out.say(format!("The climb {}:", words::setting_ahead(&placing.state)))?;
        out.verbatim(difference(change))?;
    }
    Ok(())
}

/// Places those that a landing had, which is current again; where that cannot be done the next climb does it.
pub(super) fn go_back(context: &Context, out: &Out, number: u32, observer: &dyn Observer) -> Result<(), Problem> {
    let (desk, chosen, _) = context.open_pinned(&out.without_values())?;
    let text = desk.site(&chosen).landings().ladder(number)?;
    let pinned = read_pins(&desk.ladder.pins_path()).ok().flatten();
    let ladder = Ladder::parse(&Source::new(desk.ladder.path.clone(), text))?;
    let desk = desk.with_ladder(ladder);
    // Its rungs are those of the pins that came back with it, unless the ladder as it is now lacks what they need.
    let pins = pinned.filter(|pins| desk.site(pins).route().is_ok()).unwrap_or(chosen);
    let placed = place(&desk.site(&pins), context, out, false, true, observer)?;
    tell(&placed, out)
}
