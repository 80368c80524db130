//! A file that is put together from several addresses while it is read.

use std::io::{self, Cursor, Read};
use std::sync::Arc;

use super::Network;
use super::redirect::{Bounds, Question};
use super::server::get;
use crate::bring::index::{Listed, Part};

/// The bytes of a file that an index lists in parts.
pub(super) struct Assembled {
    listed: Listed,
    network: Network,
    /// The part that is next, and how many of its bytes were had already.
    next: usize,
    from: u64,
    open: Option<Box<dyn Read + Send>>,
}

impl Assembled {
    /// From a position on.
    pub(super) fn new(listed: &Listed, mut from: u64, network: &Network) -> Self {
        let mut next = 0;
        while let Some(part) = listed.parts.get(next).filter(|part| part.size() <= from) {
            (next, from) = (next + 1, from - part.size());
        }
        Self { listed: listed.clone(), network: network.clone(), next, from, open: None }
    }

    fn open(&self, part: &Part) -> io::Result<Box<dyn Read + Send>> {
        let mut body: Box<dyn Read + Send> = match part {
            Part::Bytes(bytes) => Box::new(Cursor::new(bytes.clone())),
            Part::At { url, .. } => {
                let authorization = self.listed.authorization.as_ref();
                let question = Question { from: self.from, authorization, ..Question::default() };
                let answer =
                    get(url, question, &self.network, Bounds::As(&self.network.origins)).map_err(io::Error::other)?;
                let is_part = answer.status() == 206;
                let body = Box::new(answer.into_body().into_with_config().limit(u64::MAX).reader());
                if is_part {
                    return Ok(Box::new(body.take(part.size() - self.from)));
                }
                body
            }
        };
        io::copy(&mut (&mut body).take(self.from), &mut io::sink())?;
        Ok(Box::new(body.take(part.size() - self.from)))
    }
}

impl Read for Assembled {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let parts = Arc::clone(&self.listed.parts);
        while let Some(part) = parts.get(self.next) {
            if self.open.is_none() {
                self.open = Some(self.open(part)?);
            }
            let got = self.open.as_mut().map_or(Ok(0), |open| open.read(buffer))?;
            self.from += got as u64;
            if got > 0 || buffer.is_empty() {
                return Ok(got);
            }
            if self.from < part.size() {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            (self.next, self.from, self.open) = (self.next + 1, 0, None);
        }
        Ok(0)
    }
}
