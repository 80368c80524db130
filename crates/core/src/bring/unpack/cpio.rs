//! cpio in its "new" forms and in the portable one (cpio(5), "New ASCII Format", "New CRC Format" and "Portable ASCII Format"), and
//! the RPM package around one (Linux Standard Base Core, "Package File Format").
//!
//! In the new forms, of several names of one file the last one has the data; the others become hard links to it. Sums of the CRC form are not
//! looked at: the archive's own digest is.

use std::collections::HashMap;
use std::io::{self, Read};

use super::session::Session;
use super::{Refusal, Stop};

/// Bytes of a head, of the new forms and of the portable one.
const HEAD: usize = 110;
const PORTABLE_HEAD: usize = 76;
/// How a head begins: that many bytes tell its form.
const MAGIC: usize = 6;
/// A name may take this many bytes here; what is longer than a path may be is refused by the guard.
const LONGEST_NAME: u64 = 64 << 10;
/// The target of a symbolic link is its data.
const LONGEST_TARGET: u64 = 64 << 10;
/// Names that wait for the data of their file.
const MOST_WAITING: usize = 1 << 20;
/// What the last entry is called.
const TRAILER: &[u8] = b"TRAILER!!!";

/// The bits of a mode that tell what an entry is, and those that tell that its owner may run it.
const KIND: u64 = 0o170_000;
const FILE: u64 = 0o100_000;
const FOLDER: u64 = 0o040_000;
const LINK: u64 = 0o120_000;
const RUNS: u64 = 0o100;

fn damaged(why: &str) -> Stop {
    io::Error::other(why).into()
}

/// What tells a file from others that an archive has: inode, and the numbers of its device.
type Identity = [u64; 3];

struct Head {
    identity: Identity,
    mode: u64,
    names: u64,
    size: u64,
    name: Vec<u8>,
    /// Bytes behind the data, before the next head.
    behind: u64,
}

/// Unpacks a cpio that is read from front to back.
pub(super) fn unpack(reader: impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    unpack_below(b"", reader, session)
}

/// Unpacks a cpio; all its names go below a folder, which ends with a slash.
pub(super) fn unpack_below(below: &[u8], mut reader: impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut waiting: HashMap<Identity, Vec<Vec<u8>>> = HashMap::new();
    let mut count = 0;
    while let Some(mut head) = head(&mut reader)? {
        head.name.splice(..0, below.iter().copied());
        let is_one_of_several = head.mode & KIND == FILE && head.names > 1;
        if is_one_of_several && head.size == 0 {
            count += 1;
            if count > MOST_WAITING {
                return Err(Refusal::Limit(format!("{MOST_WAITING} names of linked files")).into());
            }
            waiting.entry(head.identity).or_default().push(head.name);
            continue;
        }
        let mut data = (&mut reader).take(head.size);
        let done = entry(&head, &mut data, session);
        session.named(&head.name, done)?;
        io::copy(&mut data, &mut io::sink())?;
        if data.limit() > 0 {
            return Err(damaged("it ends in an entry"));
        }
        skip(&mut reader, head.behind)?;
        for name in waiting.remove(&head.identity).filter(|_| is_one_of_several).unwrap_or_default() {
            let linked = session.guard.hard_link(&name, &head.name);
            session.named(&name, linked)?;
        }
    }
    // Names of a file that has no data at all.
    for name in waiting.into_values().flatten() {
        let done = session.file(&name, false, 0, &mut io::empty());
        session.named(&name, done)?;
    }
    io::copy(&mut reader, &mut io::sink())?;
    Ok(())
}

fn entry(head: &Head, data: &mut impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    match head.mode & KIND {
        FOLDER => session.guard.folder(&head.name),
        FILE => session.file(&head.name, head.mode & RUNS != 0, head.size, data),
        LINK if head.size <= LONGEST_TARGET => {
            let mut target = Vec::new();
            data.read_to_end(&mut target)?;
            session.guard.link(&head.name, &target)
        }
        _ => Err(Refusal::Special.into()),
    }
}

/// The next entry; `None` at the end.
fn head(reader: &mut impl Read) -> Result<Option<Head>, Stop> {
    let mut magic = [0; MAGIC];
    reader.read_exact(&mut magic).map_err(|_| damaged("it ends in front of an entry"))?;
    let head = match &magic {
        b"070701" | b"070702" => new_head(reader)?,
        b"070707" => portable_head(reader)?,
        _ => return Err(damaged("an entry does not begin as those of a new or portable cpio do")),
    };
    Ok((head.name != TRAILER).then_some(head))
}

/// Thirteen numbers of eight hexadecimal digits.
fn new_head(reader: &mut impl Read) -> Result<Head, Stop> {
    let mut bytes = [0; HEAD - MAGIC];
    reader.read_exact(&mut bytes).map_err(|_| damaged("it ends in a head"))?;
    let field = |at: usize| number(&bytes[8 * at..8 * at + 8], 16);
    let length = field(11)?;
    let name = name(reader, length)?;
    skip(reader, padding(HEAD as u64 + length))?;
    let (identity, size) = ([field(0)?, field(7)?, field(8)?], field(6)?);
    Ok(Head { identity, mode: field(1)?, names: field(4)?, size, name, behind: padding(size) })
}

/// Eight numbers of six octal digits, but for time and size, which have eleven. Each name of a file has the data.
fn portable_head(reader: &mut impl Read) -> Result<Head, Stop> {
    let mut bytes = [0; PORTABLE_HEAD - MAGIC];
    reader.read_exact(&mut bytes).map_err(|_| damaged("it ends in a head"))?;
    let field = |from: usize, digits: usize| number(&bytes[from..from + digits], 8);
    let name = name(reader, field(53, 6)?)?;
    let identity = [field(6, 6)?, field(0, 6)?, 0];
    Ok(Head { identity, mode: field(12, 6)?, names: 1, size: field(59, 11)?, name, behind: 0 })
}

fn number(digits: &[u8], radix: u32) -> Result<u64, Stop> {
    let text = std::str::from_utf8(digits).ok().filter(|text| text.bytes().all(|byte| byte.is_ascii_hexdigit()));
    text.and_then(|text| u64::from_str_radix(text, radix).ok()).ok_or_else(|| damaged("a number in a head is none"))
}

fn name(reader: &mut impl Read, length: u64) -> Result<Vec<u8>, Stop> {
    if length == 0 || length > LONGEST_NAME {
        return Err(damaged("the name of an entry is too long, or missing"));
    }
    let mut name = Vec::new();
    let got = reader.take(length).read_to_end(&mut name)? as u64;
    if got < length || name.pop() != Some(0) {
        return Err(damaged("the name of an entry does not end"));
    }
    Ok(name)
}

/// Bytes up to the next multiple of four.
fn padding(length: u64) -> u64 {
    length.wrapping_neg() % 4
}

fn skip(reader: &mut impl Read, bytes: u64) -> Result<(), Stop> {
    let got = io::copy(&mut reader.take(bytes), &mut io::sink())?;
    if got == bytes { Ok(()) } else { Err(damaged("it ends too soon")) }
}

/// What stands in front of the payload of an RPM package: its lead, its signature and its header.
pub(super) fn skip_heads(reader: &mut impl Read) -> Result<(), Stop> {
    let mut lead = [0; 96];
    reader.read_exact(&mut lead).map_err(|_| damaged("it is too short for a package"))?;
    if !lead.starts_with(&[0xed, 0xab, 0xee, 0xdb]) {
        return Err(damaged("it does not begin as packages do"));
    }
    let signature = skip_header(reader)?;
    skip(reader, signature.wrapping_neg() % 8)?;
    skip_header(reader).map(drop)
}

/// Skips a header; returns its length in bytes.
fn skip_header(reader: &mut impl Read) -> Result<u64, Stop> {
    let mut head = [0; 16];
    reader.read_exact(&mut head).map_err(|_| damaged("a header is missing"))?;
    if !head.starts_with(&[0x8e, 0xad, 0xe8, 0x01]) {
        return Err(damaged("a header does not begin as headers do"));
    }
    let number = |at: usize| u64::from(u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]));
    let length = number(8) * 16 + number(12);
    skip(reader, length)?;
    Ok(16 + length)
}
