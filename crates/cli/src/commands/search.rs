//! `kladder search`

use std::process::ExitCode;

use kladder_choose::catalog::{Catalogs, Head};
use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{Found, Search};
use kladder_tell::text::{both, clean, count};

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{STRONG, styled};

/// More lines than these are not read.
const SHOWN: usize = 40;
/// Characters of a summary that are shown.
const SUMMARY: usize = 200;

pub(super) fn run(context: &Context, out: &Out, words: &[String], command: Option<&str>) -> Result<ExitCode, Problem> {
    let catalogs = context.around.open_catalogs()?;
    if let Some(command) = command {
        return bringing(&catalogs, command, out);
    }
    let words: Vec<String> = words.iter().map(|word| word.to_lowercase()).collect();
    let ranked = catalogs.heads()?.iter().filter_map(|(tool, head)| Some((rank(tool, head, &words)?, tool, head)));
    let mut found: Vec<(u8, &ToolName, &Head)> = ranked.collect();
    found.sort_by_key(|&(rank, tool, _)| (rank, tool));
    if found.is_empty() {
        return Err(nothing(&catalogs, &words));
    }
    let shown = if out.json { found.len() } else { SHOWN };
    let mut tools = Vec::new();
    for &(_, tool, head) in found.iter().take(shown) {
        let Head { kind, summary, provides, .. } = head.clone();
        tools.push(Found { tool: tool.clone(), kind, summary, provides, newest: newest(&catalogs, tool)? });
    }
    let row = |found: &Found| {
        let newest = found.newest.as_ref().map_or_else(|| "on the host".to_owned(), Version::to_string);
        let summary: String = found.summary.chars().take(SUMMARY).collect();
        vec![styled(STRONG, &found.tool), newest, clean(&found.kind), clean(&summary)]
    };
    out.say(out.columns(&["tool", "newest", "kind", "what it does"], tools.iter().map(row).collect(), &[]))?;
    let (left, all) = (found.len().saturating_sub(SHOWN), catalogs.names().count());
    let more = if left == 0 { String::new() } else { format!("; {left} more have it, another word narrows it down") };
    out.say(format!("\n{} of the catalog's {all}{more}.", count(found.len() - left, "tool")))?;
    out.value(&Search { format: Search::FORMAT, tools })?;
    Ok(ExitCode::SUCCESS)
}

/// Who brings a command.
fn bringing(catalogs: &Catalogs, command: &str, out: &Out) -> Result<ExitCode, Problem> {
    let has = |(_, head): &&(ToolName, Head)| head.commands.iter().any(|known| known == command);
    let found: Vec<&(ToolName, Head)> = catalogs.heads()?.iter().filter(has).collect();
    let Some((first, _)) = found.first() else {
        return Err(Problem::new(Code::NotInCatalog, format!("no tool of the catalog brings `{}`", clean(command))));
    };
    let mut tools = Vec::new();
    for (tool, head) in found.iter().copied() {
        let Head { kind, summary, provides, .. } = head.clone();
        tools.push(Found { tool: tool.clone(), kind, summary, provides, newest: newest(catalogs, tool)? });
    }
    out.value(&Search { format: Search::FORMAT, tools })?;
    let names: Vec<&ToolName> = found.iter().map(|(tool, _)| tool).collect();
    out.say(format!(
        "`{}` is brought by {}: `kladder add {first}`, then `kladder climb`.",
        clean(command),
        both(&names)
    ))?;
    Ok(ExitCode::SUCCESS)
}

/// How well a tool fits, the lower the better; `None` when some word is nowhere in it.
fn rank(tool: &str, head: &Head, words: &[String]) -> Option<u8> {
    let rank = |word: &String| {
        let has = |text: &str| text.to_lowercase().contains(word);
        match tool.to_lowercase() {
            name if name == *word => Some(0),
            name if name.starts_with(word) => Some(1),
            name if name.contains(word) => Some(2),
            _ if head.commands.iter().any(|text| has(text)) || head.provides.iter().any(|text| has(text)) => Some(3),
            _ if has(&head.kind) || has(&head.summary) => Some(4),
            _ => None,
        }
    };
    words.iter().map(rank).try_fold(0, |worst, rank| Some(worst.max(rank?)))
}

fn newest(catalogs: &Catalogs, tool: &str) -> Result<Option<Version>, Problem> {
    let card = catalogs.card(tool)?;
    let newest = card.iter().flat_map(|card| &card.releases).find(|release| !release.preview);
    Ok(newest.map(|release| release.version.clone()))
}

fn nothing(catalogs: &Catalogs, words: &[String]) -> Problem {
    let problem = Problem::new(Code::NotInCatalog, format!("no tool of the catalog has `{}`", words.join("` and `")));
    let near: Vec<String> = words.iter().flat_map(|word| catalogs.near(word)).collect();
    if near.is_empty() {
        return problem.next("`kladder search` without words lists all tools");
    }
    near.iter().take(3).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")))
}
