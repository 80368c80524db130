//! 7z (the 7z format description in the LZMA SDK), one entry after the other, since most archives are one stream.

use std::fs::File;
use std::io::{self, BufReader, Read};

use sevenz_rust2::{ArchiveEntry, ArchiveReader, Error, Password};

use super::session::Session;
use super::{Refusal, Stop};
use crate::base::event::Cancellable;

/// What a decompressor may take, in KiB: the largest dictionary that packers choose is 1.5 GiB, the usual ones are 64 MiB.
const MEMORY: usize = 256 << 10;
/// The bit that says that a Unix mode stands in the upper half of the attributes.
const HAS_MODE: u32 = 1 << 15;
/// The types and rights in a Unix mode.
const TYPE: u32 = 0o170_000;
const LINK: u32 = 0o120_000;
const FOLDER: u32 = 0o040_000;
const PLAIN: [u32; 2] = [0, 0o100_000];
const RUNS: u32 = 0o111;
/// A link's target has no more bytes than this.
const LONGEST_TARGET: u64 = 4096;

fn damaged(why: &str) -> Stop {
    io::Error::other(why).into()
}

fn wrong(error: Error) -> Stop {
    match error {
        Error::PasswordRequired => Refusal::Encrypted.into(),
        Error::UnsupportedCompressionMethod(method) if method.starts_with("AES") => Refusal::Encrypted.into(),
        Error::UnsupportedCompressionMethod(method) => Refusal::Unknown(method).into(),
        Error::MaxMemLimited { .. } => {
            Refusal::Limit(format!("{} MiB of memory for unpacking it", MEMORY >> 10)).into()
        }
        Error::Io(error, _) => Stop::Damaged(error),
        Error::BadSignature(_) => damaged("it does not begin as a 7z does"),
        Error::ChecksumVerificationFailed | Error::NextHeaderCrcMismatch => damaged("a checksum in it is another"),
        _ => damaged("what it says of itself cannot be read"),
    }
}

/// Unpacks an archive that is there in whole.
pub(super) fn unpack(file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let mut archive =
        ArchiveReader::new_with_memory_limit(BufReader::new(file), Password::empty(), MEMORY).map_err(wrong)?;
    // More threads would each hold a whole chunk of the stream.
    archive.set_thread_count(1);
    let mut stopped = None;
    let done = archive.for_each_entries(|head, data| {
        let name = head.name.as_bytes();
        let taken = entry(head, &mut Cancellable::new(data, session.observer), session);
        session.named(name, taken).map(|()| true).map_err(|stop| {
            stopped = Some(stop);
            Error::FileNotFound
        })
    });
    stopped.map_or_else(|| done.map_err(wrong), Err)
}

fn entry(head: &ArchiveEntry, data: &mut dyn Read, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let name = head.name.as_bytes();
    let has_mode = head.has_windows_attributes && head.windows_attributes & HAS_MODE != 0;
    let mode = if has_mode { head.windows_attributes >> 16 } else { 0 };
    match mode & TYPE {
        _ if head.is_anti_item => Err(Refusal::Special.into()),
        FOLDER => session.guard.folder(name),
        _ if head.is_directory => session.guard.folder(name),
        LINK => {
            let mut target = Vec::new();
            data.take(LONGEST_TARGET).read_to_end(&mut target)?;
            session.guard.link(name, &target)
        }
        kind if PLAIN.contains(&kind) => session.file(name, mode & RUNS != 0, head.size, data),
        _ => Err(Refusal::Special.into()),
    }
}
