//! Where artifacts come from: a folder, or a server of one.

use std::fmt;
use std::io::{self, Read};
use std::sync::Arc;
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use super::sign_in::SignInError;
use crate::base::digest::Digest;
use crate::bring::index::IndexError;

/// What a yard has to give.
pub struct Offer {
    /// The position of the first byte; 0 where the yard cannot begin elsewhere.
    pub from: u64,
    /// The bytes from there on.
    pub body: Box<dyn Read + Send>,
}

/// A folder or server of artifacts.
pub trait Yard: fmt::Debug + Send + Sync {
    /// The yard as it may be shown to a person.
    fn shown(&self) -> String;

    /// Opens an artifact for reading, from a position on where the yard can do that.
    ///
    /// # Errors
    /// [`YardError`], which says whether the yard may do better when it is asked again.
    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError>;

    /// Whether it has the file, and no network is needed to get it.
    fn has_at_hand(&self, _artifact: &Artifact) -> bool {
        false
    }

    /// A repository of code as one file (a bundle of git), by the address that it has elsewhere: its digest and bytes.
    fn bundle(&self, _address: &str) -> Option<(Digest, u64)> {
        None
    }

    /// How large a file is, in bytes; `None` where it does not tell.
    ///
    /// # Errors
    /// [`YardError`].
    fn size(&self, file: &InnerPath) -> Result<Option<u64>, YardError>;

    /// Whether nobody counts on it: that it lacks something is no news.
    fn is_by_chance(&self) -> bool {
        false
    }

    /// Whether it can be got at without a network.
    fn is_here(&self) -> bool {
        false
    }

    /// Whether it answers at all, within `patience`.
    fn answers(&self, patience: Duration) -> bool;
}

/// A yard that can be filled. Whatever is put there appears in whole or not at all, and by two at once no worse than by one.
pub trait Stock: Yard {
    /// Whether it has an artifact, as far as can be told without reading it.
    ///
    /// # Errors
    /// [`YardError`].
    fn has(&self, artifact: &Artifact) -> Result<bool, YardError>;

    /// Puts an artifact there; `body` has exactly its bytes, or fails.
    ///
    /// # Errors
    /// [`YardError`]; nothing is there then that was not there before.
    fn put(&self, artifact: &Artifact, body: &mut dyn Read) -> Result<(), YardError>;

    /// Takes an artifact away whose bytes are wrong.
    ///
    /// # Errors
    /// [`YardError`].
    fn remove(&self, artifact: &Artifact) -> Result<(), YardError>;
}

/// Yards, best first.
pub type Yards = Vec<Arc<dyn Yard>>;

/// What went wrong with one yard.
#[derive(Debug, thiserror::Error)]
pub enum YardError {
    /// It is not there, or does not answer.
    #[error("it cannot be reached")]
    Unreachable {
        /// What the system said.
        source: io::Error,
    },
    /// It is a folder that cannot be looked into.
    #[error("the folder cannot be read")]
    Folder {
        /// What the system said.
        source: io::Error,
    },
    /// It cannot be written to.
    #[error("it cannot be written to")]
    Unwritten {
        /// What was said.
        source: io::Error,
    },
    /// It does not let files be taken away.
    #[error("it keeps what it has by its digest, and cannot be told to take {digest} away: whoever runs it can")]
    Keeps {
        /// The digest of what should go.
        digest: Digest,
    },
    /// What is needed to ask it is missing, or wrong.
    #[error("it cannot be asked")]
    Unasked {
        /// What was said.
        source: io::Error,
    },
    /// Its certificate is not one that the platform or the settings trust.
    #[error("its certificate is not trusted")]
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
    /// It is an origin that sends on to a host that may not be asked.
    #[error("it sends on to {host}, which `origins` in config.toml does not allow")]
    SendsOn {
        /// The host.
        host: String,
    },
    /// It sends on, to a connection that anybody can listen to, someone who has signed in.
    #[error("it sends on to http://{host}, where whoever listens would learn what was signed in with")]
    Bares {
        /// The host.
        host: String,
    },
    /// It wants to know who asks, or does not take what it was told.
    #[error("{host} {}", if *told { "does not take what was signed in with" } else { "wants to know who asks" })]
    WhoAsks {
        /// The host.
        host: String,
        /// Whether it was told.
        told: bool,
        /// How it may be told (RFC 9110, section 11.6.1).
        how: Option<String>,
    },
    /// What to sign in with cannot be found.
    #[error("what to sign in with at {host} cannot be had")]
    SignIn {
        /// The host.
        host: String,
        /// Why not.
        source: SignInError,
    },
    /// An index could not be asked.
    #[error(transparent)]
    Index(#[from] Box<IndexError>),
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
    /// The connection broke while it sent a text.
    #[error("it broke off after {got} bytes")]
    BrokeOff {
        /// Bytes received.
        got: u64,
        /// What the system said.
        source: io::Error,
    },
    /// It sent (almost) nothing of a text for too long.
    #[error("it stalled for {} s after {got} bytes", patience.as_secs())]
    Slow {
        /// Bytes received.
        got: u64,
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
    /// It sent bytes that are no text.
    #[error("what it sent is no text")]
    NoText,
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
        match self {
            Self::Long { .. } | Self::OtherDigest { .. } | Self::OtherSize { .. } => true,
            Self::Index(error) => error.is_integrity(),
            _ => false,
        }
    }

    /// Whether it says something of the yard as a whole, and not of one file.
    pub fn is_of_all(&self) -> bool {
        matches!(
            self,
            Self::Unreachable { .. }
                | Self::Unasked { .. }
                | Self::Distrusted { .. }
                | Self::WhoAsks { .. }
                | Self::SignIn { .. }
        )
    }

    /// Whether it may do better when asked again.
    pub fn is_retryable(&self) -> bool {
        match self {
            Self::Unreachable { .. }
            | Self::Broke { .. }
            | Self::BrokeOff { .. }
            | Self::Stalled { .. }
            | Self::Slow { .. }
            | Self::Short { .. } => true,
            // Request Timeout, Too Early, Too Many Requests, and the server's own troubles.
            Self::Status { status, .. } => matches!(status, 408 | 425 | 429 | 500..),
            Self::Index(error) => error.is_retryable(),
            Self::Unwritten { source } => source.kind() == io::ErrorKind::ConnectionAborted,
            _ => false,
        }
    }
}

/// Holds the size that a yard offers against the pinned one.
pub(super) fn check_size(offered: u64, artifact: &Artifact) -> Result<(), YardError> {
    if offered == artifact.size { Ok(()) } else { Err(YardError::OtherSize { offered, expected: artifact.size }) }
}
