//! xar, and the flat installer package that is one: a head, a table of contents in XML, a heap.
//!
//! Source: the xar project's own description, "The xar archive format". Of a package the payloads are unpacked, each below the
//! folder of its component; what installers do with them is theirs. Payloads are cpios, in pieces where they say `pbzx`.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::os::unix::fs::FileExt;

use base64::prelude::{BASE64_STANDARD, Engine as _};
use bzip2::read::BzDecoder;
use flate2::read::ZlibDecoder;
use liblzma::bufread::XzDecoder;
use liblzma::stream::Stream;
use roxmltree::{Document, Node, ParsingOptions};

use super::session::Session;
use super::{Refusal, Stop, cpio, packing};
use crate::base::event::Cancellable;

/// Bytes that a table of contents may have, once it is inflated.
const LONGEST_TABLE: u64 = 64 << 20;
/// Nodes of its tree.
const MOST_NODES: u32 = 8 << 20;
/// Folders within folders.
const DEEPEST: usize = 512;
/// What a decompressor may take.
const MEMORY: u64 = 256 << 20;
/// Bytes read at once.
const BLOCK: usize = 128 * 1024;
/// A piece of a payload has at most as many bytes.
const LARGEST_PIECE: u64 = 64 << 20;
/// The name of what a component installs.
const PAYLOAD: &[u8] = b"Payload";

fn damaged(why: &str) -> Stop {
    io::Error::other(why).into()
}

/// What the table says of one file.
struct Entry<'t> {
    /// From the top, with slashes.
    name: Vec<u8>,
    node: Node<'t, 't>,
}

impl<'t> Entry<'t> {
    /// The text of the element at this path below the file's own; empty where there is none.
    fn says(&self, path: &[&str]) -> &'t str {
        self.element(path).and_then(|node| node.text()).map_or("", str::trim)
    }

    fn element(&self, path: &[&str]) -> Option<Node<'t, 't>> {
        path.iter().try_fold(self.node, |node, name| node.children().find(|child| child.has_tag_name(*name)))
    }

    fn number(&self, path: &[&str]) -> Result<u64, Stop> {
        self.says(path).parse().map_err(|_| damaged("a number in its table is none"))
    }

    /// The number of the file that this is a further name of.
    fn further_name_of(&self) -> Option<&'t str> {
        self.element(&["type"])?.attribute("link").filter(|link| *link != "original")
    }

    fn runs(&self) -> bool {
        u32::from_str_radix(self.says(&["mode"]), 8).is_ok_and(|mode| mode & 0o111 != 0)
    }
}

/// An xar in a file.
struct Archive {
    file: File,
    heap: u64,
}

/// Unpacks an archive that is there in whole.
pub(super) fn unpack(file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let (archive, table) = Archive::open(file)?;
    let table = parsed(&table)?;
    let entries = entries(&table)?;
    let names: HashMap<_, _> = entries.iter().map(|entry| (entry.node.attribute("id"), &entry.name)).collect();
    // A further name may stand in front of the one with the data.
    let (first, further): (Vec<_>, Vec<_>) = entries.iter().partition(|entry| entry.further_name_of().is_none());
    for entry in first.into_iter().chain(further) {
        let done = match (entry.says(&["type"]), entry.further_name_of()) {
            ("hardlink", Some(first)) => match names.get(&Some(first)) {
                Some(first) => session.guard.hard_link(&entry.name, first),
                None => Err(Refusal::HardLink(first.to_owned()).into()),
            },
            ("directory", _) => session.guard.folder(&entry.name),
            ("file" | "hardlink", _) => archive.data(entry).and_then(|data| {
                let mut data = Cancellable::new(data, session.observer);
                let size = if entry.element(&["data"]).is_some() { entry.number(&["data", "size"])? } else { 0 };
                session.file(&entry.name, entry.runs(), size, &mut data)
            }),
            ("symlink", _) => session.guard.link(&entry.name, entry.says(&["link"]).as_bytes()),
            _ => Err(Refusal::Special.into()),
        };
        session.named(&entry.name, done)?;
    }
    Ok(())
}

/// Unpacks the payloads of a package.
pub(super) fn unpack_package(file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let (archive, table) = Archive::open(file)?;
    for entry in entries(&parsed(&table)?)? {
        let (below, last) =
            entry.name.split_at(entry.name.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at + 1));
        if last != PAYLOAD {
            continue;
        }
        let observer = session.observer;
        let mut data = BufReader::with_capacity(BLOCK, Cancellable::new(archive.data(&entry)?, observer));
        let done = if data.fill_buf()?.starts_with(b"pbzx") {
            cpio::unpack_below(below, Pieces::of(data)?, session)
        } else {
            packing::told_by_beginning(data, |reader| cpio::unpack_below(below, reader, session))
        };
        session.named(&entry.name, done)?;
    }
    Ok(())
}

impl Archive {
    /// The archive, and the text of its table of contents.
    fn open(file: File) -> Result<(Self, String), Stop> {
        let mut head = [0; 28];
        file.read_exact_at(&mut head, 0).map_err(|_| damaged("it is too short for an archive"))?;
        if !head.starts_with(b"xar!") {
            return Err(damaged("it does not begin as an xar does"));
        }
        let length = u64::from(u16::from_be_bytes([head[4], head[5]]));
        let number = |at: usize| head[at..at + 8].iter().fold(0, |all, byte| all << 8 | u64::from(*byte));
        let (packed, plain) = (number(8), number(16));
        if plain > LONGEST_TABLE || packed > LONGEST_TABLE {
            return Err(Refusal::Limit(format!("{LONGEST_TABLE} bytes of a table of contents")).into());
        }
        let mut table = String::new();
        let section = Section { file: &file, at: length, left: packed };
        ZlibDecoder::new(section).take(LONGEST_TABLE).read_to_string(&mut table)?;
        Ok((Self { file, heap: length + packed }, table))
    }

    /// A file's bytes, decompressed.
    fn data(&self, entry: &Entry<'_>) -> Result<Box<dyn Read + Send + '_>, Stop> {
        if entry.element(&["data"]).is_none() {
            return Ok(Box::new(io::empty()));
        }
        let at = self
            .heap
            .checked_add(entry.number(&["data", "offset"])?)
            .ok_or_else(|| damaged("a file lies beyond all files"))?;
        let section = Section { file: &self.file, at, left: entry.number(&["data", "length"])? };
        let encoding = entry.element(&["data", "encoding"]).and_then(|node| node.attribute("style"));
        Ok(match encoding.unwrap_or_default() {
            "" | "application/octet-stream" => Box::new(section),
            // Deflated data in the frame of zlib, whatever the name says.
            "application/x-gzip" => Box::new(ZlibDecoder::new(section)),
            "application/x-bzip2" => Box::new(BzDecoder::new(section)),
            "application/x-xz" | "application/x-lzma" => {
                let stream = Stream::new_auto_decoder(MEMORY, 0).map_err(io::Error::from)?;
                Box::new(XzDecoder::new_stream(BufReader::new(section), stream))
            }
            other => return Err(Refusal::Unknown(other.to_owned()).into()),
        })
    }
}

fn parsed(table: &str) -> Result<Document<'_>, Stop> {
    let options = ParsingOptions { allow_dtd: false, nodes_limit: MOST_NODES, ..ParsingOptions::default() };
    Document::parse_with_options(table, options).map_err(|_| damaged("its table of contents is no XML"))
}

/// The bytes of a payload in pieces: each compressed by itself where that helped.
struct Pieces<R> {
    from: R,
    piece: io::Cursor<Vec<u8>>,
    /// Whether another piece follows.
    goes_on: bool,
}

impl<R: Read> Pieces<R> {
    /// The bit in a head that says that another piece follows.
    const GOES_ON: u64 = 1 << 24;

    fn of(mut from: R) -> Result<Self, Stop> {
        let mut head = [0; 12];
        from.read_exact(&mut head)?;
        let flags = head[4..].iter().fold(0, |all, byte| all << 8 | u64::from(*byte));
        Ok(Self { from, piece: io::Cursor::default(), goes_on: flags & Self::GOES_ON != 0 })
    }

    fn next(&mut self) -> io::Result<()> {
        let mut head = [0; 16];
        self.from.read_exact(&mut head)?;
        let number = |at: usize| head[at..at + 8].iter().fold(0, |all, byte| all << 8 | u64::from(*byte));
        let (flags, length) = (number(0), number(8));
        if length > LARGEST_PIECE {
            return Err(io::Error::other("a piece of its payload is too large"));
        }
        let (mut packed, mut plain) = (Vec::new(), Vec::new());
        if (&mut self.from).take(length).read_to_end(&mut packed)? as u64 != length {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        if packed.starts_with(&[0xfd, b'7', b'z', b'X', b'Z', 0]) {
            let stream = Stream::new_stream_decoder(MEMORY, 0)?;
            XzDecoder::new_stream(packed.as_slice(), stream).take(LARGEST_PIECE).read_to_end(&mut plain)?;
        } else {
            plain = packed;
        }
        (self.piece, self.goes_on) = (io::Cursor::new(plain), flags & Self::GOES_ON != 0);
        Ok(())
    }
}

impl<R: Read> Read for Pieces<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let got = self.piece.read(buffer)?;
            if got > 0 || buffer.is_empty() || !self.goes_on {
                return Ok(got);
            }
            self.next()?;
        }
    }
}

/// Some bytes of a file.
struct Section<'f> {
    file: &'f File,
    at: u64,
    left: u64,
}

impl Read for Section<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let got = self.file.read_at(&mut buffer[..most], self.at)?;
        if got == 0 && most > 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        (self.at, self.left) = (self.at + got as u64, self.left - got as u64);
        Ok(got)
    }
}

/// The entries that a table of contents tells of, each folder in front of what is in it.
fn entries<'t>(table: &'t Document<'t>) -> Result<Vec<Entry<'t>>, Stop> {
    let top = table.root_element().children().find(|node| node.has_tag_name("toc"));
    let top = top.ok_or_else(|| damaged("it has no table of contents"))?;
    let (mut entries, mut open) = (Vec::new(), vec![(Vec::new(), 0, top)]);
    while let Some((above, depth, node)) = open.pop() {
        if depth > DEEPEST {
            return Err(Refusal::Limit(format!("{DEEPEST} folders within each other")).into());
        }
        for node in node.children().filter(|node| node.has_tag_name("file")) {
            let name = [above.as_slice(), &name(node)?].concat();
            open.push(([name.as_slice(), b"/"].concat(), depth + 1, node));
            entries.push(Entry { name, node });
        }
    }
    Ok(entries)
}

fn name(file: Node<'_, '_>) -> Result<Vec<u8>, Stop> {
    let node = file.children().find(|node| node.has_tag_name("name")).ok_or_else(|| damaged("a file has no name"))?;
    let text = node.text().unwrap_or_default();
    match node.attribute("enctype") {
        None => Ok(text.as_bytes().to_vec()),
        Some("base64") => BASE64_STANDARD.decode(text.trim()).map_err(|_| damaged("a file's name cannot be decoded")),
        Some(other) => Err(Refusal::Unknown(other.to_owned()).into()),
    }
}
