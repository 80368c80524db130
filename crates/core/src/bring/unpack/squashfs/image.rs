//! An image: its head, its tables read block by block, and its compression.

use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;
use std::rc::Rc;

use elf::ElfStream;
use elf::abi::SHT_NOBITS;
use elf::endian::AnyEndian;
use flate2::bufread::ZlibDecoder;
use liblzma::bufread::XzDecoder;
use liblzma::stream::Stream;

use super::super::{Refusal, Stop};

/// Bytes of a block of the tables, once it is decompressed.
const TABLE_BLOCK: usize = 8192;
/// Table blocks that are kept at once.
const KEPT: usize = 256;
/// The sizes that a block of data may have.
const BLOCKS: std::ops::RangeInclusive<u32> = 4096..=1 << 20;
/// What a decompressor may take.
const MEMORY: u64 = 64 << 20;
/// The bit that says of bytes that they are not compressed: of a table's block, of a file's.
const PLAIN_TABLE: u16 = 1 << 15;
const PLAIN_DATA: u32 = 1 << 24;
/// Fragments that a block of their table tells of, and bytes for each.
const FRAGMENTS: u32 = 512;
const FRAGMENT: u32 = 16;

pub(super) fn damaged(why: &str) -> Stop {
    io::Error::other(why).into()
}

/// How an image's blocks are compressed.
#[derive(Clone, Copy)]
enum Compression {
    Zlib,
    Lzma,
    Xz,
    Zstandard,
}

impl Compression {
    fn of(number: u16) -> Result<Self, Stop> {
        match number {
            1 => Ok(Self::Zlib),
            2 => Ok(Self::Lzma),
            4 => Ok(Self::Xz),
            6 => Ok(Self::Zstandard),
            3 => Err(Refusal::Unknown("LZO".to_owned()).into()),
            5 => Err(Refusal::Unknown("LZ4".to_owned()).into()),
            _ => Err(damaged("how it is compressed cannot be told")),
        }
    }

    /// The bytes of one block, which are at most `most`.
    fn decompressed(self, bytes: &[u8], most: usize) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        let lzma =
            |stream: Result<Stream, liblzma::stream::Error>| Ok::<_, io::Error>(XzDecoder::new_stream(bytes, stream?));
        let reader: Box<dyn Read + '_> = match self {
            Self::Zlib => Box::new(ZlibDecoder::new(bytes)),
            Self::Lzma => Box::new(lzma(Stream::new_lzma_decoder(MEMORY))?),
            Self::Xz => Box::new(lzma(Stream::new_stream_decoder(MEMORY, 0))?),
            Self::Zstandard => Box::new(zstd::Decoder::with_buffer(bytes)?),
        };
        reader.take(most as u64 + 1).read_to_end(&mut out)?;
        if out.len() > most { Err(io::Error::other("a block holds more than a block may")) } else { Ok(out) }
    }
}

/// A decompressed block of a table, and where the next one begins.
type TableBlock = (Rc<[u8]>, u64);

/// An image in a file.
pub(super) struct Image {
    file: File,
    /// Where in the file it begins.
    base: u64,
    compression: Compression,
    /// Bytes of a full block of data.
    pub(super) block: u32,
    inodes: u64,
    pub(super) folders: u64,
    fragments: u64,
    fragment_count: u32,
    /// Where the inode of its uppermost folder is.
    pub(super) root: u64,
    kept: RefCell<HashMap<u64, TableBlock>>,
    last_fragment: RefCell<Option<(u32, Rc<[u8]>)>>,
}

impl Image {
    pub(super) fn open(file: File) -> Result<Self, Stop> {
        let base = begin(&file)?;
        let mut head = [0; 96];
        file.read_exact_at(&mut head, base).map_err(|_| damaged("it is too short for an image"))?;
        if !head.starts_with(b"hsqs") {
            return Err(damaged("there is no image of SquashFS in it"));
        }
        let mut head = Bytes(&head[4..]);
        let (_, _, block, fragment_count) = (head.u32()?, head.u32()?, head.u32()?, head.u32()?);
        let (compression, _, _, _) = (head.u16()?, head.u16()?, head.u16()?, head.u16()?);
        let (major, minor) = (head.u16()?, head.u16()?);
        if (major, minor) != (4, 0) {
            return Err(Refusal::Unknown(format!("SquashFS {major}.{minor}")).into());
        }
        if !BLOCKS.contains(&block) || !block.is_power_of_two() {
            return Err(damaged("its blocks have a size that none may have"));
        }
        let (root, _, _, _) = (head.u64()?, head.u64()?, head.u64()?, head.u64()?);
        let (inodes, folders, fragments) = (head.u64()?, head.u64()?, head.u64()?);
        Ok(Self {
            file,
            base,
            compression: Compression::of(compression)?,
            block,
            inodes,
            folders,
            fragments,
            fragment_count,
            root,
            kept: RefCell::default(),
            last_fragment: RefCell::default(),
        })
    }

    /// A place in the table of inodes, from where a folder says that it is.
    pub(super) fn inode_at(&self, place: u64) -> Result<Cursor<'_>, Stop> {
        self.cursor(self.inodes, place >> 16, (place & 0xffff) as usize)
    }

    /// A place in a table: in the block that begins `block` bytes into it, `offset` bytes into what is decompressed.
    pub(super) fn cursor(&self, table: u64, block: u64, offset: usize) -> Result<Cursor<'_>, Stop> {
        let at = table.checked_add(block).ok_or_else(|| damaged("a table lies beyond all files"))?;
        let (block, next) = self.table_block(at)?;
        if offset > block.len() {
            return Err(damaged("a place in a table lies beyond its block"));
        }
        Ok(Cursor { image: self, block, at: offset, next })
    }

    fn read_at(&self, at: u64, length: usize) -> Result<Vec<u8>, Stop> {
        let mut bytes = vec![0; length];
        let at = self.base.checked_add(at).ok_or_else(|| damaged("a block lies beyond all files"))?;
        self.file.read_exact_at(&mut bytes, at).map_err(|_| damaged("a block lies beyond its end"))?;
        Ok(bytes)
    }

    fn table_block(&self, at: u64) -> Result<TableBlock, Stop> {
        if let Some(kept) = self.kept.borrow().get(&at) {
            return Ok(kept.clone());
        }
        let head = Bytes(&self.read_at(at, 2)?).u16()?;
        let length = usize::from(head & !PLAIN_TABLE);
        if length == 0 || length > TABLE_BLOCK {
            return Err(damaged("a block of a table has a length that none may have"));
        }
        let mut bytes = self.read_at(at + 2, length)?;
        if head & PLAIN_TABLE == 0 {
            bytes = self.compression.decompressed(&bytes, TABLE_BLOCK)?;
        }
        let made = (Rc::from(bytes), at + 2 + length as u64);
        let mut kept = self.kept.borrow_mut();
        if kept.len() >= KEPT {
            kept.clear();
        }
        kept.insert(at, made.clone());
        Ok(made)
    }

    /// A block of data of which `size` tells length and compression; `most` bytes once decompressed.
    pub(super) fn data(&self, at: u64, size: u32, most: usize) -> Result<Vec<u8>, Stop> {
        let length = stored(size);
        if length > u64::from(self.block) {
            return Err(damaged("a block of data has a length that none may have"));
        }
        let bytes = self.read_at(at, usize::try_from(length).unwrap_or(usize::MAX))?;
        if size & PLAIN_DATA == 0 { Ok(self.compression.decompressed(&bytes, most)?) } else { Ok(bytes) }
    }

    /// The block that holds the ends of several files.
    pub(super) fn fragment(&self, number: u32) -> Result<Rc<[u8]>, Stop> {
        if let Some((_, bytes)) = self.last_fragment.borrow().as_ref().filter(|(last, _)| *last == number) {
            return Ok(Rc::clone(bytes));
        }
        if number >= self.fragment_count {
            return Err(damaged("a file ends in a fragment that there is not"));
        }
        let pointer = self.fragments.checked_add(u64::from(number / FRAGMENTS) * 8);
        let pointer = pointer.ok_or_else(|| damaged("a table lies beyond all files"))?;
        let block = Bytes(&self.read_at(pointer, 8)?).u64()?;
        let mut cursor = self.cursor(block, 0, (number % FRAGMENTS * FRAGMENT) as usize)?;
        let (at, size) = (cursor.u64()?, cursor.u32()?);
        let bytes: Rc<[u8]> = Rc::from(self.data(at, size, self.block as usize)?);
        *self.last_fragment.borrow_mut() = Some((number, Rc::clone(&bytes)));
        Ok(bytes)
    }
}

/// Bytes that a block of data takes in the image.
pub(super) fn stored(size: u32) -> u64 {
    u64::from(size & !PLAIN_DATA)
}

/// Where the image begins: at once, or behind the end of the program that an AppImage begins with.
fn begin(file: &File) -> Result<u64, Stop> {
    let mut head = [0; 11];
    file.read_exact_at(&mut head, 0).map_err(|_| damaged("it is too short for an image"))?;
    if !head.starts_with(b"\x7fELF") {
        return Ok(0);
    }
    if head[8..] == *b"AI\x01" {
        return Err(Refusal::Image("an AppImage of type 1").into());
    }
    let unread = |_| damaged("the program that it begins with cannot be read");
    let program = ElfStream::<AnyEndian, _>::open_stream(file).map_err(unread)?;
    let sections = program.section_headers();
    let ends = sections.iter().filter(|section| section.sh_type != SHT_NOBITS);
    let last = ends.map(|section| section.sh_offset.saturating_add(section.sh_size)).max().unwrap_or(0);
    let table = u64::from(program.ehdr.e_shentsize) * sections.len() as u64;
    Ok(program.ehdr.e_shoff.saturating_add(table).max(last))
}

/// Numbers, the low bytes first, one after the other.
struct Bytes<'b>(&'b [u8]);

impl Bytes<'_> {
    fn take<const N: usize>(&mut self) -> Result<[u8; N], Stop> {
        let (first, rest) = self.0.split_first_chunk().ok_or_else(|| damaged("it ends in a number"))?;
        self.0 = rest;
        Ok(*first)
    }

    fn u16(&mut self) -> Result<u16, Stop> {
        self.take().map(u16::from_le_bytes)
    }

    fn u32(&mut self) -> Result<u32, Stop> {
        self.take().map(u32::from_le_bytes)
    }

    fn u64(&mut self) -> Result<u64, Stop> {
        self.take().map(u64::from_le_bytes)
    }
}

/// A place in a table, from where it is read on.
#[derive(Clone)]
pub(super) struct Cursor<'i> {
    image: &'i Image,
    block: Rc<[u8]>,
    at: usize,
    next: u64,
}

impl Cursor<'_> {
    pub(super) fn exact(&mut self, mut into: &mut [u8]) -> Result<(), Stop> {
        while !into.is_empty() {
            if self.at == self.block.len() {
                let (block, next) = self.image.table_block(self.next)?;
                (self.block, self.next, self.at) = (block, next, 0);
            }
            let got = into.len().min(self.block.len() - self.at);
            let (now, later) = into.split_at_mut(got);
            now.copy_from_slice(&self.block[self.at..self.at + got]);
            (into, self.at) = (later, self.at + got);
        }
        Ok(())
    }

    pub(super) fn bytes(&mut self, length: usize) -> Result<Vec<u8>, Stop> {
        let mut bytes = vec![0; length];
        self.exact(&mut bytes)?;
        Ok(bytes)
    }

    fn number<const N: usize>(&mut self) -> Result<[u8; N], Stop> {
        let mut bytes = [0; N];
        self.exact(&mut bytes)?;
        Ok(bytes)
    }

    pub(super) fn u16(&mut self) -> Result<u16, Stop> {
        self.number().map(u16::from_le_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, Stop> {
        self.number().map(u32::from_le_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, Stop> {
        self.number().map(u64::from_le_bytes)
    }
}
