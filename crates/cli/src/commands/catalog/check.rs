//! `kladder catalog check`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use kladder_core::bring::fetch::Cache;
use kladder_core::desk::catalogs::{AtHand, check};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{CatalogCheck, CatalogRemark};
use kladder_tell::text::{clean, count};

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, shown, styled};

pub(super) fn run(
    context: &Context,
    folder: Option<&Path>,
    without_archives: bool,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let cache = Cache::new(&context.around.home.artifacts);
    let at_hand = AtHand { cache: &cache, temporary: &context.around.host.temporary };
    let at_hand = Some(&at_hand).filter(|_| !without_archives);
    let folders = match folder {
        Some(folder) => vec![context.around.folder.join(folder)],
        None => super::folders(context)?,
    };
    if folders.is_empty() {
        return Err(super::nothing_kept());
    }
    let mut is_wrong = false;
    for folder in &folders {
        let checked = check(folder, at_hand)?;
        let folder = &folder.canonicalize().unwrap_or_else(|_| folder.clone());
        is_wrong |= checked.is_wrong();
        let found = CatalogCheck::of(&checked);
        out.value(&found)?;
        tell(&found, folder, out)?;
    }
    Ok(if is_wrong { Code::BadFile.into() } else { ExitCode::SUCCESS })
}

/// A line for each remark, like compilers have them, and how many there are.
fn tell(found: &CatalogCheck, folder: &Path, out: &Out) -> Result<(), Problem> {
    for CatalogRemark { kind, file, line, column, text } in &found.remarks {
        let file = PathBuf::from(file);
        let file = file.strip_prefix(folder).unwrap_or(&file);
        let at = line.zip(*column).map(|(line, column)| format!(":{line}:{column}")).unwrap_or_default();
        let kind = if *kind == "mistake" { styled(BAD, kind) } else { styled(FAINT, kind) };
        out.say(format!("{}{at}: {kind}: {}", shown(file), clean(text)))?;
    }
    let of_kind = |kind: &str| found.remarks.iter().filter(|remark| remark.kind == kind).count();
    let (mistakes, doubts) = (of_kind("mistake"), of_kind("doubt"));
    let tools = count(found.tools, "definition");
    let told = match (mistakes, doubts) {
        (0, 0) => styled(GOOD, "nothing to tell"),
        (0, doubts) => count(doubts, "doubt"),
        (mistakes, 0) => count(mistakes, "mistake"),
        (mistakes, doubts) => format!("{}, {}", count(mistakes, "mistake"), count(doubts, "doubt")),
    };
    out.say(format!("{} in {}: {told}.", tools, clean(&found.catalog)))
}
