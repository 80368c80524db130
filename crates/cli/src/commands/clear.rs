//! `kladder clear`

use std::fs;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

use inquire::Confirm;
use kladder_core::climb::settings::{Of, take_back};
use kladder_core::keep::clear::{self, Item, Policy, Waste};
use kladder_core::keep::landing::Landings;
use kladder_core::keep::state::Writer;
use kladder_core::keep::wired::Wired;
use kladder_core::serve::{ServeError, stop_all};
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};

use crate::args::ClearOptions;
use crate::commands::{login, look};
use crate::commands::{settings, wire};
use crate::context::Context;
use crate::person::is_present;
use crate::render::text::{FAINT, STRONG, shown, styled};
use crate::render::{Out, Progress, asking, look};

/// More lines than these are not read.
const SHOWN: usize = 30;

pub(super) fn run(context: &Context, out: &Out, options: &ClearOptions) -> Result<ExitCode, Problem> {
    let progress = Progress::new(out)?;
    if let Some(ladder) = context.around.ladder_path() {
        // One that was moved is recognised before its old path is taken for gone.
        let _ = Landings::of(&context.around.home.ladders(), &ladder);
    }
    let policy = Policy {
        landings: options.keep,
        used_within: Duration::from_hours(options.idle.saturating_mul(24).min(u64::from(u32::MAX))),
        cache: options.cache,
    };
    // Looking needs no right to write; what is found is looked for again once nobody else writes.
    let find = || {
        if options.all {
            Ok(clear::everything(&context.around.home))
        } else {
            clear::plan(&context.around.home, &policy)
        }
    };
    if options.all {
        login::refuse_to_clear(context)?;
    }
    let found = find()?;
    let total: u64 = found.iter().map(|item| item.size).sum();
    let foreign = if options.all { clear::foreign(&context.around.home)? } else { Vec::new() };
    show(&found, total, options, out)?;
    for path in &foreign {
        out.say(format!("  {} is not kladder's, and stays.", shown(path)))?;
    }
    let removed = !found.is_empty() && wanted(options, total, out)?;
    if removed {
        leave_home(context, options, &progress, &out.without_values())?;
        let leaves = |folder: &Path| found.iter().any(|item| folder.starts_with(&item.path));
        stop_all(&context.around.home.ladders(), leaves, &progress).map_err(ServeError::from)?;
        let writer = Writer::enter(&context.around.home, context.around.wait, &progress)?;
        clear::remove(&find()?, &progress)?;
        if !options.all {
            // Commands of ladders that are gone are none any more.
            Wired::of(&context.around.home).refresh()?;
        }
        drop(writer);
        if options.all {
            clear::leave(&context.around.home);
            // Only where nothing else is in it.
            let _ = context.root().map(fs::remove_dir);
            out.say(format!("Nothing of kladder is left but the program itself, {}.", program()))?;
        } else {
            out.say(format!("Removed; {} are free again.", bytes(total)))?;
        }
    }
    let item =
        |item: &Item| shapes::ClearItem { kind: kind(&item.what), path: shapes::path(&item.path), bytes: item.size };
    let items = found.iter().map(item).collect();
    let foreign = foreign.iter().map(|path| shapes::path(path)).collect();
    out.value(&shapes::Clear { format: shapes::Clear::FORMAT, removed, bytes: total, items, foreign })?;
    Ok(ExitCode::SUCCESS)
}

/// Takes out of the person's home what belongs to that which goes.
fn leave_home(context: &Context, options: &ClearOptions, progress: &Progress, out: &Out) -> Result<(), Problem> {
    if options.all {
        look::give_back(context)?;
        // Shells that read what is gone would not be harmed, but theirs are traces too.
        return wire::take_out(context, out, true).map(drop);
    }
    let taken_back = take_back(&context.around.home, Of::Gone, context.around.wait, progress)?;
    settings::tell(&taken_back, out)
}

fn program() -> String {
    std::env::current_exe().map(|path| shown(&path)).unwrap_or_default()
}

fn show(found: &[Item], total: u64, options: &ClearOptions, out: &Out) -> Result<(), Problem> {
    if found.is_empty() {
        out.say("There is nothing to clear: all that is kept is in use.")?;
    } else {
        let rows = rows(found);
        let more = rows.len().saturating_sub(SHOWN);
        out.say(out.columns(&["what", "size", "why it can go"], rows.into_iter().take(SHOWN).collect(), &[1]))?;
        let more = if more > 0 { format!(" (and {more} more)") } else { String::new() };
        out.say(format!("{more}\n{} together.", styled(STRONG, bytes(total))))?;
    }
    if options.keep.is_none() && !options.all {
        out.say(
            "Every landing is kept, and what it needs; `--keep NUMBER` keeps the newest ones of each ladder only.",
        )?;
    }
    Ok(())
}

/// A line each; what is in the cache has no names that people know, so it is one line.
fn rows(found: &[Item]) -> Vec<Vec<String>> {
    let (cached, named): (Vec<&Item>, Vec<&Item>) =
        found.iter().partition(|item| matches!(item.what, Waste::Artifact | Waste::Partial));
    let row = |what: String, size: u64, why: &str| vec![what, bytes(size), styled(FAINT, why)];
    let mut rows: Vec<_> = named.iter().map(|item| row(words(item), item.size, why(&item.what))).collect();
    for kind in [Waste::Artifact, Waste::Partial] {
        let sizes: Vec<u64> = cached.iter().filter(|item| item.what == kind).map(|item| item.size).collect();
        if !sizes.is_empty() {
            let what = if kind == Waste::Artifact { "artifact" } else { "unfinished download" };
            rows.push(row(format!("{} in the cache", count(sizes.len(), what)), sizes.iter().sum(), why(&kind)));
        }
    }
    rows
}

fn wanted(options: &ClearOptions, total: u64, out: &Out) -> Result<bool, Problem> {
    if options.yes {
        return Ok(true);
    }
    if !is_present(out) {
        out.say("Nothing was removed; with `--yes` it is.")?;
        return Ok(false);
    }
    let question = if options.all {
        "Remove every trace of kladder: settings, shelf, landings, cache?".to_owned()
    } else {
        format!("Remove them, {}?", bytes(total))
    };
    let confirm = Confirm::new(&question).with_default(!options.all).with_render_config(look());
    let answer = asking(|| confirm.prompt());
    match answer {
        Ok(true) => Ok(true),
        Err(inquire::InquireError::OperationInterrupted) => Err(Problem::interrupted()),
        _ => {
            out.say("Nothing was removed.")?;
            Ok(false)
        }
    }
}

fn words(item: &Item) -> String {
    clean(&match &item.what {
        Waste::Shelved { name } => format!("shelf {name}"),
        Waste::Corner { tool } => format!("what {tool} wrote in its corners"),
        Waste::Landing { ladder, number } => format!("landing {number} of {}", shown(ladder)),
        Waste::Ladder { ladder } => format!("landings of {}", shown(ladder)),
        Waste::Artifact | Waste::Partial | Waste::Berth | Waste::Index | Waste::Home => shown(&item.path),
    })
}

fn why(what: &Waste) -> &'static str {
    match what {
        Waste::Shelved { .. } | Waste::Berth => "no landing has it",
        Waste::Corner { .. } => "no landing has the tool",
        Waste::Landing { .. } => "newer ones are kept",
        Waste::Ladder { .. } => "its file is gone",
        Waste::Artifact => "not used lately",
        Waste::Partial => "nobody went on with it",
        Waste::Index => "made anew when it is needed",
        Waste::Home => "as asked",
    }
}

fn kind(what: &Waste) -> &'static str {
    match what {
        Waste::Shelved { .. } => "shelf",
        Waste::Berth => "berth",
        Waste::Corner { .. } => "corner",
        Waste::Landing { .. } => "landing",
        Waste::Ladder { .. } => "ladder",
        Waste::Artifact => "artifact",
        Waste::Partial => "partial",
        Waste::Index => "index",
        Waste::Home => "home",
    }
}
