//! The way to servers, with the manners that the settings ask for.

use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::sets::ListedPackage;
use ureq::http::Uri;
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig};

use super::document::{Document, Reading};
use super::redirect::Bounds;
use super::sign_in::SignIns;
use super::yard::YardError;
use crate::base::files::{self, Attach, FileError};
use crate::bring::index::{Around, IndexError, Indexes, Listed};
use crate::host::survey::Environment;
use crate::settings::{IndexKind, Manners, OriginRules, Rate, Settings};

/// Looking up an address and connecting to it takes no longer than this.
const CONNECT: Duration = Duration::from_secs(10);
/// A yard must send this much in a second, over the time that it is waited for, or it counts as stalled.
const SLOWEST: u64 = 512;
/// A thread that nobody waits for any more ends this much later.
const LATER: Duration = Duration::from_secs(5);

/// Why the network cannot be used as the settings have it.
#[derive(Debug, thiserror::Error)]
pub enum NetworkError {
    /// The proxy is no address.
    #[error("`{0}` is not the address of a proxy")]
    Proxy(String),
    /// The certificates could not be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The file has no certificate.
    #[error("{} has no certificate in it", .0.display())]
    NoCertificate(PathBuf),
}

/// The network, used with manners.
#[derive(Clone, Debug)]
pub struct Network {
    far: ureq::Agent,
    near: ureq::Agent,
    /// How often a broken yard is tried again.
    pub(super) retries: u32,
    /// How long nothing may happen.
    pub(super) patience: Duration,
    /// The pause before the first retry.
    pub(super) pause: Duration,
    /// Which origins may be asked.
    pub(in crate::bring) origins: Arc<OriginRules>,
    /// Which indexes there are.
    pub(in crate::bring) indexes: Arc<Indexes>,
    /// Who signs in where.
    pub(super) sign_ins: Arc<SignIns>,
    /// The caller's variables.
    pub(super) environment: Environment,
    /// Where a person's downloads are.
    pub(super) downloads: Option<PathBuf>,
    at_once: Option<usize>,
    pace: Option<Arc<Pace>>,
}

impl Network {
    /// The network as the settings have it.
    ///
    /// # Errors
    /// [`NetworkError`] where the proxy is no address or the certificates cannot be used; nothing is connected to yet.
    pub fn new(manners: &Manners) -> Result<Self, NetworkError> {
        let patience = Duration::from_secs(manners.patience.max(1));
        let roots = manners.certificates.as_deref().map_or(Ok(RootCerts::PlatformVerifier), certificates)?;
        let agent = || {
            ureq::Agent::config_builder()
                .timeout_connect(Some(CONNECT.min(patience)))
                .timeout_recv_response(Some(patience + LATER))
                .timeout_per_read(Some(patience + LATER))
                .max_redirects(0)
                .http_status_as_error(false)
                .tls_config(TlsConfig::builder().root_certs(roots.clone()).build())
                .user_agent(concat!("kladder/", env!("CARGO_PKG_VERSION")))
        };
        let mut far = agent();
        if let Some(proxy) = &manners.proxy {
            far = far.proxy(Some(ureq::Proxy::new(proxy).map_err(|_| NetworkError::Proxy(proxy.clone()))?));
        }
        Ok(Self {
            far: far.build().new_agent(),
            // A proxy for the wide world cannot reach a yard on this machine.
            near: agent().proxy(None).build().new_agent(),
            retries: manners.retries,
            patience,
            pause: Duration::from_millis(300),
            origins: Arc::default(),
            indexes: Arc::default(),
            sign_ins: Arc::default(),
            environment: Environment::default(),
            downloads: None,
            at_once: manners.at_once,
            pace: manners.rate.map(|rate| Arc::new(Pace::new(rate))),
        })
    }

    /// The same, asking origins and indexes as the settings have it, and signing in as the caller's.
    #[must_use]
    pub fn asking(self, settings: &Settings, around: Around) -> Self {
        let sign_ins = SignIns::new(settings.sign_ins.clone(), around.environment.clone(), around.home.clone());
        Self {
            environment: around.environment.clone(),
            downloads: super::person::downloads(&around),
            origins: Arc::new(settings.origins.clone()),
            indexes: Arc::new(Indexes::new(settings.indexes.clone(), around)),
            sign_ins: Arc::new(sign_ins),
            ..self
        }
    }

    /// The files that an index lists under a name.
    ///
    /// # Errors
    /// [`IndexError`].
    pub fn listed(&self, index: &str, project: &str) -> Result<Arc<Vec<Listed>>, IndexError> {
        self.indexes.listed(index, project, None, self)
    }

    /// What a registry of packages says of one; `None` where it has none of that name.
    ///
    /// # Errors
    /// [`IndexError`].
    pub fn package(&self, index: &str, name: &str) -> Result<Option<ListedPackage>, IndexError> {
        self.indexes.package(index, name, self)
    }

    /// How often something is tried again, and the pause before the first time.
    pub fn tries(&self) -> (u32, Duration) {
        (self.retries, self.pause)
    }

    /// What kind of index is called so; `None` where the settings name none.
    pub fn kind_of_index(&self, index: &str) -> Option<IndexKind> {
        self.indexes.kind(index)
    }

    /// A text that lies beside a listed file, under its name with an ending; `None` where there is none.
    pub fn beside(&self, file: &Listed, ending: &str) -> Option<String> {
        let url = self.allowed(&file.url)? + ending;
        let reading = Reading { authorization: file.authorization.as_ref(), ..Reading::of(4 << 20) };
        String::from_utf8(self.read_of_index(&url, reading).ok()?.bytes).ok()
    }

    /// The address to ask for what an index lists; `None` where that is not allowed.
    pub(super) fn allowed(&self, url: &str) -> Option<String> {
        self.origins.address(url).or_else(|| self.indexes.is_anywhere(url).then(|| url.to_owned()))
    }

    /// Reads what an index answers.
    ///
    /// # Errors
    /// [`YardError`].
    pub(in crate::bring) fn read_of_index(&self, url: &str, reading: Reading<'_>) -> Result<Document, YardError> {
        super::document::read(url, reading, self, Bounds::As(&self.origins))
    }

    /// How many rungs are brought in at once: one more than there are cores, since one waits for its server or the disk.
    pub fn at_once(&self) -> usize {
        let usual = || thread::available_parallelism().map_or(3, |cores| cores.get() + 1).clamp(3, 5);
        self.at_once.unwrap_or_else(usual).max(1)
    }

    /// The way to whoever is on the same network.
    pub(super) fn near(&self) -> &ureq::Agent {
        &self.near
    }

    pub(super) fn agent(&self, address: &str) -> &ureq::Agent {
        if is_loopback(address) { &self.near } else { &self.far }
    }

    /// How many bytes must come in the time that is waited for; no more than half of what the rate allows.
    pub(super) fn least(&self) -> u64 {
        let slowest = self.pace.as_ref().map_or(SLOWEST, |pace| SLOWEST.min(pace.rate.0 / 2));
        slowest * self.patience.as_secs()
    }

    /// How long to wait before more than `bytes` further ones are asked for.
    pub(super) fn owed(&self, bytes: usize) -> Duration {
        self.pace.as_ref().map_or(Duration::ZERO, |pace| pace.owed(bytes))
    }
}

pub(super) fn is_loopback(address: &str) -> bool {
    let uri: Option<Uri> = address.parse().ok();
    let host = uri.as_ref().and_then(Uri::host).unwrap_or_default().trim_matches(['[', ']']);
    host == "localhost" || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// The platform's certificates and those of a file.
fn certificates(file: &Path) -> Result<RootCerts, NetworkError> {
    let pem = files::read(file)?;
    let items: Result<Vec<_>, _> = ureq::tls::parse_pem(&pem).collect();
    let items = items.map_err(|error| io::Error::other(error.to_string())).on("read the certificates in", file)?;
    let mut all: Vec<Certificate<'static>> = Vec::new();
    all.extend(
        items.into_iter().filter_map(|item| if let PemItem::Certificate(one) = item { Some(one) } else { None }),
    );
    if all.is_empty() {
        return Err(NetworkError::NoCertificate(file.to_path_buf()));
    }
    // A platform certificate that cannot be read is one that is not trusted.
    let platform = rustls_native_certs::load_native_certs().certs;
    all.extend(platform.iter().map(|one| Certificate::from_der(one.as_ref()).to_owned()));
    Ok(RootCerts::new_with_certs(&all))
}

/// A rate that all downloads share: each byte moves the moment at which the next may come.
#[derive(Debug)]
struct Pace {
    rate: Rate,
    free: Mutex<Instant>,
}

impl Pace {
    fn new(rate: Rate) -> Self {
        Self { rate, free: Mutex::new(Instant::now()) }
    }

    fn owed(&self, bytes: usize) -> Duration {
        let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        let nanos = bytes as u128 * 1_000_000_000 / u128::from(self.rate.0);
        *free = (*free).max(now) + Duration::from_nanos(u64::try_from(nanos).unwrap_or(u64::MAX));
        free.duration_since(now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_pace_is_shared_and_what_was_not_used_is_not_saved_up() {
        let pace = Pace::new(Rate(1000));
        std::thread::sleep(Duration::from_millis(20));
        let (first, second) = (pace.owed(500), pace.owed(500));
        assert!(first > Duration::from_millis(490) && first <= Duration::from_millis(500), "{first:?}");
        assert!(second > Duration::from_millis(950) && second <= Duration::from_secs(1), "{second:?}");
    }
}
