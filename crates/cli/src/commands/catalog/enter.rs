//! `kladder catalog enter`

use std::path::Path;
use std::process::ExitCode;

use kladder_choose::catalog::Definition;
use kladder_choose::document::Source;
use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_core::base::files;
use kladder_core::bring::fetch::Cache;
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::keeper::{Entering, enter};
use kladder_tell::problem::Problem;
use kladder_tell::shapes::{CatalogEnter, CatalogFile};
use kladder_tell::text::{bytes, clean};

use super::{kept, on_file};
use crate::context::Context;
use crate::render::Out;
use crate::render::Progress;
use crate::render::text::{FAINT, STRONG, shown, styled};

/// How a release is entered.
#[derive(Clone, Copy)]
pub(super) struct Options {
    pub(super) as_listed: bool,
    pub(super) dry_run: bool,
}

pub(super) fn run(
    context: &Context,
    tool: &ToolName,
    versions: &[Version],
    options: Options,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let folder = Folder::open(&kept(context)?, None)?;
    let network = context.around.network(&context.around.home.settings()?)?;
    let cache = Cache::new(&context.around.home.artifacts);
    let progress = Progress::new(out)?;
    let entering = Entering { network: &network, cache: &cache, as_listed: options.as_listed, observer: &progress };
    let mut on_file = on_file(&folder, tool)?;
    for version in versions {
        let entered = enter(&on_file, version, entering);
        progress.finish();
        let entered = entered?;
        let told = CatalogEnter::of(tool, version, &on_file.path, &entered, options.dry_run);
        out.value(&told)?;
        tell(&told, out)?;
        let Some(text) = entered.text else { continue };
        if options.dry_run {
            out.verbatim(entered.block)?;
        } else {
            files::replace(&on_file.path, text.as_bytes())?;
        }
        // The next one stands beside this one.
        on_file.definition = Definition::parse(&Source::new(&on_file.path, text.clone()), tool.as_str())?;
        on_file.text = text;
    }
    Ok(ExitCode::SUCCESS)
}

fn tell(told: &CatalogEnter, out: &Out) -> Result<(), Problem> {
    let what = format!("{} {}", styled(STRONG, &told.tool), clean(&told.version));
    if told.there_already {
        return out.say(format!("{what} is in {} already.", shown(Path::new(&told.file))));
    }
    for CatalogFile { platforms, file, size, listed, .. } in &told.files {
        let platforms = if platforms.is_empty() { "  beside it".to_owned() } else { platforms.join(", ") };
        let how = if *listed { "as listed" } else { "hashed here" };
        let line = format!("  {platforms:<19} {} {}", clean(file), styled(FAINT, format!("{}, {how}", bytes(*size))));
        out.say(line)?;
    }
    for missing in &told.missing {
        out.say(format!("  {:<19} has no file of this version", clean(missing)))?;
    }
    let done = if told.dry_run { "would be written into" } else { "written into" };
    out.say(format!("{what} {done} {}.", shown(Path::new(&told.file))))
}
