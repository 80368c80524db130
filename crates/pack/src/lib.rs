//! Deterministic archives: the same files give the same bytes, whoever packs them and when.
//!
//! Times, owners and groups are fixed; only the run bit survives of the mode. The bytes also
//! depend on the compressors' versions, which is why digests are computed after packing and never written down before.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

/// 2026-01-01T00:00:00Z, the time of every entry, in seconds since the epoch.
const TIME: u64 = 1_767_225_600;

/// Below this many bytes an archive is small.
const SMALL: usize = 1 << 20;

/// What kind of archive to make.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// A tar as it is.
    Tar,
    /// A bzip2-compressed tar.
    TarBz2,
    /// A Debian package: an `ar` with the tar in it.
    Deb,
    /// A cpio in its new form.
    Cpio,
    /// A gzip-compressed cpio in a package with heads in front of it that say nothing.
    Rpm,
    /// A gzip-compressed tar.
    TarGz,
    /// An xz-compressed tar.
    TarXz,
    /// A Zstandard-compressed tar.
    TarZst,
    /// A zip with deflated entries.
    Zip,
}

impl Format {
    /// The format that a file name's ending stands for.
    pub fn of_name(name: &str) -> Option<Self> {
        const ENDINGS: [(&str, Format); 11] = [
            (".tar", Format::Tar),
            (".tar.bz2", Format::TarBz2),
            (".deb", Format::Deb),
            (".cpio", Format::Cpio),
            (".rpm", Format::Rpm),
            (".tar.gz", Format::TarGz),
            (".tar.xz", Format::TarXz),
            (".tar.zst", Format::TarZst),
            (".tgz", Format::TarGz),
            (".whl", Format::Zip),
            (".zip", Format::Zip),
        ];
        ENDINGS.iter().find(|(ending, _)| name.ends_with(ending)).map(|&(_, format)| format)
    }
}

/// One entry of an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Path inside the archive, with `/`; taken as it is, so that tests can make archives nobody should make.
    pub path: String,
    /// What stands there.
    pub content: Content,
}

/// What an entry is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// A file's bytes, and whether it may be run.
    File(Vec<u8>, bool),
    /// A symbolic link and its target.
    Link(String),
    /// A hard link and the path of the entry it names.
    HardLink(String),
}

impl Entry {
    /// A plain file.
    pub fn file(path: &str, bytes: impl Into<Vec<u8>>) -> Self {
        Self { path: path.into(), content: Content::File(bytes.into(), false) }
    }

    /// A file that may be run.
    pub fn program(path: &str, bytes: impl Into<Vec<u8>>) -> Self {
        Self { path: path.into(), content: Content::File(bytes.into(), true) }
    }

    fn size(&self) -> usize {
        if let Content::File(bytes, _) = &self.content { bytes.len() } else { 0 }
    }

    /// A symbolic link.
    pub fn link(path: &str, target: &str) -> Self {
        Self { path: path.into(), content: Content::Link(target.into()) }
    }
}

/// The entries of a wheel with its `RECORD` ("Binary distribution format"), which lists them with their digests.
pub fn with_record(mut entries: Vec<Entry>, info: &str) -> Vec<Entry> {
    let row = |entry: &Entry| match &entry.content {
        Content::File(bytes, _) => {
            let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
            let digest = base64::Engine::encode(&base64::engine::general_purpose::URL_SAFE_NO_PAD, digest.as_ref());
            Some(format!("{},sha256={digest},{}\n", entry.path, bytes.len()))
        }
        _ => None,
    };
    let record = entries.iter().filter_map(row).collect::<String>() + &format!("{info}/RECORD,,\n");
    entries.push(Entry::file(&format!("{info}/RECORD"), record));
    entries
}

/// Packs `entries` into `out`, in the order given.
///
/// # Errors
/// What the writer or a compressor reports; also a hard link in a zip, which has none.
pub fn pack(format: Format, entries: &[Entry], out: &Path) -> io::Result<()> {
    let mut file = io::BufWriter::new(fs::File::create(out)?);
    // The strong levels first clear a hundred megabytes of tables, which small archives do not repay.
    let small = entries.iter().map(Entry::size).sum::<usize>() < SMALL;
    match format {
        Format::Tar => tar_into(entries, file),
        Format::TarBz2 => {
            let mut bz = bzip2::write::BzEncoder::new(file, bzip2::Compression::best());
            tar_into(entries, &mut bz)?;
            bz.finish()?.flush()
        }
        Format::Deb => {
            let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
            tar_into(entries, &mut gz)?;
            let data = gz.finish()?;
            let mut ar = ar::Builder::new(&mut file);
            for (name, bytes) in
                [("debian-binary", b"2.0\n".as_slice()), ("control.tar.gz", b""), ("data.tar.gz", &data)]
            {
                ar.append(&ar::Header::new(name.into(), bytes.len() as u64), bytes)?;
            }
            file.flush()
        }
        Format::Cpio => cpio_into(entries, file),
        Format::Rpm => {
            let mut lead = [0; 96];
            lead[..4].copy_from_slice(&[0xed, 0xab, 0xee, 0xdb]);
            file.write_all(&lead)?;
            // Signature and header: magic, version, no entry, five bytes of nothing, up to a multiple of eight in front.
            let header = [[0x8e, 0xad, 0xe8, 0x01, 0, 0, 0, 0].as_slice(), &[0; 7], &[5], &[7; 5]].concat();
            file.write_all(&header)?;
            file.write_all(&[0; 3])?;
            file.write_all(&header)?;
            let mut gz = flate2::write::GzEncoder::new(file, flate2::Compression::best());
            cpio_into(entries, &mut gz)?;
            gz.finish()?.flush()
        }
        Format::Zip => zip_into(entries, file),
        Format::TarGz => {
            let mut gz = flate2::write::GzEncoder::new(file, flate2::Compression::best());
            tar_into(entries, &mut gz)?;
            gz.finish()?.flush()
        }
        Format::TarXz => {
            let mut xz = liblzma::write::XzEncoder::new(file, if small { 0 } else { 6 });
            tar_into(entries, &mut xz)?;
            xz.finish()?.flush()
        }
        Format::TarZst => {
            let mut zst = zstd::Encoder::new(file, if small { 3 } else { 19 })?;
            tar_into(entries, &mut zst)?;
            zst.finish()?.flush()
        }
    }
}

/// Of several names of one file all but the last come without its data.
fn cpio_into(entries: &[Entry], mut out: impl Write) -> io::Result<()> {
    let mut number = 0;
    let mut one = |path: &str, mode: u32, inode: u32, names: u32, data: &[u8]| -> io::Result<()> {
        let (length, size) = (path.len() + 1, data.len());
        write!(out, "070701{inode:08x}{mode:08x}{:08x}{:08x}{names:08x}{TIME:08x}{size:08x}", 0, 0)?;
        write!(out, "{:08x}{:08x}{:08x}{:08x}{length:08x}{:08x}", 0, 0, 0, 0, 0)?;
        out.write_all(path.as_bytes())?;
        out.write_all(&[0; 4][..=(110 + length).wrapping_neg() % 4])?;
        out.write_all(data)?;
        out.write_all(&[0; 3][..size.wrapping_neg() % 4])
    };
    for entry in entries {
        number += 1;
        match &entry.content {
            Content::File(bytes, runs) => {
                let linked =
                    |other: &&Entry| matches!(&other.content, Content::HardLink(target) if *target == entry.path);
                let mode = if *runs { 0o100_755 } else { 0o100_644 };
                let others: Vec<&Entry> = entries.iter().filter(linked).collect();
                let names = u32::try_from(others.len() + 1).map_err(io::Error::other)?;
                for other in others {
                    one(&other.path, mode, number, names, b"")?;
                }
                one(&entry.path, mode, number, names, bytes)?;
            }
            Content::Link(target) => one(&entry.path, 0o120_777, number, 1, target.as_bytes())?,
            Content::HardLink(_) => {}
        }
    }
    one("TRAILER!!!", 0, 0, 1, b"")?;
    out.flush()
}

fn tar_into(entries: &[Entry], out: impl Write) -> io::Result<()> {
    let mut tar = tar::Builder::new(out);
    for entry in entries {
        let mut header = tar::Header::new_gnu();
        header.set_mtime(TIME);
        header.set_uid(0);
        header.set_gid(0);
        match &entry.content {
            Content::File(bytes, runs) => {
                header.set_mode(if *runs { 0o755 } else { 0o644 });
                header.set_size(bytes.len() as u64);
                raw_path(&mut header, &entry.path)?;
                tar.append(&header, bytes.as_slice())?;
            }
            Content::Link(target) => append_link(&mut tar, header, tar::EntryType::Symlink, &entry.path, target)?,
            Content::HardLink(target) => append_link(&mut tar, header, tar::EntryType::Link, &entry.path, target)?,
        }
    }
    tar.into_inner()?.flush()
}

fn append_link<W: Write>(
    tar: &mut tar::Builder<W>,
    mut header: tar::Header,
    kind: tar::EntryType,
    path: &str,
    target: &str,
) -> io::Result<()> {
    header.set_entry_type(kind);
    header.set_mode(0o777);
    header.set_size(0);
    let field = &mut header.as_gnu_mut().ok_or(io::ErrorKind::InvalidInput)?.linkname;
    fill(field, target)?;
    raw_path(&mut header, path)?;
    tar.append(&header, io::empty())
}

/// Sets the name byte for byte: the library's own setter would refuse what hostile archives hold.
fn raw_path(header: &mut tar::Header, path: &str) -> io::Result<()> {
    fill(&mut header.as_gnu_mut().ok_or(io::ErrorKind::InvalidInput)?.name, path)?;
    header.set_cksum();
    Ok(())
}

fn fill(field: &mut [u8], text: &str) -> io::Result<()> {
    let room =
        field.get_mut(..text.len()).ok_or_else(|| io::Error::other(format!("`{text}` is too long for ustar")))?;
    room.copy_from_slice(text.as_bytes());
    Ok(())
}

fn zip_into(entries: &[Entry], out: impl Write + io::Seek) -> io::Result<()> {
    let mut zip = zip::ZipWriter::new(out);
    let options = zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Deflated)
        .last_modified_time(zip::DateTime::default());
    for entry in entries {
        match &entry.content {
            Content::File(bytes, runs) => {
                let mode = if *runs { 0o755 } else { 0o644 };
                zip.start_file(&entry.path, options.unix_permissions(mode))?;
                zip.write_all(bytes)?;
            }
            Content::Link(target) => zip.add_symlink(&entry.path, target, options)?,
            Content::HardLink(_) => return Err(io::Error::other("a zip has no hard links")),
        }
    }
    zip.finish()?.flush()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_entries_give_the_same_bytes_in_every_format() {
        let entries = [Entry::program("bin/skerroc", "#!/bin/sh\n"), Entry::link("bin/scc", "skerroc")];
        for name in ["a.tar.gz", "a.tar.xz", "a.tar.zst", "a.zip"] {
            let format = Format::of_name(name).unwrap();
            let at = |n: usize| std::env::temp_dir().join(format!("kladder-pack-{}-{n}-{name}", std::process::id()));
            let packed = [1, 2].map(|n| {
                pack(format, &entries, &at(n)).unwrap();
                let bytes = fs::read(at(n)).unwrap();
                fs::remove_file(at(n)).unwrap();
                bytes
            });
            assert!(packed[0].len() > 60 && packed[0] == packed[1], "{name}");
        }
    }
}
