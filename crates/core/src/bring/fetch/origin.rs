//! Where a maker publishes one file: asked after all yards, as far as the settings allow it.

use std::collections::BTreeSet;
use std::net::ToSocketAddrs;
use std::sync::Arc;
use std::time::Duration;

use kladder_choose::address::without_password;
use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::Network;
use super::redirect::Bounds;
use super::server::{open_at, size_at};
use super::yard::{Offer, Yard, YardError};
use crate::settings::host_of;

/// The origins of an artifact that may be asked, in their order.
pub(super) fn of(artifact: &Artifact, network: &Network) -> Vec<Arc<dyn Yard>> {
    let addresses = artifact.origins.iter().filter_map(|url| network.origins.address(url));
    addresses.map(|url| Arc::new(Origin { url, network: network.clone() }) as Arc<dyn Yard>).collect()
}

/// The hosts of makers that may be asked for some artifacts, sorted.
pub fn makers<'a>(artifacts: impl Iterator<Item = &'a Artifact>, network: &Network) -> Vec<String> {
    let addresses = artifacts.flat_map(|artifact| &artifact.origins).filter_map(|url| network.origins.address(url));
    let hosts: BTreeSet<String> = addresses.filter_map(|url| host_of(&url).map(str::to_owned)).collect();
    hosts.into_iter().collect()
}

/// How large the file at an origin is, in bytes; `None` where it may not be asked, or does not tell.
pub fn size_of(url: &str, network: &Network) -> Option<u64> {
    size_at(&network.origins.address(url)?, network, Bounds::As(&network.origins))
}

/// One file at its maker's.
#[derive(Clone, Debug)]
struct Origin {
    url: String,
    network: Network,
}

impl Yard for Origin {
    fn shown(&self) -> String {
        without_password(&self.url)
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        open_at(&self.url, artifact, from, &self.network, Bounds::As(&self.network.origins))
    }

    fn size(&self, _file: &InnerPath) -> Option<u64> {
        size_at(&self.url, &self.network, Bounds::As(&self.network.origins))
    }

    fn answers(&self, _patience: Duration) -> bool {
        host_of(&self.url).is_some_and(|host| (host, 443).to_socket_addrs().is_ok())
    }
}
