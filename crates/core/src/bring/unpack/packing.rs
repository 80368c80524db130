//! Bytes as they are packed, and decompressed beside whoever reads them.
//!
//! gzip is RFC 1952, Zstandard RFC 8878.

use std::io::{self, BufRead, BufReader, Read};
use std::thread;

use flate2::bufread::GzDecoder;

use super::Stop;
use crate::base::blocks;

/// Bytes read at once.
pub(super) const BLOCK: usize = 128 * 1024;

/// How bytes are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    Plain,
    Gzip,
    Xz,
    Zstandard,
    Bzip2,
}

/// Hands the decompressed bytes to `then`, however they are compressed; what says so is in the first of them.
pub(super) fn told_by_beginning(
    mut reader: impl BufRead + Send,
    then: impl FnOnce(Box<dyn Read + '_>) -> Result<(), Stop>,
) -> Result<(), Stop> {
    const BEGINNINGS: [(&[u8], Packing); 5] = [
        (&[0x1f, 0x8b], Packing::Gzip),
        (&[0xfd, b'7', b'z', b'X', b'Z', 0], Packing::Xz),
        (&[0x5d, 0, 0], Packing::Xz),
        (&[0x28, 0xb5, 0x2f, 0xfd], Packing::Zstandard),
        (b"BZh", Packing::Bzip2),
    ];
    let first = reader.fill_buf()?;
    let known = BEGINNINGS.iter().find(|(beginning, _)| first.starts_with(beginning));
    let packing = known.map_or(Packing::Plain, |(_, packing)| *packing);
    unpacked(packing, reader, then)
}

/// Hands the decompressed bytes to `then`; decompressing goes on beside it.
pub(super) fn unpacked<R: Read + Send>(
    packing: Packing,
    reader: R,
    then: impl FnOnce(Box<dyn Read + '_>) -> Result<(), Stop>,
) -> Result<(), Stop> {
    let reader = BufReader::with_capacity(BLOCK, reader);
    let decoder: Box<dyn Read + Send + '_> = match packing {
        Packing::Plain => return then(Box::new(reader)),
        Packing::Gzip => Box::new(Members::new(reader)),
        Packing::Xz => Box::new(liblzma::bufread::XzDecoder::new_multi_decoder(reader)),
        Packing::Zstandard => Box::new(zstd::Decoder::with_buffer(reader)?),
        Packing::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(reader)),
    };
    thread::scope(|scope| then(Box::new(blocks::ahead(scope, decoder))))
}

/// The members of a gzip file, one after the other (RFC 1952, section 2.2). Tapes and their heirs fill the last block up with
/// zeros, which are no member.
struct Members<R> {
    /// `None` once the last one was read.
    member: Option<GzDecoder<R>>,
}

impl<R: BufRead> Members<R> {
    fn new(reader: R) -> Self {
        Self { member: Some(GzDecoder::new(reader)) }
    }
}

impl<R: BufRead> Read for Members<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while let Some(mut member) = self.member.take() {
            let got = member.read(buffer)?;
            if got > 0 || buffer.is_empty() {
                self.member = Some(member);
                return Ok(got);
            }
            let mut reader = member.into_inner();
            if goes_on(&mut reader)? {
                self.member = Some(GzDecoder::new(reader));
            }
        }
        Ok(0)
    }
}

/// Skips zeros; whether anything else follows. What is wrong with it, a decoder says.
fn goes_on(reader: &mut impl BufRead) -> io::Result<bool> {
    loop {
        let bytes = reader.fill_buf()?;
        if bytes.is_empty() {
            return Ok(false);
        }
        let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
        let is_all = zeros == bytes.len();
        reader.consume(zeros);
        if !is_all {
            return Ok(true);
        }
    }
}
