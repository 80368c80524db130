//! Files whose digest nobody has pinned yet: received, hashed, held against what their index lists, and kept in the cache by
//! their digest. For keepers, who write that digest down; nothing is unpacked on the word of an index.

use std::io::{Read, Write};
use std::time::Instant;

use super::parts::Assembled;
use super::redirect::{Bounds, Question};
use super::server::{get, header};
use super::{Cache, FetchError, Network, YardError, pause};
use crate::base::digest::{Digest, Hasher};
use crate::base::event::{Observer, check_cancelled};
use crate::base::files::Attach;
use crate::bring::index::{Listed, Sum};

/// More bytes than these are nobody's tool.
const MOST: u64 = 64 << 30;

/// Why a file was not received.
#[derive(Debug, thiserror::Error)]
pub enum UnknownError {
    /// The server did not give it.
    #[error("{file} could not be fetched")]
    Yard {
        /// The file.
        file: String,
        /// Why not.
        source: YardError,
    },
    /// What came is not what its index lists.
    #[error("{file} has other bytes than its index lists")]
    Sum {
        /// The file.
        file: String,
    },
    /// A file of this machine could not be written, or the person asked for an end.
    #[error(transparent)]
    Here(#[from] FetchError),
}

/// Receives a file that an index lists, or a maker publishes; returns its SHA-256 and its size in bytes.
///
/// # Errors
/// [`UnknownError`]; nothing of the file is kept then.
pub fn receive(
    listed: &Listed,
    cache: &Cache,
    network: &Network,
    observer: &dyn Observer,
) -> Result<(Digest, u64), UnknownError> {
    let url = network.allowed(&listed.url).ok_or_else(|| {
        let host = crate::settings::host_of(&listed.url).unwrap_or_default().to_owned();
        UnknownError::Yard { file: listed.file.clone(), source: YardError::SendsOn { host } }
    })?;
    bring(&url, listed, cache, network, Bounds::As(&network.origins), observer)
}

/// Receives a file from an address that a person named.
///
/// # Errors
/// As of [`receive`].
pub fn receive_from(
    address: &str,
    name: &str,
    cache: &Cache,
    network: &Network,
    observer: &dyn Observer,
) -> Result<(Digest, u64), UnknownError> {
    let listed = Listed::at(name.to_owned(), address.to_owned());
    bring(address, &listed, cache, network, Bounds::Anywhere, observer)
}

fn bring(
    url: &str,
    listed: &Listed,
    cache: &Cache,
    network: &Network,
    bounds: Bounds<'_>,
    observer: &dyn Observer,
) -> Result<(Digest, u64), UnknownError> {
    let failed = |source| UnknownError::Yard { file: listed.file.clone(), source };
    let (mut body, told) = open(url, listed, network, bounds).map_err(failed)?;
    let mut part = cache.incoming().map_err(FetchError::from)?;
    let (mut sha256, mut sha512) = (Hasher::default(), ring::digest::Context::new(&ring::digest::SHA512));
    let (mut block, mut got) = (vec![0; 256 * 1024], 0u64);
    let (mut since, mut then) = (Instant::now(), 0);
    loop {
        check_cancelled(observer).map_err(FetchError::from)?;
        if since.elapsed() > network.patience {
            if got - then < network.least() {
                return Err(failed(YardError::Slow { got, patience: network.patience }));
            }
            (since, then) = (Instant::now(), got);
        }
        let more = body.read(&mut block).map_err(|source| failed(YardError::BrokeOff { got, source }))?;
        if more == 0 {
            break;
        }
        got += more as u64;
        if got > MOST {
            return Err(failed(YardError::Text { most: MOST }));
        }
        part.write_all(&block[..more]).on("write", part.path()).map_err(FetchError::from)?;
        sha256.update(&block[..more]);
        sha512.update(&block[..more]);
        observer.received(None, more as u64);
        pause(network.owed(more), observer).map_err(FetchError::from)?;
    }
    if let Some(expected) = told.filter(|told| *told != got) {
        return Err(failed(YardError::Short { got, expected }));
    }
    let digest = sha256.finish();
    let agrees = match &listed.sum {
        None => true,
        Some(Sum::Sha256(listed)) => *listed == digest,
        Some(Sum::Sha512(listed)) => listed.as_slice() == sha512.finish().as_ref(),
    };
    if !agrees || listed.size.is_some_and(|size| size != got) {
        return Err(UnknownError::Sum { file: listed.file.clone() });
    }
    cache.keep(part, &digest).map_err(FetchError::from)?;
    Ok((digest, got))
}

/// The bytes of a file, and how many there should be, where that is told.
fn open(
    url: &str,
    listed: &Listed,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<(Box<dyn Read + Send>, Option<u64>), YardError> {
    if !listed.parts.is_empty() {
        return Ok((Box::new(Assembled::new(listed, 0, network)), listed.size));
    }
    let question = Question { authorization: listed.authorization.as_ref(), ..Question::default() };
    let answer = get(url, question, network, bounds)?;
    let told = header(&answer, "content-length").and_then(|text| text.parse().ok());
    Ok((Box::new(answer.into_body().into_with_config().limit(u64::MAX).reader()), told))
}
