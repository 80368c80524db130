//! `kladder why`

use std::process::ExitCode;

use kladder_choose::names::ToolName;
use kladder_choose::pins::{HostCopy, Limits, Moves, Passed, Pin, Pins, Why};
use kladder_choose::version::Version;
use kladder_core::desk::Desk;
use kladder_core::host::survey::answers;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{self, Answer};
use kladder_tell::text::clean;
use kladder_tell::words::{self, asked, reason};

use super::{about, pin};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, styled};

pub(super) fn run(context: &Context, out: &Out, tool: &str, is_command: bool) -> Result<ExitCode, Problem> {
    if let Some(done) = of_command(context, out, tool, is_command)? {
        return Ok(done);
    }
    let (desk, pins, _) = context.open_pinned(out)?;
    let libraries = desk.library(tool);
    if !libraries.is_empty() && !pins.rungs.contains_key(tool) {
        return super::libraries::why(&desk, &libraries, out);
    }
    let tool = pin::name(tool)?;
    let desk = Desk { old: Some(pins.clone()), ..desk };
    let (host, moves) = (desk.host_tools(), Moves::default());
    let why = desk.choosing(&host, &moves, Limits::default()).why(&tool);
    let why = why.map_err(|error| Problem::from_pins(&error, &desk.ladder.path))?;
    let keepers = keepers(&pins, &tool);
    if pins.left_out.contains(&tool) && why.is_none() {
        let choosing = desk.choosing(&host, &moves, Limits::default());
        let problem = choosing.why_left_out(&pins, &tool).map(|error| Problem::from_pins(&error, &desk.ladder.path));
        let default = || Problem::new(Code::PinsStale, format!("`{tool}` can be had by now")).next("`kladder pin`");
        return Err(problem.map_or_else(default, |problem| problem.why(format!("{tool} is optional, and left out"))));
    }
    let Some(why) = why else { return Err(no_rung(&desk, &pins, &tool, &keepers)?) };
    let answers = answering(&desk, &pins, &tool)?;
    out.value(&shapes::Why::of(&why, &keepers, answers.clone()))?;
    show(&why, &keepers, &answers, out)?;
    Ok(ExitCode::SUCCESS)
}

/// For what is a command and no tool that somebody could mean, who answers to it.
fn of_command(context: &Context, out: &Out, name: &str, is_meant: bool) -> Result<Option<ExitCode>, Problem> {
    let is_tool = || {
        let desk = context.open().ok()?;
        let known = desk.catalogs.has(name) || !desk.catalogs.providers(name).ok()?.is_empty();
        Some(known || desk.old.is_some_and(|pins| pins.rungs.contains_key(name)))
    };
    let (behind, on_path) = (super::answers::behind(context, name), answers(name, &context.around.host.path).is_some());
    let is_command = (behind.is_some() || on_path) && !name.contains('/');
    if !is_meant && (!is_command || is_tool().unwrap_or(false)) {
        return Ok(None);
    }
    super::answers::run(context, out, name, behind.as_ref()).map(Some)
}

fn show(why: &Why, keepers: &[(ToolName, Version)], answers: &[Answer], out: &Out) -> Result<(), Problem> {
    let date = why.date.as_ref().map(|date| format!(" of {date}")).unwrap_or_default();
    let series = if why.series.is_empty() { String::new() } else { format!(", {}", why.series.join(" and ")) };
    out.say(format!("{} {}{date}{series}", styled(STRONG, &why.tool), why.version))?;
    for asker in &why.askers {
        out.say(format!("  {}", asked(asker)))?;
    }
    for line in why.met.iter().map(words::met).chain(why.beside.as_ref().map(words::beside)) {
        out.say(format!("  {}", clean(&line)))?;
    }
    for (owner, version) in keepers {
        out.say(format!("  {owner} keeps another one to itself: {version}"))?;
    }
    if why.passed.is_empty() {
        out.say("\nNothing newer is out.")?;
    } else {
        let row = |Passed { version, date, reason }: &Passed| {
            vec![styled(STRONG, version), date.clone().unwrap_or_default(), clean(&self::reason(&why.tool, reason))]
        };
        out.say(format!(
            "\n{}",
            out.columns(&["newer", "date", "why not"], why.passed.iter().map(row).collect(), &[])
        ))?;
        if why.more > 0 {
            out.say(format!("  and {} more, older than these", why.more))?;
        }
    }
    if let [newest, rest @ ..] = why.older.as_slice() {
        let more = if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) };
        let between = if why.passed.is_empty() { "" } else { "\n" };
        out.say(format!("{between}Older: {newest}{more}; the newest that fits is taken."))?;
    }
    let rows: Vec<Vec<String>> = answers.iter().map(answer_row).collect();
    let Some(first) = answers.first() else { return Ok(()) };
    out.say(format!("\n{}", out.columns(&["command", "who answers"], rows, &[])))?;
    out.say(format!("\nWho answers in other terminals: `kladder why {} --command`", clean(&first.command)))
}

fn answer_row(answer: &Answer) -> Vec<String> {
    let said = match (&answer.ours, &answer.first) {
        (Some(ours), Some(first)) if ours == first => first.clone(),
        (Some(ours), Some(first)) => format!("{ours} in the ladder, {first} in this shell"),
        (Some(ours), None) => format!("{ours} in the ladder, nothing in this shell"),
        (None, Some(first)) => format!("{first}; the ladder is not climbed"),
        (None, None) => "nothing; the ladder is not climbed".to_owned(),
    };
    let said = match &answer.by_answers {
        Some(tool) => format!("{said}; [answers] in the ladder says that it is {tool}'s"),
        None => said,
    };
    vec![styled(STRONG, clean(&answer.command)), styled(FAINT, clean(&said))]
}

/// Who answers to the commands of a rung, in the ladder and in the caller's shell.
fn answering(desk: &Desk, pins: &Pins, tool: &ToolName) -> Result<Vec<Answer>, Problem> {
    let Some(definition) = desk.catalogs.tool(tool)? else { return Ok(Vec::new()) };
    let landing = desk.site(pins).landings().current_link();
    let on_host = pins.rungs.get(tool).and_then(|pin| pin.host.clone());
    let commands: Vec<String> = match (&on_host, &definition.host) {
        (Some(_), Some(probe)) => probe.command.iter().map(ToString::to_string).collect(),
        _ => definition.says.commands.keys().map(ToString::to_string).collect(),
    };
    let answer = |command: String| {
        let ours = landing.join("commands").join(&command);
        let itself = match &on_host {
            Some(HostCopy::Itself(file)) => Some(file.clone()),
            _ => None,
        };
        let ours = itself.or_else(|| Some(ours).filter(|file| file.is_file()));
        let first = answers(&command, &desk.surroundings.host.path);
        let by_answers = desk.ladder.answers.get(&command).cloned();
        let text = |file: Option<std::path::PathBuf>| file.map(|file| shapes::path(&file));
        Answer { first: text(first), ours: text(ours), by_answers, command }
    };
    Ok(commands.into_iter().map(answer).collect())
}

/// The rungs that keep a version of the tool to themselves, and which.
fn keepers(pins: &Pins, tool: &ToolName) -> Vec<(ToolName, Version)> {
    let keeps = |owner: &ToolName, pin: &Pin| Some((owner.clone(), pin.private.get(tool)?.version.clone()));
    pins.rungs.iter().filter_map(|(owner, pin)| keeps(owner, pin)).collect()
}

fn no_rung(desk: &Desk, pins: &Pins, tool: &ToolName, keepers: &[(ToolName, Version)]) -> Result<Problem, Problem> {
    if let [(owner, version), ..] = keepers {
        return Ok(Problem::new(Code::NotInCatalog, format!("`{tool}` is no rung of the ladder's own"))
            .why(format!("{owner} keeps {tool} {version} to itself"))
            .next(format!("`kladder why {owner}`")));
    }
    if !desk.catalogs.has(tool) && desk.catalogs.providers(tool)?.is_empty() {
        return about::unknown(&desk.catalogs, tool);
    }
    let providers = desk.catalogs.providers(tool)?;
    let rung = providers.iter().find(|provider| pins.rungs.contains_key(*provider));
    let problem = Problem::new(Code::NotInCatalog, format!("`{tool}` is no rung of this ladder"));
    Ok(match rung {
        Some(rung) => problem.why(format!("{rung} provides it")).next(format!("`kladder why {rung}`")),
        None => problem.why("no wish asks for it, and nothing needs it").next(format!("`kladder add {tool}`")),
    })
}
