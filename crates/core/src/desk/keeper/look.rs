//! What makers have published that a definition lacks.

use std::collections::BTreeMap;

use kladder_choose::catalog::Definition;
use kladder_choose::version::Version;

use super::{names, sources, version_of};
use crate::bring::fetch::Network;
use crate::bring::index::{IndexError, Listed};
use crate::settings::IndexKind;

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

/// Until when a maker looks after a series.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Support {
    /// What its versions begin with.
    pub series: String,
    /// The last day, as `YYYY-MM-DD`.
    pub until: String,
    /// That day is over, in UTC.
    pub is_over: bool,
}

/// What came of a look at one tool.
#[derive(Debug)]
pub enum Looked {
    /// Its definition names no index.
    NoIndex,
    /// What it lacks of what is newer than all that it has, newest first; and until when series are looked after, by their names.
    Found(Vec<News>, Vec<Support>),
    /// Its index could not be asked.
    Failed(IndexError),
}

/// Looks where a definition says that its files are listed. Versions that were taken back are left out.
pub fn look(definition: &Definition, network: &Network) -> Looked {
    let newest = definition.releases.first().map(|release| &release.version);
    let some = newest.cloned().or_else(|| "0".parse().ok());
    let all = some.map(|version| sources(definition, &version)).unwrap_or_default();
    let Some(source) = all.first() else { return Looked::NoIndex };
    let feeds = all[1..].iter().filter(|source| network.kind_of_index(&source.index) == Some(IndexKind::Feed));
    let listed: Result<Vec<Vec<Listed>>, IndexError> =
        std::iter::once(source).chain(feeds).map(|source| source.listed(network)).collect();
    let listed = match listed {
        Ok(listed) => listed,
        Err(error) => return Looked::Failed(error),
    };
    let today = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date().to_string();
    let supported = |file: &Listed| {
        let (series, until) = (file.version.clone()?, file.until.clone()?);
        Some(Support { series, is_over: until < today, until })
    };
    let mut supports: Vec<Support> = listed.iter().flatten().filter_map(supported).collect();
    supports.sort();
    supports.dedup();
    let mut found: BTreeMap<String, News> = BTreeMap::new();
    let is_release = |file: &&Listed| !file.withdrawn && file.until.is_none() && names::fit(&file.file).is_some();
    for file in listed[0].iter().filter(is_release) {
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
    Looked::Found(found, supports)
}
