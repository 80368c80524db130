//! A yard that is an HTTP server (RFC 9110).
//!
//! GET (HEAD for a size); `Retry-After` as seconds or a date (RFC 9110, section 10.2.3). Status 404 and 410
//! mean that the file is not there, 416 that another part was sent than was asked for; any other one but 200 and 206 is told.

use std::io;
use std::net::{TcpStream, ToSocketAddrs};
use std::time::Duration;

use kladder_choose::address::without_password;
use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::Network;
use super::redirect::{Bounds, Question, follow};
use super::yard::{Offer, Yard, YardError, check_size};
use crate::settings::host_of;

/// What stays as it is in a segment of a URL's path (RFC 3986, `unreserved`).
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Connecting to somebody on the same network takes no longer than this.
const NEAR: Duration = Duration::from_secs(2);

/// A server of artifacts; its address has no slash at its end.
#[derive(Clone, Debug)]
pub(super) struct Server {
    address: String,
    network: Network,
}

impl Server {
    pub(super) fn new(address: &str, network: &Network) -> Self {
        Self { address: address.trim_end_matches('/').to_owned(), network: network.clone() }
    }
}

impl Yard for Server {
    fn shown(&self) -> String {
        without_password(&self.address)
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        open_at(&url_of(&self.address, &artifact.file), artifact, from, &self.network, Bounds::Anywhere)
    }

    fn size(&self, file: &InnerPath) -> Result<Option<u64>, YardError> {
        size_at(&url_of(&self.address, file), &self.network, Bounds::Anywhere)
    }

    fn answers(&self, patience: Duration) -> bool {
        connects(&self.address, patience)
    }
}

/// Whether something listens where an address leads.
pub(super) fn connects(url: &str, patience: Duration) -> bool {
    let addresses = socket(url).and_then(|socket| socket.to_socket_addrs().ok());
    let first = addresses.and_then(|mut addresses| addresses.next());
    first.is_some_and(|address| TcpStream::connect_timeout(&address, patience).is_ok())
}

/// `HOST:PORT` of an address.
fn socket(url: &str) -> Option<String> {
    let (scheme, rest) = url.split_once("://")?;
    let host = rest.split('/').next()?.rsplit('@').next()?;
    let port = if scheme == "https" { 443 } else { 80 };
    let has_port = host.rsplit(']').next().is_some_and(|end| end.contains(':'));
    Some(if has_port { host.to_owned() } else { format!("{host}:{port}") })
}

pub(in crate::bring) type Answer = ureq::http::Response<ureq::Body>;

/// How large what is at an address is, in bytes; `None` where that is not told.
pub(super) fn size_at(url: &str, network: &Network, bounds: Bounds<'_>) -> Result<Option<u64>, YardError> {
    let answer = get(url, Question { head: true, ..Question::default() }, network, bounds)?;
    Ok(header(&answer, "content-length").and_then(|text| text.parse().ok()))
}

/// Asks somebody on the same network, past any proxy and without following anybody; the answer may be any.
///
/// # Errors
/// What the system said.
pub(in crate::bring) fn read_from_near(
    network: &Network,
    url: &str,
    from: u64,
    patience: Duration,
) -> io::Result<Answer> {
    let mut request = network.near().get(url);
    if from > 0 {
        request = request.header("Range", format!("bytes={from}-"));
    }
    let timed = request.config().timeout_connect(Some(NEAR)).timeout_recv_response(Some(patience)).build();
    timed.call().map_err(ureq::Error::into_io)
}

/// Puts a small text where somebody collects such.
///
/// # Errors
/// [`YardError`].
pub fn put_text(url: &str, text: &str, network: &Network) -> Result<(), YardError> {
    let host = || host_of(url).unwrap_or_default().to_owned();
    let who = network.sign_ins.at(url).map_err(|source| YardError::SignIn { host: host(), source })?;
    let mut request = network.agent(url).put(url).content_type("application/json");
    if let Some(who) = &who {
        request = request.header("Authorization", who.value());
    }
    let timed = request.config().timeout_send_body(Some(network.patience)).build();
    let answer = timed.send(text).map_err(|error| unanswered(error.into_io()))?;
    match answer.status().as_u16() {
        200..=299 => Ok(()),
        401 | 403 => Err(YardError::WhoAsks { host: host(), told: who.is_some(), how: None }),
        404 | 405 => Err(YardError::NotThere),
        status => Err(YardError::Status { status, pause: None }),
    }
}

/// Opens an artifact at its own address.
pub(super) fn open_at(
    url: &str,
    artifact: &Artifact,
    from: u64,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<Offer, YardError> {
    open_with(url, artifact, Question { from, ..Question::default() }, network, bounds)
}

/// The same, with more to say to the server.
pub(super) fn open_with(
    url: &str,
    artifact: &Artifact,
    question: Question<'_>,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<Offer, YardError> {
    let from = question.from;
    let answer = get(url, question, network, bounds)?;
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

fn url_of(address: &str, file: &InnerPath) -> String {
    let segments: Vec<_> = file.as_str().split('/').map(|s| utf8_percent_encode(s, SEGMENT).to_string()).collect();
    format!("{address}/{}", segments.join("/"))
}

pub(super) fn header<'a>(answer: &'a Answer, name: &str) -> Option<&'a str> {
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

/// Asks for a URL; anything but the bytes that were asked for is an error.
pub(super) fn get(
    url: &str,
    question: Question<'_>,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<Answer, YardError> {
    let answer = follow(url, question, network, bounds)?;
    match answer.status().as_u16() {
        200 => Ok(answer),
        206 if question.from > 0 => Ok(answer),
        404 | 410 => Err(YardError::NotThere),
        416 => Err(YardError::OtherPart),
        status => Err(YardError::Status { status, pause: header(&answer, "retry-after").and_then(pause) }),
    }
}

/// Why there is no answer at all.
pub(super) fn unanswered(source: io::Error) -> YardError {
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
