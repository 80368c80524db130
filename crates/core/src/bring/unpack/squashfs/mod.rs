//! SquashFS 4.0 (Linux kernel documentation, "Squashfs 4.0 Filesystem"), and the AppImage around one (AppImage specification,
//! type 2: a program with the image behind its end).
//!
//! Read here and not by a library of file systems, since an image may lie in every number: tables are read a block at a time,
//! no number makes memory grow, and folders are walked as deep as the guard admits.

mod image;
mod inode;

use std::collections::HashMap;
use std::fs::File;

use image::Image;
use inode::{Data, Listing, What};

use super::session::Session;
use super::{Refusal, Stop};
use crate::base::event::Cancellable;

/// Unpacks an image that is there in whole.
pub(super) fn unpack(file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let image = Image::open(file)?;
    let mut folders = vec![(Vec::new(), image.root)];
    let mut names_before = HashMap::new();
    while let Some((above, place)) = folders.pop() {
        let mut listing = Listing::of(&image, place)?;
        while let Some((last, place)) = listing.next()? {
            let name = [above.as_slice(), &last].concat();
            let done = entry(&image, &name, place, &mut names_before, session);
            if session.named(&name, done)? {
                folders.push(([name.as_slice(), b"/"].concat(), place));
            }
        }
    }
    Ok(())
}

/// Takes one entry; whether it is a folder.
fn entry(
    image: &Image,
    name: &[u8],
    place: u64,
    names_before: &mut HashMap<u64, Vec<u8>>,
    session: &mut Session<'_, '_>,
) -> Result<bool, Stop> {
    let inode = image.inode(place)?;
    match inode.what {
        What::Folder { .. } => return session.guard.folder(name).map(|()| true),
        What::Link { size } => {
            let target = inode.target(size)?;
            session.guard.link(name, &target)?;
        }
        What::File { names, size, .. } => {
            if let Some(first) = names_before.get(&place) {
                return session.guard.hard_link(name, first).map(|()| false);
            }
            if names > 1 {
                names_before.insert(place, name.to_vec());
            }
            let runs = inode.runs;
            session.file(name, runs, size, &mut Cancellable::new(Data::of(image, inode), session.observer))?;
        }
        What::Special => return Err(Refusal::Special.into()),
    }
    Ok(false)
}
