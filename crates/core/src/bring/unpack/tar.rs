//! tar: POSIX.1-2001 (pax) and GNU headers, ustar prefixes, old GNU and pax sparse files.

use std::io::{self, Read};

use super::session::Session;
use super::sparse::{Holes, PaxSparse};
use super::{Refusal, Stop};

/// Packers fill their last block up with zeros, and no more.
const MOST_BEHIND: u64 = 1 << 20;

/// Unpacks a tar that is read from front to back.
pub(super) fn unpack(reader: impl Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut archive = tar::Archive::new(reader);
    for item in archive.entries()? {
        let mut item = item?;
        let sparse = PaxSparse::of(&mut item)?;
        let name = sparse.as_ref().and_then(|sparse| sparse.name.clone());
        let name = name.unwrap_or_else(|| item.path_bytes().into_owned());
        let done = entry(&name, item, sparse, session);
        session.named(&name, done)?;
    }
    // Only at its end does a compressed stream show that it is whole.
    let behind = io::copy(&mut archive.into_inner().take(MOST_BEHIND + 1), &mut io::sink())?;
    if behind > MOST_BEHIND {
        return Err(io::Error::other("too much stands behind its end").into());
    }
    Ok(())
}

fn entry<R: Read>(
    name: &[u8],
    mut item: tar::Entry<'_, R>,
    sparse: Option<PaxSparse>,
    session: &mut Session<'_, '_>,
) -> Result<(), Stop> {
    use tar::EntryType as Type;
    let target = item.link_name_bytes().map(std::borrow::Cow::into_owned).unwrap_or_default();
    match item.header().entry_type() {
        // Before ustar a folder was a file whose name ends so.
        Type::Regular if name.ends_with(b"/") => session.guard.folder(name),
        Type::Regular | Type::Continuous | Type::GNUSparse => {
            let (runs, size) = (item.header().mode()? & 0o111 != 0, item.size());
            match sparse {
                None => session.file(name, runs, size, &mut item),
                Some(sparse) => session.file(name, runs, sparse.size, &mut Holes::read(item, sparse)?),
            }
        }
        Type::Directory => session.guard.folder(name),
        Type::Symlink => session.guard.link(name, &target),
        Type::Link => session.guard.hard_link(name, &target),
        Type::XGlobalHeader => Ok(()),
        // The label of a GNU archive names no file.
        other if other.as_byte() == b'V' => Ok(()),
        _ => Err(Refusal::Special.into()),
    }
}
