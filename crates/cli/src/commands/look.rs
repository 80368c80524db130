//! Whether the desktop is dark or light, as a ladder wants it.

use inquire::Confirm;
use kladder_choose::ladder::Ladder;
use kladder_core::wire::{Desktop, LookState};
use kladder_tell::problem::Problem;

use crate::context::Context;
use crate::person::is_present;
use crate::render::{Out, asking, look};

/// Makes it so where the person agrees: `agrees`, or when they are asked; otherwise says that it would.
pub(super) fn see_to(context: &Context, ladder: &Ladder, agrees: bool, out: &Out) -> Result<(), Problem> {
    let home = &context.around.home;
    // A project has no say in how the whole desktop looks.
    if ladder.path != home.ladder() {
        return Ok(());
    }
    let desktop = Desktop::of(home, &context.around.host);
    let state = desktop.state(ladder.look)?;
    let (question, told) = match &state {
        LookState::Stands => return Ok(()),
        // It is remembered as long as the ladder wants another one, so that it stays.
        LookState::Yours if ladder.look.is_some() => return Ok(()),
        LookState::Yours => return desktop.apply(&state).map(drop).map_err(Problem::from),
        LookState::ToSet(value) => ("Let the ladder change how the desktop looks?", format!("is {value} now")),
        LookState::ToUndo(value) => ("Let the desktop look as it did before?", format!("is {value} again")),
    };
    let asks = is_present(out) && !agrees;
    let confirm = || Confirm::new(question).with_default(true).with_render_config(look());
    if !agrees && !asks {
        return out.say("The ladder would change how the desktop looks; `kladder climb --yes` lets it.");
    }
    if asks && !asking(|| confirm().prompt()).unwrap_or(false) {
        return Ok(());
    }
    if desktop.apply(&state)? { out.say(format!("The look of the desktop {told}.")) } else { Ok(()) }
}

/// The desktop looks as it did before, unless the person chose otherwise since.
pub(super) fn give_back(context: &Context) -> Result<(), Problem> {
    let desktop = Desktop::of(&context.around.home, &context.around.host);
    let state = desktop.state(None)?;
    desktop.apply(&state).map(drop)?;
    Ok(())
}
