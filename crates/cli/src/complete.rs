//! What a shell offers while somebody types: not only commands and options, but tools, versions, series, pieces, rehearsals, services, sets,
//! machines, licences and landings, as the ladder and the catalogs here have them.
//!
//! The shell's script starts `kladder` with the words so far (clap's own protocol), and nothing is fetched, written or waited for. What
//! cannot be told is not offered.

use std::env;

use clap::{Arg, Command, CommandFactory};
use clap_complete::CompletionCandidate as Candidate;
use clap_complete::engine::{ArgValueCandidates, PathCompleter};
use clap_complete::{ArgValueCompleter, CompleteEnv};
use kladder_choose::catalog::Catalogs;
use kladder_choose::ladder::Ladder;
use kladder_core::desk::Surroundings;
use kladder_core::keep::landing::{Landing, Landings};

use crate::args::{Arguments, Global, When};
use crate::context::Context;

/// The variable by which a shell asks.
pub(crate) const ASKED: &str = "KLADDER_COMPLETE";

/// Answers a shell that asks, and ends then.
pub(crate) fn answer() {
    if env::var_os(ASKED).is_some() {
        CompleteEnv::with_factory(command).var(ASKED).complete();
    }
}

/// The command line with what can stand in the place of each value.
fn command() -> Command {
    let with = |command: Command| {
        let name = command.get_name().to_owned();
        command.mut_args(|arg| offering(&name, arg)).mut_subcommands(|command| {
            let name = format!("{name} {}", command.get_name());
            command.mut_args(|arg| offering(&name, arg))
        })
    };
    Arguments::command().mut_subcommands(with)
}

fn offering(command: &str, arg: Arg) -> Arg {
    let named = arg.get_value_names().and_then(|names| names.first()).map(ToString::to_string);
    let offer: fn() -> Vec<Candidate> = match (command, named.unwrap_or_default().as_str()) {
        ("drop", "TOOL") | (_, "TOOL[=VERSION]" | "TOOL or COMMAND") | ("newer", _) => rungs,
        (_, "TOOL") => tools,
        ("add", "WANTED") => wanted,
        ("add", "PIECE") => pieces,
        ("rehearse" | "verify", "NAME") => rehearsals,
        ("services", _) => services,
        ("run", "NAME") => sets,
        (_, "MACHINE") => machines,
        (_, "LICENCE") => licences,
        ("start", "PRESET") => presets,
        ("back", "LANDING") => landings,
        (_, "FILE" | "BALE" | "FOLDER" | "WORKSTATION" | "CATALOG" | "YARD") => {
            return arg.add(ArgValueCompleter::new(PathCompleter::any()));
        }
        _ => return arg,
    };
    arg.add(ArgValueCandidates::new(offer))
}

/// The words that were typed.
fn typed() -> Vec<String> {
    env::args().skip_while(|word| word != "--").skip(1).collect()
}

/// Where the shell stands, with the options that were typed already.
fn around() -> Option<Surroundings> {
    let words = typed();
    let after = |option: &str| words.iter().skip_while(|word| *word != option).nth(1).map(Into::into);
    let global = Global {
        ladder: after("--ladder"),
        catalogs: after("--catalog").into_iter().collect(),
        yards: Vec::new(),
        offline: true,
        wait: Some(0),
        root: None,
        json: false,
        quiet: true,
        color: When::Never,
    };
    Some(Context::from_environment(&global).ok()?.around)
}

fn ladder() -> Option<Ladder> {
    around()?.read_ladder().ok()
}

fn catalogs() -> Option<Catalogs> {
    around()?.open_catalogs().ok()
}

fn candidates(all: impl IntoIterator<Item = impl ToString>) -> Vec<Candidate> {
    all.into_iter().map(|one| Candidate::new(one.to_string())).collect()
}

fn told(name: &str, help: &str) -> Candidate {
    Candidate::new(name).help(Some(help.to_owned().into()))
}

fn tools() -> Vec<Candidate> {
    let Some(catalogs) = catalogs() else { return Vec::new() };
    let heads = catalogs.heads().map(<[_]>::to_vec).unwrap_or_default();
    heads.iter().map(|(name, head)| told(name.as_str(), &head.summary)).collect()
}

fn rungs() -> Vec<Candidate> {
    ladder().map(|ladder| candidates(ladder.wishes.iter().map(|wish| &wish.tool))).unwrap_or_default()
}

/// The tool that was named before.
fn tool() -> Option<std::sync::Arc<kladder_choose::catalog::Definition>> {
    let words = typed();
    let name = words.iter().skip_while(|word| *word != "add").skip(1).find(|word| !word.starts_with('-'))?;
    catalogs()?.tool(name).ok()?
}

fn wanted() -> Vec<Candidate> {
    let Some(tool) = tool() else { return Vec::new() };
    let mut series: Vec<&String> = tool.releases.iter().flat_map(|release| &release.series).collect();
    series.sort();
    series.dedup();
    let series = series.into_iter().map(|one| told(one, "a series"));
    series.chain(candidates(tool.releases.iter().map(|release| &release.version))).collect()
}

fn pieces() -> Vec<Candidate> {
    let Some(tool) = tool() else { return Vec::new() };
    let mut all: Vec<&String> = tool.releases.iter().flat_map(|release| release.pieces.keys()).collect();
    all.sort();
    all.dedup();
    candidates(all)
}

fn rehearsals() -> Vec<Candidate> {
    let own = ladder().map(|ladder| ladder.rehearsals).unwrap_or_default();
    let all = catalogs().and_then(|catalogs| catalogs.rehearsals().ok()).unwrap_or_default();
    own.iter().chain(&all).map(|one| told(&one.rehearsal, &one.summary)).collect()
}

fn services() -> Vec<Candidate> {
    let (Some(catalogs), Some(ladder)) = (catalogs(), ladder()) else { return Vec::new() };
    let tools = ladder.wishes.iter().filter_map(|wish| catalogs.tool(wish.tool.as_str()).ok()?);
    let names: Vec<String> =
        tools.flat_map(|tool| tool.says.services.iter().map(|one| one.name.clone()).collect::<Vec<_>>()).collect();
    candidates(names)
}

fn sets() -> Vec<Candidate> {
    ladder().map(|ladder| candidates(ladder.sets.iter().map(|set| &set.name))).unwrap_or_default()
}

fn machines() -> Vec<Candidate> {
    let machines = ladder().map(|ladder| ladder.machines).unwrap_or_default();
    machines.iter().map(|machine| told(&machine.name, machine.platform.as_str())).collect()
}

fn licences() -> Vec<Candidate> {
    catalogs().and_then(|catalogs| catalogs.licences().ok()).map(candidates).unwrap_or_default()
}

fn presets() -> Vec<Candidate> {
    let presets = catalogs().and_then(|catalogs| catalogs.presets().ok()).unwrap_or_default();
    presets.iter().map(|one| told(&one.preset, &one.title)).collect()
}

fn landings() -> Vec<Candidate> {
    let Some(around) = around() else { return Vec::new() };
    let path = around.ladder_path().unwrap_or_default();
    let all = Landings::of(&around.home.ladders(), &path).all().unwrap_or_default();
    let told = |landing: Landing| {
        let made = landing.made.strftime("%Y-%m-%d %H:%M UTC").to_string();
        told(&landing.number.to_string(), &made)
    };
    all.into_iter().filter_map(|(_, landing)| landing.ok()).map(told).collect()
}
