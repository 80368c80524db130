//! Archives, honest and hostile, through every format.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_core::base::digest::{Digest, Fingerprint, of_file};
use kladder_core::base::event::Silent;
use kladder_core::bring::shelf::{ManifestEntry, Twins, What};
use kladder_core::bring::unpack::{self, Refusal, UnpackError};
use kladder_pack::{Content, Entry, Format, pack};

use crate::artifact;
use crate::hostile::{self, Hostile};
use crate::not_tested;
use crate::packing::pack_as;

/// Those at the end have no hard links, or none that the packer of the tests writes.
const FORMATS: [&str; 15] = [
    "a.tar",
    "a.tar.gz",
    "a.tar.xz",
    "a.tar.zst",
    "a.tar.bz2",
    "a.deb",
    "a.cpio",
    "a.rpm",
    "a.xar",
    "a.pkg",
    "a.zip",
    "a.7z",
    "a.squashfs",
    "a.sqfs",
    "a.AppImage",
];
const WITH_HARD_LINKS: usize = 10;

struct Unpacked {
    folder: tempfile::TempDir,
    result: Result<Vec<ManifestEntry>, UnpackError>,
}

impl Unpacked {
    fn at(&self, path: &str) -> PathBuf {
        self.folder.path().join("in").join(path)
    }

    /// Whatever came of it, nothing stands beside the folder that was unpacked into.
    fn assert_nothing_escaped(&self) {
        let beside: Vec<_> = fs::read_dir(self.folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(beside.len(), 2, "{beside:?}");
        assert!(!Path::new("/tmp/kladder-escaped").exists());
    }
}

fn unpack_as(name: &str, entries: &[Entry], unpacking: Unpacking) -> Unpacked {
    let folder = tempfile::tempdir().unwrap();
    let (archive, into) = (folder.path().join(name), folder.path().join("in"));
    fs::create_dir(&into).unwrap();
    pack_as(entries, &archive);
    let (sha256, size) = of_file(&archive).unwrap();
    let artifact = Artifact { unpack: unpacking, ..artifact(name, size, sha256) };
    let result = unpack_one(&archive, &artifact, &into);
    Unpacked { folder, result }
}

fn unpack_one(archive: &Path, artifact: &Artifact, into: &Path) -> Result<Vec<ManifestEntry>, UnpackError> {
    let content = unpack::Content::Whole(fs::File::open(archive).unwrap());
    unpack::unpack([(content, artifact)], into, &Twins::default(), &Silent)
}

fn hard_link(path: &str, target: &str) -> Entry {
    Entry { path: path.into(), content: Content::HardLink(target.into()) }
}

#[test]
fn every_hostile_archive_is_refused_for_its_reason_and_nothing_gets_out() {
    let corpus = hostile::corpus().unwrap();
    assert!(corpus.len() >= 60, "{}", corpus.len());
    for Hostile { tries, file, bytes, refused } in corpus {
        let folder = tempfile::tempdir().unwrap();
        let (archive, into) = (folder.path().join(&file), folder.path().join("in"));
        fs::create_dir(&into).unwrap();
        fs::write(&archive, &bytes).unwrap();
        let (sha256, size) = of_file(&archive).unwrap();
        let artifact = artifact(&file, size, sha256);
        let result = unpack_one(&archive, &artifact, &into);
        let unpacked = Unpacked { folder, result };
        unpacked.assert_nothing_escaped();
        let Err(error) = &unpacked.result else {
            panic!("{file} that would {tries} was unpacked: {:?}", unpacked.result)
        };
        let causes = std::iter::successors(Some(error as &dyn std::error::Error), |error| error.source());
        let told = causes.map(ToString::to_string).collect::<Vec<_>>().join(": ");
        assert!(told.contains(refused), "{file} that would {tries}: {told}");
    }
}

#[test]
fn what_the_definition_says_of_links_and_names_goes() {
    let entries = [Entry::link("usr/bin/x", "/usr/lib/x"), Entry::file("usr/lib/x", "x"), Entry::file("USR/y", "y")];
    let unpacking = |text: &str| toml::from_str::<Unpacking>(text).unwrap();
    for name in FORMATS {
        let made = unpack_as(name, &entries, unpacking("absolute-links = 'inside'\ncase-clashes = true"));
        assert_eq!(made.result.as_ref().unwrap().len(), 3, "{name}");
        assert_eq!(fs::read_to_string(made.at("usr/bin/x")).unwrap(), "x");
        let made = unpack_as(
            name,
            &entries,
            unpacking("absolute-links = 'leave-out'\nleave-out = ['USR']\nmove = { usr = '' }"),
        );
        assert_eq!(
            made.result.as_ref().unwrap().iter().map(|e| e.path.clone()).collect::<Vec<_>>(),
            [Path::new("lib/x")]
        );
    }
}

#[test]
fn hard_links_join_files_of_the_archive_and_nothing_else() {
    for name in &FORMATS[..WITH_HARD_LINKS] {
        let good = unpack_as(name, &[Entry::program("bin/a", "x"), hard_link("bin/b", "bin/a")], Unpacking::default());
        assert_eq!(good.result.as_ref().unwrap().len(), 2);
        assert_eq!(fs::read_to_string(good.at("bin/b")).unwrap(), "x");
        // A cpio names no target: its names of one file are one file.
        let has_targets = !["a.cpio", "a.rpm", "a.pkg"].contains(name);
        for target in ["/etc/hosts", "../a.tar", "missing", "l"].into_iter().filter(|_| has_targets) {
            let entries = [Entry::link("l", "missing"), hard_link("h", target)];
            let bad = unpack_as(name, &entries, Unpacking::default());
            let refused = matches!(&bad.result, Err(UnpackError::Refused { reason: Refusal::HardLink(_), .. }));
            assert!(refused, "{target}: {:?}", bad.result);
        }
    }
}

#[test]
fn names_modes_links_and_digests_come_out_as_they_went_in() {
    let names = ["top/a b+c~d%e.txt", "top/ü", "top/-dash", "top/deep/er/file"];
    let mut entries: Vec<Entry> = names.iter().map(|name| Entry::file(name, format!("in {name}"))).collect();
    entries.push(Entry::program("top/bin/tool", "#!/bin/sh\n"));
    entries.push(Entry::file("top/lib/helper", "#!/bin/sh\n"));
    entries.push(Entry::link("top/bin/alias", "../deep/er/file"));
    for name in FORMATS {
        let unpacking = Unpacking { strip: 1, executable: vec!["lib/*".into()], ..Unpacking::default() };
        let unpacked = unpack_as(name, &entries, unpacking);
        let manifest = unpacked.result.as_ref().unwrap();
        assert_eq!(manifest.len(), entries.len(), "{name}");
        for path in names {
            let text = fs::read_to_string(unpacked.at(path.strip_prefix("top/").unwrap())).unwrap();
            assert_eq!(text, format!("in {path}"));
        }
        let mode = |path: &str| fs::metadata(unpacked.at(path)).unwrap().permissions().mode() & 0o7777;
        assert_eq!([mode("bin/tool"), mode("lib/helper"), mode("ü")].map(|m| m & 0o100), [0o100, 0o100, 0]);
        assert_eq!(fs::read_to_string(unpacked.at("bin/alias")).unwrap(), "in top/deep/er/file");
        let tool = manifest.iter().find(|entry| entry.path == Path::new("bin/tool")).unwrap();
        assert_eq!(tool.what, What::File { executable: true, size: 10, blake3: Fingerprint::of(b"#!/bin/sh\n") });
    }
}

#[test]
fn a_file_outside_the_folders_to_strip_is_not_lost_in_silence() {
    let unpacked = unpack_as("a.tar.gz", &[Entry::file("README", "x")], Unpacking { strip: 1, ..Unpacking::default() });
    assert!(matches!(
        unpacked.result,
        Err(UnpackError::Refused { reason: Refusal::Stripped { strip: 1, fits: 0, .. }, .. })
    ));
    let deeper = [Entry::file("top/a/x", "x"), Entry::file("top/b", "x")];
    let unpacked = unpack_as("a.tar.gz", &deeper, Unpacking { strip: 2, ..Unpacking::default() });
    let Err(UnpackError::Refused { entry, reason, .. }) = unpacked.result else { panic!("taken") };
    assert_eq!((entry.as_str(), reason), ("top/b", Refusal::Stripped { strip: 2, top: vec!["top".into()], fits: 1 }));
}

#[test]
fn an_archive_that_is_cut_or_something_else_is_damaged() {
    let folder = tempfile::tempdir().unwrap();
    for (at, name) in FORMATS.iter().enumerate() {
        let (archive, into) = (folder.path().join(name), folder.path().join(at.to_string()));
        let bytes: Vec<u8> = (0..200_000u32).flat_map(|n| (n.wrapping_mul(2_654_435_761)).to_le_bytes()).collect();
        pack_as(&[Entry::file("big", bytes)], &archive);
        let whole = fs::read(&archive).unwrap();
        for (case, content) in [&whole[..whole.len() / 2], b"<html>not found</html>", b""].into_iter().enumerate() {
            fs::write(&archive, content).unwrap();
            let into = into.join(case.to_string());
            fs::create_dir_all(&into).unwrap();
            let artifact = artifact(name, content.len() as u64, Digest::of(content));
            let result = unpack_one(&archive, &artifact, &into);
            assert!(matches!(result, Err(UnpackError::Damaged { .. })), "{name}, case {case}: {result:?}");
        }
    }
}

#[test]
fn a_single_file_is_put_as_it_is_and_may_be_run() {
    let folder = tempfile::tempdir().unwrap();
    let (file, into) = (folder.path().join("tool-1.0"), folder.path().join("in"));
    fs::write(&file, "#!/bin/sh\n").unwrap();
    fs::create_dir(&into).unwrap();
    let artifact = artifact("sub/tool-1.0", 10, Digest::of(b""));
    let made = unpack_one(&file, &artifact, &into).unwrap();
    assert_eq!(made[0].path, Path::new("tool-1.0"));
    assert_ne!(fs::metadata(into.join("tool-1.0")).unwrap().permissions().mode() & 0o100, 0);
}

#[test]
fn zip64_is_read_like_any_zip() {
    use std::io::Write;
    let folder = tempfile::tempdir().unwrap();
    let (archive, into) = (folder.path().join("a.zip"), folder.path().join("in"));
    fs::create_dir(&into).unwrap();
    let mut zip = zip::ZipWriter::new(fs::File::create(&archive).unwrap());
    let options = zip::write::SimpleFileOptions::default().large_file(true).unix_permissions(0o755);
    zip.start_file("bin/tool", options).unwrap();
    zip.write_all(b"#!/bin/sh\n").unwrap();
    zip.finish().unwrap();
    let (sha256, size) = of_file(&archive).unwrap();
    let artifact = artifact("a.zip", size, sha256);
    let made = unpack_one(&archive, &artifact, &into).unwrap();
    assert_eq!(made[0].what, What::File { executable: true, size: 10, blake3: Fingerprint::of(b"#!/bin/sh\n") });
}

#[test]
fn sparse_files_of_the_systems_own_packer_come_out_whole() {
    use std::os::unix::fs::FileExt;
    let version = std::process::Command::new("tar").arg("--version").output();
    if !version.is_ok_and(|output| String::from_utf8_lossy(&output.stdout).contains("GNU tar")) {
        not_tested("there is no GNU tar here");
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let file = fs::File::create(at("sparse")).unwrap();
    file.set_len(3_000_000).unwrap();
    for (position, text) in [(0, "first"), (700_000, "middle"), (2_000_000, "last")] {
        file.write_all_at(text.as_bytes(), position).unwrap();
    }
    let long = "a long name/".repeat(12) + "and its end";
    fs::create_dir_all(at(&long).parent().unwrap()).unwrap();
    fs::write(at(&long), "long").unwrap();
    let versions = [vec!["--format=gnu"], vec!["--format=posix", "--sparse-version=0.0"]];
    let more = ["0.1", "1.0"].map(|version| vec!["--format=posix".to_owned(), format!("--sparse-version={version}")]);
    let all = versions.map(|options| options.into_iter().map(str::to_owned).collect()).into_iter().chain(more);
    for options in all.collect::<Vec<Vec<String>>>() {
        let (archive, into) = (at("a.tar"), at("in"));
        let mut tar = std::process::Command::new("tar");
        tar.args(&options)
            .arg("--sparse")
            .arg("-cf")
            .arg(&archive)
            .arg("-C")
            .arg(folder.path())
            .args(["sparse", "a long name"]);
        assert!(tar.status().unwrap().success());
        fs::create_dir(&into).unwrap();
        let (sha256, size) = of_file(&archive).unwrap();
        assert!(size < 200_000, "{options:?} packed the holes");
        let artifact = artifact("a.tar", size, sha256);
        let made = unpack_one(&archive, &artifact, &into).unwrap();
        assert_eq!(made.len(), 2);
        assert!(fs::read(into.join("sparse")).unwrap() == fs::read(at("sparse")).unwrap(), "{options:?}");
        assert_eq!(fs::read_to_string(into.join(&long)).unwrap(), "long");
        kladder_core::base::files::remove_tree(&into).unwrap();
    }
}

/// What other packers make and other unpackers read.
#[test]
fn honest_oddities_are_read_as_they_were_meant() {
    use std::io::Write;
    let folder = tempfile::tempdir().unwrap();
    let header = |name: &[u8], kind: u8, size: u64| {
        let mut header = tar::Header::new_gnu();
        header.as_mut_bytes()[..name.len()].copy_from_slice(name);
        header.set_entry_type(tar::EntryType::new(kind));
        header.set_mode(0o755);
        header.set_size(size);
        header.set_cksum();
        header.as_bytes().to_vec()
    };
    let file = |name: &[u8], text: &str| {
        let mut bytes = header(name, b'0', text.len() as u64);
        bytes.extend_from_slice(text.as_bytes());
        bytes.resize(bytes.len().next_multiple_of(512), 0);
        bytes
    };
    let end = vec![0; 1024];
    let plain = [file(b"tool", "tool"), end.clone()].concat();
    let gz = |bytes: &[u8]| {
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gz.write_all(bytes).unwrap();
        gz.finish().unwrap()
    };
    let lzma = |bytes: &[u8]| {
        let options = liblzma::stream::LzmaOptions::new_preset(1).unwrap();
        let stream = liblzma::stream::Stream::new_lzma_encoder(&options).unwrap();
        let mut writer = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
        writer.write_all(bytes).unwrap();
        writer.finish().unwrap()
    };
    let pax = |records: &[u8], then: Vec<u8>| {
        let mut bytes = [header(b"pax", b'x', records.len() as u64), records.to_vec()].concat();
        bytes.resize(bytes.len().next_multiple_of(512), 0);
        [bytes, then].concat()
    };
    let lines = [pax(b"21 comment=two\nlines\n13 path=a\n=b\n", file(b"c", "x")), plain.clone()].concat();
    let cases: [(&str, Vec<u8>, usize); 9] = [
        ("lines.tar", lines, 2),
        ("folder.tar", [header(b"d/", b'5', 4096), plain.clone()].concat(), 1),
        ("label.tar", [header(b"reel 7", b'V', 0), plain.clone()].concat(), 1),
        ("latin.tar", [file(b"a\xe9", "1"), file(b"a\xe8", "2"), plain.clone()].concat(), 3),
        ("padded.tar.gz", [gz(&plain), vec![0; 10_240]].concat(), 1),
        ("members.tar.gz", [gz(&plain[..700]), gz(&plain[700..])].concat(), 1),
        ("apart.tar.gz", [gz(&plain[..700]), vec![0; 300_000], gz(&plain[700..])].concat(), 1),
        ("old.tar.lzma", lzma(&plain), 1),
        ("old.tlz", lzma(&plain), 1),
    ];
    for (name, bytes, files) in cases {
        let (archive, into) = (folder.path().join(name), folder.path().join(format!("in-{name}")));
        fs::write(&archive, &bytes).unwrap();
        fs::create_dir(&into).unwrap();
        let made = unpack_one(&archive, &artifact(name, bytes.len() as u64, Digest::of(&bytes)), &into);
        assert_eq!(made.map(|made| made.len()).map_err(|error| error.to_string()), Ok(files), "{name}");
        assert_eq!(fs::read_to_string(into.join("tool")).unwrap(), "tool", "{name}");
    }
    assert_eq!(fs::read_to_string(folder.path().join("in-lines.tar/a\n=b")).unwrap(), "x");
    // Empty files weigh something too: what is small may not become a million of them.
    let many: Vec<u8> = (0..20_000).flat_map(|n: usize| header(n.to_string().as_bytes(), b'0', 0)).collect();
    let bytes = gz(&[many, end].concat());
    let (archive, into) = (folder.path().join("many.tar.gz"), folder.path().join("in-many"));
    fs::write(&archive, &bytes).unwrap();
    fs::create_dir(&into).unwrap();
    let many = artifact("many.tar.gz", bytes.len() as u64, Digest::of(&bytes));
    let refused = unpack_one(&archive, &many, &into).unwrap_err();
    assert!(format!("{refused:?}").contains("16384 entries for what it weighs"), "{refused:?}");
    // Something else behind the last member is not passed over.
    let bytes = [gz(&plain), vec![0; 100], b"noise".to_vec()].concat();
    let archive = folder.path().join("noise.tar.gz");
    fs::write(&archive, &bytes).unwrap();
    fs::create_dir(folder.path().join("in")).unwrap();
    let artifact = artifact("noise.tar.gz", bytes.len() as u64, Digest::of(&bytes));
    assert!(unpack_one(&archive, &artifact, &folder.path().join("in")).is_err());
}

/// What a random archive holds: by path, the text of a file or the target of a link.
type Tree = std::collections::BTreeMap<String, Result<Vec<u8>, String>>;

/// Archives of every dialect that the library of tar writes, with names and targets of every length.
#[test]
fn random_archives_of_every_dialect_come_out_as_they_went_in() {
    let mut random = fastrand::Rng::with_seed(20_261);
    for round in 0..60 {
        let dialect = round % 3;
        let (mut tree, mut builder) = (Tree::new(), tar::Builder::new(Vec::new()));
        for number in 0..random.usize(1..25) {
            let depth = random.usize(0..4);
            let name = |random: &mut fastrand::Rng| "n".repeat([1, 7, 60, 99, 100, 101, 155, 200][random.usize(0..8)]);
            let folders: Vec<String> = (0..depth).map(|at| format!("d{at}-{}", name(&mut random))).collect();
            let path = [folders, vec![format!("{number}-{}", name(&mut random))]].concat().join("/");
            let long = (dialect == 2).then(|| path.clone());
            if random.bool() {
                let text: Vec<u8> = (0..random.usize(0..2000)).map(|_| random.u8(..)).collect();
                append(&mut builder, dialect, long.as_deref(), &path, None, &text);
                tree.insert(path, Ok(text));
            } else {
                let target = format!("t-{}", name(&mut random));
                append(&mut builder, dialect, long.as_deref(), &path, Some(&target), &[]);
                tree.insert(path, Err(target));
            }
        }
        let bytes = builder.into_inner().unwrap();
        let folder = tempfile::tempdir().unwrap();
        let (archive, into) = (folder.path().join("a.tar"), folder.path().join("in"));
        fs::write(&archive, &bytes).unwrap();
        fs::create_dir(&into).unwrap();
        let made = unpack_one(&archive, &artifact("a.tar", bytes.len() as u64, Digest::of(&bytes)), &into).unwrap();
        assert_eq!(made.len(), tree.len(), "round {round}");
        for entry in &made {
            let path = entry.path.to_str().unwrap();
            match (&entry.what, &tree[path]) {
                (What::File { blake3, size, .. }, Ok(text)) => {
                    assert_eq!((*blake3, *size), (Fingerprint::of(text), text.len() as u64), "{path}");
                    assert!(fs::read(into.join(path)).unwrap() == *text, "{path}");
                }
                (What::Link { target }, Err(wanted)) => {
                    assert_eq!(target.to_str(), Some(wanted.as_str()), "{path}");
                    assert_eq!(fs::read_link(into.join(path)).unwrap(), *target);
                }
                other => panic!("{path} is {other:?}"),
            }
        }
        // Cut anywhere, it is refused or shorter, and never another tree.
        let cut = random.usize(0..bytes.len());
        let again = tempfile::tempdir().unwrap();
        let (archive, into) = (again.path().join("a.tar"), again.path().join("in"));
        fs::write(&archive, &bytes[..cut]).unwrap();
        fs::create_dir(&into).unwrap();
        let shorter = artifact("a.tar", cut as u64, Digest::of(&bytes[..cut]));
        for entry in unpack_one(&archive, &shorter, &into).unwrap_or_default() {
            assert!(made.contains(&entry), "cut at {cut}, round {round}: {entry:?}");
        }
    }
}

/// Appends a file or link: in GNU headers, in ustar headers where they have room, or with pax records.
fn append(
    builder: &mut tar::Builder<Vec<u8>>,
    dialect: usize,
    long: Option<&str>,
    path: &str,
    target: Option<&str>,
    text: &[u8],
) {
    let mut header = if dialect == 1 { tar::Header::new_ustar() } else { tar::Header::new_gnu() };
    header.set_mode(0o644);
    header.set_size(text.len() as u64);
    header.set_entry_type(if target.is_some() { tar::EntryType::Symlink } else { tar::EntryType::Regular });
    if let Some(path) = long {
        let mut records = vec![("comment", b"two\nlines = 3".as_slice()), ("path", path.as_bytes())];
        records.extend(target.map(|target| ("linkpath", target.as_bytes())));
        builder.append_pax_extensions(records).unwrap();
        header.set_path("made-up").unwrap();
        header.set_cksum();
        return builder.append(&header, text).unwrap();
    }
    // ustar has no room for some; those are what the GNU form is for.
    if dialect == 1 && (header.set_path(path).is_err() || target.is_some_and(|it| header.set_link_name(it).is_err())) {
        return append(builder, 0, None, path, target, text);
    }
    match target {
        Some(target) => builder.append_link(&mut header, path, target).unwrap(),
        None => builder.append_data(&mut header, path, text).unwrap(),
    }
}

/// What stands before a zip or behind it is not its directory: programs that unpack themselves, and comments.
#[test]
fn zips_with_something_before_and_behind_them_are_whole() {
    let folder = tempfile::tempdir().unwrap();
    let plain = folder.path().join("plain.zip");
    pack(Format::Zip, &[Entry::file("a/one", "one"), Entry::program("two", "#!/bin/sh\n")], &plain).unwrap();
    let bytes = fs::read(&plain).unwrap();
    let comment = b"PK\x01\x02 is how an entry of the directory begins";
    let mut commented = bytes.clone();
    let length = u16::try_from(comment.len()).unwrap().to_le_bytes();
    let end = commented.len() - 2;
    commented[end..].copy_from_slice(&length);
    commented.extend_from_slice(comment);
    let opens_itself = [b"#!/bin/sh\nexec unzip \"$0\"\n".as_slice(), &bytes].concat();
    for (name, bytes) in [("plain.zip", bytes), ("commented.zip", commented), ("opens-itself.zip", opens_itself)] {
        let (archive, into) = (folder.path().join(name), folder.path().join(format!("in-{name}")));
        fs::write(&archive, &bytes).unwrap();
        fs::create_dir(&into).unwrap();
        let made = unpack_one(&archive, &artifact(name, bytes.len() as u64, Digest::of(&bytes)), &into);
        let paths: Vec<_> = made.unwrap().into_iter().map(|entry| entry.path).collect();
        assert_eq!(paths, [PathBuf::from("a/one"), PathBuf::from("two")], "{name}");
        assert_eq!(fs::read_to_string(into.join("a/one")).unwrap(), "one", "{name}");
    }
}
