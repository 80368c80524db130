//! `kladder survey`

use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

use kladder_choose::catalog::Definition;
use kladder_core::host::survey::{Guest, Known, Rights, Survey, Virtualisation, look, usual};
use kladder_core::host::tools::every;
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};
use kladder_tell::words;

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, shown, styled};

/// Commands that are there twice are shown up to this many; JSON has all.
const SHOWN: usize = 12;

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let survey = surveyed(context);
    out.value(&shapes::Surveyed::of(&survey))?;
    out.say(styled(STRONG, if context.around.host.is_described() { "The described machine" } else { "This machine" }))?;
    out.say(out.columns(&[], rows(&survey), &[]))?;
    tools(&survey, out)?;
    twice(&survey, out)?;
    for odd in &survey.odd {
        out.say(format!("\nOdd: {}.", clean(&words::host::odd(odd))))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// The machine with the usual tools, and those that the catalogs say how to find.
pub(super) fn surveyed(context: &Context) -> Survey {
    let host = &context.around.host;
    // A survey is of the machine: without catalogs, or with broken ones, it is made all the same.
    let catalogs = context.around.open_catalogs().ok();
    let named = catalogs.iter().flat_map(|catalogs| catalogs.names().filter_map(|name| catalogs.tool(name).ok()?));
    let definitions: Vec<Arc<Definition>> = named.filter(|definition| definition.host.is_some()).collect();
    let probed = |command: &str| {
        let mut probes = definitions.iter().filter_map(|definition| definition.host.as_ref()?.command.as_ref());
        probes.any(|name| name.as_str() == command)
    };
    let known: Vec<Known> = usual().into_iter().filter(|known| !probed(&known.command)).collect();
    let mut survey = look(host, &context.around.home.places(&host.temporary), &known);
    survey.tools.extend(every(host, &definitions.iter().map(AsRef::as_ref).collect::<Vec<_>>()));
    survey.tools.sort_by(|one, other| one.tool.cmp(&other.tool));
    survey
}

fn rows(survey: &Survey) -> Vec<Vec<String>> {
    let row = |name: &str, text: String| vec![styled(FAINT, name), clean(&text)];
    vec![
        row("system", system(survey)),
        row("processor", processor(survey)),
        row(
            "C library",
            survey.libc.as_ref().map_or_else(unknown, |l| joined(&[Some(l.kind.clone()), l.version.clone()], " ")),
        ),
        row(
            "memory",
            survey.memory.map_or_else(unknown, |m| format!("{}, {} available", bytes(m.total), bytes(m.available))),
        ),
        row("disk", disk(survey)),
        row("shells", shells(survey)),
        row("rights", rights(&survey.rights)),
        row("virtualisation", virtualisation(survey.virtualisation).to_owned()),
        row("graphics", graphics(survey)),
        row("runs on", guest(&survey.guest)),
        row("proxies", proxies(survey)),
    ]
}

fn unknown() -> String {
    "not known".to_owned()
}

/// The parts that are known, with something between them; `not known` when none is.
fn joined(parts: &[Option<String>], between: &str) -> String {
    let known: Vec<String> = parts.iter().flatten().cloned().collect();
    if known.is_empty() { unknown() } else { known.join(between) }
}

fn system(survey: &Survey) -> String {
    let system = &survey.system;
    let name = system.name.clone().or_else(|| Some(system.os.clone()));
    joined(&[name, system.kernel.as_ref().map(|kernel| format!("kernel {kernel}"))], ", ")
}

fn processor(survey: &Survey) -> String {
    let processor = &survey.processor;
    let number = (processor.count > 0).then(|| count(processor.count, "logical processor"));
    joined(&[processor.kind.clone(), processor.model.clone(), number], ", ")
}

/// Places on one file system stand together.
fn disk(survey: &Survey) -> String {
    let mut places: BTreeMap<(u64, Option<u64>), Vec<&str>> = BTreeMap::new();
    for disk in &survey.disks {
        places.entry((disk.device, disk.free)).or_default().push(&disk.what);
    }
    let one = |((_, free), what): (&(u64, Option<u64>), &Vec<&str>)| {
        format!("{} free for {}", free.map_or_else(unknown, bytes), what.join(", "))
    };
    places.iter().map(one).collect::<Vec<_>>().join("; ")
}

fn shells(survey: &Survey) -> String {
    let login = survey.shells.login.as_deref();
    let name = |shell: &Path| {
        let mark = if Some(shell) == login { " (login)" } else { "" };
        format!("{}{mark}", shell.display())
    };
    let mut names: Vec<String> = survey.shells.installed.iter().map(|shell| name(shell)).collect();
    if let Some(other) = login.filter(|login| !survey.shells.installed.iter().any(|shell| shell == login)) {
        names.push(format!("{} (login)", other.display()));
    }
    if names.is_empty() { unknown() } else { names.join(", ") }
}

fn rights(rights: &Rights) -> String {
    let user = rights.user.clone().unwrap_or_else(|| "a user without a name".into());
    let may = match (rights.root, rights.admin_group()) {
        (true, _) => "may do everything".to_owned(),
        (false, Some(group)) => format!("may become root, through the group {group}"),
        (false, None) => "has no rights beyond the own files".to_owned(),
    };
    let others: Vec<&str> = rights.groups.iter().map(String::as_str).filter(|group| *group != user).collect();
    if others.is_empty() { format!("{user} {may}") } else { format!("{user} {may}; in {}", others.join(", ")) }
}

fn virtualisation(facts: Virtualisation) -> &'static str {
    match (facts.flag, facts.device, facts.reachable) {
        (_, _, true) => "can be used",
        (_, true, false) => "there, but you may not open its device",
        (true, false, false) => "the processor has it, and the kernel offers no device",
        (false, false, false) => "none: the processor has none, or it is switched off in firmware",
    }
}

fn graphics(survey: &Survey) -> String {
    let one = |card: &kladder_core::host::survey::Graphics| {
        joined(&[card.device.clone(), card.driver.as_ref().map(|d| format!("driver {d}")), card.version.clone()], " ")
    };
    let cards: Vec<String> = survey.graphics.iter().map(one).collect();
    if cards.is_empty() { "no device found".into() } else { cards.join("; ") }
}

fn guest(guest: &Guest) -> String {
    match guest {
        Guest::Unknown => unknown(),
        Guest::Metal => "bare metal, as far as can be seen".into(),
        Guest::Machine(vendor) => format!("a virtual machine ({vendor})"),
        Guest::Container => "a container".into(),
        Guest::Inside(system) => format!("inside {system}"),
    }
}

fn proxies(survey: &Survey) -> String {
    let names: Vec<String> = survey.proxies.iter().map(|p| format!("{} {}", p.variable, p.address)).collect();
    if names.is_empty() { "none".into() } else { names.join(", ") }
}

fn tools(survey: &Survey, out: &Out) -> Result<(), Problem> {
    if survey.tools.is_empty() {
        return out.say("\nNone of the usual tools is there.");
    }
    let row = |tool: &kladder_core::host::survey::HostTool| {
        let version =
            tool.version.clone().or_else(|| tool.untold.as_ref().map(words::host::untold)).unwrap_or_default();
        let name = if tool.command.is_empty() { &tool.tool } else { &tool.command };
        vec![styled(STRONG, name), clean(&version), shown(&tool.path)]
    };
    out.say(format!("\n{}", styled(STRONG, "Tools that are there already")))?;
    out.say(out.columns(&["command", "version", "file that answers"], survey.tools.iter().map(row).collect(), &[]))
}

fn twice(survey: &Survey, out: &Out) -> Result<(), Problem> {
    if survey.twice.is_empty() {
        return Ok(());
    }
    let row = |twice: &kladder_core::host::survey::Twice| {
        let others: Vec<String> = twice.others.iter().map(|path| shown(path)).collect();
        vec![styled(STRONG, &twice.command), shown(&twice.wins), others.join(", ")]
    };
    out.say(format!("\n{}", styled(STRONG, "Commands that are there more than once")))?;
    let rows = survey.twice.iter().take(SHOWN).map(row).collect();
    out.say(out.columns(&["command", "file that answers", "hidden behind it"], rows, &[]))?;
    let more = survey.twice.len().saturating_sub(SHOWN);
    if more == 0 { Ok(()) } else { out.say(styled(FAINT, format!("  and {more} more; --json has all"))) }
}
