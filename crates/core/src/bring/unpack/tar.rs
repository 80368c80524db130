//! tar: POSIX.1-2001 (pax) and GNU headers, ustar prefixes, old GNU and pax sparse files.
//!
//! | type (ustar, pax, GNU) | becomes |
//! |---|---|
//! | `0`, NUL, `7` | a file; a folder where the name ends with a slash |
//! | `S`, and files with `GNU.sparse.*` records | a file with its holes as zeros |
//! | `5` | a folder |
//! | `1`, `2` | a hard link, a symbolic link |
//! | `x`, `L`, `K` | belong to the entry behind them (`entries`) |
//! | `g`, `V` | nothing: global records and volume labels name no file |
//! | `3`, `4`, `6`, `M` and all others | refused |
//!
//! Of modes only the owner's right to run survives; owners, times and extended attributes do not.

use std::io::{self, Read};

use tar::EntryType;

use super::entries::{Entries, Head};
use super::session::Session;
use super::sparse::Holes;
use super::{Refusal, Stop};

/// Packers fill their last block up with zeros, and no more.
const MOST_BEHIND: u64 = 1 << 20;

/// Unpacks a tar that is read from front to back.
pub(super) fn unpack(reader: impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut entries = Entries::of(reader);
    while let Some(mut head) = entries.next()? {
        let name = std::mem::take(&mut head.name);
        let done = entry(&name, head, &mut entries, session);
        session.named(&name, done)?;
    }
    // Only at its end does a compressed stream show that it is whole.
    let behind = io::copy(&mut entries.rest().take(MOST_BEHIND + 1), &mut io::sink())?;
    if behind > MOST_BEHIND {
        return Err(io::Error::other("too much stands behind its end").into());
    }
    Ok(())
}

fn entry(name: &[u8], head: Head, data: &mut impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    match head.kind {
        // Before ustar a folder was a file whose name ends so.
        EntryType::Regular if name.ends_with(b"/") => session.guard.folder(name),
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => match head.sparse {
            None => session.file(name, head.runs, head.size, data),
            Some(sparse) => session.file(name, head.runs, sparse.size, &mut Holes::read(data, sparse)?),
        },
        EntryType::Directory => session.guard.folder(name),
        EntryType::Symlink => session.guard.link(name, &head.link),
        EntryType::Link => session.guard.hard_link(name, &head.link),
        EntryType::XGlobalHeader => Ok(()),
        // The label of a GNU archive names no file.
        other if other.as_byte() == b'V' => Ok(()),
        _ => Err(Refusal::Special.into()),
    }
}
