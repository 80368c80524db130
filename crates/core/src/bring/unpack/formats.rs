//! Which format a name stands for, and how it is read.
//!
//! gzip is RFC 1952, Zstandard RFC 8878; a Debian package is an `ar` with tars in it (deb(5)). Images that only an installer or an
//! operating system takes apart are refused, unless the definition says that they are taken as they are.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::thread;

use flate2::bufread::GzDecoder;
use kladder_choose::catalog::{Artifact, Layout};

use super::session::Session;
use super::{Refusal, Stop, cpio, sevenz, squashfs, tar, xar, zip};
use crate::base::blocks;
use crate::base::event::Cancellable;

/// Bytes read at once.
const BLOCK: usize = 128 * 1024;

/// How bytes are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Packing {
    Plain,
    Gzip,
    Xz,
    Zstandard,
    Bzip2,
}

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

/// What a file of this name is, where it is an image that is not taken apart here.
pub fn image(name: &str) -> Option<&'static str> {
    if let Format::Image(what) = of(name).0 { Some(what) } else { None }
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
fn unpacked<R: Read + Send>(
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
