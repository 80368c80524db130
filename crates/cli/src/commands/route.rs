//! `kladder route`

use std::process::ExitCode;

use kladder_choose::catalog::{Gate, Who};
use kladder_choose::names::RungKey;
use kladder_choose::pins::{Limits, Moves, Pins};
use kladder_core::bring::fetch::makers;
use kladder_core::bring::shelf;
use kladder_core::climb::gates::Standing;
use kladder_core::climb::{CodeStanding, CodeState, Prospect};
use kladder_core::desk::{Desk, Freshness};
use kladder_core::host::confine;
use kladder_core::host::survey::{Host, facts};
use kladder_core::keep::state::TaskName;
use kladder_core::tasks::{Because, Rung, Would};
use kladder_tell::problem::Problem;
use kladder_tell::text::{both, bytes, clean, count, time};
use kladder_tell::{shapes, words};

use crate::commands::settings;
use crate::context::Context;
use crate::person::{tell_awaited, weight};
use crate::render::Out;
use crate::render::ladder::{Drawn, State, drawing, legend};
use crate::render::text::{BAD, FAINT, STRONG, shown, styled};

pub(super) fn run(context: &Context, out: &Out, admin_script: bool) -> Result<ExitCode, Problem> {
    if admin_script && let Some(script) = script_without_route(context)? {
        out.verbatim(script)?;
        return Ok(ExitCode::SUCCESS);
    }
    let (desk, pins, freshness) = context.open_pinned(out)?;
    let site = desk.site(&pins);
    let (prospect, code) = (site.prospect()?, site.code());
    let route = &prospect.route;
    if admin_script {
        let left_out = chores_of_left_out(&desk, &pins);
        let script = words::admin_script(&prospect.gates, &left_out, &prospect.survey);
        out.verbatim(script.unwrap_or_else(|| "# There is nothing for an administrator to do.".into()))?;
        return Ok(ExitCode::SUCCESS);
    }
    out.value(&shapes::Route::of(&desk.ladder, &context.around.host.platform, &prospect, &code))?;
    show(&desk, context, &prospect, out)?;
    if route.is_done() {
        out.say("\nAll rungs stand.")?;
        code_ahead(&code, out)?;
        settings::ahead(&site, out)?;
        return Ok(ExitCode::SUCCESS);
    }
    out.say(format!("\n{}", summary(&prospect, &desk)))?;
    tell_awaited(&prospect, out)?;
    for index in &site.unnamed_indexes(route) {
        out.say(styled(BAD, format!("The index {} is not named in config.toml:", clean(&index.name))))?;
        out.say(format!("  {}", clean(&words::to_name(index))))?;
    }
    ahead(&prospect, &context.around.host, out)?;
    code_ahead(&code, out)?;
    settings::ahead(&site, out)?;
    for leaving in &route.leaving {
        out.say(format!("{leaving} leaves the landing; it stays on the shelf."))?;
    }
    if !route.landing_is_whole {
        out.say("The current landing is damaged; the climb makes another one.")?;
    }
    if freshness != Freshness::Current {
        out.say("These versions are not pinned yet; `kladder pin` or `kladder climb` writes them down.")?;
    }
    if prospect.closed().next().is_some() {
        out.say("The climb does not set off while a gate is closed.")?;
        return Ok(kladder_tell::problem::Code::GateClosed.into());
    }
    out.say("Set off with `kladder climb`.")?;
    Ok(ExitCode::SUCCESS)
}

/// What would bring the optional wishes that only the host could meet.
fn chores_of_left_out(desk: &Desk, pins: &Pins) -> Vec<Gate> {
    let (host, moves) = (desk.host_tools(), Moves::default());
    let choosing = desk.choosing(&host, &moves, Limits::default());
    let why = pins.left_out.iter().filter_map(|tool| choosing.why_left_out(pins, tool));
    why.flat_map(|error| error.chores()).collect()
}

/// The script for what only the host can have and does not, so that there are no pins and no route.
fn script_without_route(context: &Context) -> Result<Option<String>, Problem> {
    let desk = context.open()?;
    let Err(error) = desk.pinned() else { return Ok(None) };
    let chores = error.chores();
    let survey = facts(&context.around.host, &[]);
    Ok(words::admin_script_for(&chores, &survey))
}

fn show(desk: &Desk, context: &Context, prospect: &Prospect, out: &Out) -> Result<(), Problem> {
    let (title, route) = (styled(STRONG, clean(&desk.ladder.title)), &prospect.route);
    out.say(format!("{title}, on {}\n", context.around.host.platform))?;
    draw(&route.rungs, out)?;
    out.say("\nFrom the bottom up:\n")?;
    let rows = route.rungs.iter().enumerate().map(|(at, rung)| row(at, rung, prospect)).collect();
    out.say(out.columns(&["", "rung", "version", "what it is", "size", "to do", "why"], rows, &[0, 4]))
}

/// The ladder of a route.
pub(super) fn draw(rungs: &[Rung], out: &Out) -> Result<(), Problem> {
    let drawn = drawn(rungs);
    if drawn.is_empty() {
        return Ok(());
    }
    out.verbatim(format!("{}{}", drawing(&drawn, out.room()), legend(&drawn)))
}

fn drawn(rungs: &[Rung]) -> Vec<Drawn> {
    let place = |key: &RungKey| rungs.iter().position(|rung| rung.key == *key);
    let state = |rung: &Rung| {
        let is_damaged = rung.is_to_bring()
            && rung.shelved().is_some_and(|shelved| shelved.place.standing() == shelf::Standing::Damaged);
        match (rung.todo.is_empty(), is_damaged) {
            (true, _) => State::Stands,
            (false, true) => State::Broken,
            (false, false) => State::ToClimb,
        }
    };
    let one = |rung: &Rung| Drawn {
        name: rung.key.to_string(),
        version: rung.version.to_string(),
        needs: rung.needs.iter().filter_map(place).collect(),
        state: state(rung),
    };
    rungs.iter().map(one).collect()
}

fn row(at: usize, rung: &Rung, prospect: &Prospect) -> Vec<String> {
    vec![
        styled(FAINT, at + 1),
        styled(STRONG, &rung.key.tool),
        rung.version.to_string(),
        clean(&rung.definition.kind),
        size(rung, prospect),
        work(rung, prospect),
        why(rung),
    ]
}

/// How large its archives are and, once the pace is known, how long they take to come.
fn size(rung: &Rung, prospect: &Prospect) -> String {
    if rung.shelved().is_none() {
        return styled(FAINT, "host's own");
    }
    let took = prospect.time_to_fetch(rung.size()).filter(|took| rung.to_fetch && took.as_secs() > 0);
    let took = took.map(|took| format!(", {}", time(took)));
    bytes(rung.size()) + &took.unwrap_or_default()
}

/// Who wants the rung, and who wants which of its pieces.
fn why(rung: &Rung) -> String {
    let piece = |(piece, asking): &(String, Vec<Because>)| format!("; with {piece}: {}", because(asking));
    let pieces: String = rung.pieces.iter().map(piece).collect();
    match rung.key.household.owner() {
        Some(owner) => format!("for {owner} alone{pieces}"),
        None => because(&rung.because) + &pieces,
    }
}

fn because(because: &[Because]) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut needed: Vec<String> = Vec::new();
    for one in because {
        match one {
            Because::Wished { line } => parts.push(format!("wish in line {line}")),
            Because::NeededBy { rung } => needed.push(rung.to_string()),
        }
    }
    if !needed.is_empty() {
        parts.push(format!("for {}", needed.join(", ")));
    }
    parts.join(", ")
}

/// The tasks that are left, without those that only follow from others.
fn work(rung: &Rung, prospect: &Prospect) -> String {
    let fetch = rung.to_fetch.then_some("fetch");
    let has_checks = !rung.definition.says.checks.is_empty();
    let tasks = rung.todo.iter().filter(|task| match task {
        TaskName::Shelve => false,
        // What is brought anew is wired anew.
        TaskName::Launch => !rung.is_to_bring(),
        TaskName::Check => has_checks,
        _ => true,
    });
    let words: Vec<&str> = fetch.into_iter().chain(tasks.map(|task| words::task(*task))).collect();
    match words.as_slice() {
        [] if rung.todo.is_empty() => "stands".to_owned(),
        [] => "look".to_owned(),
        words => {
            let took = Some(prospect.work_of(rung).time).filter(|took| took.as_secs() > 0);
            words.join(", ") + &took.map(|took| format!(" ({})", time(took))).unwrap_or_default()
        }
    }
}

fn summary(prospect: &Prospect, desk: &Desk) -> String {
    if prospect.fetch == 0 {
        let rungs = count(prospect.route.rungs.len(), "rung");
        return match prospect.from_cache {
            0 => format!("{rungs}; nothing to fetch."),
            cached => format!("{rungs}; nothing to fetch, {} in the cache to unpack.", bytes(cached)),
        };
    }
    let to_fetch = prospect.route.rungs.iter().filter(|rung| rung.to_fetch).filter_map(Rung::shelved);
    let makers = makers(to_fetch.flat_map(|shelved| &shelved.artifacts), &desk.network);
    let from = match (desk.yards.first(), makers.as_slice()) {
        (None, []) => "No yard is known.".to_owned(),
        (None, makers) => format!("They come from their makers: {}.", both(makers)),
        (Some(yard), []) => format!("They come from {}.", yard.shown()),
        (Some(yard), makers) => {
            format!("They come from {}, and what it lacks from their makers: {}.", yard.shown(), both(makers))
        }
    };
    format!("{} {from}", weight(prospect))
}

/// Gates, licences and restarts on the way.
fn ahead(prospect: &Prospect, host: &Host, out: &Out) -> Result<(), Problem> {
    let open = prospect.gates.iter().filter(|gate| gate.open).count();
    if open > 0 {
        out.say(format!("{} open.", count(open, "gate")))?;
    }
    for gate in prospect.closed() {
        let tool = gate.tool.as_deref().unwrap_or("the route");
        let name = styled(BAD, format!("Gate {} is closed:", clean(&gate.gate)));
        let (needed, found) = (clean(&words::needed(&gate.needed)), clean(&words::found(&gate.found)));
        out.say(format!("{name} {tool} needs {needed}; found: {found}."))?;
        gate.advice.iter().try_for_each(|advice| out.say(format!("  {}", clean(advice))))?;
    }
    chores(prospect, out)?;
    for asked in &prospect.licences {
        let (tools, id) = (both(&asked.tools), clean(&asked.licence.id));
        let come = if asked.tools.len() == 1 { "comes" } else { "come" };
        out.say(format!("{tools} {come} under the licence {id}; the climb asks for it. `kladder terms show {id}`"))?;
    }
    for rung in &prospect.route.rungs {
        around(rung, host, out)?;
    }
    for (anew, rungs) in prospect.route.stops() {
        let (after, what) = (both(&rungs), words::anew(anew));
        out.say(format!("After {after} {what}; the climb stops there, and goes on when you climb again."))?;
    }
    Ok(())
}

/// What others, or the person, must do before the climb can set off.
fn chores(prospect: &Prospect, out: &Out) -> Result<(), Problem> {
    let chores: Vec<&Standing> = prospect.closed().filter(|gate| gate.is_chore()).collect();
    let row = |gate: &&Standing| {
        vec![
            styled(STRONG, clean(&gate.gate)),
            gate.who.map(words::who).unwrap_or_default().to_owned(),
            clean(&words::chore(gate)),
            gate.tool.as_ref().map(ToString::to_string).unwrap_or_default(),
            words::lasts(gate),
        ]
    };
    if chores.is_empty() {
        return Ok(());
    }
    let rows = chores.iter().map(row).collect();
    out.say(format!("\n{}\n", out.columns(&["chore", "who", "what", "for", "how long"], rows, &[])))?;
    if chores.iter().any(|gate| gate.who == Some(Who::Administrator)) {
        out.say("`kladder route --admin-script` prints what an administrator must do, as a script.")?;
    }
    if chores.iter().any(|gate| gate.is_told()) {
        out.say("`kladder climb --chore-done CHORE` says that what only you can tell is done.")?;
    }
    out.say("`kladder climb --wait-for-chores` goes on by itself once they are done.")
}

/// The code that the climb brings after the landing, and what is left as it is.
fn code_ahead(code: &[CodeStanding], out: &Out) -> Result<(), Problem> {
    for one in code {
        let (name, folder) = (&one.name, shown(&one.folder));
        out.say(match &one.state {
            CodeState::There => format!("The code of {name} is in {folder} already, and stays as it is."),
            _ => format!("The code of {name} comes from {} into {folder}.", clean(&one.from)),
        })?;
    }
    Ok(())
}

/// What a rung runs to set itself up, what is lent to it, and where it may write.
fn around(rung: &Rung, host: &Host, out: &Out) -> Result<(), Problem> {
    let tool = &rung.key;
    for would in rung.would() {
        let line = match would {
            Would::Run { name, command } => {
                let confined = words::confined(&confine::possible_here(host));
                format!("{tool} runs a set-up command: {} ({}); {confined}.", clean(&name), clean(&command))
            }
            Would::FitOut { name, command, network } => {
                let with = if network { ", with the network" } else { "" };
                format!("{tool} is fitted out for this ladder: {} ({}){with}.", clean(&name), clean(&command))
            }
            Would::Borrow { from } => {
                let lend = if from.len() == 1 { "lends" } else { "lend" };
                format!("{tool} gets a berth: {} {lend} it files.", both(&from))
            }
            Would::Corner(corner) => format!("{tool} may write in {}.", shown(&corner)),
        };
        out.say(line)?;
    }
    Ok(())
}
