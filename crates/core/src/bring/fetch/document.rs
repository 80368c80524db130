//! Texts that are read as a whole: what an index answers, a colleague's ladder.

use std::io::Read;
use std::time::Instant;

use super::Network;
use super::redirect::{Bounds, Question};
use super::server::{get, header};
use super::sign_in::Authorization;
use super::yard::YardError;

/// What an address answered.
#[derive(Clone, Debug)]
pub struct Document {
    /// Its address, after all redirects.
    pub url: String,
    /// What the server says it is (RFC 9110, section 8.3), without parameters, in lower case.
    pub kind: Option<String>,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// What is wanted of a document.
#[derive(Clone, Copy, Debug)]
pub struct Reading<'r> {
    /// Which kinds would do (RFC 9110, section 12.5.1).
    pub accept: Option<&'r str>,
    /// Most bytes that it may have.
    pub most: u64,
    /// Another one's word for who asks.
    pub(in crate::bring) authorization: Option<&'r Authorization>,
}

impl Reading<'_> {
    /// Anything, of so many bytes at most.
    pub fn of(most: u64) -> Self {
        Self { accept: None, most, authorization: None }
    }
}

/// Reads a small text from an address that a person named, one MiB at most.
///
/// # Errors
/// [`YardError`]; [`YardError::Text`] where there is more of it.
pub fn read_text(url: &str, network: &Network) -> Result<String, YardError> {
    let document = read(url, Reading::of(1 << 20), network, Bounds::Anywhere)?;
    String::from_utf8(document.bytes).map_err(|_| YardError::NoText)
}

/// Reads what lies at an address that a person named.
///
/// # Errors
/// [`YardError`]; [`YardError::Text`] where there are more bytes than `most`.
pub fn read_anywhere(url: &str, most: u64, network: &Network) -> Result<Document, YardError> {
    read(url, Reading::of(most), network, Bounds::Anywhere)
}

/// Reads a document as a whole.
pub(super) fn read(
    url: &str,
    reading: Reading<'_>,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<Document, YardError> {
    let question = Question { accept: reading.accept, authorization: reading.authorization, ..Question::default() };
    let answer = get(url, question, network, bounds)?;
    let kind = header(&answer, "content-type").and_then(|text| text.split(';').next());
    let kind = kind.map(|kind| kind.trim().to_ascii_lowercase());
    let url = answer.extensions().get::<Final>().map_or_else(|| url.to_owned(), |at| at.0.clone());
    let bytes = within(answer.into_body().into_with_config().limit(u64::MAX).reader(), reading.most, network)?;
    Ok(Document { url, kind, bytes })
}

/// Where an answer came from in the end.
#[derive(Clone, Debug)]
pub(super) struct Final(pub(super) String);

/// All bytes, where they are not too many and do not come too slowly.
fn within(mut body: impl Read, most: u64, network: &Network) -> Result<Vec<u8>, YardError> {
    let (mut bytes, mut block) = (Vec::new(), vec![0; 64 * 1024]);
    let (mut since, mut then) = (Instant::now(), 0);
    loop {
        let got = bytes.len() as u64;
        if since.elapsed() > network.patience {
            if got - then < network.least() {
                return Err(YardError::Slow { got, patience: network.patience });
            }
            (since, then) = (Instant::now(), got);
        }
        match body.read(&mut block).map_err(|source| YardError::BrokeOff { got, source })? {
            0 => return Ok(bytes),
            more if got + more as u64 > most => return Err(YardError::Text { most }),
            more => bytes.extend_from_slice(&block[..more]),
        }
    }
}
