//! What keepers of a catalog do with what makers publish: see what is new, and enter it.

mod block;
mod draft;
mod enter;
mod look;
mod metadata;
mod names;

pub use draft::{DraftError, Draftable, Drafted, Drafting, draft};
pub use enter::{EnterError, Entered, EnteredFile, Entering, enter};
pub use look::{Looked, News, Support, look};
pub(super) use metadata::{in_archive, in_wheel};

use std::path::PathBuf;

use kladder_choose::catalog::Definition;
use kladder_choose::platform::Scope;
use kladder_choose::version::Version;

use crate::bring::fetch::Network;
use crate::bring::index::{IndexError, Listed};

/// A place where files of a tool are listed: an index and what the tool is called there, and for which platforms that holds.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Source {
    index: String,
    project: String,
    scopes: Vec<Scope>,
}

/// Where a definition says that its files are listed: by itself, or for some platforms.
fn sources(definition: &Definition, version: &Version) -> Vec<Source> {
    let own = std::iter::once((&definition.says, Vec::new()));
    let blocks = definition.also.iter().filter(|block| block.when.piece.is_none());
    let parts = own.chain(blocks.map(|block| (&block.says, block.when.on.clone())));
    let each = parts.flat_map(|(says, scopes)| {
        says.origins.iter().filter_map(move |origin| {
            let (index, project) = origin.listed(version)?;
            Some(Source { index, project, scopes: scopes.clone() })
        })
    });
    each.collect()
}

impl Source {
    fn listed(&self, network: &Network) -> Result<Vec<Listed>, IndexError> {
        let listed = network.listed(&self.index, &self.project)?;
        Ok(built(&listed))
    }
}

/// Without source archives where there is something that was built.
fn built(listed: &[Listed]) -> Vec<Listed> {
    let any = listed.iter().any(Listed::is_wheel);
    listed.iter().filter(|file| !any || file.is_wheel()).cloned().collect()
}

/// The version that a listed file is of, as its maker calls it.
fn version_of(listed: &Listed) -> Option<Version> {
    let text = listed.version.as_deref()?;
    let text = if listed.is_package() { names::upstream(text) } else { text };
    text.parse().ok()
}

/// A definition on file.
#[derive(Clone, Debug)]
pub struct OnFile {
    /// Where it is.
    pub path: PathBuf,
    /// What it says.
    pub definition: Definition,
    /// Its text.
    pub text: String,
}
