//! `kladder add` and `kladder drop`

use std::process::ExitCode;

use kladder_choose::document::{Place, Source};
use kladder_choose::ladder::{HostPolicy, Ladder, Range, Terms, with_wish, without_wish};
use kladder_choose::near::near;
use kladder_choose::pins::{Limits, Moves, Pins};
use kladder_choose::sets::LibrarySet;
use kladder_core::base::files;
use kladder_core::desk::Desk;
use kladder_tell::problem::{Code, Problem, Where};

use super::{about, pin};
use crate::args::AddOptions;
use crate::context::{Context, tell_differing};
use crate::render::Out;
use crate::render::text::shown;

pub(super) fn add(context: &Context, out: &Out, options: &AddOptions) -> Result<ExitCode, Problem> {
    let desk = context.open()?;
    let tool = &options.tool;
    if !desk.catalogs.has(tool) && desk.catalogs.providers(tool)?.is_empty() {
        return Err(unknown(&desk, tool)?);
    }
    let was = desk.ladder.wishes.iter().find(|wish| wish.tool == *tool);
    let was = was.map(|wish| Terms { range: wish.range.clone(), host: wish.host });
    let terms = terms(options, was.clone())?;
    if was.as_ref() == Some(&terms) {
        out.say(format!("{} has {tool} already, with {}.", shown(&desk.ladder.path), terms.range))?;
        let pins = pin::choose(&desk, &desk.host_tools(), &Moves::default(), Limits::default())?;
        pin::report(&desk, &pins, "", out)?;
        return Ok(ExitCode::SUCCESS);
    }
    let text = with_wish(&source(&desk), tool, &terms)?;
    let said = if was.is_some() { "changed in" } else { "added to" };
    let (desk, pins) = repin(desk, text, out)?;
    out.say(format!("{tool} {said} {}: {}.\n", shown(&desk.ladder.path), terms.to_value()))?;
    pin::report(&desk, &pins, "", out)?;
    pin::lead_on(out)?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn drop(context: &Context, out: &Out, tool: &str) -> Result<ExitCode, Problem> {
    let desk = context.open()?;
    let Some(text) = without_wish(&source(&desk), tool)? else { return Err(not_wished(&desk, tool)?) };
    let (desk, pins) = repin(desk, text, out)?;
    out.say(format!("{tool} dropped from {}.\n", shown(&desk.ladder.path)))?;
    pin::report(&desk, &pins, "", out)?;
    if pins.rungs.contains_key(tool) {
        out.say(format!("{tool} stays a rung, since others need it; see `kladder why {tool}`."))?;
    }
    pin::lead_on(out)?;
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

fn source(desk: &Desk) -> Source {
    Source::new(&desk.ladder.path, &*desk.ladder.text)
}

/// Pins for a changed ladder; the ladder is written only once there are some.
fn repin(desk: Desk, text: String, out: &Out) -> Result<(Desk, Pins), Problem> {
    let before = desk.ladder.text.clone();
    let source = Source::new(&desk.ladder.path, text);
    let desk = desk.with_ladder(Ladder::parse(&source)?);
    let pins = {
        let host = desk.host_tools();
        tell_differing(&desk.differing(&host), out)?;
        let pins = pin::choose(&desk, &host, &Moves::default(), Limits::default());
        pins.map_err(|problem| unwritten(problem, &before))?
    };
    // A link to the ladder stays a link.
    let path = source.path.canonicalize().unwrap_or_else(|_| source.path.clone());
    files::replace(&path, source.text.as_bytes())?;
    Ok((desk, pins))
}

/// The ladder's file is not what the places of a problem are about: lines that would have been written are told as such.
fn unwritten(mut problem: Problem, before: &str) -> Problem {
    let stands = |text: &str| before.lines().any(|line| line.trim_end() == text);
    if let Where::Places(places) = &mut problem.place {
        let (there, new): (Vec<Place>, Vec<Place>) =
            std::mem::take(places).into_iter().partition(|at| stands(&at.text));
        *places = there;
        for Place { text, .. } in new {
            problem.why.push(format!("the line would be: {}", text.trim()));
        }
    }
    problem.why("nothing was written")
}

fn unknown(desk: &Desk, tool: &str) -> Result<Problem, Problem> {
    if let Some((name, version)) = tool.split_once(['@', '=', ' ']).filter(|(name, _)| desk.catalogs.has(name)) {
        let version = version.trim_matches(['=', ' ']);
        return Ok(Problem::new(Code::Usage, format!("`{tool}` is not the name of a tool"))
            .next(format!("the version stands apart: `kladder add {name} {version}`")));
    }
    let problem = about::unknown(&desk.catalogs, tool)?;
    let first = desk.ladder.sets.iter().find_map(|set| Some((&set.name, table_of(set)?)));
    Ok(match first {
        Some((set, table)) => problem.next(format!("a library is wished for in a set: [sets.{set}.{table}]")),
        None => problem,
    })
}

/// Where a set's wishes stand; `None` for one that is read from somebody's lock file.
fn table_of(set: &LibrarySet) -> Option<&'static str> {
    match (&set.libraries, &set.packages) {
        (Some(_), _) => Some("libraries"),
        (None, Some(own)) => own.wanted.as_ref().map(|_| "packages"),
        (None, None) => None,
    }
}

fn not_wished(desk: &Desk, tool: &str) -> Result<Problem, Problem> {
    let problem =
        Problem::new(Code::NotInCatalog, format!("the ladder has no wish for `{tool}`")).at(&desk.ladder.path);
    let card = desk.catalogs.card(tool)?;
    let meets = |name: &str| card.as_ref().is_some_and(|card| card.answers_to(name));
    if let Some(wish) = desk.ladder.wishes.iter().find(|wish| meets(&wish.tool)) {
        return Ok(problem
            .why(format!("it meets the wish for {} on line {}", wish.tool, wish.place.line))
            .next(format!("`kladder drop {}`", wish.tool)));
    }
    if desk.old.as_ref().is_some_and(|old| old.rungs.contains_key(tool)) {
        return Ok(problem.why("it is a rung since others need it").next(format!("`kladder why {tool}` names them")));
    }
    let has =
        |set: &&LibrarySet| set.libraries.as_ref().is_some_and(|own| own.wishes.iter().any(|wish| wish.name == tool));
    if let Some(set) = desk.ladder.sets.iter().find(has) {
        return Ok(problem.why(format!("it is a library of the set {0}: [sets.{0}.libraries]", set.name)));
    }
    let wished: Vec<&str> = desk.ladder.wishes.iter().map(|wish| wish.tool.as_str()).collect();
    let near = near(tool, wished);
    if near.is_empty() {
        return Ok(problem.next("what can be dropped stands there under [rungs]"));
    }
    Ok(near.iter().take(1).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?"))))
}
