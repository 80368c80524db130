//! 7z, SquashFS and xar archives that nobody should make.

use std::fs;
use std::io::Write;
use std::time::{Duration, Instant};

use backhand::compression::Compressor;
use kladder_choose::catalog::{Artifact, Layout, Unpacking};
use kladder_core::base::digest::Digest;
use kladder_core::base::event::Silent;
use kladder_core::bring::shelf::{ManifestEntry, Twins};
use kladder_core::bring::unpack::{Content, Refusal, UnpackError, unpack};
use kladder_pack::Entry;
use sevenz_rust2::{EncoderMethod, encoder_options::Lzma2Options};

use crate::artifact;
use crate::packing::{Node, deflated, sevenz, sevenz_of, squashfs, xar, xar_of};

fn unpacked(name: &str, bytes: &[u8], unpacking: Unpacking) -> Result<Vec<ManifestEntry>, UnpackError> {
    let folder = tempfile::tempdir().unwrap();
    let (path, into) = (folder.path().join(name), folder.path().join("into"));
    fs::write(&path, bytes).unwrap();
    fs::create_dir(&into).unwrap();
    let artifact = artifact(name, bytes.len() as u64, Digest::of(bytes));
    let artifact = Artifact { unpack: unpacking, ..artifact };
    let result =
        unpack([(Content::Whole(fs::File::open(&path).unwrap()), &artifact)], &into, &Twins::default(), &Silent);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is written beside the folder");
    result
}

/// Why an archive is refused, or cannot be read.
fn why_not(name: &str, bytes: &[u8]) -> String {
    match unpacked(name, bytes, Unpacking::default()).unwrap_err() {
        UnpackError::Refused { reason, .. } => reason.to_string(),
        UnpackError::Damaged { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

/// All entries with another name of the same length, wherever it stands in the bytes.
fn renamed(mut bytes: Vec<u8>, from: &[u8], to: &[u8]) -> Vec<u8> {
    let places: Vec<usize> = (0..bytes.len() - from.len()).filter(|at| bytes[*at..].starts_with(from)).collect();
    assert!(!places.is_empty());
    for at in places {
        bytes[at..at + from.len()].copy_from_slice(to);
    }
    bytes
}

/// An image whose two tables of entries are one block each, and not compressed, so that they can be written over.
fn uncompressed(entries: &[Entry]) -> Vec<u8> {
    let mut image = squashfs(entries, Compressor::Uncompressed);
    image[20] = 1;
    for table in [64, 72] {
        let at = usize::try_from(u64::from_le_bytes(image[table..table + 8].try_into().unwrap())).unwrap();
        image[at + 1] |= 0x80;
    }
    image
}

#[test]
fn names_and_links_that_lead_out_are_refused_in_every_format() {
    let out = [Entry::file("../out", "x")];
    assert!(why_not("a.7z", &sevenz(&out)).contains("climbs out"));
    assert!(why_not("a.xar", &xar(&[Node::file("../out", b"x")])).contains("climbs out"));
    let link = [Entry::link("l", "/tmp"), Entry::file("f", "x")];
    assert!(why_not("a.7z", &sevenz(&link)).contains("absolute path"));
    assert!(why_not("a.squashfs", &squashfs(&link, Compressor::Gzip)).contains("absolute path"));
    let plain = uncompressed(&[Entry::file("QQ", "x")]);
    assert!(why_not("a.squashfs", &renamed(plain, b"QQ", b"..")).contains("climbs out"));
    let special = xar(&[Node { path: "d".into(), kind: "<type>fifo</type>".into(), data: Vec::new() }]);
    assert!(why_not("a.xar", &special).contains("neither a file"));
    let nowhere = xar(&[Node { path: "h".into(), kind: "<type link=\"7\">hardlink</type>".into(), data: Vec::new() }]);
    assert!(why_not("a.xar", &nowhere).contains("hard link"));
}

#[test]
fn an_image_that_goes_round_or_grows_without_end_ends_soon() {
    let begun = Instant::now();
    // Zeros are packed so well that one small archive would fill a disk.
    let zeros = [Entry::file("z", vec![0; 66 << 20])];
    for (name, bytes) in
        [("a.7z", sevenz_of(&zeros, EncoderMethod::ZSTD.into())), ("a.squashfs", squashfs(&zeros, Compressor::Gzip))]
    {
        assert!(bytes.len() < 200_000, "{name} packs {}", bytes.len());
        assert!(why_not(name, &bytes).contains("beyond the limit"), "{name}");
    }
    // A table of contents that says to be short, and is not; one that is too deep; one that defines what it repeats.
    let mut lies = xar_of(&format!("<xar><toc>{}</toc></xar>", " ".repeat(66 << 20)), b"");
    assert!(why_not("a.xar", &lies).contains("limit"));
    lies[16..24].copy_from_slice(&10u64.to_be_bytes());
    assert!(why_not("a.xar", &lies).contains("table of contents"));
    let deep = format!("<xar><toc>{}{}</toc></xar>", "<file><name>d</name>".repeat(3000), "</file>".repeat(3000));
    assert!(why_not("a.xar", &xar_of(&deep, b"")).contains("limit"));
    let entities = "<!DOCTYPE x [<!ENTITY a \"aaaa\">]><xar><toc><file><name>&a;</name></file></toc></xar>";
    assert!(why_not("a.xar", &xar_of(entities, b"")).contains("table of contents"));
    // A folder that is in itself: its entry names the inode of the one around it.
    let image = uncompressed(&[Entry::file("around/inner/f", "x")]);
    let mut seen = Vec::new();
    let name = image.windows(5).position(|window| window == b"inner").unwrap();
    for offset in (0..400u16).step_by(4) {
        let mut round = image.clone();
        round[name - 8..name - 6].copy_from_slice(&offset.to_le_bytes());
        seen.extend(unpacked("a.squashfs", &round, Unpacking::default()).err().map(|error| format!("{error:?}")));
    }
    assert!(seen.iter().any(|error| error.contains("Limit") || error.contains("Depth")), "{:?}", &seen[..3]);
    assert!(begun.elapsed() < Duration::from_mins(1), "{:?}", begun.elapsed());
}

#[test]
fn what_cannot_be_taken_apart_is_refused_for_its_reason_or_taken_whole_where_that_is_said() {
    // More memory than unpacking may take.
    let mut large = Lzma2Options::from_level(1);
    large.set_dictionary_size((1 << 30) - 1);
    assert!(why_not("a.7z", &sevenz_of(&[Entry::file("f", "x")], large.into())).contains("memory"));

    let appimage = [b"\x7fELF\x02\x01\x01\0AI\x01".as_slice(), &[0; 200]].concat();
    assert!(why_not("a.AppImage", &appimage).contains("AppImage of type 1"));
    let mut packed = squashfs(&[Entry::file("f", "x")], Compressor::Gzip);
    packed[20] = 5;
    assert!(why_not("a.squashfs", &packed).contains("LZ4"));
    for name in ["a.dmg", "a.iso", "a.msi"] {
        let refused = unpacked(name, b"some image", Unpacking::default());
        assert!(matches!(refused, Err(UnpackError::Refused { reason: Refusal::Image(_), .. })), "{name}");
        let whole = Unpacking { layout: Some(Layout::Whole), ..Unpacking::default() };
        let made = unpacked(name, b"some image", whole).unwrap();
        assert_eq!(made[0].path.to_str(), Some(name));
    }
}

#[test]
fn a_package_brings_each_component_below_its_folder_and_payloads_come_in_pieces_too() {
    let cpio = {
        let name = b"./bin/tide\0";
        let head = |name: &[u8], mode: u32, size: usize| {
            format!(
                "070707{0:06o}{0:06o}{mode:06o}{0:06o}{0:06o}{1:06o}{0:06o}{0:011o}{2:06o}{size:011o}",
                0,
                1,
                name.len()
            )
        };
        let mut bytes = [head(name, 0o100_755, 4).as_bytes(), name, b"tide"].concat();
        bytes.extend([head(b"TRAILER!!!\0", 0, 0).as_bytes(), b"TRAILER!!!\0"].concat());
        bytes
    };
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 6);
    xz.write_all(&cpio[..90]).unwrap();
    let mut pieces = [b"pbzx".as_slice(), &(1u64 << 24).to_be_bytes()].concat();
    for (flags, piece) in [(1u64 << 24, xz.finish().unwrap()), (0, cpio[90..].to_vec())] {
        pieces.extend([&flags.to_be_bytes(), &(piece.len() as u64).to_be_bytes(), piece.as_slice()].concat());
    }
    let mut zipped = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    zipped.write_all(&cpio).unwrap();
    let package = xar(&[
        Node::file("Distribution", b"<installer-gui-script/>"),
        Node::file("base.pkg/Payload", &zipped.finish().unwrap()),
        Node::file("more.pkg/Payload", &pieces),
    ]);
    let made = unpacked("a.pkg", &package, Unpacking::default()).unwrap();
    let paths: Vec<_> = made.iter().map(|entry| entry.path.to_str().unwrap()).collect();
    assert_eq!(paths, ["base.pkg/bin/tide", "more.pkg/bin/tide"]);
    pieces.truncate(pieces.len() - 20);
    assert!(unpacked("a.pkg", &xar(&[Node::file("Payload", &pieces)]), Unpacking::default()).is_err());
}

#[test]
fn whatever_is_damaged_is_refused_and_never_kept_as_something_else() {
    let data: Vec<u8> =
        (0..60_000u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()[..1].to_vec()).collect();
    let entries = [Entry::program("bin/tide", data), Entry::file("share/a", "a"), Entry::link("l", "share/a")];
    let nodes = [Node::file("bin/tide", &deflated(b"x")), Node::file("share/a", b"a")];
    let cases =
        [("a.7z", sevenz(&entries)), ("a.squashfs", squashfs(&entries, Compressor::Zstd)), ("a.xar", xar(&nodes))];
    let mut random = fastrand::Rng::with_seed(15);
    for (name, honest) in cases {
        assert!(unpacked(name, &honest, Unpacking::default()).is_ok(), "{name}");
        for _ in 0..300 {
            let mut bytes = honest.clone();
            for _ in 0..random.usize(1..4) {
                let at = if random.bool() { random.usize(..bytes.len().min(120)) } else { random.usize(..bytes.len()) };
                bytes[at] = random.u8(..);
            }
            bytes.truncate(bytes.len() - random.usize(..3) * random.usize(..40));
            // Whatever comes of it, it comes soon, and nothing is written beside the folder.
            let _ = unpacked(name, &bytes, Unpacking::default());
        }
    }
}
