//! What an image keeps of an entry: its inode, a folder's listing, a file's data.

use std::io::{self, Read};

use super::super::Stop;
use super::image::{Cursor, Image, damaged, stored};

/// A file whose last bytes stand in no fragment.
const NO_FRAGMENT: u32 = u32::MAX;
/// The target of a link has no more bytes.
const LONGEST_TARGET: u32 = 64 << 10;
/// Entries that one head in a listing stands for.
const MOST_ENTRIES: u32 = 256;
/// What is added to the length of a listing, for the two entries that stand in none.
const UNLISTED: u32 = 3;
/// Who may run it.
const RUNS: u16 = 0o111;

/// What an entry is.
#[derive(Clone, Copy)]
pub(super) enum What {
    /// Its listing: the block of the table, the place in it, its length.
    Folder { block: u32, offset: u16, length: u32 },
    /// Where its data begins, what its end stands in, its size and how many names it has.
    File { begin: u64, fragment: u32, offset: u32, size: u64, names: u32 },
    /// The length of its target.
    Link { size: u32 },
    /// A device, a pipe or a socket.
    Special,
}

/// An entry's inode, read as far as its fixed part goes.
pub(super) struct Inode<'i> {
    pub(super) what: What,
    pub(super) runs: bool,
    /// What stands behind: a file's block sizes, a link's target.
    rest: Cursor<'i>,
}

impl Image {
    pub(super) fn inode(&self, place: u64) -> Result<Inode<'_>, Stop> {
        let mut from = self.inode_at(place)?;
        let (kind, mode) = (from.u16()?, from.u16()?);
        from.bytes(12)?;
        let what = match kind {
            1 => folder(&mut from)?,
            8 => extended_folder(&mut from)?,
            2 => file(&mut from)?,
            9 => extended_file(&mut from)?,
            3 | 10 => {
                from.u32()?;
                What::Link { size: from.u32()? }
            }
            4..=7 | 11..=14 => What::Special,
            _ => return Err(damaged("an entry is of a kind that there is not")),
        };
        Ok(Inode { what, runs: mode & RUNS != 0, rest: from })
    }
}

fn folder(from: &mut Cursor<'_>) -> Result<What, Stop> {
    let (block, _) = (from.u32()?, from.u32()?);
    let (length, offset) = (u32::from(from.u16()?), from.u16()?);
    Ok(What::Folder { block, offset, length })
}

fn extended_folder(from: &mut Cursor<'_>) -> Result<What, Stop> {
    let (_, length, block) = (from.u32()?, from.u32()?, from.u32()?);
    let (_, _, offset) = (from.u32()?, from.u16()?, from.u16()?);
    Ok(What::Folder { block, offset, length })
}

fn file(from: &mut Cursor<'_>) -> Result<What, Stop> {
    let (begin, fragment, offset, size) = (from.u32()?, from.u32()?, from.u32()?, from.u32()?);
    Ok(What::File { begin: u64::from(begin), fragment, offset, size: u64::from(size), names: 1 })
}

fn extended_file(from: &mut Cursor<'_>) -> Result<What, Stop> {
    let (begin, size, _) = (from.u64()?, from.u64()?, from.u64()?);
    let (names, fragment, offset, _) = (from.u32()?, from.u32()?, from.u32()?, from.u32()?);
    Ok(What::File { begin, fragment, offset, size, names })
}

impl Inode<'_> {
    /// The target of a link.
    pub(super) fn target(mut self, size: u32) -> Result<Vec<u8>, Stop> {
        if size > LONGEST_TARGET {
            return Err(damaged("the target of a link is too long"));
        }
        self.rest.bytes(size as usize)
    }
}

/// The entries of a folder.
pub(super) struct Listing<'i> {
    from: Cursor<'i>,
    /// Bytes that are left.
    left: u32,
    /// Entries that are left of those under one head, and the block that their inodes are in.
    under: u32,
    block: u64,
}

impl<'i> Listing<'i> {
    /// The listing of the folder whose inode is at `place`.
    pub(super) fn of(image: &'i Image, place: u64) -> Result<Self, Stop> {
        let inode = image.inode(place)?;
        let What::Folder { block, offset, length } = inode.what else {
            return Err(damaged("what should be a folder is none"));
        };
        let left = length.saturating_sub(UNLISTED);
        // One without entries has no place in the table.
        let from = if left == 0 { inode.rest } else { image.cursor(image.folders, u64::from(block), offset.into())? };
        Ok(Self { from, left, under: 0, block: 0 })
    }

    /// The next name, and where its inode is.
    pub(super) fn next(&mut self) -> Result<Option<(Vec<u8>, u64)>, Stop> {
        if self.under == 0 {
            if self.left == 0 {
                return Ok(None);
            }
            self.spend(12)?;
            (self.under, self.block) = (self.from.u32()?.saturating_add(1), u64::from(self.from.u32()?));
            self.from.u32()?;
            if self.under > MOST_ENTRIES {
                return Err(damaged("a folder counts more entries than one head may"));
            }
        }
        self.under -= 1;
        let (offset, _, _, length) = (self.from.u16()?, self.from.u16()?, self.from.u16()?, self.from.u16()?);
        let length = u32::from(length) + 1;
        self.spend(8 + length)?;
        Ok(Some((self.from.bytes(length as usize)?, self.block << 16 | u64::from(offset))))
    }

    fn spend(&mut self, bytes: u32) -> Result<(), Stop> {
        self.left = self.left.checked_sub(bytes).ok_or_else(|| damaged("a folder's listing does not end"))?;
        Ok(())
    }
}

/// A file's bytes.
pub(super) struct Data<'i> {
    image: &'i Image,
    sizes: Cursor<'i>,
    begin: u64,
    /// The fragment that holds its end, and from where.
    end: Option<(u32, u32)>,
    left: u64,
    block: Vec<u8>,
    at: usize,
}

impl<'i> Data<'i> {
    pub(super) fn of(image: &'i Image, inode: Inode<'i>) -> Self {
        let (begin, end, left) = match inode.what {
            What::File { begin, fragment, offset, size, .. } => {
                (begin, (fragment != NO_FRAGMENT).then_some((fragment, offset)), size)
            }
            _ => (0, None, 0),
        };
        Self { image, sizes: inode.rest, begin, end, left, block: Vec::new(), at: 0 }
    }

    /// The next bytes, a block at most.
    fn next(&mut self) -> Result<Vec<u8>, Stop> {
        let full = u64::from(self.image.block);
        let want = usize::try_from(self.left.min(full)).unwrap_or(usize::MAX);
        if let Some((number, offset)) = self.end.filter(|_| self.left < full) {
            let fragment = self.image.fragment(number)?;
            let end = fragment.get(offset as usize..).and_then(|rest| rest.get(..want));
            return end.map(<[u8]>::to_vec).ok_or_else(|| damaged("a file's end lies beyond its fragment"));
        }
        let size = self.sizes.u32()?;
        // A block of zeros takes no bytes.
        let bytes = if size == 0 { vec![0; want] } else { self.image.data(self.begin, size, want)? };
        self.begin = self.begin.saturating_add(stored(size));
        if bytes.len() == want { Ok(bytes) } else { Err(damaged("a block of data has another length than it should")) }
    }
}

impl Read for Data<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.block.len() && self.left > 0 {
            self.block = self.next().map_err(|stop| match stop {
                Stop::Damaged(error) => error,
                _ => io::Error::other("a block cannot be read"),
            })?;
            (self.at, self.left) = (0, self.left - self.block.len() as u64);
        }
        let got = (&self.block[self.at..]).read(buffer)?;
        self.at += got;
        Ok(got)
    }
}
