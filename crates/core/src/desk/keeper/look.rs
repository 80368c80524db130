//! What makers have published that a definition lacks.

use std::collections::BTreeMap;

use kladder_choose::catalog::Definition;
use kladder_choose::version::Version;

use super::{names, sources, version_of};
use crate::bring::fetch::Network;
use crate::bring::index::IndexError;

/// What is new of a tool.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct News {
    /// A version that the definition lacks.
    pub version: Version,
    /// The day it was published, as `YYYY-MM-DD`, where its index says so.
    pub date: Option<String>,
    /// It comes before the version that it prepares.
    pub preview: bool,
}

/// What came of a look at one tool.
#[derive(Debug)]
pub enum Looked {
    /// Its definition names no index.
    NoIndex,
    /// What it lacks of what is newer than all that it has, newest first.
    Found(Vec<News>),
    /// Its index could not be asked.
    Failed(IndexError),
}

/// Looks where a definition says that its files are listed. Versions that were taken back are left out.
pub fn look(definition: &Definition, network: &Network) -> Looked {
    let newest = definition.releases.first().map(|release| &release.version);
    let some = newest.cloned().or_else(|| "0".parse().ok());
    let all = some.map(|version| sources(definition, &version)).unwrap_or_default();
    let Some(source) = all.first() else { return Looked::NoIndex };
    let listed = match source.listed(network) {
        Ok(listed) => listed,
        Err(error) => return Looked::Failed(error),
    };
    let mut found: BTreeMap<String, News> = BTreeMap::new();
    for file in listed.iter().filter(|file| !file.withdrawn && names::fit(&file.file).is_some()) {
        let Some(version) = version_of(file) else { continue };
        let is_newer = newest.is_none_or(|newest| definition.scheme.compare(&version, newest).is_gt());
        if is_newer && definition.release(&version).is_none() {
            let preview = names::is_preview(&version);
            let news = News { preview, date: file.date.clone(), version };
            found.entry(news.version.as_str().to_owned()).or_insert(news);
        }
    }
    let mut found: Vec<News> = found.into_values().collect();
    found.sort_by(|a, b| definition.scheme.compare(&b.version, &a.version));
    Looked::Found(found)
}
