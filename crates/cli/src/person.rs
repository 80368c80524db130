//! The person at the terminal, if there is one: licences and the last question before a climb.

use std::cell::Cell;
use std::io::{self, IsTerminal, Write};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use inquire::error::InquireResult;
use inquire::{Confirm, InquireError, Select};
use kladder_core::climb::gates::Standing;
use kladder_core::climb::{Awaited, Decide, Known, Prospect, RestartDue};
use kladder_core::keep::terms::Asked;
use kladder_tell::problem::Problem;
use kladder_tell::text::{both, bytes, clean, count, time};
use kladder_tell::words;

use crate::render::text::{STRONG, shown, styled};
use crate::render::{Out, asking, look};

const ACCEPT: &str = "accept it";
const ACCEPT_ALL: &str = "accept it and all others of this route";
const REFUSE: &str = "do not accept it; nothing will be fetched";
/// None of these is there by a slip: the cursor stands on the refusal.
const ANSWERS: [&str; 3] = [REFUSE, ACCEPT, ACCEPT_ALL];

/// Asks where there is someone to ask.
pub(crate) struct Person<'o> {
    out: &'o Out,
    present: bool,
    yes: bool,
    accepts_all: Cell<bool>,
    waited: Cell<Duration>,
    interrupted: Cell<bool>,
}

impl<'o> Person<'o> {
    /// `yes`: the last question is answered already. Licences are not.
    pub(crate) fn new(out: &'o Out, yes: bool) -> Self {
        let present = is_present(out);
        Self { out, present, yes, accepts_all: Cell::new(false), waited: Cell::default(), interrupted: Cell::default() }
    }

    /// How long answers took, which is no time of the climb's.
    pub(crate) fn waited(&self) -> Duration {
        self.waited.get()
    }

    /// Whether a question was answered with Ctrl-C.
    pub(crate) fn interrupted(&self) -> bool {
        self.interrupted.get()
    }

    /// A yes of somebody who is there.
    pub(crate) fn agrees(&self, question: &str) -> bool {
        if !self.present || self.interrupted.get() {
            return false;
        }
        let confirm = Confirm::new(question).with_default(false).with_render_config(look());
        self.ask(|| confirm.prompt()).unwrap_or(false)
    }

    fn ask<T>(&self, question: impl FnOnce() -> InquireResult<T>) -> InquireResult<T> {
        let started = Instant::now();
        let answer = asking(question);
        self.waited.set(self.waited.get() + started.elapsed());
        self.interrupted.set(matches!(answer, Err(InquireError::OperationInterrupted)));
        answer
    }
}

/// Whether there is someone to ask.
pub(crate) fn is_present(out: &Out) -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal() && !out.json && !out.quiet
}

impl Decide for Person<'_> {
    fn accept(&self, asked: &Asked) -> bool {
        if !self.present || self.accepts_all.get() || self.interrupted.get() {
            return self.accepts_all.get();
        }
        let question = format!("{} comes under the licence {}. You:", both(&asked.tools), asked.licence.id);
        // Anything but an answer, Ctrl-C too, is no consent.
        let answer = self.ask(|| {
            show(asked, self.out);
            let select = Select::new(&question, ANSWERS.to_vec()).without_filtering();
            select.with_help_message("arrow keys choose, Enter answers").with_render_config(look()).prompt()
        });
        self.accepts_all.set(matches!(answer, Ok(ACCEPT_ALL)));
        matches!(answer, Ok(ACCEPT | ACCEPT_ALL))
    }

    fn is_done(&self, chore: &Standing) -> bool {
        let (tool, what) = (chore.tool.as_deref().unwrap_or("the route"), words::chore(chore));
        self.agrees(&format!("{tool} wants something that only you can do: {}. Is it done?", clean(&what)))
    }

    fn has_restarted(&self, due: &RestartDue) -> bool {
        let what = words::anew_do(due.anew);
        self.agrees(&format!("{} waits: did you {what}? This system does not tell.", due.above))
    }

    fn is_asked(&self) -> bool {
        self.present && !self.yes
    }

    fn go_on(&self, prospect: &Prospect) -> bool {
        // A reader that went away is noticed by the command's own output.
        let _ = tell_awaited(prospect, self.out);
        if !self.present || self.yes || prospect.fetch == 0 {
            return true;
        }
        let question = format!("{} Go on?", weight(prospect));
        let confirm = Confirm::new(&question).with_default(true).with_render_config(look());
        self.ask(|| confirm.prompt()).unwrap_or(false)
    }
}

/// What a person must fetch, and what of it lies among their downloads.
pub(crate) fn tell_awaited(prospect: &Prospect, out: &Out) -> Result<(), Problem> {
    for Awaited { file, size, visit, found, .. } in &prospect.by_person {
        out.say(format!("By you: {}.", clean(&words::to_visit(file, *size, visit))))?;
        if let Some(found) = found {
            out.say(format!("  {} has its name and size, and is taken where its digest agrees.", shown(found)))?;
        }
    }
    Ok(())
}

/// Sizes and time of a climb, in a sentence.
pub(crate) fn weight(prospect: &Prospect) -> String {
    let rungs = count(prospect.route.rungs.len(), "rung");
    let (fetch, disk) = (bytes(prospect.fetch), bytes(prospect.unpacked));
    let cache = match prospect.from_cache {
        0 => String::new(),
        cached => format!(", {} in the cache", bytes(cached)),
    };
    let pace = if matches!(prospect.pace, Some(Known::Measured(_))) {
        "the pace just measured"
    } else {
        "the pace of earlier climbs"
    };
    let untimed = match prospect.work().untimed {
        0 => String::new(),
        untimed => format!(" without {} that nobody timed", count(untimed, "command")),
    };
    let took = prospect.time().map(|took| format!(", about {} at {pace}{untimed}", time(took)));
    format!("{rungs}: {fetch} to fetch{cache}, about {disk} of disk{}.", took.unwrap_or_default())
}

/// Shows a licence's text in the caller's pager, or prints it.
fn show(asked: &Asked, out: &Out) {
    let text: String = asked.licence.text.lines().map(|line| clean(line) + "\n").collect();
    if let Some(pager) = std::env::var_os("PAGER").filter(|pager| !pager.is_empty()) {
        let child = Command::new("sh").arg("-c").arg(pager).stdin(Stdio::piped()).spawn();
        if let Ok(mut child) = child {
            // Someone who leaves the pager early has seen enough.
            let _ = child.stdin.take().map(|mut stdin| stdin.write_all(text.as_bytes()));
            if child.wait().is_ok_and(|status| status.success()) {
                return;
            }
        }
    }
    let head = styled(STRONG, format!("Licence {}", asked.licence.id));
    // A terminal that went away answers no question either.
    let _ = out.say(format!("{head}\n\n{text}"));
}
