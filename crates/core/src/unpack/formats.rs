//! The archive formats: each hands its entries to the guard.
//!
//! tar: POSIX.1-2001 with pax and GNU headers; compressed by gzip (RFC 1952), xz or Zstandard (RFC 8878).
//! zip: the APPNOTE of its maker, wheels included. Anything else is a single file.

use std::fs::File;
use std::io::{self, BufReader, Read};

use super::guard::{self, Guard, Refusal};
use crate::event::{Cancellable, Observer};
use crate::files::FileError;

/// Where and why the unpacking stopped.
pub(super) enum Stop {
    Refused(String, Refusal),
    Damaged(io::Error),
    File(FileError),
}

impl From<io::Error> for Stop {
    fn from(error: io::Error) -> Self {
        Self::Damaged(error)
    }
}

#[derive(Clone, Copy)]
enum Format {
    Tar,
    TarGz,
    TarXz,
    TarZst,
    Zip,
}

const ENDINGS: [(&str, Format); 9] = [
    (".tar", Format::Tar),
    (".tar.gz", Format::TarGz),
    (".tgz", Format::TarGz),
    (".tar.xz", Format::TarXz),
    (".txz", Format::TarXz),
    (".tar.zst", Format::TarZst),
    (".tzst", Format::TarZst),
    (".zip", Format::Zip),
    (".whl", Format::Zip),
];

/// Reads `file`, whose format its name tells, entry by entry.
pub(super) fn feed(name: &str, file: File, observer: &dyn Observer, guard: &mut Guard) -> Result<(), Stop> {
    let last = name.rsplit('/').next().unwrap_or(name);
    let format = ENDINGS.iter().find(|(ending, _)| last.len() > ending.len() && last.ends_with(ending));
    let Some(&(_, format)) = format else {
        return entry(last.as_bytes(), guard.file(last.as_bytes(), true, &mut Cancellable::new(file, observer)));
    };
    if matches!(format, Format::Zip) {
        return zip(file, observer, guard);
    }
    let file = BufReader::with_capacity(128 * 1024, Cancellable::new(file, observer));
    match format {
        Format::TarGz => tar(flate2::bufread::MultiGzDecoder::new(file), guard),
        Format::TarXz => tar(liblzma::bufread::XzDecoder::new_multi_decoder(file), guard),
        Format::TarZst => tar(zstd::Decoder::with_buffer(file)?, guard),
        Format::Tar | Format::Zip => tar(file, guard),
    }
}

fn entry(name: &[u8], done: Result<(), guard::Stop>) -> Result<(), Stop> {
    done.map_err(|stop| match stop {
        guard::Stop::Refused(refusal) => Stop::Refused(String::from_utf8_lossy(name).into_owned(), refusal),
        guard::Stop::File(error) => Stop::File(error),
        guard::Stop::Damaged(error) => Stop::Damaged(error),
    })
}

fn tar(reader: impl Read, guard: &mut Guard) -> Result<(), Stop> {
    let mut archive = tar::Archive::new(reader);
    for item in archive.entries()? {
        let mut item = item?;
        let name = item.path_bytes().into_owned();
        let target = item.link_name_bytes().map(std::borrow::Cow::into_owned).unwrap_or_default();
        let done = match item.header().entry_type() {
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                let runs = item.header().mode()? & 0o111 != 0;
                guard.file(&name, runs, &mut item)
            }
            tar::EntryType::Directory => guard.folder(&name),
            tar::EntryType::Symlink => guard.link(&name, &target),
            tar::EntryType::Link => guard.hard_link(&name, &target),
            tar::EntryType::XGlobalHeader => Ok(()),
            _ => Err(Refusal::Special.into()),
        };
        entry(&name, done)?;
    }
    Ok(())
}

fn zip(file: File, observer: &dyn Observer, guard: &mut Guard) -> Result<(), Stop> {
    let mut archive = zip::ZipArchive::new(BufReader::new(file)).map_err(io::Error::from)?;
    for at in 0..archive.len() {
        let raw = archive.by_index_raw(at).map_err(io::Error::from)?;
        let (name, encrypted) = (raw.name_raw().to_vec(), raw.encrypted());
        drop(raw);
        if encrypted {
            entry(&name, Err(Refusal::Encrypted.into()))?;
        }
        let mut item = archive.by_index(at).map_err(io::Error::from)?;
        let mode = item.unix_mode().unwrap_or(0);
        let done = match mode & 0o170_000 {
            _ if item.is_dir() => guard.folder(&name),
            0o120_000 => {
                let mut target = Vec::new();
                item.by_ref().take(4096).read_to_end(&mut target)?;
                guard.link(&name, &target)
            }
            0 | 0o100_000 => guard.file(&name, mode & 0o111 != 0, &mut Cancellable::new(item, observer)),
            _ => Err(Refusal::Special.into()),
        };
        entry(&name, done)?;
    }
    Ok(())
}
