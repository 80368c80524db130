//! The entries of a tar, read from front to back: headers with what further headers say of them, then data.
//!
//! Sources: POSIX.1-2024, pax, "pax Interchange Format" and "ustar Interchange Format"; GNU tar manual, "Basic Tar Format"
//! (long names, sparse files). Blocks are taken apart by the library of tar; what may come before them is read here, since
//! it must not take memory without end, and the value of a pax record may hold line ends.

use std::io::{self, Read};

use tar::{EntryType, GnuExtSparseHeader, Header};

use super::records::{Record, number, records};
use super::sparse::Sparse;
use super::{Refusal, Stop};

/// Bytes of a block.
const BLOCK: u64 = 512;
/// A name may take this many bytes here; what is longer than a path may be is refused by the guard.
const LONGEST_NAME: u64 = 64 << 10;
/// Pax records of one entry may take this many bytes: maps of sparse files stand in them.
const LONGEST_RECORDS: u64 = 8 << 20;

/// What is known of an entry before its data.
pub(super) struct Head {
    pub(super) kind: EntryType,
    pub(super) name: Vec<u8>,
    /// Empty for what is no link.
    pub(super) link: Vec<u8>,
    pub(super) runs: bool,
    /// Bytes of data.
    pub(super) size: u64,
    pub(super) sparse: Option<Sparse>,
}

/// What headers say of the entry behind them.
#[derive(Default)]
struct Ahead {
    name: Option<Vec<u8>>,
    link: Option<Vec<u8>>,
    records: Vec<Record>,
}

/// A tar; reading from it gives the data of the entry at hand.
pub(super) struct Entries<R> {
    reader: R,
    /// Bytes of data that are left of the entry at hand, and what fills up its last block.
    left: u64,
    padding: u64,
}

impl<R: Read> Entries<R> {
    pub(super) fn of(reader: R) -> Self {
        Self { reader, left: 0, padding: 0 }
    }

    /// What stands behind the last entry.
    pub(super) fn rest(self) -> R {
        self.reader
    }

    /// Goes on to the next entry; `None` at the end.
    pub(super) fn next(&mut self) -> Result<Option<Head>, Stop> {
        let mut ahead = Ahead::default();
        loop {
            self.skip()?;
            let Some(header) = self.header()? else {
                let is_alone = ahead.name.is_none() && ahead.link.is_none() && ahead.records.is_empty();
                return if is_alone { Ok(None) } else { Err(damaged("it ends in front of an entry")) };
            };
            match header.entry_type() {
                EntryType::GNULongName => ahead.name = Some(self.long_name(&header)?),
                EntryType::GNULongLink => ahead.link = Some(self.long_name(&header)?),
                EntryType::XHeader => ahead.records.extend(records(&self.whole(&header, LONGEST_RECORDS)?)?),
                _ => return self.head(&header, ahead).map(Some),
            }
        }
    }

    fn head(&mut self, header: &Header, ahead: Ahead) -> Result<Head, Stop> {
        let said = |key: &str| ahead.records.iter().rev().find(|record| record.key == key.as_bytes());
        let told = |key: &str| said(key).map(|record| record.value.clone());
        let stored = match said("size") {
            _ if has_no_data(header.entry_type()) => 0,
            Some(record) => number(&record.value).ok_or_else(|| damaged("a size in it is no number"))?,
            None => header.entry_size()?,
        };
        let mut sparse = Sparse::of_records(&ahead.records)?;
        if header.entry_type().is_gnu_sparse() {
            sparse = Some(self.gnu_sparse(header)?);
        }
        (self.left, self.padding) = (stored, padding(stored));
        let name = sparse.as_mut().and_then(|sparse| sparse.name.take());
        let name = name.or_else(|| told("path")).or(ahead.name).unwrap_or_else(|| header.path_bytes().into_owned());
        let link = told("linkpath").or(ahead.link);
        let link = link.or_else(|| Some(header.link_name_bytes()?.into_owned())).unwrap_or_default();
        // Of what is no file nobody asks, and some packers write no mode there.
        let is_file = matches!(header.entry_type(), EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse);
        let runs = is_file && header.mode()? & 0o111 != 0;
        Ok(Head { kind: header.entry_type(), name, link, runs, size: stored, sparse })
    }

    /// The map of an old GNU sparse file: in the header, and in as many blocks behind it as are needed.
    fn gnu_sparse(&mut self, header: &Header) -> Result<Sparse, Stop> {
        let header = header.as_gnu().ok_or(Refusal::Sparse)?;
        let mut sparse = Sparse::sized(header.real_size()?);
        sparse.add(&header.sparse)?;
        let mut goes_on = header.is_extended();
        while goes_on {
            let mut block = GnuExtSparseHeader::new();
            self.reader.read_exact(block.as_mut_bytes())?;
            sparse.add(&block.sparse)?;
            goes_on = block.is_extended();
        }
        Ok(sparse)
    }

    fn long_name(&mut self, header: &Header) -> Result<Vec<u8>, Stop> {
        let mut name = self.whole(header, LONGEST_NAME)?;
        // It ends with a NUL, which is counted.
        if name.last() == Some(&0) {
            name.pop();
        }
        Ok(name)
    }

    /// All data of an entry.
    fn whole(&mut self, header: &Header, most: u64) -> Result<Vec<u8>, Stop> {
        let size = header.entry_size()?;
        if size > most {
            return Err(Refusal::Limit(format!("{most} bytes for what stands in front of an entry")).into());
        }
        (self.left, self.padding) = (size, padding(size));
        let mut all = Vec::new();
        self.read_to_end(&mut all)?;
        Ok(all)
    }

    fn skip(&mut self) -> Result<(), Stop> {
        let behind = self.left.saturating_add(self.padding);
        if io::copy(&mut (&mut self.reader).take(behind), &mut io::sink())? < behind {
            return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
        }
        (self.left, self.padding) = (0, 0);
        Ok(())
    }

    /// The next block as a header; `None` where the archive ends, or says so with zeros.
    fn header(&mut self) -> Result<Option<Header>, Stop> {
        let mut header = Header::new_old();
        let block = header.as_mut_bytes();
        let mut got = 0;
        while got < block.len() {
            match self.reader.read(&mut block[got..]) {
                Ok(0) if got == 0 => return Ok(None),
                Ok(0) => return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into()),
                Ok(more) => got += more,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error.into()),
            }
        }
        if block.iter().all(|byte| *byte == 0) {
            return Ok(None);
        }
        // The field of the sum itself counts as blanks.
        let sum = |bytes: &[u8]| bytes.iter().map(|byte| u32::from(*byte)).sum::<u32>();
        let sum = sum(&block[..148]) + 8 * u32::from(b' ') + sum(&block[156..]);
        if header.cksum()? != sum {
            return Err(damaged("the sum of a header is wrong"));
        }
        Ok(Some(header))
    }
}

impl<R: Read> Read for Entries<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        let got = self.reader.read(&mut buffer[..room])?;
        if got == 0 && room > 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.left -= got as u64;
        Ok(got)
    }
}

/// Of these POSIX says that no data follows, whatever their size says: some packers tell what a folder took.
fn has_no_data(kind: EntryType) -> bool {
    kind.is_dir() || kind.is_symlink() || kind.is_hard_link()
}

/// What fills up the last block.
fn padding(size: u64) -> u64 {
    (BLOCK - size % BLOCK) % BLOCK
}

fn damaged(what: &str) -> Stop {
    io::Error::other(what).into()
}
