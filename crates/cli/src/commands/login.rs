//! The login shell that a ladder brings: what is left to do for it, and that it is not taken away under who logs in with it.

use kladder_choose::ladder::Ladder;
use kladder_core::climb::Site;
use kladder_core::desk::Desk;
use kladder_core::wire::{LoginShell, logged_in_with};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{clean, shell_word};

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{TOLD, styled};

/// Says what is left to do until the person logs in with the ladder's shell; nothing where that is so.
pub(super) fn tell(context: &Context, ladder: &Ladder, out: &Out) -> Result<(), Problem> {
    let login = LoginShell::of(ladder, &context.around.home, &context.around.host);
    let Some(login) = login.filter(|login| !login.is_done()) else { return Ok(()) };
    let path = clean(&shell_word(&login.path));
    let now = login.now.map_or_else(|| "unknown".to_owned(), |now| clean(&now.to_string_lossy()));
    out.say(format!("\nYour login shell is {now}. For that of the ladder:\n"))?;
    if !login.is_listed {
        let line = format!("grep -qxF -e {path} /etc/shells || printf '%s\\n' {path} >>/etc/shells");
        out.verbatim(format!("    # as an administrator\n    {}", styled(TOLD, line)))?;
    }
    out.verbatim(format!("    {}", styled(TOLD, format!("chsh -s {path}"))))
}

/// Fails where a climb would take away the shell that the person logs in with.
pub(super) fn keep(context: &Context, desk: &Desk, site: &Site<'_>) -> Result<(), Problem> {
    let Some(command) = kept(context, &desk.ladder) else { return Ok(()) };
    let is_brought = |route: kladder_core::climb::route::Route| {
        let mut names = route.rungs.iter().flat_map(|rung| rung.commands.keys());
        names.any(|name| name.as_str() == command) || desk.ladder.names.keys().any(|name| name.as_str() == command)
    };
    if is_brought(site.route()?) { Ok(()) } else { Err(in_use(&command, "no rung brings it any more")) }
}

/// The command that the person logs in with, where this ladder brings it.
pub(super) fn kept(context: &Context, ladder: &Ladder) -> Option<String> {
    let (home, host) = (&context.around.home, &context.around.host);
    logged_in_with(home, host).filter(|_| ladder.path == home.ladder())
}

/// Fails where everything would go, and the shell that the person logs in with would go too.
pub(super) fn refuse_to_clear(context: &Context) -> Result<(), Problem> {
    match logged_in_with(&context.around.home, &context.around.host) {
        Some(command) => Err(in_use(&command, "it would be removed")),
        None => Ok(()),
    }
}

fn in_use(command: &str, why: &str) -> Problem {
    Problem::new(Code::Failed, format!("you log in with `{}`", clean(command)))
        .why(format!("{why}, and then nobody could log in to your account"))
        .next("take another login shell first: `chsh -s /bin/sh`")
}
