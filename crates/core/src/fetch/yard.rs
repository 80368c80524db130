//! Where artifacts come from: a folder, or a server of one (HTTP, RFC 9110).

use std::fmt;
use std::fs;
use std::io::{self, Read};
use std::path::PathBuf;
use std::time::Duration;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use crate::catalog::Artifact;
use crate::digest::Digest;

/// What stays as it is in a segment of a URL's path (RFC 3986, `unreserved`).
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

const CONNECT: Duration = Duration::from_secs(10);
const ANSWER: Duration = Duration::from_secs(30);
/// Slower than this in bytes a second, over the whole file, counts as not coming at all.
const SLOWEST: u64 = 8 * 1024;
const REDIRECTS: u32 = 5;

/// A folder or server of artifacts.
#[derive(Clone, Debug)]
pub enum Yard {
    /// A folder on this machine.
    Folder(PathBuf),
    /// A server; the address has no slash at its end.
    Server(String),
}

/// What went wrong with one yard.
#[derive(Debug, thiserror::Error)]
pub enum YardError {
    /// It is not there, or does not answer.
    #[error("it cannot be reached: {source}")]
    Unreachable {
        /// What the system said.
        source: io::Error,
    },
    /// It has no such file.
    #[error("it does not have the file")]
    NotThere,
    /// It answered with an error.
    #[error("it answered with status {0}")]
    Status(u16),
    /// The connection broke, or the time ran out.
    #[error("it broke off after {got} of {expected} bytes")]
    Broke {
        /// Bytes received.
        got: u64,
        /// Bytes pinned.
        expected: u64,
        /// What the system said.
        source: io::Error,
    },
    /// It sent fewer bytes than are pinned.
    #[error("it sent {got} of {expected} bytes")]
    Short {
        /// Bytes received.
        got: u64,
        /// Bytes pinned.
        expected: u64,
    },
    /// It sent more bytes than are pinned.
    #[error("it sent more than the {expected} bytes that are pinned")]
    Long {
        /// Bytes pinned.
        expected: u64,
    },
    /// It sent other bytes than are pinned.
    #[error("its bytes are not the pinned ones")]
    OtherDigest {
        /// The digest of what came.
        got: Digest,
        /// The digest that is pinned.
        expected: Digest,
    },
}

impl YardError {
    /// Whether the bytes themselves were wrong.
    pub fn is_integrity(&self) -> bool {
        matches!(self, Self::Long { .. } | Self::OtherDigest { .. })
    }
}

impl Yard {
    /// A yard as it is written in a ladder, catalog or setting.
    pub fn parse(text: &str) -> Self {
        if text.starts_with("http://") || text.starts_with("https://") {
            return Self::Server(text.trim_end_matches('/').to_owned());
        }
        Self::Folder(PathBuf::from(text))
    }

    /// The `HOST:PORT` of a server.
    pub fn socket(&self) -> Option<String> {
        let Self::Server(address) = self else { return None };
        let (scheme, rest) = address.split_once("://")?;
        let host = rest.split('/').next()?.rsplit('@').next()?;
        let port = if scheme == "https" { 443 } else { 80 };
        let has_port = host.rsplit(']').next().is_some_and(|end| end.contains(':'));
        Some(if has_port { host.to_owned() } else { format!("{host}:{port}") })
    }

    /// Opens an artifact for reading.
    pub(super) fn open(&self, artifact: &Artifact) -> Result<Box<dyn Read>, YardError> {
        match self {
            Self::Folder(folder) => open_file(folder, &artifact.file),
            Self::Server(address) => open_url(address, artifact),
        }
    }
}

impl fmt::Display for Yard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder(folder) => folder.display().fmt(f),
            Self::Server(address) => address.fmt(f),
        }
    }
}

fn open_file(folder: &std::path::Path, file: &str) -> Result<Box<dyn Read>, YardError> {
    if let Err(source) = fs::read_dir(folder) {
        return Err(YardError::Unreachable { source });
    }
    match fs::File::open(folder.join(file)) {
        Ok(file) => Ok(Box::new(file)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Err(YardError::NotThere),
        Err(source) => Err(YardError::Unreachable { source }),
    }
}

/// Reads a small text from an address, one MiB at most.
pub fn read_text(url: &str) -> Result<String, YardError> {
    const MOST: u64 = 1 << 20;
    let mut text = String::new();
    let got = get(url, url, MOST)?.take(MOST).read_to_string(&mut text);
    got.map_err(|source| YardError::Broke { got: text.len() as u64, expected: MOST, source })?;
    Ok(text)
}

fn open_url(address: &str, artifact: &Artifact) -> Result<Box<dyn Read>, YardError> {
    let segments: Vec<_> = artifact.file.split('/').map(|s| utf8_percent_encode(s, SEGMENT).to_string()).collect();
    get(address, &format!("{address}/{}", segments.join("/")), artifact.size)
}

/// Opens a URL of the server at `address`; `size` decides how long it may take.
fn get(address: &str, url: &str, size: u64) -> Result<Box<dyn Read>, YardError> {
    let mut config = ureq::Agent::config_builder()
        .timeout_connect(Some(CONNECT))
        .timeout_recv_response(Some(ANSWER))
        .timeout_recv_body(Some(ANSWER + Duration::from_secs(size / SLOWEST)))
        .max_redirects(REDIRECTS)
        .http_status_as_error(false)
        .user_agent(concat!("kladder/", env!("CARGO_PKG_VERSION")));
    if is_loopback(address) {
        // A proxy for the wide world cannot reach a yard on this machine.
        config = config.proxy(None);
    }
    let answer = config.build().new_agent().get(url).call();
    let answer = answer.map_err(|error| YardError::Unreachable { source: error.into_io() })?;
    match answer.status().as_u16() {
        200 => Ok(Box::new(answer.into_body().into_with_config().limit(u64::MAX).reader())),
        404 | 410 => Err(YardError::NotThere),
        status => Err(YardError::Status(status)),
    }
}

fn is_loopback(address: &str) -> bool {
    let host = address.split("://").nth(1).unwrap_or_default();
    ["127.", "localhost", "[::1]"].iter().any(|loopback| host.starts_with(loopback))
}
