//! Misbehaviour on demand.

use std::time::Duration;

/// What goes wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The connection closes after this many bytes of the body, although the header promised all of them.
    Cut(u64),
    /// The connection is reset (TCP RST) after this many bytes of the body.
    Reset(u64),
    /// The byte at this position of the file is another one.
    Corrupt(u64),
    /// This status is sent instead of the file.
    Status(u16),
    /// The status for "too busy" is sent, with the wish to be left alone for so many seconds.
    Busy(u64),
    /// Nothing is sent for this long, then the file.
    Stall(Duration),
    /// The file is sent to its half, and then nothing for this long.
    Hang(Duration),
    /// A byte is sent every so often.
    Trickle(Duration),
    /// The header says this length; the body is the file's.
    Length(u64),
    /// A part is asked for, and another one, this many bytes further on, is sent and said to be so.
    OtherPart(u64),
    /// A part is asked for, and the whole file is sent.
    NoParts,
    /// The client is sent back to where it is.
    Circle,
    /// Only who sends this as `Authorization` is answered; others are told with `WWW-Authenticate` how (RFC 9110, section 11).
    Demands(String, String),
    /// Only who sends no `Authorization` is answered.
    Strangers,
    /// The client is sent to this address.
    SendsOn(String),
}

/// A fault and where it applies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Applies to paths that end so.
    pub ending: String,
    /// What happens there.
    pub fault: Fault,
    /// For how many requests; then all is well.
    pub times: usize,
}

impl Rule {
    /// A fault that stays.
    pub fn new(ending: &str, fault: Fault) -> Self {
        Self { ending: ending.to_owned(), fault, times: usize::MAX }
    }

    /// A fault that goes away after so many requests.
    #[must_use]
    pub fn times(mut self, times: usize) -> Self {
        self.times = times;
        self
    }
}
