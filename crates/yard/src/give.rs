//! A server whose answers somebody else thinks of.

use std::fmt;
use std::io::{self, Read, Write};
use std::net::{IpAddr, TcpStream};

/// Who answers in the place of a folder.
pub trait Giver: fmt::Debug + Send + Sync {
    /// The answer to a request; it may take its time, since each has a thread of its own.
    fn give(&self, asked: &Asked<'_>) -> Given;
}

/// A request for something.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    /// Who asks.
    pub client: IpAddr,
    /// The path, decoded.
    pub path: &'a str,
    /// What follows `?`, as it was sent.
    pub query: &'a str,
    /// The first byte that is wanted.
    pub from: u64,
}

/// An answer.
pub enum Given {
    /// Something of this size; `body` begins at the byte that was wanted.
    Bytes {
        /// The size of all of it, in bytes.
        size: u64,
        /// What of it was asked for.
        body: Box<dyn Read + Send>,
    },
    /// It is to be had at another address.
    Elsewhere(String),
    /// It will be there in so many seconds, perhaps.
    Later(u64),
    /// It is not there.
    Nothing,
}

/// Sends an answer; tells the status, and the bytes of the body.
pub(crate) fn send(mut out: &TcpStream, asked: &Asked<'_>, head_only: bool, given: Given) -> io::Result<(u16, u64)> {
    let (size, body) = match given {
        Given::Bytes { size, body } if asked.from < size || size == 0 => (size, body),
        Given::Bytes { .. } => return crate::answer::plain(out, 416, ""),
        Given::Elsewhere(address) => return crate::answer::plain(out, 302, &format!("Location: {address}\r\n")),
        Given::Later(seconds) => return crate::answer::plain(out, 503, &format!("Retry-After: {seconds}\r\n")),
        Given::Nothing => return crate::answer::plain(out, 404, ""),
    };
    let left = size - asked.from;
    let (status, part) = match asked.from {
        0 => (200, "200 OK".to_owned()),
        from => (206, format!("206 Partial Content\r\nContent-Range: bytes {from}-{}/{size}", size - 1)),
    };
    write!(out, "HTTP/1.1 {part}\r\nContent-Length: {left}\r\nConnection: close\r\n\r\n")?;
    if head_only {
        return Ok((status, 0));
    }
    Ok((status, io::copy(&mut body.take(left), &mut out)?))
}
