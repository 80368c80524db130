//! Archives that nobody should make, byte by byte: what an unpacker must refuse, over all formats.
//!
//! Whatever gets out of the folder that is unpacked into would be called `escaped`.

mod tars;
mod zips;

use std::io::{self, Write};

/// One hostile archive.
#[derive(Clone, Debug)]
pub struct Hostile {
    /// What it tries.
    pub tries: &'static str,
    /// Its file name, which tells its format.
    pub file: String,
    /// The archive.
    pub bytes: Vec<u8>,
    /// What an unpacker must say, as part of its reason.
    pub refused: &'static str,
}

/// Every hostile archive that is known.
///
/// # Errors
/// What a compressor reports.
pub fn corpus() -> io::Result<Vec<Hostile>> {
    let mut all = Vec::new();
    for (tries, bytes, refused) in tars::all() {
        all.push(Hostile { tries, file: "a.tar".into(), bytes, refused });
    }
    for (tries, bytes, refused) in zips::all()? {
        all.push(Hostile { tries, file: "a.zip".into(), bytes, refused });
    }
    // Every other way to pack a tar.
    for ending in ["tar.gz", "tar.xz", "tar.zst", "tar.bz2", "deb"] {
        for (tries, bytes, refused) in tars::some() {
            all.push(Hostile { tries, file: format!("a.{ending}"), bytes: packed(ending, &bytes)?, refused });
        }
        let (tries, bytes) = ("be cut in the middle", packed(ending, &tars::noise())?);
        let half = bytes[..bytes.len() / 2].to_vec();
        all.push(Hostile { tries, file: format!("a.{ending}"), bytes: half, refused: DAMAGED });
        let (tries, bytes) = ("be something else", b"<html>not found</html>".repeat(40));
        all.push(Hostile { tries, file: format!("a.{ending}"), bytes, refused: DAMAGED });
    }
    let zeros = vec![0; 80 << 20];
    for ending in ["gz", "xz", "zst", "bz2"] {
        let (file, bytes) = (format!("a.{ending}"), packed(ending, &zeros)?);
        all.push(Hostile { tries: "fill the disk from one small file", file, bytes, refused: "beyond the limit" });
    }
    all.extend(debs()?);
    Ok(all)
}

/// What is said of an archive that cannot be read.
pub const DAMAGED: &str = "cannot be read as an archive";

fn debs() -> io::Result<Vec<Hostile>> {
    let data = packed("tar.gz", &tars::honest())?;
    let member = |name: &str, size: usize, bytes: &[u8]| {
        let mut out = format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{size:<10}`\n", 0, 0, 0, 100_644).into_bytes();
        out.extend_from_slice(bytes);
        out.resize(out.len().next_multiple_of(2), b'\n');
        out
    };
    let ar = |members: &[Vec<u8>]| [b"!<arch>\n".to_vec(), members.concat()].concat();
    let cases = [
        ("bring no files at all", ar(&[member("debian-binary", 4, b"2.0\n")])),
        ("say that a member is longer than it is", ar(&[member("data.tar.gz", data.len() * 9, &data)])),
        ("say a length that is no number", {
            let mut bytes = ar(&[member("data.tar.gz", data.len(), &data)]);
            bytes[8 + 48..8 + 58].copy_from_slice(b"-1        ");
            bytes
        }),
        ("pack its files in a way that nobody knows", ar(&[member("data.tar.what", data.len(), &data)])),
    ];
    Ok(cases.map(|(tries, bytes)| Hostile { tries, file: "a.deb".into(), bytes, refused: DAMAGED }).into())
}

/// Bytes as this ending has them.
pub(super) fn packed(ending: &str, bytes: &[u8]) -> io::Result<Vec<u8>> {
    match ending.rsplit('.').next().unwrap_or_default() {
        "gz" => {
            let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
            gz.write_all(bytes)?;
            gz.finish()
        }
        "xz" => {
            let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 0);
            xz.write_all(bytes)?;
            xz.finish()
        }
        "zst" => zstd::encode_all(bytes, 1),
        "bz2" => {
            let mut bz = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
            bz.write_all(bytes)?;
            bz.finish()
        }
        "deb" => {
            let data = packed("tar.gz", bytes)?;
            let mut ar = ar::Builder::new(Vec::new());
            ar.append(&ar::Header::new(b"debian-binary".to_vec(), 4), b"2.0\n".as_slice())?;
            ar.append(&ar::Header::new(b"data.tar.gz".to_vec(), data.len() as u64), data.as_slice())?;
            ar.into_inner()
        }
        other => Err(io::Error::other(format!("nobody knows `{other}`"))),
    }
}
