//! Archives of the formats that makers use and we only read, packed by libraries that know nothing of our readers.

use std::fs::{self, File};
use std::io::{Cursor, Write};
use std::path::Path;

use backhand::{FilesystemCompressor, FilesystemWriter, NodeHeader, compression::Compressor};
use flate2::{Compression, write::ZlibEncoder};
use kladder_pack::{Content, Entry, Format, pack};
use sevenz_rust2::{ArchiveEntry, ArchiveWriter, EncoderConfiguration, EncoderMethod};

/// A program, as far as an AppImage looks at it.
pub const PROGRAM: &str = "/proc/self/exe";

/// Packs `entries` as the name of `out` tells.
pub fn pack_as(entries: &[Entry], out: &Path) {
    let name = out.file_name().unwrap().to_str().unwrap();
    let bytes = match name.rsplit_once('.').unwrap().1 {
        "7z" => sevenz(entries),
        "squashfs" => squashfs(entries, Compressor::Xz),
        "sqfs" => squashfs(entries, Compressor::Gzip),
        "AppImage" => [fs::read(PROGRAM).unwrap(), squashfs(entries, Compressor::Zstd)].concat(),
        "xar" => xar(&entries.iter().map(Node::of).collect::<Vec<_>>()),
        "pkg" => {
            let payload = out.with_extension("cpio.gz");
            pack(Format::of_name("a.cpio").unwrap(), entries, &payload).unwrap();
            let content = fs::read(&payload).unwrap();
            fs::remove_file(&payload).unwrap();
            xar(&[Node::file("PackageInfo", b"<pkg-info/>"), Node::file("Payload", &content)])
        }
        _ => return pack(Format::of_name(name).unwrap(), entries, out).map(drop).unwrap(),
    };
    File::create(out).unwrap().write_all(&bytes).unwrap();
}

fn mode(is_program: bool) -> u16 {
    if is_program { 0o755 } else { 0o644 }
}

/// An image whose blocks are small, so that files have several and an end in a fragment.
pub fn squashfs(entries: &[Entry], compressor: Compressor) -> Vec<u8> {
    let mut image = FilesystemWriter::default();
    image.set_compressor(FilesystemCompressor::new(compressor, None).unwrap());
    image.set_block_size(1 << 14);
    let header = |mode| NodeHeader { permissions: mode, ..NodeHeader::default() };
    for entry in entries {
        if let Some(above) = Path::new(&entry.path).parent() {
            image.push_dir_all(above, header(0o755)).unwrap();
        }
        match &entry.content {
            Content::File(bytes, runs) => {
                image.push_file(Cursor::new(bytes.clone()), &entry.path, header(mode(*runs))).unwrap();
            }
            Content::Link(target) => image.push_symlink(target, &entry.path, header(0o777)).unwrap(),
            Content::HardLink(_) => panic!("this writer has no hard links"),
        }
    }
    let mut out = Cursor::new(Vec::new());
    image.write(&mut out).unwrap();
    out.into_inner()
}

pub fn sevenz(entries: &[Entry]) -> Vec<u8> {
    sevenz_of(entries, EncoderMethod::LZMA2.into())
}

pub fn sevenz_of(entries: &[Entry], method: EncoderConfiguration) -> Vec<u8> {
    let mut archive = ArchiveWriter::new(Cursor::new(Vec::new())).unwrap();
    archive.set_content_methods(vec![method]);
    for entry in entries {
        let (mode, bytes) = match &entry.content {
            Content::File(bytes, runs) => (0o100_000 | u32::from(mode(*runs)), bytes.clone()),
            Content::Link(target) => (0o120_777, target.clone().into_bytes()),
            Content::HardLink(_) => panic!("the format has no hard links"),
        };
        let mut head = ArchiveEntry::new_file(&entry.path);
        head.has_windows_attributes = true;
        head.windows_attributes = mode << 16 | 0x8000;
        archive.push_archive_entry(head, Some(Cursor::new(bytes))).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// One file of an xar: its path, its XML besides the name, its bytes.
pub struct Node {
    pub path: String,
    pub kind: String,
    pub data: Vec<u8>,
}

impl Node {
    pub fn file(path: &str, data: &[u8]) -> Self {
        Self { path: path.into(), kind: "<type>file</type><mode>0644</mode>".into(), data: data.to_vec() }
    }

    fn of(entry: &Entry) -> Self {
        let (kind, data) = match &entry.content {
            Content::File(bytes, runs) => (format!("<type>file</type><mode>0{:o}</mode>", mode(*runs)), bytes.clone()),
            Content::Link(target) => (format!("<type>symlink</type><link>{target}</link>"), Vec::new()),
            Content::HardLink(target) => (format!("<type link=\"{target}\">hardlink</type>"), Vec::new()),
        };
        Self { path: entry.path.clone(), kind, data }
    }
}

/// An archive whose files are numbered by their paths; every second one is deflated.
pub fn xar(nodes: &[Node]) -> Vec<u8> {
    let mut heap = Vec::new();
    let mut file = |(at, node): (usize, &Node)| {
        let (folders, last) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
        let folders: Vec<_> = folders.split('/').filter(|folder| !folder.is_empty()).collect();
        let opened: String =
            folders.iter().map(|folder| format!("<file><name>{folder}</name><type>directory</type>")).collect();
        let (packed, style) = match at % 2 {
            0 => (deflated(&node.data), "application/x-gzip"),
            _ => (node.data.clone(), "application/octet-stream"),
        };
        let (offset, length, size) = (heap.len(), packed.len(), node.data.len());
        let place = format!("<offset>{offset}</offset><length>{length}</length><size>{size}</size>");
        let data = format!("<data>{place}<encoding style=\"{style}\"/></data>");
        heap.extend(packed);
        let (path, kind, closed) = (&node.path, &node.kind, "</file>".repeat(folders.len() + 1));
        let data = if node.data.is_empty() { "" } else { &data };
        format!("{opened}<file id=\"{path}\"><name>{last}</name>{kind}{data}{closed}")
    };
    let table: String = nodes.iter().enumerate().map(&mut file).collect();
    xar_of(&format!("<?xml version=\"1.0\"?><xar><toc>{table}</toc></xar>"), &heap)
}

/// An archive with this table of contents and this heap.
pub fn xar_of(table: &str, heap: &[u8]) -> Vec<u8> {
    let packed = deflated(table.as_bytes());
    let mut bytes = [b"xar!".as_slice(), &28u16.to_be_bytes(), &1u16.to_be_bytes()].concat();
    bytes.extend((packed.len() as u64).to_be_bytes());
    bytes.extend((table.len() as u64).to_be_bytes());
    bytes.extend(0u32.to_be_bytes());
    bytes.extend(packed);
    bytes.extend(heap);
    bytes
}

pub fn deflated(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = ZlibEncoder::new(Vec::new(), Compression::default());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}
