//! Where a maker publishes one file: asked after all yards, as far as the settings allow it.

use std::collections::BTreeSet;
use std::net::ToSocketAddrs;
use std::sync::Arc;
use std::time::Duration;

use kladder_choose::address::without_password;
use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::Network;
use super::parts::Assembled;
use super::redirect::{Bounds, Question};
use super::server::{open_with, size_at};
use super::yard::{Offer, Yard, YardError, check_size};
use crate::bring::index::{IndexError, Listed};
use crate::settings::host_of;

/// The origins of an artifact that may be asked, in their order.
pub(super) fn of(artifact: &Artifact, network: &Network) -> Vec<Arc<dyn Yard>> {
    artifact.origins.iter().filter_map(|text| origin(text, &artifact.file, network)).collect()
}

/// The makers that may be asked for some artifacts: hosts and indexes, sorted.
pub fn makers<'a>(artifacts: impl Iterator<Item = &'a Artifact>, network: &Network) -> Vec<String> {
    let origins = artifacts.flat_map(|artifact| {
        artifact.origins.iter().filter_map(|text| Origin::new(text, &artifact.file, network)).collect::<Vec<_>>()
    });
    let makers: BTreeSet<String> = origins.map(|origin| origin.maker()).collect();
    makers.into_iter().collect()
}

/// Where an artifact is to be had at its makers': indexes are asked for theirs, and what cannot be told is left out.
pub fn addresses(artifact: &Artifact, network: &Network) -> Vec<String> {
    let all = artifact.origins.iter().filter_map(|text| Origin::new(text, &artifact.file, network));
    let address = |origin: Origin| match &origin.place {
        Place::At(url) => Some(url.clone()),
        Place::Listed { .. } => origin.listed().ok()?.filter(|listed| listed.parts.is_empty()).map(|listed| listed.url),
    };
    all.filter_map(address).map(|url| without_password(&url)).collect()
}

/// The indexes that a file would have to be asked of, and that the settings do not name; none where it can be had otherwise.
pub fn unnamed_indexes(artifact: &Artifact, network: &Network) -> Vec<String> {
    if network.origins.is_none() {
        return Vec::new();
    }
    let index = |text: &String| text.strip_prefix("index:").and_then(|rest| rest.split('/').next()).map(str::to_owned);
    let unnamed = |index: &String| network.indexes.kind(index).is_none();
    let all: Vec<Option<String>> = artifact.origins.iter().map(|text| index(text).filter(unnamed)).collect();
    if all.iter().any(Option::is_none) { Vec::new() } else { all.into_iter().flatten().collect() }
}

/// An origin of a file; `None` where it may not be asked.
pub fn origin(text: &str, file: &InnerPath, network: &Network) -> Option<Arc<dyn Yard>> {
    Some(Arc::new(Origin::new(text, file, network)?))
}

/// One file at its maker's.
#[derive(Clone, Debug)]
struct Origin {
    place: Place,
    network: Network,
}

/// Where it is.
#[derive(Clone, Debug)]
enum Place {
    At(String),
    /// Wherever an index says that this file of a project is.
    Listed {
        index: String,
        project: String,
        file: String,
    },
}

impl Origin {
    /// `None` where it may not be asked.
    fn new(text: &str, file: &InnerPath, network: &Network) -> Option<Self> {
        let place = match text.strip_prefix("index:").map(|rest| rest.split_once('/').unwrap_or((rest, ""))) {
            Some(_) if network.origins.is_none() => return None,
            Some((index, project)) => {
                let file = file.as_str().rsplit('/').next().unwrap_or_default().to_owned();
                Place::Listed { index: index.to_owned(), project: project.to_owned(), file }
            }
            None => Place::At(network.origins.address(text)?),
        };
        Some(Self { place, network: network.clone() })
    }

    /// Whoever publishes there, as a person knows it.
    fn maker(&self) -> String {
        match &self.place {
            Place::At(url) => host_of(url).unwrap_or_default().to_owned(),
            Place::Listed { index, .. } => format!("the index {index}"),
        }
    }

    /// What its index says of it.
    fn listed(&self) -> Result<Option<Listed>, YardError> {
        let Place::Listed { index, project, file } = &self.place else { return Ok(None) };
        let all = self.network.indexes.listed(index, project, Some(file), &self.network).map_err(Box::new)?;
        let known = all.iter().find(|listed| listed.file == *file).ok_or(YardError::NotThere)?;
        let url = self.network.origins.address(&known.url);
        // The host of an index that the settings name is one that may be asked.
        let url = url.or_else(|| self.network.indexes.is_at(index, &known.url).then(|| known.url.clone()));
        let host = || host_of(&known.url).unwrap_or_default().to_owned();
        let url = url.ok_or_else(|| YardError::SendsOn { host: host() })?;
        Ok(Some(Listed { url, ..known.clone() }))
    }

    fn url<'u>(&'u self, listed: Option<&'u Listed>) -> Result<&'u str, YardError> {
        match (&self.place, listed) {
            (_, Some(listed)) => Ok(&listed.url),
            (Place::At(url), None) => Ok(url),
            (Place::Listed { .. }, None) => Err(YardError::NotThere),
        }
    }
}

impl Yard for Origin {
    fn shown(&self) -> String {
        match &self.place {
            Place::At(url) => without_password(url),
            Place::Listed { index, project, .. } => format!("{project} in the index {index}"),
        }
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let listed = self.listed()?;
        if let Some(listed) = &listed {
            if let Some(digest) = listed.sha256().filter(|digest| *digest != artifact.sha256) {
                let error = IndexError::OtherDigest { listed: digest, expected: artifact.sha256 };
                return Err(YardError::Index(Box::new(error)));
            }
            listed.size.map_or(Ok(()), |size| check_size(size, artifact))?;
        }
        if let Some(listed) = listed.as_ref().filter(|listed| !listed.parts.is_empty()) {
            return Ok(Offer { from, body: Box::new(Assembled::new(listed, from, &self.network)) });
        }
        let authorization = listed.as_ref().and_then(|listed| listed.authorization.as_ref());
        let question = Question { from, authorization, ..Question::default() };
        open_with(self.url(listed.as_ref())?, artifact, question, &self.network, Bounds::As(&self.network.origins))
    }

    fn size(&self, _file: &InnerPath) -> Result<Option<u64>, YardError> {
        let listed = self.listed()?;
        match listed.as_ref().and_then(|listed| listed.size) {
            Some(size) => Ok(Some(size)),
            None => size_at(self.url(listed.as_ref())?, &self.network, Bounds::As(&self.network.origins)),
        }
    }

    fn answers(&self, _patience: Duration) -> bool {
        match &self.place {
            Place::At(url) => host_of(url).is_some_and(|host| (host, 443).to_socket_addrs().is_ok()),
            Place::Listed { .. } => true,
        }
    }
}
