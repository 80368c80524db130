//! `kladder about TOOL`

use std::collections::BTreeSet;
use std::process::ExitCode;

use kladder_choose::catalog::{Catalogs, Definition, Machine, Need, Published, Release};
use kladder_choose::names::ToolName;
use kladder_choose::platform::Scope;
use kladder_choose::version::Version;
use kladder_core::desk::Desk;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{bytes, clean, either, plain};
use kladder_tell::{shapes, words};

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, styled};

pub(super) fn run(context: &Context, out: &Out, tool: &str) -> Result<ExitCode, Problem> {
    let desk = context.open()?;
    let Some(definition) = desk.catalogs.tool(tool)? else { return Err(unknown(&desk.catalogs, tool)?) };
    out.value(&shapes::About::of(&definition, desk.catalogs.home_of(tool), &desk.here))?;
    head(&definition, out)?;
    releases(&definition, &desk, out)?;
    pieces(&definition, &desk.here, out)?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn unknown(catalogs: &Catalogs, name: &str) -> Result<Problem, Problem> {
    let problem = Problem::new(Code::NotInCatalog, format!("the catalog has no tool `{name}`"));
    let providers = catalogs.providers(name)?;
    if !providers.is_empty() {
        return Ok(problem.why(format!("it is a capability, which {} can provide", either(providers))));
    }
    let near = catalogs.near(name);
    if near.is_empty() {
        return Ok(problem.next("`kladder search WORDS` finds tools by what they do"));
    }
    Ok(near.iter().fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?"))))
}

fn head(definition: &Definition, out: &Out) -> Result<(), Problem> {
    out.say(format!("{}, {}", styled(STRONG, &definition.tool), clean(&definition.kind)))?;
    out.say(clean(&definition.summary))?;
    let commands: Vec<&str> =
        definition.says.commands.keys().map(kladder_choose::catalog::CommandName::as_str).collect();
    let mut rows = Vec::new();
    let mut row = |name: &str, text: String| {
        if !text.is_empty() {
            rows.push(vec![styled(FAINT, name), clean(&text)]);
        }
    };
    row("commands", commands.join(", "));
    row("provides", definition.provides().iter().map(|name| provided(definition, name)).collect::<Vec<_>>().join(", "));
    row("licence", definition.spdx.clone().unwrap_or_default());
    row("to accept", definition.says.licences.join(", "));
    let gate = |gate: &kladder_choose::catalog::Gate| format!("{} ({})", words::demanded(&gate.demand), gate.name);
    row("demands", definition.says.gates.iter().map(gate).collect::<Vec<_>>().join(", "));
    row("on the host", definition.host.iter().flat_map(words::host::probed).collect::<Vec<_>>().join(", "));
    if rows.is_empty() { Ok(()) } else { out.say(out.columns(&[], rows, &[])) }
}

/// What it provides, with the version where that is not its own.
fn provided(definition: &Definition, name: &ToolName) -> String {
    let by = |release: &Release| Some((release.version.clone(), (*definition.provided_by(release).get(name)?).clone()));
    let mut all: Vec<(Version, Version)> = definition.releases.iter().filter_map(by).collect();
    if all.iter().all(|(own, provided)| own == provided) && all.len() == definition.releases.len() {
        return name.to_string();
    }
    all.reverse();
    all.dedup_by(|one, other| one.1 == other.1);
    let each: Vec<String> = all.iter().map(|(own, provided)| format!("{provided} since {own}")).collect();
    format!("{name} ({})", each.join(", "))
}

fn releases(definition: &Definition, desk: &Desk, out: &Out) -> Result<(), Problem> {
    if definition.releases.is_empty() {
        return out.say("\nThe catalog has no release of it; only the host can.");
    }
    let pinned = desk.old.as_ref().and_then(|pins| pins.rungs.get(&definition.tool)).map(|pin| &pin.version);
    let row = |release: &Release| {
        let version = if pinned == Some(&release.version) {
            format!("{} (pinned)", release.version)
        } else {
            release.version.to_string()
        };
        let size = release.artifact(&desk.here).map_or_else(|| "not for this platform".to_owned(), size_of);
        vec![
            styled(STRONG, version),
            date(release).unwrap_or_default(),
            release.series.join(", "),
            size,
            clean(&asked(definition, release)),
        ]
    };
    let rows = definition.releases.iter().map(row).collect();
    out.say(format!("\n{}", out.columns(&["release", "date", "series", "size", "needs"], rows, &[3])))?;
    let artifacts = definition.releases.iter().flat_map(|release| &release.artifacts);
    let scopes: BTreeSet<&Scope> = artifacts.flat_map(|artifact| &artifact.scopes).collect();
    let names: Vec<&str> = scopes.iter().map(|scope| scope.as_str()).collect();
    out.say(format!("\nThere are artifacts for {}.", names.join(", ")))
}

fn size_of(artifact: &Published) -> String {
    artifact.size.map_or_else(|| "not told".to_owned(), bytes)
}

fn pieces(definition: &Definition, machine: &Machine, out: &Out) -> Result<(), Problem> {
    let mut rows = Vec::new();
    for release in &definition.releases {
        for (name, piece) in &release.pieces {
            let size = piece.artifact(machine).map_or_else(|| "not for this platform".to_owned(), size_of);
            let needs: Vec<String> = piece.says.needs.iter().map(Need::to_string).collect();
            let (name, version) = (styled(STRONG, name), release.version.to_string());
            rows.push(vec![name, version, size, clean(&needs.join("; ")), clean(&piece.summary)]);
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    out.say(format!("\n{}", out.columns(&["piece", "of release", "size", "needs", "what it is for"], rows, &[2])))?;
    out.say(format!("\nTake one with `{} = {{ pieces = [\"NAME\"] }}` in the ladder.", definition.tool))
}

fn date(release: &Release) -> Option<String> {
    release.date.map(|date| date.to_string())
}

/// What a release needs, of tools and of the machine, and what it does not stand beside.
fn asked(definition: &Definition, release: &Release) -> String {
    let demands = definition.gates_of(release);
    let demands = demands.iter().map(|gate| match plain(&gate.on).as_slice() {
        [] => words::demanded(&gate.demand),
        on => format!("{} on {}", words::demanded(&gate.demand), on.join(", ")),
    });
    let excludes = release.says.excludes.iter().map(|way| format!("not beside {way}"));
    let needs = release.says.needs.iter().map(Need::to_string);
    needs.chain(demands).chain(excludes).collect::<Vec<_>>().join("; ")
}
