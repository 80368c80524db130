//! zip (the APPNOTE of its maker, zip64 included), and wheels, which are zips.
//!
//! Its entries can be inflated in any order, so they are on all cores at once.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use zip::ZipArchive;

use super::guard::Ticket;
use super::portion::Portions;
use super::session::Session;
use super::writer::Target;
use super::{Refusal, Stop};
use crate::base::event::{Cancellable, Observer};
use crate::bring::shelf::ManifestEntry;

/// A link's target has no more bytes than this.
const LONGEST_TARGET: u64 = 4096;
/// The type of a file in its Unix mode.
const TYPE: u32 = 0o170_000;
const LINK: u32 = 0o120_000;
const PLAIN: [u32; 2] = [0, 0o100_000];

/// Bytes that are read at once: small entries stand side by side.
const WINDOW: usize = 64 * 1024;
/// Up to this size the order of the archive is kept.
const SMALL: u64 = 64 * 1024;

/// A file with a position of one's own, so that many can read it, and with the bytes around that position.
#[derive(Clone)]
struct Reader {
    file: Arc<File>,
    at: u64,
    size: u64,
    window: Vec<u8>,
    window_at: u64,
}

impl Reader {
    fn new(file: File) -> io::Result<Self> {
        let size = file.metadata()?.len();
        Ok(Self { file: Arc::new(file), at: 0, size, window: Vec::new(), window_at: 0 })
    }

    /// What of the window lies at the position and behind it.
    fn ready(&self) -> &[u8] {
        let into = self.at.checked_sub(self.window_at).and_then(|into| usize::try_from(into).ok());
        into.and_then(|into| self.window.get(into..)).unwrap_or_default()
    }
}

impl Read for Reader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.ready().is_empty() {
            if buffer.len() >= WINDOW {
                let got = self.file.read_at(buffer, self.at)?;
                self.at += got as u64;
                return Ok(got);
            }
            self.window.resize(WINDOW, 0);
            self.window_at = self.at;
            let got = self.file.read_at(&mut self.window, self.at);
            self.window.truncate(*got.as_ref().unwrap_or(&0));
            got?;
        }
        let got = self.ready().read(buffer)?;
        self.at += got as u64;
        Ok(got)
    }
}

impl Seek for Reader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let moved = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = moved.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

type Archive = ZipArchive<Reader>;

fn wrong(error: zip::result::ZipError) -> Stop {
    Stop::Damaged(error.into())
}

/// Refuses a zip whose end record counts fewer entries than its directory has: those behind would be lost in silence.
fn check_end(archive: &mut Archive, reader: &Reader) -> Result<(), Stop> {
    /// How an entry of the directory begins, and how long it is without names, fields and comments (APPNOTE, 4.3.12).
    const ENTRY: ([u8; 4], u64) = (*b"PK\x01\x02", 46);
    let begins_entry = |at: u64| {
        let mut begin = [0; 4];
        reader.file.read_exact_at(&mut begin, at).is_ok() && begin == ENTRY.0
    };
    let mut end = archive.central_directory_start();
    for at in 0..archive.len() {
        let start = archive.by_index_data(at).map_err(wrong)?.central_header_start();
        let mut lengths = [0; 6];
        reader.file.read_exact_at(&mut lengths, start + 28)?;
        let told = lengths.chunks(2).map(|two| u64::from(u16::from_le_bytes([two[0], two[1]])));
        end = end.max(start + ENTRY.1 + told.sum::<u64>());
    }
    if begins_entry(end) { Err(Refusal::EndRecord { counted: archive.len() }.into()) } else { Ok(()) }
}

/// Unpacks a zip that is there in whole.
pub(super) fn unpack(file: File, session: &mut Session<'_, '_>) -> Result<(), Stop> {
    let reader = Reader::new(file)?;
    let mut archive = ZipArchive::new(reader.clone()).map_err(wrong)?;
    check_end(&mut archive, &reader)?;
    if archive.has_duplicate_names() {
        return Err(Refusal::Twice.into());
    }
    if archive.has_overlapping_entries().map_err(wrong)? {
        return Err(Refusal::Overlaps.into());
    }
    let mut files = Vec::with_capacity(archive.len());
    for at in 0..archive.len() {
        let data = archive.by_index_data(at).map_err(wrong)?;
        // Some packers write the separators of their own system, which the format does not know.
        let name: Vec<u8> = data.name_raw().iter().map(|&byte| if byte == b'\\' { b'/' } else { byte }).collect();
        let done = admit(&mut archive, at, &name, session);
        files.extend(session.named(&name, done)?.map(|ticket| (at, name, ticket)));
    }
    // The largest first, so that no core is left alone with one at the end.
    let sizes: Vec<u64> =
        (0..archive.len()).map(|at| archive.by_index_data(at).map_or(0, |data| data.size())).collect();
    files.sort_by_key(|(at, ..)| {
        std::cmp::Reverse(sizes[*at].checked_next_power_of_two().unwrap_or(u64::MAX).max(SMALL))
    });
    let mut portions = Portions::default();
    let together =
        |(_, _, last): &Admitted, (at, _, next): &Admitted| portions.goes_on(&last.path, &next.path, sizes[*at]);
    let portions: Vec<&[Admitted]> = files.chunk_by(together).collect();
    let made = inflate(&archive, &portions, session.target, session.observer)?;
    session.written(made);
    Ok(())
}

/// The ticket of an entry that is a file.
fn admit(archive: &mut Archive, at: usize, name: &[u8], session: &mut Session<'_, '_>) -> Result<Option<Ticket>, Stop> {
    let data = archive.by_index_data(at).map_err(wrong)?;
    let (mode, is_folder) = (data.unix_mode().unwrap_or(0), data.is_dir() || name.ends_with(b"/"));
    if data.encrypted() {
        return Err(Refusal::Encrypted.into());
    }
    match mode & TYPE {
        _ if is_folder => session.guard.folder(name).map(|()| None),
        LINK => {
            let mut target = Vec::new();
            archive.by_index(at).map_err(wrong)?.take(LONGEST_TARGET).read_to_end(&mut target)?;
            session.guard.link(name, &target).map(|()| None)
        }
        kind if PLAIN.contains(&kind) => session.guard.file(name, mode & 0o111 != 0),
        _ => Err(Refusal::Special.into()),
    }
}

type Admitted = (usize, Vec<u8>, Ticket);

fn inflate(
    archive: &Archive,
    portions: &[&[Admitted]],
    target: &Target<'_>,
    observer: &dyn Observer,
) -> Result<Vec<ManifestEntry>, Stop> {
    let next = AtomicUsize::new(0);
    let work = || {
        let (mut archive, mut made) = (archive.clone(), Vec::new());
        while let Some(portion) = portions.get(next.fetch_add(1, Ordering::Relaxed)) {
            for (at, name, ticket) in *portion {
                let written = archive.by_index(*at).map_err(wrong).and_then(|content| {
                    let size = content.size();
                    target.file(ticket.clone(), size, &mut Cancellable::new(content, observer))
                });
                made.push(written.map_err(|stop| {
                    next.store(portions.len(), Ordering::Relaxed);
                    stop.of(name)
                })?);
            }
        }
        Ok(made)
    };
    thread::scope(|scope| {
        let threads: Vec<_> = (0..super::threads()).map(|_| scope.spawn(work)).collect();
        let done =
            threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        Ok(done.collect::<Result<Vec<_>, Stop>>()?.concat())
    })
}
