//! `kladder catalog`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use kladder_choose::catalog::Catalog;
use kladder_choose::digest::{Digest, Hasher};
use kladder_choose::ladder::{STARTER, address_of};
use kladder_core::desk::catalogs::{Folder, Starter, fetched};
use kladder_tell::problem::Problem;
use kladder_tell::shapes::{CatalogHere, Catalogs};
use kladder_tell::text::clean;

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, shown, styled};

pub(super) fn run(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let all = context.around.catalog_folders()?;
    // A catalog that was never fetched is by this.
    drop(context.around.open_folders(&all)?);
    let here = value(context, &all, out)?;
    let row = |one: &CatalogHere| {
        let from = match one.from.as_str() {
            "here" => shown(Path::new(&one.place)),
            "program" => "comes with the program".to_owned(),
            _ => clean(&one.place),
        };
        let fetched = one.fetched.as_deref().and_then(|at| at.get(..10)).unwrap_or_default();
        vec![
            styled(STRONG, clean(&one.name)),
            one.tools.to_string(),
            clean(&one.title),
            from,
            fetched.to_owned(),
            styled(FAINT, "unsigned"),
        ]
    };
    out.say(out.columns(
        &["catalog", "tools", "what it is", "from", "fetched", ""],
        here.iter().map(row).collect(),
        &[1],
    ))?;
    Ok(ExitCode::SUCCESS)
}

/// Tells programs of them, the most important first.
pub(super) fn value(context: &Context, all: &[PathBuf], out: &Out) -> Result<Vec<CatalogHere>, Problem> {
    let here: Vec<CatalogHere> = all.iter().map(|catalog| one(context, catalog)).collect();
    let catalogs = Catalogs { format: Catalogs::FORMAT, catalogs: here };
    out.value(&catalogs)?;
    Ok(catalogs.catalogs)
}

/// What is found out about a catalog on this machine.
#[derive(Default)]
pub(super) struct Told {
    pub(super) name: String,
    pub(super) title: String,
    pub(super) tools: usize,
    /// Of all its definitions.
    pub(super) digest: Option<Digest>,
}

pub(super) fn told(context: &Context, catalog: &Path) -> Told {
    if catalog == Path::new(STARTER) {
        return Starter::open().map(|starter| of(&starter)).unwrap_or_default();
    }
    let folder = match address_of(catalog) {
        Some(address) => fetched::kept(address, &context.around),
        None => catalog.to_path_buf(),
    };
    Folder::open(&folder, None).map(|folder| of(&folder)).unwrap_or_default()
}

fn of(catalog: &dyn Catalog) -> Told {
    let about = catalog.about();
    let mut hasher = Hasher::default();
    for name in catalog.names() {
        let digest = catalog.definition(name.as_str()).ok().flatten().map(|(_, digest)| digest.hex());
        hasher.update([name.as_str(), " ", &digest.unwrap_or_default(), "\n"].concat().as_bytes());
    }
    let (name, title) = (about.name.clone(), about.title.clone());
    Told { name, title, tools: catalog.names().len(), digest: Some(hasher.finish()) }
}

fn one(context: &Context, catalog: &Path) -> CatalogHere {
    let Told { name, title, tools, digest } = told(context, catalog);
    let digest = digest.map(|digest| digest.hex());
    let (from, place, fetched) = match address_of(catalog) {
        _ if catalog == Path::new(STARTER) => ("program", STARTER.to_owned(), None),
        Some(address) => {
            let known = fetched::known(address, &context.around);
            ("elsewhere", kladder_choose::address::without_password(address), known.map(|known| known.at.to_string()))
        }
        None => ("here", kladder_tell::shapes::path(catalog), None),
    };
    CatalogHere { name, title, tools, from: from.to_owned(), place, fetched, digest, signed: false }
}
