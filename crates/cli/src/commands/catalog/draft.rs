//! `kladder catalog draft`

use std::process::ExitCode;

use kladder_core::base::files;
use kladder_core::bring::fetch::Cache;
use kladder_core::desk::keeper::{Draftable, Drafted, Drafting, draft};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::CatalogDraft;
use kladder_tell::text::clean;

use super::kept;
use crate::context::Context;
use crate::render::text::{STRONG, TOLD, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, what: &[String], print: bool, out: &Out) -> Result<ExitCode, Problem> {
    let folder = if print { None } else { Some(kept(context)?) };
    let network = context.around.network(&context.around.home.settings()?)?;
    let cache = Cache::new(&context.around.home.artifacts);
    for what in what {
        let progress = Progress::new(out)?;
        let drafting = Drafting { host: &context.around.host, network: &network, cache: &cache, observer: &progress };
        let drafted = draft(&meant(context, what)?, drafting);
        progress.finish();
        let Drafted { tool, version, text } = drafted?;
        let path = folder.as_ref().map(|folder| folder.join("tools").join(format!("{tool}.toml")));
        out.value(&CatalogDraft {
            format: CatalogDraft::FORMAT,
            tool: tool.to_string(),
            version: version.clone(),
            file: path.as_deref().map(kladder_tell::shapes::path),
            text: text.clone(),
        })?;
        let Some(path) = path else {
            text.lines().try_for_each(|line| out.verbatim(clean(line)))?;
            continue;
        };
        if path.exists() {
            return Err(Problem::new(Code::Failed, format!("there is a definition of {tool} already"))
                .at(&path)
                .next("with `--print` the draft is shown, and nothing is written"));
        }
        files::create_folder(path.parent().unwrap_or(&path))?;
        files::replace(&path, text.as_bytes())?;
        let guesses = text.lines().filter(|line| line.contains('#')).count();
        out.say(format!(
            "{} is drafted in {}; {guesses} of its lines say what was guessed.",
            styled(STRONG, clean(tool.as_str())),
            shown(&path)
        ))?;
        let next = match &version {
            Some(_) => format!("kladder catalog try {tool}"),
            None => "kladder catalog check".to_owned(),
        };
        out.say(format!("Read it, write its summary, and then: {}", styled(TOLD, next)))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// A name in an index, an address, or a file.
fn meant(context: &Context, text: &str) -> Result<Draftable, Problem> {
    if let Some(rest) = text.strip_prefix("index:") {
        let (index, project) = rest
            .split_once('/')
            .filter(|(index, project)| !index.is_empty() && !project.is_empty())
            .ok_or_else(|| {
                Problem::new(Code::Usage, format!("`{text}` is no name in an index")).next("write `index:NAME/PROJECT`")
            })?;
        return Ok(Draftable::Listed { index: index.to_owned(), project: project.to_owned() });
    }
    if text.starts_with("http://") || text.starts_with("https://") {
        return Ok(Draftable::Address(text.to_owned()));
    }
    Ok(Draftable::File(context.around.folder.join(text)))
}
