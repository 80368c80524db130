//! Which format a name stands for, and how it is read.
//!
//! A Debian package is an `ar` with tars in it (deb(5)). Images that only an installer or an
//! operating system takes apart are refused, unless the definition says that they are taken as they are.

use std::fs::File;
use std::io::{self, BufReader, Read};

use kladder_choose::catalog::{Artifact, Layout};

use super::packing::{BLOCK, Packing, told_by_beginning, unpacked};
use super::session::Session;
use super::{Refusal, Stop, cpio, sevenz, squashfs, tar, xar, zip};
use crate::base::event::Cancellable;

/// What a file is, by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Format {
    Tar(Packing),
    Zip,
    Deb,
    Cpio(Packing),
    Rpm,
    SevenZ,
    Squashfs,
    Xar,
    /// A flat installer package: an xar with a cpio for each of its components.
    Package,
    /// What it is.
    Image(&'static str),
    Single(Packing),
}

const ENDINGS: [(&str, Format); 37] = [
    (".tar", Format::Tar(Packing::Plain)),
    (".tar.gz", Format::Tar(Packing::Gzip)),
    (".tgz", Format::Tar(Packing::Gzip)),
    (".tar.xz", Format::Tar(Packing::Xz)),
    (".txz", Format::Tar(Packing::Xz)),
    (".tar.zst", Format::Tar(Packing::Zstandard)),
    (".tzst", Format::Tar(Packing::Zstandard)),
    (".tar.bz2", Format::Tar(Packing::Bzip2)),
    (".tbz2", Format::Tar(Packing::Bzip2)),
    (".tbz", Format::Tar(Packing::Bzip2)),
    // The decoder tells xz and its forerunner apart by itself.
    (".tar.lzma", Format::Tar(Packing::Xz)),
    (".tlz", Format::Tar(Packing::Xz)),
    (".lzma", Format::Single(Packing::Xz)),
    (".zip", Format::Zip),
    (".whl", Format::Zip),
    (".deb", Format::Deb),
    (".cpio", Format::Cpio(Packing::Plain)),
    (".cpio.gz", Format::Cpio(Packing::Gzip)),
    (".cpio.xz", Format::Cpio(Packing::Xz)),
    (".cpio.zst", Format::Cpio(Packing::Zstandard)),
    (".rpm", Format::Rpm),
    (".7z", Format::SevenZ),
    (".squashfs", Format::Squashfs),
    (".sqfs", Format::Squashfs),
    (".AppImage", Format::Squashfs),
    (".appimage", Format::Squashfs),
    (".xar", Format::Xar),
    (".pkg", Format::Package),
    (".mpkg", Format::Package),
    (".dmg", Format::Image("a disk image of macOS")),
    (".iso", Format::Image("an image of an optical disc")),
    (".msi", Format::Image("an installer of Windows")),
    (".msix", Format::Image("an installer of Windows")),
    (".gz", Format::Single(Packing::Gzip)),
    (".xz", Format::Single(Packing::Xz)),
    (".zst", Format::Single(Packing::Zstandard)),
    (".bz2", Format::Single(Packing::Bzip2)),
];

/// The format, and the name without the ending that told it.
fn of(name: &str) -> (Format, &str) {
    let last = name.rsplit('/').next().unwrap_or(name);
    let rest = |ending| last.strip_suffix(ending).filter(|rest: &&str| !rest.is_empty());
    let known = ENDINGS.iter().find_map(|(ending, format)| Some((*format, rest(ending)?)));
    known.unwrap_or((Format::Single(Packing::Plain), last))
}

/// Where an archive's bytes come from.
pub enum Content<'c> {
    /// A file that is there in whole.
    Whole(File),
    /// Bytes that come one after the other.
    Stream(Box<dyn Read + Send + 'c>),
}

/// The format of an artifact, and its name without the ending that told it.
fn of_artifact(artifact: &Artifact) -> (Format, &str) {
    let name = artifact.file.as_str();
    match artifact.layout() {
        Layout::Whole => (Format::Single(Packing::Plain), name.rsplit('/').next().unwrap_or(name)),
        _ => of(name),
    }
}

/// Whether an artifact can be unpacked while it arrives.
pub fn streams(artifact: &Artifact) -> bool {
    !matches!(of_artifact(artifact).0, Format::Zip | Format::SevenZ | Format::Squashfs | Format::Xar | Format::Package)
}

/// Reads an artifact, whose format its name tells, entry by entry.
pub(super) fn feed(artifact: &Artifact, content: Content<'_>, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let (format, rest) = of_artifact(artifact);
    let observer = session.observer;
    let reader: Box<dyn Read + Send + '_> = match content {
        Content::Whole(file) if !streams(artifact) => return unpack_whole(format, file, session),
        Content::Whole(file) => Box::new(Cancellable::new(file, observer)),
        Content::Stream(reader) => Box::new(Cancellable::new(reader, observer)),
    };
    match format {
        Format::Tar(packing) => unpacked(packing, reader, |reader| tar::unpack(reader, session)),
        Format::Single(packing) => unpacked(packing, reader, |mut reader| {
            let name = rest.as_bytes();
            let done = session.unmeasured(name, &mut reader);
            session.named(name, done)
        }),
        Format::Deb => deb(reader, session),
        Format::Cpio(packing) => unpacked(packing, reader, |reader| cpio::unpack(reader, session)),
        Format::Rpm => rpm(reader, session),
        Format::Image(what) => Err(Refusal::Image(what).into()),
        _ => Err(io::Error::other("it cannot be read from front to back").into()),
    }
}

/// What is read here and there.
fn unpack_whole(format: Format, file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    match format {
        Format::SevenZ => sevenz::unpack(file, session),
        Format::Squashfs => squashfs::unpack(file, session),
        Format::Xar => xar::unpack(file, session),
        Format::Package => xar::unpack_package(file, session),
        _ => zip::unpack(file, session),
    }
}

/// The tar of a Debian package that holds its files; the other members are the package manager's affair.
fn deb(reader: impl Read + Send, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut archive = ar::Archive::new(reader);
    while let Some(member) = archive.next_entry() {
        let member = member?;
        let name = String::from_utf8_lossy(member.header().identifier()).into_owned();
        if let (Format::Tar(packing), "data") = of(&name) {
            return unpacked(packing, member, |reader| tar::unpack(reader, session));
        }
    }
    Err(io::Error::other("it has no data.tar").into())
}

/// The cpio of an RPM package.
fn rpm(reader: impl Read + Send, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut reader = BufReader::with_capacity(BLOCK, reader);
    cpio::skip_heads(&mut reader)?;
    told_by_beginning(reader, |reader| cpio::unpack(reader, session))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_ending_tells_the_format_and_a_bare_ending_tells_none() {
        assert_eq!(of("a/skerroc-1.4.tar.bz2"), (Format::Tar(Packing::Bzip2), "skerroc-1.4"));
        assert_eq!(of("skerroc.gz"), (Format::Single(Packing::Gzip), "skerroc"));
        assert_eq!(of("skerroc-1.4.2"), (Format::Single(Packing::Plain), "skerroc-1.4.2"));
        assert_eq!(of("sub/.zip"), (Format::Single(Packing::Plain), ".zip"));
    }
}
