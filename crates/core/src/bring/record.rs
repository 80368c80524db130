//! Files of wheels against their `RECORD` ("Recording installed projects", PEP 376 and 427): each file that was unpacked is listed
//! there with its digest, and has that digest.
//!
//! Threat model: a wheel's bytes are the pinned ones already. What this tells is a wheel that was put together wrongly, or two that
//! have a file of one name with other bytes, so that one of them would be broken without a word.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use kladder_choose::catalog::{Artifact, Layout};

use crate::base::files::{self, FileError};
use crate::base::side::{cores, side_by_side};
use crate::bring::shelf::{ManifestEntry, What};
use crate::bring::unpack::Placing;

/// Most bytes of a `RECORD`.
const MOST: u64 = 64 << 20;

/// Why the files of a wheel cannot be taken.
#[derive(Debug, thiserror::Error)]
pub enum RecordFault {
    /// It has no `RECORD` that can be read.
    #[error("{wheel} has no RECORD that can be read")]
    None {
        /// The wheel.
        wheel: String,
    },
    /// A file has other bytes than are listed.
    #[error("{} in {wheel} has other bytes than its RECORD lists", path.display())]
    Differs {
        /// The wheel.
        wheel: String,
        /// The file, as it was unpacked.
        path: PathBuf,
    },
    /// A file is not listed.
    #[error("{} is in no RECORD of the wheels that it may have come from", path.display())]
    Unlisted {
        /// The file, as it was unpacked.
        path: PathBuf,
    },
    /// Two wheels have a file of one name with other bytes.
    #[error("two of its libraries bring {} with other bytes each", path.display())]
    Clash {
        /// The file, as it was unpacked.
        path: PathBuf,
    },
    /// A file could not be read.
    #[error(transparent)]
    File(#[from] FileError),
}

/// A file that a `RECORD` lists, and how.
struct Row<'a> {
    wheel: &'a Artifact,
    path: PathBuf,
    digest: Option<(&'static ring::digest::Algorithm, Vec<u8>)>,
}

/// Holds the files of all wheels among some artifacts against what they list.
///
/// # Errors
/// [`RecordFault`] for the first that is not right.
pub(super) fn check(entries: &[ManifestEntry], artifacts: &[Artifact], into: &Path) -> Result<(), RecordFault> {
    let is_wheel = |artifact: &&Artifact| artifact.layout() == Layout::Wheel;
    if !artifacts.iter().any(|artifact| is_wheel(&artifact)) {
        return Ok(());
    }
    let files: BTreeMap<&Path, u64> = entries
        .iter()
        .filter_map(|entry| match entry.what {
            What::File { size, .. } => Some((entry.path.as_path(), size)),
            What::Link { .. } => None,
        })
        .collect();
    let mut rows = Vec::new();
    let records: BTreeSet<&Path> = files.keys().copied().filter(|path| is_record(path)).collect();
    for wheel in artifacts.iter().filter(is_wheel) {
        let none = || RecordFault::None { wheel: wheel.file.to_string() };
        let placing = Placing::of(wheel).ok_or_else(none)?;
        let record = record_of(wheel, &records).ok_or_else(none)?;
        if files.get(record.as_path()).is_some_and(|size| *size > MOST) {
            return Err(none());
        }
        rows.extend(listed(wheel, &placing, &files::read(&into.join(&record))?).ok_or_else(none)?);
    }
    let held: Vec<&Row<'_>> = rows.iter().filter(|row| files.contains_key(row.path.as_path())).collect();
    let checked = side_by_side(&held, cores(), |row| row.check(into));
    checked.into_iter().collect::<Result<(), _>>()?;
    if artifacts.iter().all(|artifact| is_wheel(&artifact)) {
        let known: BTreeSet<&Path> = rows.iter().map(|row| row.path.as_path()).collect();
        let unlisted = files.keys().find(|path| !known.contains(**path) && !is_record(path));
        return unlisted.map_or(Ok(()), |path| Err(RecordFault::Unlisted { path: (*path).to_path_buf() }));
    }
    Ok(())
}

/// Where the `RECORD` of a wheel was put, of those that there are: in the folder that is called as the wheel is, whichever way its
/// name is written.
pub(super) fn record_of(wheel: &Artifact, records: &BTreeSet<&Path>) -> Option<PathBuf> {
    let name = wheel.file.as_str().rsplit('/').next()?;
    let mut parts = name.splitn(3, '-');
    let folder = format!("{}-{}.dist-info/RECORD", parts.next()?, parts.next()?);
    let exactly = Placing::of(wheel)?.place(folder.as_bytes())?;
    if records.contains(exactly.as_path()) {
        return Some(exactly);
    }
    records.iter().find(|path| is_alike(path, &exactly)).map(|path| path.to_path_buf())
}

fn is_alike(one: &Path, other: &Path) -> bool {
    let plain = |path: &Path| path.to_string_lossy().to_lowercase().replace(['-', '.'], "_");
    one.ends_with("RECORD") && plain(one) == plain(other)
}

/// What is never listed with a digest.
pub(super) fn is_record(path: &Path) -> bool {
    let is_of_info = path.parent().and_then(Path::extension).is_some_and(|end| end == "dist-info");
    let name = path.file_name().unwrap_or_default();
    is_of_info && (name == "RECORD" || name == "RECORD.jws" || name == "RECORD.p7s")
}

/// The rows of a `RECORD`: comma-separated values of path, digest and size. `None` for what is none.
fn listed<'a>(wheel: &'a Artifact, placing: &Placing, text: &[u8]) -> Option<Vec<Row<'a>>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text);
    let mut rows = Vec::new();
    for record in reader.byte_records() {
        let record = record.ok()?;
        let Some(path) = placing.place(record.get(0)?) else { continue };
        let digest = match std::str::from_utf8(record.get(1).unwrap_or_default()).ok()?.split_once('=') {
            None => None,
            Some((algorithm, digest)) => {
                Some((algorithm_of(algorithm)?, URL_SAFE_NO_PAD.decode(digest.trim_end_matches('=')).ok()?))
            }
        };
        if digest.is_none() && !is_record(&path) {
            return None;
        }
        rows.push(Row { wheel, path, digest });
    }
    Some(rows)
}

/// The algorithms that the specification allows.
fn algorithm_of(name: &str) -> Option<&'static ring::digest::Algorithm> {
    match name {
        "sha256" => Some(&ring::digest::SHA256),
        "sha384" => Some(&ring::digest::SHA384),
        "sha512" => Some(&ring::digest::SHA512),
        _ => None,
    }
}

/// How far up the folder of libraries is from the top of an environment.
const UP: &str = "../../../";

/// The `RECORD` of a wheel that was laid out: where its files are now, from the folder of libraries, and `more` of them.
pub(super) fn rewritten(wheel: &Artifact, text: &[u8], more: &[PathBuf], into: &Path) -> Option<Vec<u8>> {
    let rows = listed(wheel, &Placing::of(wheel)?, text)?;
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(Vec::new());
    let kept = rows.iter().filter(|row| !more.contains(&row.path) && into.join(&row.path).exists());
    let each = kept.map(|row| (&row.path, row.digest.as_ref())).chain(more.iter().map(|path| (path, None)));
    for (path, digest) in each {
        let place = match path.strip_prefix("site") {
            Ok(inner) => inner.to_string_lossy().into_owned(),
            Err(_) => [UP, &path.to_string_lossy()].concat(),
        };
        let (digest, size) = if is_record(path) {
            (String::new(), String::new())
        } else {
            // What was written here, or over, has another digest than its maker's.
            let own =
                || ring::digest::digest(&ring::digest::SHA256, &files::read(&into.join(path)).unwrap_or_default());
            let known = digest.filter(|(algorithm, _)| **algorithm == ring::digest::SHA256 && !path.starts_with("bin"));
            let digest = known.map_or_else(|| own().as_ref().to_vec(), |(_, digest)| digest.clone());
            let size = std::fs::metadata(into.join(path)).map(|meta| meta.len()).unwrap_or_default();
            (format!("sha256={}", URL_SAFE_NO_PAD.encode(digest)), size.to_string())
        };
        writer.write_record([place, digest, size]).ok()?;
    }
    writer.into_inner().ok()
}

/// The files that a `RECORD` which was written here lists.
pub(super) fn installed(text: &[u8]) -> Option<Vec<PathBuf>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text);
    let path = |record: Result<csv::StringRecord, csv::Error>| {
        let record = record.ok()?;
        let place = record.get(0)?;
        Some(place.strip_prefix(UP).map_or_else(|| Path::new("site").join(place), PathBuf::from))
    };
    reader.records().map(path).collect()
}

impl Row<'_> {
    fn check(&self, into: &Path) -> Result<(), RecordFault> {
        let Some((algorithm, expected)) = &self.digest else { return Ok(()) };
        let bytes = files::read(&into.join(&self.path))?;
        if ring::digest::digest(algorithm, &bytes).as_ref() == expected.as_slice() {
            return Ok(());
        }
        Err(RecordFault::Differs { wheel: self.wheel.file.to_string(), path: self.path.clone() })
    }
}
