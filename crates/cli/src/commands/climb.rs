//! `kladder climb`

use std::process::ExitCode;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Gate, Rehearsal};
use kladder_choose::names::RungKey;
use kladder_choose::pins::Pins;
use kladder_core::base::event::chain;
use kladder_core::bring::bale::Bale;
use kladder_core::climb::gates::Standing;
use kladder_core::climb::{Climbed, CodeStanding, CodeState, Holder, Request, WhyMissing};
use kladder_core::desk::{Desk, Freshness};
use kladder_core::keep::landing::Landing;
use kladder_core::keep::wired::Wired;
use kladder_core::share::collect;
use kladder_core::share::laid::lay;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{both, clean, count, time};
use kladder_tell::{shapes, words};

use crate::args::{ClimbOptions, VerifyOptions};
use crate::commands::{login, look, report, route, settings, ssh_key, verify, wire};
use crate::context::Context;
use crate::person::{Person, is_present};
use crate::render::text::{BAD, GOOD, STRONG, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out, options: &ClimbOptions) -> Result<ExitCode, Problem> {
    let started = Instant::now();
    let context = &surroundings(context, out, options)?;
    if options.wait_for_chores {
        let progress = Progress::new(out)?;
        let waited = context.open()?.wait_for_host(&|chores, holder| tell_absent(chores, holder, out), &progress);
        progress.finish();
        waited.map_err(|_| Problem::interrupted())?;
    }
    let (desk, pins, freshness) = context.open_pinned(out)?;
    if desk.write_pins(&pins)? && freshness != Freshness::Current {
        out.say(format!("Pinned {} in {}.", count(pins.rungs.len(), "rung"), shown(&desk.ladder.pins_path())))?;
    }
    let progress = Progress::new(out)?;
    let site = desk.site(&pins);
    login::keep(context, &desk, &site)?;
    let request = request(context, options);
    if options.wait_for_chores {
        site.wait_for_chores(&request, &|left, holder| tell_chores(left, holder, out), &progress)?;
    }
    let person = Person::new(out, options.yes);
    let climbed = site.climb(&request, &person, &progress);
    let took = started.elapsed().saturating_sub(person.waited());
    let stands = !matches!(climbed, Err(_) | Ok(Climbed::Stopped(_)));
    let code = if stands { site.bring_code(context.around.wait, &progress) } else { Ok(Vec::new()) };
    progress.finish();
    if person.interrupted() {
        return Err(Problem::interrupted());
    }
    let (landing, changed, mended) = landed(climbed?)?;
    let placed = settings::place(&site, context, out, options.take_settings, options.yes, &progress);
    // What comes after the landing may fail; the landing stands, and is told in any case.
    let (code, placed) = match (code.map_err(Problem::from), placed) {
        (Ok(code), Ok(placed)) => (code, placed),
        (Err(problem), _) | (_, Err(problem)) => {
            tell(&desk, &landing, changed, &mended, took, out)?;
            return Err(problem.why(format!("landing {} stands all the same", landing.number)));
        }
    };
    let commands = site.landings().current_link().join("commands");
    out.value(&shapes::Climb::of(&landing, changed, &mended, &commands, took, &code, &placed))?;
    tell(&desk, &landing, changed, &mended, took, out)?;
    if changed && out.draws() {
        out.say("")?;
        route::draw(&site.route()?.rungs, out)?;
        let has_more = !placed.is_empty() || code.iter().any(|one| one.state != CodeState::There);
        // What follows begins with a blank line of its own, where anything does.
        if has_more { Ok(()) } else { out.say("") }?;
    }
    tell_code(&code, out)?;
    settings::tell(&placed, out)?;
    settings::tell_outdated(&site, &placed, out)?;
    if changed {
        reach(context, out, options.yes)?;
    }
    login::tell(context, &desk.ladder, out)?;
    look::see_to(context, &desk.ladder, options.yes || options.take_settings, out)?;
    ssh_key::see_to(context, &desk.ladder, changed, options.yes, out)?;
    let settings = context.around.home.settings()?;
    let has_moved = (changed || !mended.is_empty()) && !options.verified_afterwards;
    let mut ended = ExitCode::SUCCESS;
    if options.rehearse || (settings.rehearse && has_moved) {
        ended = rehearse(&desk, &pins, context, out)?;
    }
    send_standing(context, &desk, &pins, out)?;
    if let Some(neighbours) = &desk.neighbours {
        neighbours.leave(&progress).map_err(|_| Problem::interrupted())?;
    }
    let is_missing = code.iter().any(|one| matches!(one.state, CodeState::Missing(_)));
    Ok(if ended == ExitCode::SUCCESS && is_missing { Code::NoYard.into() } else { ended })
}

/// Where it is climbed: as a bale has it, and among neighbours, where that was asked for.
fn surroundings(context: &Context, out: &Out, options: &ClimbOptions) -> Result<Context, Problem> {
    let context = if options.from.is_empty() { context.clone() } else { from_bales(context, out, options)? };
    Ok(if options.neighbours { context.among_neighbours() } else { context })
}

fn request(context: &Context, options: &ClimbOptions) -> Request {
    Request {
        wait: context.around.wait,
        skip_gates: options.skip_gates.clone(),
        accept: options.accept.clone(),
        done: options.done.clone(),
    }
}

/// The landing that is current, whether it is a new one, and the rungs that were mended in an old one.
fn landed(climbed: Climbed) -> Result<(Landing, bool, Vec<RungKey>), Problem> {
    match climbed {
        Climbed::AllStand(landing) => Ok((landing, false, Vec::new())),
        Climbed::Mended(landing, rungs) => Ok((landing, false, rungs)),
        Climbed::Landed(landing) => Ok((landing, true, Vec::new())),
        Climbed::Stopped(stopped) => Err(Problem::from(&stopped)),
    }
}

/// Tells a collector how this machine stands now, where the settings name one; that it cannot be told is no reason to fail.
fn send_standing(context: &Context, desk: &Desk, pins: &Pins, out: &Out) -> Result<(), Problem> {
    let Some(to) = context.around.home.settings()?.collector.filter(|_| !context.around.offline) else { return Ok(()) };
    let report = report::of(context, desk, pins, None)?;
    match collect::send(&report, &to, &context.around.home, &desk.network) {
        Ok(()) => Ok(()),
        Err(error) => out.say(clean(&format!("How this machine stands could not be told to {to}: {}.", chain(&error)))),
    }
}

/// The surroundings with the ladder of the last bale, and nothing to fetch but from bales.
fn from_bales(context: &Context, out: &Out, options: &ClimbOptions) -> Result<Context, Problem> {
    let open = |path| Bale::open(&context.around.folder.join(path));
    let bales: Vec<Bale> = options.from.iter().map(open).collect::<Result<_, _>>()?;
    let mut context = context.clone();
    context.around.ladder = lay(&bales, &context.around, options.replace)?;
    if let Some(last) = bales.last() {
        let from = clean(&last.index.title);
        out.say(format!("{from} comes out of {} into {}.", shown(last.path()), shown(&context.around.folder)))?;
        if last.index.kladder != env!("CARGO_PKG_VERSION") {
            out.say(format!("It was made by kladder {}, and this is another one.", clean(&last.index.kladder)))?;
        }
    }
    context.around.bales = bales;
    Ok(context)
}

/// Runs the rehearsals whose tools are all on the ladder.
fn rehearse(desk: &Desk, pins: &Pins, context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let site = desk.site(pins);
    let rungs = site.route()?.rungs;
    let is_there = |rehearsal: &Rehearsal| {
        let on_ladder = |name: &str| rungs.iter().any(|rung| rung.answers_to(name));
        rehearsal.code.is_none() && rehearsal.tools.iter().all(|tool| on_ladder(tool))
    };
    let only: Vec<String> = site.rehearsals()?.into_iter().filter(is_there).map(|one| one.rehearsal).collect();
    if only.is_empty() {
        out.say("No rehearsal goes with these rungs alone.")?;
        return Ok(ExitCode::SUCCESS);
    }
    verify::run(context, &out.without_values(), &VerifyOptions { only, ..VerifyOptions::default() })
}

/// What the host lacks, so that there is no route yet.
fn tell_absent(chores: &[Gate], holder: Option<&Holder>, out: &Out) {
    tell_waiting(chores.iter().map(|gate| format!("{} ({})", gate.name, words::demanded(&gate.demand))), holder, out);
}

/// What is waited for, each time that changes.
fn tell_chores(left: &[Standing], holder: Option<&Holder>, out: &Out) {
    tell_waiting(left.iter().map(|gate| format!("{} ({})", gate.gate, words::chore(gate))), holder, out);
}

fn tell_waiting(chores: impl Iterator<Item = String>, holder: Option<&Holder>, out: &Out) {
    let chores: Vec<String> = chores.collect();
    let holder = holder.map(|(name, process)| format!(" The package database is held by {name}, process {process}."));
    // Whoever does not read it finds the climb going on all the same.
    let _ = out.say(clean(&format!("Waiting for {}.{}", both(&chores), holder.unwrap_or_default())));
}

/// What became of the code that the ladder wants.
fn tell_code(code: &[CodeStanding], out: &Out) -> Result<(), Problem> {
    let row = |one: &CodeStanding| {
        let became = match &one.state {
            CodeState::Missing(why) => styled(BAD, clean(&words::code_missing(why))),
            state => words::code(state).to_owned(),
        };
        vec![styled(STRONG, &one.name), shown(&one.folder), became]
    };
    let told: Vec<_> = code.iter().filter(|one| one.state != CodeState::There).map(row).collect();
    if told.is_empty() {
        return Ok(());
    }
    out.say(format!("\n{}", out.columns(&["code", "folder", ""], told, &[])))?;
    for one in code.iter().filter(|one| one.state == CodeState::Missing(WhyMissing::SignIn)) {
        out.say(format!("Sign in at {}.", clean(&one.from)))?;
    }
    let is_missing = |one: &&CodeStanding| matches!(one.state, CodeState::Missing(_));
    let missing: Vec<&String> = code.iter().filter(is_missing).map(|one| &one.name).collect();
    if !missing.is_empty() {
        out.say(format!("`kladder climb` tries {} again.", both(&missing)))?;
    }
    Ok(())
}

fn tell(
    desk: &Desk,
    landing: &Landing,
    changed: bool,
    mended: &[RungKey],
    took: Duration,
    out: &Out,
) -> Result<(), Problem> {
    let number = landing.number;
    if !mended.is_empty() {
        let was = if mended.len() == 1 { "was" } else { "were" };
        return out
            .say(format!("\n{} {was} damaged, and brought anew; landing {number} is whole again.", both(mended)));
    }
    if !changed {
        return out.say(format!("All rungs stand: landing {number} is what the pins say."));
    }
    let title = styled(STRONG, clean(&desk.ladder.title));
    let took = time(took);
    out.say(format!("\n{title} is at {}, after {took}.", styled(GOOD, format!("landing {number}"))))
}

/// How the commands of a new landing are reached from here. Once, the person is offered to have their shells wired.
fn reach(context: &Context, out: &Out, yes: bool) -> Result<(), Problem> {
    let mut is_wired = wire::is_wired(context);
    if !is_wired && !yes && is_present(out) && Wired::of(&context.around.home).offer_once() {
        out.say("\nYour shells do not have the commands yet. This would put them there:\n")?;
        is_wired = wire::put(context, out, &[], false)?;
    }
    if is_wired {
        return out.say(format!("New terminals have its commands. {}", wire::this_terminal(context)));
    }
    out.say("Use its tools with `kladder run -- CMD`, or put them into your shells with `kladder wire`.")
}
