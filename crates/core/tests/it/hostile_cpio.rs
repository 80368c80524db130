//! cpio archives and packages around them that nobody should make.

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Unpacking;
use kladder_core::base::digest::Digest;
use kladder_core::base::event::Silent;
use kladder_core::bring::shelf::{ManifestEntry, Twins};
use kladder_core::bring::unpack::{Content, Refusal, UnpackError, unpack};
use kladder_pack::{Entry, Format, pack};

use crate::artifact;

/// One entry of the new form: inode, mode, names, and a size that may lie.
fn entry(name: &str, inode: u32, mode: u32, names: u32, data: &[u8], size: usize) -> Vec<u8> {
    let length = name.len() + 1;
    let mut bytes = format!("070701{inode:08x}{mode:08x}{0:08x}{0:08x}{names:08x}{0:08x}{size:08x}", 0).into_bytes();
    bytes.extend(format!("{0:08x}{0:08x}{0:08x}{0:08x}{length:08x}{0:08x}", 0).into_bytes());
    bytes.extend(name.as_bytes());
    bytes.extend(vec![0; 1 + (110 + length).wrapping_neg() % 4]);
    bytes.extend(data);
    bytes.extend(vec![0; data.len().wrapping_neg() % 4]);
    bytes
}

fn end() -> Vec<u8> {
    entry("TRAILER!!!", 0, 0, 1, b"", 0)
}

const FILE: u32 = 0o100_644;

fn unpacked(name: &str, bytes: &[u8]) -> (tempfile::TempDir, Result<Vec<ManifestEntry>, UnpackError>) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    fs::write(&path, bytes).unwrap();
    let into = folder.path().join("into");
    fs::create_dir(&into).unwrap();
    let artifact = artifact(name, bytes.len() as u64, Digest::of(bytes));
    let artifact = kladder_choose::catalog::Artifact { unpack: Unpacking::default(), ..artifact };
    let content = Content::Whole(fs::File::open(&path).unwrap());
    let result = unpack([(content, &artifact)], &into, &Twins::default(), &Silent);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is written beside the folder");
    (folder, result)
}

fn refused(entries: &[Vec<u8>]) -> String {
    let bytes = [entries.concat(), end()].concat();
    let error = unpacked("a.cpio", &bytes).1.unwrap_err();
    match error {
        UnpackError::Refused { reason, .. } => reason.to_string(),
        other => std::error::Error::source(&other).map_or_else(|| other.to_string(), ToString::to_string),
    }
}

#[test]
fn what_leads_out_or_is_no_file_is_refused() {
    for name in ["../evil", "/etc/evil", "a/../../evil"] {
        let reason = refused(&[entry(name, 1, FILE, 1, b"x", 1)]);
        assert!(
            reason.contains("folder")
                || reason.contains("absolute")
                || reason.contains("outside")
                || reason.contains("climbs"),
            "{name}: {reason}"
        );
    }
    for kind in [0o010_644, 0o020_644, 0o060_644, 0o140_644] {
        let bytes = [entry("special", 1, kind, 1, b"", 0), end()].concat();
        let result = unpacked("a.cpio", &bytes).1;
        assert!(matches!(result, Err(UnpackError::Refused { reason: Refusal::Special, .. })), "{kind:o}");
    }
    let through = [entry("out", 1, 0o120_777, 1, b"/tmp", 4), entry("out/evil", 2, FILE, 1, b"x", 1)];
    refused(&through);
    refused(&[entry("twice", 1, FILE, 1, b"x", 1), entry("twice", 2, FILE, 1, b"y", 1)]);
    // Several names of one file are one file, and none of them leaves the folder.
    let linked = [entry("a", 7, FILE, 2, b"", 0), entry("b", 7, FILE, 2, b"both", 4), end()].concat();
    let (folder, made) = unpacked("a.cpio", &linked);
    assert_eq!(made.unwrap().len(), 2);
    assert_eq!(fs::read_to_string(folder.path().join("into/a")).unwrap(), "both");
    refused(&[entry("../a", 7, FILE, 2, b"", 0), entry("b", 7, FILE, 2, b"both", 4)]);
    let (folder, made) = unpacked("a.cpio", &[entry("empty", 7, FILE, 2, b"", 0), end()].concat());
    assert!(made.is_ok() && Path::new(&folder.path().join("into/empty")).is_file());
}

#[test]
fn what_lies_about_its_length_is_damaged_and_takes_no_memory() {
    let good = entry("a", 1, FILE, 1, b"abcd", 4);
    let longer = entry("a", 1, FILE, 1, b"abcd", usize::try_from(u32::MAX).unwrap());
    refused(&[longer]);
    let mut name = good.clone();
    name[94..102].copy_from_slice(b"ffffffff");
    assert!(refused(&[name]).contains("too long"));
    let mut digits = good.clone();
    digits[54..62].copy_from_slice(b"+0000004");
    assert!(refused(&[digits]).contains("a number in a head is none"));
    let mut unended = good.clone();
    unended[111] = b'x';
    refused(&[unended]);
    refused(&[b"070707".repeat(40)]);
    refused(&[entry("l", 1, 0o120_777, 1, &vec![b'x'; 70_000], 70_000)]);
    // Cut off anywhere it is never whole.
    let whole = [good, entry("b/c", 2, FILE, 1, b"xyz", 3), end()].concat();
    let last = whole.len() - end().len();
    for at in 0..last + 100 {
        assert!(unpacked("a.cpio", &whole[..at]).1.is_err(), "{at}");
    }
    let files = unpacked("a.cpio", &whole).1.unwrap();
    assert_eq!(files.len(), 2);
}

#[test]
fn a_package_whose_heads_lie_is_refused_at_once() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.rpm");
    pack(Format::Rpm, &[Entry::program("usr/bin/tide", "#!/bin/sh\n")], &path).unwrap();
    let good = fs::read(&path).unwrap();
    assert_eq!(unpacked("a.rpm", &good).1.unwrap().len(), 1);
    let changed = |at: usize, bytes: &[u8]| {
        let mut bad = good.clone();
        bad[at..at + bytes.len()].copy_from_slice(bytes);
        let begun = Instant::now();
        let result = unpacked("a.rpm", &bad).1;
        assert!(result.is_err() && begun.elapsed() < Duration::from_secs(5), "{at}");
    };
    changed(0, b"\x00");
    changed(96, b"\x00");
    // So many entries that the header would be longer than the file.
    changed(104, b"\xff\xff\xff\xff\xff\xff\xff\xff");
    changed(good.len() - 8, &[0; 8]);
    for at in (0..good.len()).step_by(7) {
        assert!(unpacked("a.rpm", &good[..at]).1.is_err(), "{at}");
    }
}
