//! `kladder catalog …`

mod attempt;
mod check;
mod draft;
mod enter;
mod fetch;
mod list;
mod look;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use kladder_choose::catalog::Definition;
use kladder_choose::ladder::{STARTER, address_of};
use kladder_choose::names::ToolName;
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::keeper::OnFile;
use kladder_tell::problem::{Code, Problem};

use crate::args::CatalogCommand;
use crate::context::Context;
use crate::render::Out;

pub(super) fn run(context: &Context, command: Option<&CatalogCommand>, out: &Out) -> Result<ExitCode, Problem> {
    let Some(command) = command else { return list::run(context, out) };
    match command {
        CatalogCommand::Draft { what, print } => draft::run(context, what, *print, out),
        CatalogCommand::Fetch => fetch::run(context, out),
        CatalogCommand::Check { folder, without_archives } => {
            check::run(context, folder.as_deref(), *without_archives, out)
        }
        CatalogCommand::Look { tools, previews } => look::run(context, tools, *previews, out),
        CatalogCommand::Try { tools, newest, at_once } => {
            attempt::run(context, &attempt::Trying { tools, newest: *newest, at_once: *at_once }, out)
        }
        CatalogCommand::Enter { tool, versions, as_listed, dry_run } => {
            let entering = enter::Options { as_listed: *as_listed, dry_run: *dry_run };
            enter::run(context, tool, versions, entering, out)
        }
    }
}

/// The folder of the catalog that is kept: the first one that is a folder here.
fn kept(context: &Context) -> Result<PathBuf, Problem> {
    folders(context)?.into_iter().next().ok_or_else(nothing_kept)
}

/// The catalogs that are folders; the one that comes with the program is kept elsewhere.
fn folders(context: &Context) -> Result<Vec<PathBuf>, Problem> {
    let all = context.around.catalog_folders()?;
    Ok(all.into_iter().filter(|one| one != Path::new(STARTER) && address_of(one).is_none()).collect())
}

fn nothing_kept() -> Problem {
    Problem::new(Code::BadFile, "no catalog of your own is named")
        .why(format!("the catalog `{STARTER}` comes with the program, and is kept where that is made"))
        .next("name a catalog's folder with `--catalog`")
}

/// A definition as it is on file.
fn on_file(catalog: &Folder, tool: &ToolName) -> Result<OnFile, Problem> {
    let missing = || Problem::new(Code::NotInCatalog, format!("the catalog has no definition of {tool}"));
    let source = catalog.on_file(tool).ok_or_else(missing)??;
    let definition = Definition::parse(&source, tool.as_str())?;
    Ok(OnFile { path: source.path.clone(), definition, text: source.text })
}
