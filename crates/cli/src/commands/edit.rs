//! `kladder add` and `kladder drop`

use std::process::ExitCode;

use kladder_core::document::Source;
use kladder_core::files;
use kladder_core::ladder::{HostPolicy, Ladder, Range, Terms, with_wish, without_wish};
use kladder_core::pins::{HostTools, Limits, Moves, Pins};

use super::{about, pin};
use crate::args::AddOptions;
use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::shown;

pub(super) fn add(context: &Context, out: &Out, options: &AddOptions) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let tool = &options.tool;
    if !opened.catalog.has(tool) && opened.catalog.providers(tool)?.is_empty() {
        return Err(unknown(&opened, tool)?);
    }
    let was = opened.ladder.wishes.iter().find(|wish| wish.tool == *tool);
    let was = was.map(|wish| Terms { range: wish.range.clone(), host: wish.host });
    let terms = terms(options, was.clone())?;
    if was.as_ref() == Some(&terms) {
        let file = shown(&opened.ladder.path);
        out.say(format!("{file} has {tool} already, with {}.", terms.range))?;
    } else {
        let text = with_wish(&source(&opened)?, tool, &terms)?;
        let said = if was.is_some() { "changed in" } else { "added to" };
        let opened = settle(context, opened, text, out)?;
        out.say(format!("{tool} {said} {}: {}.\n", shown(&opened.0.ladder.path), terms.to_value()))?;
        pin::report(&opened.0, &opened.1, "", out)?;
        return Ok(ExitCode::SUCCESS);
    }
    let pins = pin::choose(context, &opened, &HostTools::of(&context.host), &Moves::default(), Limits::default())?;
    pin::report(&opened, &pins, "", out)?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn drop(context: &Context, out: &Out, tool: &str) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let Some(text) = without_wish(&source(&opened)?, tool)? else { return Err(not_wished(&opened, tool)) };
    let (opened, pins) = settle(context, opened, text, out)?;
    out.say(format!("{tool} dropped from {}.\n", shown(&opened.ladder.path)))?;
    pin::report(&opened, &pins, "", out)?;
    if pins.rungs.contains_key(tool) {
        out.say(format!("{tool} stays a rung, since others need it; see `kladder why {tool}`."))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// What the wish says now: what was asked for, and otherwise what it said before.
fn terms(options: &AddOptions, was: Option<Terms>) -> Result<Terms, Problem> {
    let mut terms = was.unwrap_or(Terms { range: Range::any(), host: HostPolicy::Allow });
    if let Some(text) = &options.wanted {
        let Range { requirement, series, .. } = text.parse().map_err(|error| {
            Problem::new(Code::Usage, format!("{error}")).next("a requirement like \"1.4\" or \">=2, <3\", or a series")
        })?;
        terms.range = Range { requirement, series, pieces: terms.range.pieces };
    }
    if !options.pieces.is_empty() {
        terms.range.pieces.clone_from(&options.pieces);
    }
    if let Some(host) = options.host {
        terms.host = host;
    }
    Ok(terms)
}

fn source(opened: &Opened) -> Result<Source, Problem> {
    Ok(Source::read(&opened.ladder.path)?)
}

/// Pins for a changed ladder; the ladder is written only once there are some.
fn settle(context: &Context, opened: Opened, text: String, out: &Out) -> Result<(Opened, Pins), Problem> {
    let source = Source { path: opened.ladder.path.clone(), text };
    let opened = Opened { ladder: Ladder::parse(&source)?, ..opened };
    let host = HostTools::of(&context.host);
    opened.tell_moved(&host, out)?;
    let pins = pin::choose(context, &opened, &host, &Moves::default(), Limits::default())?;
    // A link to the ladder stays a link.
    let path = source.path.canonicalize().unwrap_or(source.path);
    files::replace(&path, source.text.as_bytes())?;
    Ok((opened, pins))
}

fn unknown(opened: &Opened, tool: &str) -> Result<Problem, Problem> {
    if let Some((name, version)) = tool.split_once(['@', '=', ' ']).filter(|(name, _)| opened.catalog.has(name)) {
        let version = version.trim_matches(['=', ' ']);
        return Ok(Problem::new(Code::Usage, format!("`{tool}` is not the name of a tool"))
            .next(format!("the version stands apart: `kladder add {name} {version}`")));
    }
    about::unknown(&opened.catalog, tool)
}

fn not_wished(opened: &Opened, tool: &str) -> Problem {
    let problem =
        Problem::new(Code::NotInCatalog, format!("the ladder has no wish for `{tool}`")).at(&opened.ladder.path);
    if opened.old.as_ref().is_some_and(|old| old.rungs.contains_key(tool)) {
        return problem.why("it is a rung since others need it").next(format!("`kladder why {tool}` names them"));
    }
    let wished: Vec<&str> = opened.ladder.wishes.iter().map(|wish| wish.tool.as_str()).collect();
    let near = kladder_core::near::near(tool, wished);
    near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")))
}
