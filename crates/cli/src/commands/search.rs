//! `kladder search`

use std::process::ExitCode;

use kladder_core::catalog::{Catalog, Head};
use serde::Serialize;

use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{STRONG, clean, columns, count, styled};

/// More lines than these are not read.
const SHOWN: usize = 40;

#[derive(Serialize)]
struct Shape<'s> {
    format: &'static str,
    tools: Vec<ToolShape<'s>>,
}

#[derive(Serialize)]
struct ToolShape<'s> {
    tool: &'s str,
    kind: &'s str,
    summary: &'s str,
    provides: &'s [String],
    /// The newest version that is no preview.
    newest: Option<String>,
}

pub(super) fn run(context: &Context, out: &Out, words: &[String]) -> Result<ExitCode, Problem> {
    let catalog = context.catalog()?;
    let words: Vec<String> = words.iter().map(|word| word.to_lowercase()).collect();
    let mut found: Vec<(u8, &str, &Head)> =
        catalog.heads()?.filter_map(|(tool, head)| Some((rank(tool, head, &words)?, tool, head))).collect();
    found.sort_by_key(|&(rank, tool, _)| (rank, tool));
    if found.is_empty() {
        return Err(nothing(&catalog, &words));
    }
    let shown = if out.json { found.len() } else { SHOWN };
    let mut tools = Vec::new();
    for &(_, tool, head) in found.iter().take(shown) {
        let Head { kind, summary, provides, .. } = head;
        tools.push(ToolShape { tool, kind, summary, provides, newest: newest(&catalog, tool)? });
    }
    let row = |shape: &ToolShape<'_>| {
        let newest = shape.newest.clone().unwrap_or_else(|| "on the host".to_owned());
        vec![styled(STRONG, shape.tool), newest, clean(shape.kind), clean(shape.summary)]
    };
    out.say(columns(&["tool", "newest", "kind", "what it does"], tools.iter().map(row).collect(), &[]))?;
    let (left, all) = (found.len().saturating_sub(SHOWN), catalog.names().count());
    let more = if left == 0 { String::new() } else { format!("; {left} more have it, another word narrows it down") };
    out.say(format!("\n{} of the catalog's {all}{more}.", count(found.len() - left, "tool")))?;
    out.value(&Shape { format: "kladder.search/1", tools })?;
    Ok(ExitCode::SUCCESS)
}

/// How well a tool fits, the lower the better; `None` when some word is nowhere in it.
fn rank(tool: &str, head: &Head, words: &[String]) -> Option<u8> {
    let rank = |word: &String| {
        let has = |texts: &[String]| texts.iter().any(|text| text.to_lowercase().contains(word));
        match tool.to_lowercase() {
            name if name == *word => Some(0),
            name if name.starts_with(word) => Some(1),
            name if name.contains(word) => Some(2),
            _ if has(&head.commands) || has(&head.provides) => Some(3),
            _ if has(&[head.kind.clone(), head.summary.clone()]) => Some(4),
            _ => None,
        }
    };
    words.iter().map(rank).try_fold(0, |worst, rank| Some(worst.max(rank?)))
}

fn newest(catalog: &Catalog, tool: &str) -> Result<Option<String>, Problem> {
    let card = catalog.card(tool)?;
    let newest = card.iter().flat_map(|card| &card.releases).find(|release| !release.preview);
    Ok(newest.map(|release| release.version.to_string()))
}

fn nothing(catalog: &Catalog, words: &[String]) -> Problem {
    let problem = Problem::new(Code::NotInCatalog, format!("no tool of the catalog has `{}`", words.join("` and `")));
    let near: Vec<String> = words.iter().flat_map(|word| catalog.near(word)).collect();
    near.iter().take(3).fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")))
}
