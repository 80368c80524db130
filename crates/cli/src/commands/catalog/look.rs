//! `kladder catalog look`

use std::process::ExitCode;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use kladder_choose::names::ToolName;
use kladder_core::base::event::chain;
use kladder_core::bring::fetch::Network;
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::keeper::{Looked, News, OnFile, look};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{CatalogLook, CatalogNews, CatalogSeries};
use kladder_tell::text::{clean, count};

use super::{kept, on_file};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, STRONG, TOLD, styled};

/// Indexes that are asked at once.
const AT_ONCE: usize = 4;
/// Versions that are told of one tool.
const TOLD_OF: usize = 4;

pub(super) fn run(context: &Context, tools: &[ToolName], previews: bool, out: &Out) -> Result<ExitCode, Problem> {
    let folder = Folder::open(&kept(context)?, None)?;
    let network = context.around.network(&context.around.home.settings()?)?;
    let names = if tools.is_empty() { kladder_choose::catalog::Catalog::names(&folder) } else { tools };
    let all = names.iter().map(|tool| on_file(&folder, tool)).collect::<Result<Vec<_>, _>>()?;
    let looked = asked(&all, &network);
    let mut news = Vec::new();
    let (mut failed, mut without) = (0, 0);
    for (OnFile { definition, .. }, looked) in all.iter().zip(looked) {
        let newest = definition.releases.first().map(|release| release.version.to_string());
        let tool = definition.tool.to_string();
        let told = match looked {
            Looked::NoIndex if tools.is_empty() => {
                without += 1;
                continue;
            }
            Looked::NoIndex => CatalogNews::failed(tool, newest, "its definition names no index".to_owned()),
            Looked::Failed(error) => {
                failed += 1;
                CatalogNews::failed(tool, newest, chain(&error))
            }
            Looked::Found(found, supports) => {
                let wanted = |news: &News| previews || !news.preview;
                let found: Vec<_> = found.into_iter().filter(wanted).collect();
                CatalogNews::found(tool, newest, &found, &supports)
            }
        };
        news.push(told);
    }
    let looked = CatalogLook::of(news);
    out.value(&looked)?;
    tell(&looked, without, out)?;
    Ok(if failed > 0 { Code::NoYard.into() } else { ExitCode::SUCCESS })
}

/// Asks for all of them, some at once; the answers stand in the same order.
fn asked(all: &[OnFile], network: &Network) -> Vec<Looked> {
    let next = AtomicUsize::new(0);
    let one = || {
        let mut done = Vec::new();
        while let Some((at, on_file)) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, all.get(at)?)))
        {
            done.push((at, look(&on_file.definition, network)));
        }
        done
    };
    let mut answers: Vec<(usize, Looked)> = thread::scope(|scope| {
        let workers: Vec<_> = (0..AT_ONCE).map(|_| scope.spawn(one)).collect();
        let join = |worker: thread::ScopedJoinHandle<'_, Vec<_>>| {
            worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        workers.into_iter().flat_map(join).collect()
    });
    answers.sort_by_key(|(at, _)| *at);
    answers.into_iter().map(|(_, looked)| looked).collect()
}

fn tell(looked: &CatalogLook, without: usize, out: &Out) -> Result<(), Problem> {
    let mut rows = Vec::new();
    let mut any = None;
    for news in &looked.tools {
        let here = news.newest.clone().unwrap_or_else(|| "none".to_owned());
        let since = match &news.failed {
            Some(why) => styled(BAD, clean(why)),
            None if news.published.is_empty() => continue,
            None => {
                any = any.or(Some(news));
                since(news)
            }
        };
        rows.push(vec![styled(STRONG, &news.tool), clean(&here), since]);
    }
    if !rows.is_empty() {
        out.say(out.columns(&["tool", "newest here", "published since"], rows, &[]))?;
    }
    let up_to_date = looked.tools.iter().filter(|news| news.failed.is_none() && news.published.is_empty()).count();
    if up_to_date > 0 {
        out.say(format!("{} with nothing newer.", count(up_to_date, "tool")))?;
    }
    for news in looked.tools.iter().filter(|news| !news.series.is_empty()) {
        let one = |CatalogSeries { series, until, is_over }: &CatalogSeries| {
            let series = clean(series);
            if *is_over {
                styled(BAD, format!("{series} no longer, since {until}"))
            } else {
                format!("{series} until {until}")
            }
        };
        let all: Vec<String> = news.series.iter().map(one).collect();
        out.say(format!("Its maker looks after {}: {}.", styled(STRONG, &news.tool), all.join("; ")))?;
    }
    if without > 0 {
        out.say(styled(
            FAINT,
            format!("{} whose definitions name no index were not looked at.", count(without, "tool")),
        ))?;
    }
    match any.and_then(|news| Some((news, news.published.first()?))) {
        Some((news, newest)) => {
            let command = format!("kladder catalog enter {} {}", news.tool, newest.version);
            out.say(format!("To write one into its definition: {}", styled(TOLD, clean(&command))))
        }
        None => Ok(()),
    }
}

fn since(news: &CatalogNews) -> String {
    let one = |one: &kladder_tell::shapes::CatalogVersion| match &one.date {
        Some(date) => format!("{} ({date})", one.version),
        None => one.version.clone(),
    };
    let told: Vec<String> = news.published.iter().take(TOLD_OF).map(one).collect();
    let more = news.published.len().saturating_sub(TOLD_OF);
    let more = if more > 0 { format!(", {more} more") } else { String::new() };
    clean(&format!("{}{more}", told.join(", ")))
}
