//! `kladder why`

use std::path::PathBuf;
use std::process::ExitCode;

use kladder_core::pins::{Choosing, HostTools, Limits, Moves, Passed, Pins, Why};
use kladder_core::survey::answers;
use serde::Serialize;

use super::about;
use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::reason::{asked, words};
use crate::render::text::{FAINT, STRONG, clean, columns, shown, styled};

#[derive(Serialize)]
struct Shape<'w> {
    format: &'static str,
    tool: &'w str,
    version: &'w str,
    date: Option<&'w str>,
    series: &'w [String],
    asked_by: Vec<String>,
    passed_over: Vec<PassedShape<'w>>,
    kept_by: Vec<(String, String)>,
    answers: &'w [Answer],
}

#[derive(Serialize)]
struct PassedShape<'w> {
    version: &'w str,
    date: Option<&'w str>,
    reason: String,
}

/// Who answers to a command.
#[derive(Serialize)]
struct Answer {
    command: String,
    /// The ladder's; null before it is climbed.
    ours: Option<PathBuf>,
    /// The first on the caller's PATH.
    first: Option<PathBuf>,
}

pub(super) fn run(context: &Context, out: &Out, tool: &str) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let (pins, _) = opened.settle(context, out)?;
    let host = HostTools::of(&context.host);
    let (Opened { ladder, catalog, .. }, here) = (&opened, &context.host.platform);
    let (moves, limits) = (Moves::default(), Limits::default());
    let choosing = Choosing { ladder, catalog, here, host: &host, old: Some(&pins), moves: &moves, limits };
    let why = choosing.why(tool).map_err(|error| Problem::from_pins(&error, &ladder.path))?;
    let keepers = keepers(&pins, tool);
    let Some(why) = why else { return Err(no_rung(&opened, &pins, tool, &keepers)?) };
    let answers = answering(context, &opened, &pins, tool)?;
    out.value(&shape(&why, &keepers, &answers))?;
    show(&why, &keepers, &answers, out)?;
    Ok(ExitCode::SUCCESS)
}

fn show(why: &Why, keepers: &[(String, String)], answers: &[Answer], out: &Out) -> Result<(), Problem> {
    let date = why.date.as_ref().map(|date| format!(" of {date}")).unwrap_or_default();
    let series = if why.series.is_empty() { String::new() } else { format!(", {}", why.series.join(" and ")) };
    out.say(format!("{} {}{date}{series}", styled(STRONG, &why.tool), why.version))?;
    for asker in &why.askers {
        out.say(format!("  {}", asked(asker)))?;
    }
    for (owner, version) in keepers {
        out.say(format!("  {owner} keeps another one to itself: {version}"))?;
    }
    if why.passed.is_empty() {
        out.say("\nNothing newer is out.")?;
    } else {
        let row = |Passed { version, date, reason }: &Passed| {
            vec![styled(STRONG, version), date.clone().unwrap_or_default(), words(&why.tool, reason)]
        };
        out.say(format!("\n{}", columns(&["newer", "date", "why not"], why.passed.iter().map(row).collect(), &[])))?;
        if why.more > 0 {
            out.say(format!("  and {} more, older than these", why.more))?;
        }
    }
    let rows: Vec<Vec<String>> = answers.iter().map(answer_row).collect();
    if rows.is_empty() { Ok(()) } else { out.say(format!("\n{}", columns(&["command", "who answers"], rows, &[]))) }
}

fn answer_row(answer: &Answer) -> Vec<String> {
    let said = match (&answer.ours, &answer.first) {
        (Some(ours), Some(first)) if ours == first => shown(first),
        (Some(ours), Some(first)) => format!("{} in the ladder, {} in this shell", shown(ours), shown(first)),
        (Some(ours), None) => format!("{} in the ladder, nothing in this shell", shown(ours)),
        (None, Some(first)) => format!("{}; the ladder is not climbed", shown(first)),
        (None, None) => "nothing; the ladder is not climbed".to_owned(),
    };
    vec![styled(STRONG, clean(&answer.command)), styled(FAINT, said)]
}

/// Who answers to the commands of a rung, in the ladder and in the caller's shell.
fn answering(context: &Context, opened: &Opened, pins: &Pins, tool: &str) -> Result<Vec<Answer>, Problem> {
    let Some(definition) = opened.catalog.tool(tool)? else { return Ok(Vec::new()) };
    let landing = opened.site(context, pins).landings().current_link();
    let on_host = pins.rungs.get(tool).and_then(|pin| pin.host.clone());
    let commands: Vec<String> = match (&on_host, &definition.host) {
        (Some(_), Some(probe)) => vec![probe.command.clone()],
        _ => definition.commands.keys().cloned().collect(),
    };
    let answer = |command: String| {
        let ours = landing.join("commands").join(&command);
        let ours = on_host.clone().or_else(|| Some(ours).filter(|file| file.is_file()));
        Answer { first: answers(&command, &context.host.path), ours, command }
    };
    Ok(commands.into_iter().map(answer).collect())
}

/// The rungs that keep a version of the tool to themselves, and which.
fn keepers(pins: &Pins, tool: &str) -> Vec<(String, String)> {
    let keeps = |owner: &String, pin: &kladder_core::pins::Pin| {
        let private = pin.private.get(tool)?;
        Some((owner.clone(), private.version.to_string()))
    };
    pins.rungs.iter().filter_map(|(owner, pin)| keeps(owner, pin)).collect()
}

fn no_rung(opened: &Opened, pins: &Pins, tool: &str, keepers: &[(String, String)]) -> Result<Problem, Problem> {
    if let [(owner, version), ..] = keepers {
        return Ok(Problem::new(Code::NotInCatalog, format!("`{tool}` is no rung of the ladder's own"))
            .why(format!("{owner} keeps {tool} {version} to itself"))
            .next(format!("`kladder why {owner}`")));
    }
    if !opened.catalog.has(tool) && opened.catalog.providers(tool)?.is_empty() {
        return about::unknown(&opened.catalog, tool);
    }
    let providers = opened.catalog.providers(tool)?;
    let rung = providers.iter().find(|provider| pins.rungs.contains_key(*provider));
    let problem = Problem::new(Code::NotInCatalog, format!("`{tool}` is no rung of this ladder"));
    Ok(match rung {
        Some(rung) => problem.why(format!("{rung} provides it")).next(format!("`kladder why {rung}`")),
        None => problem.why("no wish asks for it, and nothing needs it").next(format!("`kladder add {tool}`")),
    })
}

fn shape<'w>(why: &'w Why, keepers: &[(String, String)], answers: &'w [Answer]) -> Shape<'w> {
    let passed = |passed: &'w Passed| PassedShape {
        version: passed.version.as_str(),
        date: passed.date.as_deref(),
        reason: words(&why.tool, &passed.reason),
    };
    Shape {
        format: "kladder.why/1",
        tool: &why.tool,
        version: why.version.as_str(),
        date: why.date.as_deref(),
        series: &why.series,
        asked_by: why.askers.iter().map(asked).collect(),
        passed_over: why.passed.iter().map(passed).collect(),
        kept_by: keepers.to_vec(),
        answers,
    }
}
