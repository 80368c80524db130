//! Why an entry of an archive is not unpacked.
//!
//! A refusal is about the archive and not about this machine: the same archive is refused everywhere. What the definition
//! could allow (links to absolute paths, names that differ in case) is told with its key by those who write the message.

/// Why an entry was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// Its path starts at the root.
    #[error("its path is absolute")]
    Absolute,
    /// Its path has a `..` in it.
    #[error("its path climbs out with `..`")]
    Climbs,
    /// Its path is empty, or has a NUL in it.
    #[error("its path is empty or not a path")]
    NoPath,
    /// Something on its path is a file or a link.
    #[error("its path goes through something that is not a folder")]
    NotAFolder,
    /// There is something at its path already.
    #[error("there is something at its path already")]
    Twice,
    /// Only upper and lower case tell its path from another one's.
    #[error("only upper and lower case tell it from `{0}`, which some file systems take for the same")]
    Case(String),
    /// It is a link to an absolute path.
    #[error("it is a link to the absolute path `{0}`")]
    LinkAbsolute(String),
    /// It is a link that leads out, or whose way cannot be told.
    #[error("it is a link to `{0}`, which leads out of the folder")]
    LinkOut(String),
    /// It is a hard link to something that is no file of the archive.
    #[error("it is a hard link to `{0}`, which is no file of this archive")]
    HardLink(String),
    /// It is a device, a pipe or a socket.
    #[error("it is neither a file, a folder nor a link")]
    Special,
    /// It would vanish, since it has fewer folders above it than are stripped.
    #[error("it has fewer folders above it than `strip` leaves out, which is {strip}")]
    Stripped {
        /// How many are stripped.
        strip: usize,
        /// What stands at the archive's top, a few names of it.
        top: Vec<String>,
        /// How many may be stripped so that nothing vanishes and all that does is shared by everything.
        fits: usize,
    },
    /// Its end record counts fewer entries than its directory has.
    #[error("its end record counts {counted} entries, and its directory goes on behind them")]
    EndRecord {
        /// What is counted.
        counted: usize,
    },
    /// It is encrypted.
    #[error("it is encrypted")]
    Encrypted,
    /// It is compressed in a way that is not known here.
    #[error("it is compressed with {0}, which is not known here")]
    Unknown(String),
    /// It is an image that only an installer or an operating system takes apart.
    #[error("it is {0}, which is not taken apart here")]
    Image(&'static str),
    /// Some of its bytes are another entry's too.
    #[error("entries of the archive overlap")]
    Overlaps,
    /// It holds other content than the archive says.
    #[error("what the archive says of its holes does not fit")]
    Sparse,
    /// One of the limits is reached.
    #[error("it goes beyond the limit of {0}")]
    Limit(String),
}
