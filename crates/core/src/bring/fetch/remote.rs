//! A file at its server that is read where it is looked at (RFC 9110, section 14.2): an archive's table of contents stands at its
//! end, and what is wanted of it may be a thousandth of it.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};

use super::Network;
use super::redirect::{Bounds, Question};
use super::server::get;
use crate::bring::index::Listed;

/// Bytes that are asked for at once.
const BLOCK: u64 = 256 << 10;
/// Most bytes that are asked for in all; whoever wants more should fetch the file.
const MOST: u64 = 64 << 20;

/// A file that an index lists, at its server.
#[derive(Debug)]
pub struct Remote<'r> {
    network: &'r Network,
    listed: &'r Listed,
    url: String,
    size: u64,
    at: u64,
    blocks: BTreeMap<u64, Vec<u8>>,
}

impl<'r> Remote<'r> {
    /// A listed file; `None` where it may not be asked for, or nobody says how large it is.
    pub fn new(network: &'r Network, listed: &'r Listed) -> Option<Self> {
        let (url, size) = (network.allowed(&listed.url)?, listed.size?);
        Some(Self { network, listed, url, size, at: 0, blocks: BTreeMap::new() })
    }

    fn block(&mut self, number: u64) -> io::Result<&[u8]> {
        if !self.blocks.contains_key(&number) {
            if (self.blocks.len() as u64 + 1) * BLOCK > MOST {
                return Err(io::Error::other("more of it is wanted than a look"));
            }
            let bytes = self.ask(number)?;
            self.blocks.insert(number, bytes);
        }
        Ok(self.blocks.get(&number).map(Vec::as_slice).unwrap_or_default())
    }

    fn ask(&self, number: u64) -> io::Result<Vec<u8>> {
        let from = number * BLOCK;
        let length = BLOCK.min(self.size - from);
        let authorization = self.listed.authorization.as_ref();
        let question = Question { from, until: Some(from + length), authorization, ..Question::default() };
        let answer =
            get(&self.url, question, self.network, Bounds::As(&self.network.origins)).map_err(io::Error::other)?;
        if from > 0 && answer.status() != 206 {
            return Err(io::Error::new(io::ErrorKind::Unsupported, "its server sends whole files only"));
        }
        let mut bytes = Vec::new();
        answer.into_body().into_with_config().limit(u64::MAX).reader().take(length).read_to_end(&mut bytes)?;
        if bytes.len() as u64 == length { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

impl Read for Remote<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.size {
            return Ok(0);
        }
        let (number, skip) = (self.at / BLOCK, (self.at % BLOCK) as usize);
        let block = self.block(number)?;
        let there = block.get(skip..).unwrap_or_default();
        let length = there.len().min(into.len());
        into[..length].copy_from_slice(&there[..length]);
        self.at += length as u64;
        Ok(length)
    }
}

impl Seek for Remote<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let wanted = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = wanted.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}
