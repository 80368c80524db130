//! Hostile zips, written field by field.

use std::io::{self, Write};

use super::DAMAGED;
use super::tars::Case;

/// An entry as its headers have it.
#[derive(Clone)]
struct Entry {
    name: Vec<u8>,
    /// The name in the local header, where that is another one.
    local: Option<Vec<u8>>,
    /// Type and rights, as Unix has them.
    mode: u32,
    flags: u16,
    method: u16,
    crc: u32,
    size: u32,
    /// Its size in the extra field of zip64, where the other one is the largest there is.
    wide: Option<u64>,
    data: Vec<u8>,
    /// Where the directory says that it begins, if not where it does.
    at: Option<u32>,
}

fn entry(name: &str, mode: u32, data: &[u8]) -> Entry {
    let mut crc = flate2::Crc::new();
    crc.update(data);
    let size = u32::try_from(data.len()).unwrap_or(u32::MAX);
    let (name, data) = (name.as_bytes().to_vec(), data.to_vec());
    Entry { name, local: None, mode, flags: 0, method: 0, crc: crc.sum(), size, wide: None, data, at: None }
}

fn file(name: &str) -> Entry {
    entry(name, 0o100_644, b"x")
}

fn link(name: &str, target: &str) -> Entry {
    entry(name, 0o120_777, target.as_bytes())
}

fn deflated(name: &str, data: &[u8]) -> io::Result<Entry> {
    let mut deflate = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::best());
    deflate.write_all(data)?;
    Ok(Entry { method: 8, data: deflate.finish()?, ..entry(name, 0o100_644, data) })
}

/// What the two headers of an entry have in common.
fn common(entry: &Entry, name: &[u8]) -> Vec<u8> {
    let packed = u32::try_from(entry.data.len()).unwrap_or(u32::MAX);
    let mut out = Vec::new();
    for short in [20, entry.flags, entry.method, 0, 0x5c21] {
        out.extend_from_slice(&short.to_le_bytes());
    }
    for long in [entry.crc, packed, entry.size] {
        out.extend_from_slice(&long.to_le_bytes());
    }
    out.extend_from_slice(&u16::try_from(name.len()).unwrap_or(u16::MAX).to_le_bytes());
    out.extend_from_slice(&u16::try_from(extra(entry).len()).unwrap_or(u16::MAX).to_le_bytes());
    out
}

fn extra(entry: &Entry) -> Vec<u8> {
    entry.wide.map_or_else(Vec::new, |size| [&[1, 0, 8, 0][..], &size.to_le_bytes()].concat())
}

fn zip(entries: &[Entry]) -> Vec<u8> {
    let (mut out, mut directory) = (Vec::new(), Vec::new());
    for entry in entries {
        let at = entry.at.unwrap_or(u32::try_from(out.len()).unwrap_or(0));
        let local = entry.local.as_ref().unwrap_or(&entry.name);
        out.extend_from_slice(b"PK\x03\x04");
        out.extend(common(entry, local));
        out.extend_from_slice(local);
        out.extend(extra(entry));
        out.extend_from_slice(&entry.data);
        directory.extend_from_slice(b"PK\x01\x02\x14\x03");
        directory.extend(common(entry, &entry.name));
        directory.extend_from_slice(&[0; 6]);
        directory.extend_from_slice(&(entry.mode << 16).to_le_bytes());
        directory.extend_from_slice(&at.to_le_bytes());
        directory.extend_from_slice(&entry.name);
        directory.extend(extra(entry));
    }
    let (start, count) = (u32::try_from(out.len()).unwrap_or(0), u16::try_from(entries.len()).unwrap_or(0));
    out.extend_from_slice(&directory);
    out.extend_from_slice(b"PK\x05\x06\0\0\0\0");
    out.extend_from_slice(&count.to_le_bytes());
    out.extend_from_slice(&count.to_le_bytes());
    out.extend_from_slice(&u32::try_from(directory.len()).unwrap_or(0).to_le_bytes());
    out.extend_from_slice(&start.to_le_bytes());
    out.extend_from_slice(&[0; 2]);
    out
}

pub(super) fn all() -> io::Result<Vec<Case>> {
    Ok([paths(), things(), sizes()?, broken()].concat())
}

fn paths() -> Vec<Case> {
    vec![
        ("climb out", zip(&[file("../escaped")]), "climbs out"),
        ("climb out with the other separators", zip(&[file("..\\..\\escaped")]), "climbs out"),
        ("start at the root", zip(&[file("/tmp/escaped")]), "absolute"),
        ("start at the root with the other separator", zip(&[file("\\tmp\\escaped")]), "absolute"),
        ("make a folder outside", zip(&[entry("../escaped/", 0o040_755, b"")]), "climbs out"),
        ("hide its end behind a NUL", zip(&[file("fine\0/../escaped")]), "not a path"),
        ("have no name", zip(&[file("")]), "not a path"),
        ("have an endless name", zip(&[file(&"n".repeat(300))]), "255 bytes in a name"),
        ("stand too deep", zip(&[file(&("d/".repeat(200) + "f"))]), "128 folders"),
        ("be there twice", zip(&[file("f"), file("f")]), "at its path already"),
        ("be there twice in two spellings", zip(&[file("a/f"), file("a\\f")]), "at its path already"),
        ("differ in case only", zip(&[file("Read"), file("read")]), "upper and lower case"),
        ("stand below a file", zip(&[file("f"), file("f/escaped")]), "not a folder"),
    ]
}

fn things() -> Vec<Case> {
    vec![
        ("write through a link", zip(&[link("l", "/tmp"), file("l/escaped")]), "absolute path"),
        ("write through a link above", zip(&[link("l", ".."), file("l/escaped")]), "leads out"),
        ("write through a link inside", zip(&[file("real/f"), link("l", "real"), file("l/g")]), "not a folder"),
        ("lead out", zip(&[link("a/l", "../../escaped")]), "leads out"),
        ("lead nowhere", zip(&[link("l", "")]), "leads out"),
        ("bring a device", zip(&[entry("null", 0o020_666, b"")]), "neither a file"),
        ("bring a pipe", zip(&[entry("pipe", 0o010_644, b"")]), "neither a file"),
        ("bring a socket", zip(&[entry("socket", 0o140_644, b"")]), "neither a file"),
        ("be encrypted", zip(&[Entry { flags: 1, ..file("f") }]), "encrypted"),
    ]
}

fn sizes() -> io::Result<Vec<Case>> {
    let zeros = vec![0; 80 << 20];
    let bomb = deflated("zeros", &zeros)?;
    let small = Entry { size: 10, ..bomb.clone() };
    let overlapping = [file("a"), Entry { at: Some(0), ..file("b") }];
    Ok(vec![
        ("fill the disk", zip(&[bomb]), "beyond the limit"),
        ("be larger than it says", zip(&[small]), DAMAGED),
        ("be smaller than it says", zip(&[Entry { size: 5, ..deflated("f", b"x")? }]), DAMAGED),
        ("share bytes with another entry", zip(&overlapping), "overlap"),
        (
            "say that they are larger than anything",
            zip(&[Entry { size: u32::MAX, wide: Some(u64::MAX), ..file("f") }]),
            DAMAGED,
        ),
        ("begin outside of its archive", zip(&[Entry { at: Some(9_999_999), ..file("f") }]), DAMAGED),
    ])
}

fn broken() -> Vec<Case> {
    let whole = zip(&[file("f"), file("g")]);
    let mut no_end = whole.clone();
    no_end.truncate(whole.len() - 10);
    let mut many = whole.clone();
    let end = whole.len() - 22;
    many[end + 8..end + 12].copy_from_slice(&[0xfe; 4]);
    let mut fewer = zip(&[file("f"), file("g")]);
    let its_end = fewer.len() - 22;
    fewer[its_end + 8..its_end + 12].copy_from_slice(&[1, 0, 1, 0]);
    let mut none = zip(&[file("f")]);
    let its_end = none.len() - 22;
    none[its_end + 8..its_end + 12].fill(0);
    vec![
        ("have another checksum", zip(&[Entry { crc: 7, ..file("f") }]), DAMAGED),
        ("be packed in a way that nobody knows", zip(&[Entry { method: 77, ..file("f") }]), DAMAGED),
        ("have no end", no_end, DAMAGED),
        ("count more entries than there are", many, DAMAGED),
        ("count fewer entries than there are", fewer, "end record counts 1 entries"),
        ("count no entries", none, DAMAGED),
        ("be cut", whole[..whole.len() / 2].to_vec(), DAMAGED),
        ("be something else", b"<html>not found</html>".to_vec(), DAMAGED),
        ("be empty", Vec::new(), DAMAGED),
        ("have nothing in it", zip(&[]), DAMAGED),
    ]
}
