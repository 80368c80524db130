//! Who is in the room.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use kladder_yard::{Settings, Yard};
use mdns_sd::{ResolvedService, ServiceDaemon, ServiceEvent, ServiceInfo};

use super::lent::Lent;
use crate::base::digest::Digest;
use crate::settings::NeighbourSetting;

/// The kind of service (RFC 6763, section 7).
const KIND: &str = "_kladder._tcp.local.";
/// How long the others are waited for: probing and announcing take a good second (RFC 6762, section 8).
const SETTLE: Duration = Duration::from_millis(2500);

/// Why one cannot be in the room.
#[derive(Debug, thiserror::Error)]
pub enum RoomError {
    /// The port is not to be had.
    #[error("port {port} cannot be listened on")]
    Listen {
        /// The port; 0 for any.
        port: u16,
        /// What the system said.
        source: io::Error,
    },
    /// Multicast does not work.
    #[error("the network does not let machines find each other")]
    Find(#[from] mdns_sd::Error),
}

/// Who was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The port that this machine listens on.
    pub port: u16,
    /// The others.
    pub others: Vec<SocketAddr>,
}

/// Somebody in the room.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Who {
    Own,
    Other(SocketAddr),
}

/// The room, with this machine in it.
pub(super) struct Room {
    own: String,
    named: Vec<SocketAddr>,
    others: Arc<Mutex<BTreeMap<String, SocketAddr>>>,
    server: Yard,
    daemon: Option<ServiceDaemon>,
    since: Instant,
    /// Nobody is looked for, so that nobody need be waited for.
    is_named: bool,
}

impl std::fmt::Debug for Room {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Room").field("own", &self.own).field("others", &self.others).finish_non_exhaustive()
    }
}

impl Room {
    pub(super) fn enter(setting: &NeighbourSetting, lent: &Arc<Lent>) -> Result<Self, RoomError> {
        let settings = Settings { giver: Some(Arc::clone(lent) as _), ..Settings::default() };
        let port = setting.port.unwrap_or(0);
        let server = Yard::with(settings, SocketAddr::new(Ipv4Addr::UNSPECIFIED.into(), port))
            .map_err(|source| RoomError::Listen { port, source })?;
        let others = Arc::default();
        let own = name(server.port());
        lent.is_called(&own);
        let daemon = setting.find.then(|| announce(&own, server.port(), &others)).transpose()?;
        let named = setting.named.clone();
        Ok(Self { own, named, others, server, daemon, since: Instant::now(), is_named: !setting.find })
    }

    pub(super) fn port(&self) -> u16 {
        self.server.port()
    }

    fn others(&self) -> MutexGuard<'_, BTreeMap<String, SocketAddr>> {
        self.others.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn found(&self) -> Found {
        let found: BTreeSet<SocketAddr> = self.others().values().chain(&self.named).copied().collect();
        Found { port: self.port(), others: found.into_iter().collect() }
    }

    /// Those of the settings whose names are not known yet: they count in the order for all only by that.
    pub(super) fn nameless(&self) -> Vec<SocketAddr> {
        let others = self.others();
        self.named.iter().filter(|named| !others.values().any(|known| known == *named)).copied().collect()
    }

    /// One of the settings said what it is called.
    pub(super) fn is_called(&self, address: SocketAddr, name: String) {
        if name != self.own {
            self.others().insert(name, address);
        }
    }

    /// Waits until the others may be known.
    pub(super) fn settle(&self) {
        if !self.is_named {
            thread::sleep(SETTLE.saturating_sub(self.since.elapsed()));
        }
    }

    /// All by the weight that they have for a digest, the heaviest first: the same order wherever the same are known.
    pub(super) fn ranked(&self, digest: &Digest) -> Vec<Who> {
        let others = self.others();
        let all = others.iter().map(|(name, address)| (name.as_str(), Who::Other(*address)));
        let mut all: Vec<(Digest, Who)> = all
            .chain([(self.own.as_str(), Who::Own)])
            .map(|(name, who)| (Digest::of(format!("{} {name}", digest.hex()).as_bytes()), who))
            .collect();
        all.sort_by_key(|(weight, _)| std::cmp::Reverse(*weight));
        all.into_iter().map(|(_, who)| who).collect()
    }
}

impl Drop for Room {
    /// Says goodbye, so that nobody asks here any more.
    fn drop(&mut self) {
        let Some(daemon) = self.daemon.take() else { return };
        // Whoever does not hear it finds that nobody answers.
        if let Ok(gone) = daemon.unregister(&format!("{}.{KIND}", self.own)) {
            let _ = gone.recv_timeout(Duration::from_secs(1));
        }
        let _ = daemon.shutdown();
    }
}

/// A name that nobody else in the room has.
fn name(port: u16) -> String {
    let now = jiff::Timestamp::now().as_nanosecond();
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    Digest::of(format!("{host} {} {port} {now}", std::process::id()).as_bytes()).hex()[..16].to_owned()
}

fn announce(
    own: &str,
    port: u16,
    others: &Arc<Mutex<BTreeMap<String, SocketAddr>>>,
) -> Result<ServiceDaemon, mdns_sd::Error> {
    let daemon = ServiceDaemon::new()?;
    let none: &[(&str, &str)] = &[];
    let service = ServiceInfo::new(KIND, own, &format!("kladder-{own}.local."), "", port, none)?.enable_addr_auto();
    daemon.register(service)?;
    let (heard, own, others) = (daemon.browse(KIND)?, own.to_owned(), Arc::clone(others));
    let name_of = |full: &str| full.split('.').next().unwrap_or_default().to_owned();
    thread::spawn(move || {
        while let Ok(event) = heard.recv() {
            let mut others = others.lock().unwrap_or_else(PoisonError::into_inner);
            match event {
                ServiceEvent::ServiceResolved(service) => {
                    let name = name_of(&service.fullname);
                    if let Some(address) = address(&service).filter(|_| name != own) {
                        others.insert(name, address);
                    }
                }
                ServiceEvent::ServiceRemoved(_, full) => {
                    others.remove(&name_of(&full));
                }
                _ => {}
            }
        }
    });
    Ok(daemon)
}

/// Where one is to be reached: all listen for IPv4.
fn address(service: &ResolvedService) -> Option<SocketAddr> {
    let mut all: Vec<IpAddr> =
        service.addresses.iter().map(mdns_sd::ScopedIp::to_ip_addr).filter(IpAddr::is_ipv4).collect();
    // The same machine may have several; what is not its own loopback is what others reach.
    all.sort_by_key(|ip| (ip.is_loopback(), *ip));
    Some(SocketAddr::new(*all.first()?, service.port))
}
