//! Where artifacts come from: a folder, or a server of one (HTTP, RFC 9110).

use std::fmt;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::Network;
use crate::catalog::Artifact;
use crate::digest::Digest;

/// What stays as it is in a segment of a URL's path (RFC 3986, `unreserved`).
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A folder or server of artifacts.
#[derive(Clone, Debug, PartialEq, Eq)]
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
    /// Its certificate is not one that the platform or the settings trust.
    #[error("it is not trusted: {source}")]
    Distrusted {
        /// What is wrong with the certificate.
        source: io::Error,
    },
    /// It has no such file.
    #[error("it does not have the file")]
    NotThere,
    /// It answered with an error.
    #[error("it answered with status {status}{}", wish(*pause))]
    Status {
        /// The status.
        status: u16,
        /// How long it wants to be left alone.
        pause: Option<Duration>,
    },
    /// It sends from one address to the next without an end.
    #[error("it redirects without end")]
    Redirects,
    /// It has a file of that name, of another size.
    #[error("it offers {offered} bytes where {expected} are pinned")]
    OtherSize {
        /// Bytes that it announced.
        offered: u64,
        /// Bytes pinned.
        expected: u64,
    },
    /// It sent another part than it was asked for.
    #[error("it sent another part of the file than it was asked for")]
    OtherPart,
    /// The connection broke.
    #[error("it broke off after {got} of {expected} bytes")]
    Broke {
        /// Bytes received.
        got: u64,
        /// Bytes pinned.
        expected: u64,
        /// What the system said.
        source: io::Error,
    },
    /// It sent (almost) nothing for too long.
    #[error("it stalled for {} s after {got} of {expected} bytes", patience.as_secs())]
    Stalled {
        /// Bytes received.
        got: u64,
        /// Bytes pinned.
        expected: u64,
        /// How long it was waited for.
        patience: Duration,
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
    /// It sent a text that is longer than a text of its kind may be.
    #[error("it sent more than {most} bytes")]
    Text {
        /// Bytes that would do.
        most: u64,
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

fn wish(pause: Option<Duration>) -> String {
    pause.map(|pause| format!(" and wants to be left alone for {} s", pause.as_secs())).unwrap_or_default()
}

impl YardError {
    /// Whether the bytes themselves were wrong.
    pub fn is_integrity(&self) -> bool {
        matches!(self, Self::Long { .. } | Self::OtherDigest { .. } | Self::OtherSize { .. })
    }

    /// Whether it may do better when asked again.
    pub fn is_retryable(&self) -> bool {
        match self {
            Self::Unreachable { .. } | Self::Broke { .. } | Self::Stalled { .. } | Self::Short { .. } => true,
            // Request Timeout, Too Early, Too Many Requests, and the server's own troubles.
            Self::Status { status, .. } => matches!(status, 408 | 425 | 429 | 500..),
            _ => false,
        }
    }
}

/// What a yard has to give.
pub(super) struct Offer {
    /// The position of the first byte.
    pub(super) from: u64,
    pub(super) body: Box<dyn Read + Send>,
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

    /// Whether it is a folder that has the file.
    pub fn has_at_hand(&self, artifact: &Artifact) -> bool {
        matches!(self, Self::Folder(folder) if folder.join(&artifact.file).is_file())
    }

    /// Opens an artifact for reading, from a position on where the yard can do that.
    pub(super) fn open(&self, artifact: &Artifact, from: u64, network: &Network) -> Result<Offer, YardError> {
        match self {
            Self::Folder(folder) => open_file(folder, artifact, from),
            Self::Server(address) => open_url(address, artifact, from, network),
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

fn open_file(folder: &Path, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
    let unreachable = |source| YardError::Unreachable { source };
    fs::read_dir(folder).map_err(unreachable)?;
    let mut file = match fs::File::open(folder.join(&artifact.file)) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(YardError::NotThere),
        Err(source) => return Err(unreachable(source)),
    };
    let offered = file.metadata().map_err(unreachable)?.len();
    check_size(offered, artifact)?;
    file.seek(SeekFrom::Start(from)).map_err(unreachable)?;
    Ok(Offer { from, body: Box::new(file) })
}

fn check_size(offered: u64, artifact: &Artifact) -> Result<(), YardError> {
    if offered == artifact.size { Ok(()) } else { Err(YardError::OtherSize { offered, expected: artifact.size }) }
}

/// Reads a small text from an address, one MiB at most.
///
/// # Errors
/// [`YardError`]; [`YardError::Text`] where there is more of it.
pub fn read_text(url: &str, network: &Network) -> Result<String, YardError> {
    const MOST: u64 = 1 << 20;
    let (answer, mut text) = (get(url, 0, network)?, String::new());
    let got = answer.into_body().into_reader().take(MOST + 1).read_to_string(&mut text);
    got.map_err(|source| YardError::Broke { got: text.len() as u64, expected: MOST, source })?;
    if text.len() as u64 > MOST { Err(YardError::Text { most: MOST }) } else { Ok(text) }
}

type Answer = ureq::http::Response<ureq::Body>;

fn open_url(address: &str, artifact: &Artifact, from: u64, network: &Network) -> Result<Offer, YardError> {
    let segments: Vec<_> = artifact.file.split('/').map(|s| utf8_percent_encode(s, SEGMENT).to_string()).collect();
    let answer = get(&format!("{address}/{}", segments.join("/")), from, network)?;
    let from = if answer.status() == 206 {
        check_part(&answer, artifact, from)?;
        from
    } else {
        if let Some(length) = header(&answer, "content-length").and_then(|text| text.parse().ok()) {
            check_size(length, artifact)?;
        }
        0
    };
    Ok(Offer { from, body: Box::new(answer.into_body().into_with_config().limit(u64::MAX).reader()) })
}

fn header<'a>(answer: &'a Answer, name: &str) -> Option<&'a str> {
    answer.headers().get(name).and_then(|value| value.to_str().ok())
}

/// Holds `Content-Range: bytes FIRST-LAST/SIZE` against what was asked for (RFC 9110, section 14.4).
fn check_part(answer: &Answer, artifact: &Artifact, from: u64) -> Result<(), YardError> {
    let told = header(answer, "content-range").and_then(|text| text.strip_prefix("bytes "));
    let (range, size) = told.and_then(|text| text.split_once('/')).ok_or(YardError::OtherPart)?;
    if let Ok(size) = size.parse() {
        check_size(size, artifact)?;
    }
    let first = range.split_once('-').and_then(|(first, _)| first.parse::<u64>().ok());
    if first == Some(from) { Ok(()) } else { Err(YardError::OtherPart) }
}

/// Asks for a URL, from a position on.
fn get(url: &str, from: u64, network: &Network) -> Result<Answer, YardError> {
    let mut request = network.agent(url).get(url);
    if from > 0 {
        request = request.header("Range", format!("bytes={from}-"));
    }
    let answer = request.call().map_err(|error| match error {
        ureq::Error::TooManyRedirects => YardError::Redirects,
        error => unanswered(error.into_io()),
    })?;
    match answer.status().as_u16() {
        200 => Ok(answer),
        206 if from > 0 => Ok(answer),
        404 | 410 => Err(YardError::NotThere),
        416 => Err(YardError::OtherPart),
        status => Err(YardError::Status { status, pause: header(&answer, "retry-after").and_then(pause) }),
    }
}

/// Why there is no answer at all.
fn unanswered(source: io::Error) -> YardError {
    match source.get_ref().and_then(|inner| inner.downcast_ref()) {
        Some(rustls::Error::InvalidCertificate(_)) => YardError::Distrusted { source },
        _ => YardError::Unreachable { source },
    }
}

/// Seconds, or a date (RFC 9110, section 10.2.3).
fn pause(text: &str) -> Option<Duration> {
    if let Ok(seconds) = text.trim().parse() {
        return Some(Duration::from_secs(seconds));
    }
    let then = jiff::fmt::rfc2822::parse(text.trim()).ok()?.timestamp();
    Some(Duration::try_from(then.duration_since(jiff::Timestamp::now())).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pause_is_told_in_seconds_or_as_a_date() {
        assert_eq!(pause("7"), Some(Duration::from_secs(7)));
        assert_eq!(pause("Mon, 24 Aug 2015 10:00:00 GMT"), Some(Duration::ZERO), "it is over");
        assert_eq!(pause("soon"), None);
        let then = jiff::Timestamp::now().as_second() + 40;
        let then = jiff::fmt::rfc2822::to_string(
            &jiff::Timestamp::from_second(then).unwrap().to_zoned(jiff::tz::TimeZone::UTC),
        );
        let pause = pause(&then.unwrap().replace("+0000", "GMT")).unwrap();
        assert!((38..=40).contains(&pause.as_secs()), "{pause:?}");
    }
}
