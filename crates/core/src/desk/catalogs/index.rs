//! The index: every tool's card in one file, so that choosing from a large catalog reads a handful of records.
//!
//! It is a cache and nothing else. A card in it is taken only while the definition's file has the size, the times, and
//! the number on its file system that it had when the card was made; definitions that were written shortly before the
//! index are read again, since a clock may be too coarse to tell two writes apart. Whatever does not match is made anew.
//!
//! ```text
//! kladder index 9 by VERSION\n
//! LENGTH (8 bytes)       of the heads, little endian
//! DIGEST (32 bytes)      of the heads
//! heads                  one for each tool, as postcard has it
//! cards                  as postcard has them, at the offsets that the heads give, each with a digest in its head
//! ```

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

use kladder_choose::catalog::{Card, Definition, Head};
use kladder_choose::names::ToolName;

use crate::base::digest::Digest;
use crate::base::files::{self, Attach, FileError};

/// Cards are encoded as this very version has them.
const FORMAT: &[u8] = concat!("kladder index 9 by ", env!("CARGO_PKG_VERSION"), "\n").as_bytes();
const BEFORE_HEADS: usize = FORMAT.len() + 8 + 32;

/// Files written so shortly before the index may have been written again without a trace.
const COARSE: Duration = Duration::from_secs(2);

/// Seconds and nanoseconds since 1970.
type Moment = (i64, i64);

/// What the index has of a tool, before its card.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Record {
    head: Head,
    stamp: Stamp,
    offset: u64,
    length: usize,
    digest: [u8; 32],
}

/// How a file stood when it was read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Stamp {
    size: u64,
    modified: Moment,
    changed: Moment,
    inode: u64,
}

impl Stamp {
    fn of(path: &Path) -> Result<Self, FileError> {
        let data = fs::metadata(path).on("read", path)?;
        let (modified, changed) = ((data.mtime(), data.mtime_nsec()), (data.ctime(), data.ctime_nsec()));
        Ok(Self { size: data.len(), modified, changed, inode: data.ino() })
    }
}

#[derive(Default, Serialize, Deserialize)]
struct Heads {
    /// Files that changed before this moment are as they were read.
    settled: Moment,
    tools: BTreeMap<ToolName, Record>,
}

enum Cards {
    /// A file, and where the cards begin in it.
    File(File, u64),
    Memory(Vec<u8>),
}

/// An open index.
pub(super) struct Index {
    heads: Heads,
    cards: Cards,
}

impl Index {
    /// The index over the definitions `tools`, kept in `file` where one is given and can be written.
    pub(super) fn open(tools: &BTreeMap<ToolName, PathBuf>, file: Option<&Path>) -> Result<Self, FileError> {
        let old = file.and_then(Self::load);
        let stamps = tools.iter().map(|(name, path)| Ok((name, path.as_path(), Stamp::of(path)?)));
        let stamps: Vec<(&ToolName, &Path, Stamp)> = stamps.collect::<Result<_, FileError>>()?;
        let (old, holds) = match old {
            Some(old) => {
                let holds = old.heads.tools.len() == tools.len()
                    && stamps.iter().all(|(name, _, stamp)| old.knows(name, *stamp));
                (Some(old), holds)
            }
            None => (None, false),
        };
        match old {
            Some(old) if holds => Ok(old),
            old => {
                let new = Self::make(&stamps, old.as_ref());
                // A cache that cannot be written is made again the next time.
                let _ = file.map(|file| new.save(file));
                Ok(new)
            }
        }
    }

    /// What a listing says of a tool; `None` when its definition cannot be used.
    pub(super) fn head(&self, tool: &str) -> Option<&Head> {
        Some(&self.heads.tools.get(tool)?.head)
    }

    /// A tool's card; `None` when it is not there or not whole.
    pub(super) fn card(&self, tool: &str) -> Option<Card> {
        postcard::from_bytes(&self.record(self.heads.tools.get(tool)?)?).ok()
    }

    fn record(&self, head: &Record) -> Option<Vec<u8>> {
        let record = match &self.cards {
            Cards::Memory(bytes) => {
                let from = usize::try_from(head.offset).ok()?;
                bytes.get(from..from + head.length)?.to_vec()
            }
            Cards::File(file, start) => {
                let mut record = vec![0; head.length];
                file.read_exact_at(&mut record, start + head.offset).ok()?;
                record
            }
        };
        (Digest::of(&record).bytes() == head.digest).then_some(record)
    }

    fn knows(&self, tool: &ToolName, stamp: Stamp) -> bool {
        let settled = stamp.changed < self.heads.settled && stamp.modified < self.heads.settled;
        settled && self.heads.tools.get(tool).is_some_and(|record| record.stamp == stamp)
    }

    /// Reads what `old` does not know, on all cores.
    fn make(stamps: &[(&ToolName, &Path, Stamp)], old: Option<&Self>) -> Self {
        let settled = moment(SystemTime::now() - COARSE);
        let cores = thread::available_parallelism().map_or(1, usize::from);
        let share = stamps.len().div_ceil(cores).max(1);
        let read = |(name, path, stamp): &(&ToolName, &Path, Stamp)| {
            let known = old
                .filter(|old| old.knows(name, *stamp))
                .and_then(|old| old.heads.tools.get(*name).map(|head| (old, head)));
            let known = known.and_then(|(old, head)| Some((head.clone(), old.record(head)?)));
            let (head, record) = known.or_else(|| fresh(name, path, *stamp))?;
            Some(((*name).clone(), head, record))
        };
        let made: Vec<(ToolName, Record, Vec<u8>)> = thread::scope(|scope| {
            let shares: Vec<_> = stamps
                .chunks(share)
                .map(|share| scope.spawn(move || share.iter().filter_map(read).collect::<Vec<_>>()))
                .collect();
            shares.into_iter().filter_map(|share| share.join().ok()).flatten().collect()
        });
        let mut heads = Heads { settled, tools: BTreeMap::new() };
        let mut cards = Vec::new();
        for (name, mut head, record) in made {
            head.offset = cards.len() as u64;
            cards.extend_from_slice(&record);
            heads.tools.insert(name, head);
        }
        Self { heads, cards: Cards::Memory(cards) }
    }

    fn load(path: &Path) -> Option<Self> {
        let file = File::open(path).ok()?;
        let mut start = [0; BEFORE_HEADS];
        file.read_exact_at(&mut start, 0).ok()?;
        let rest = start.strip_prefix(FORMAT)?;
        let length = usize::try_from(u64::from_le_bytes(rest[..8].try_into().ok()?)).ok()?;
        let all = usize::try_from(file.metadata().ok()?.len()).ok()?;
        let mut heads = vec![0; Some(length).filter(|length| BEFORE_HEADS + length <= all)?];
        file.read_exact_at(&mut heads, BEFORE_HEADS as u64).ok()?;
        let whole = Digest::of(&heads).bytes() == rest[8..];
        let heads = postcard::from_bytes(&heads).ok().filter(|_| whole)?;
        Some(Self { heads, cards: Cards::File(file, (BEFORE_HEADS + length) as u64) })
    }

    fn save(&self, path: &Path) -> Option<()> {
        let Cards::Memory(cards) = &self.cards else { return None };
        let heads = postcard::to_stdvec(&self.heads).ok()?;
        let mut bytes = FORMAT.to_vec();
        bytes.extend_from_slice(&(heads.len() as u64).to_le_bytes());
        bytes.extend_from_slice(&Digest::of(&heads).bytes());
        bytes.extend_from_slice(&heads);
        bytes.extend_from_slice(cards);
        files::create_folder(path.parent()?).ok()?;
        files::replace(path, &bytes).ok()
    }
}

/// A definition read just now; `None` when it cannot be used, which is told when someone asks for its tool.
fn fresh(name: &ToolName, path: &Path, stamp: Stamp) -> Option<(Record, Vec<u8>)> {
    let source = files::source(path).ok()?;
    let definition = Definition::parse(&source, name).ok()?;
    let card = postcard::to_stdvec(&Card::of(&definition, Digest::of(source.text.as_bytes()))).ok()?;
    let (head, length, digest) = (Head::of(&definition), card.len(), Digest::of(&card).bytes());
    Some((Record { head, stamp, offset: 0, length, digest }, card))
}

fn moment(time: SystemTime) -> Moment {
    let since = time.duration_since(UNIX_EPOCH).unwrap_or_default();
    (i64::try_from(since.as_secs()).unwrap_or(i64::MAX), i64::from(since.subsec_nanos()))
}
