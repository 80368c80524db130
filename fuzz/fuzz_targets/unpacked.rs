//! What every archive is held against: nothing outside its folder, and what was made is what the manifest says.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use kladder_choose::catalog::{Artifact, Unpacking};
use kladder_choose::path::InnerPath;
use kladder_choose::platform::Scope;
use kladder_core::base::digest::Digest;
use kladder_core::base::event::Silent;
use kladder_core::base::files::remove_tree;
use kladder_core::bring::shelf::{Manifest, Twins};
use kladder_core::bring::unpack::{Content, unpack};

/// Unpacks some bytes under a name that tells their format.
pub fn check(name: &str, bytes: &[u8]) {
    let folder = tempfile::tempdir_in("/dev/shm").expect("there is memory for files");
    let (archive, into) = (folder.path().join("archive"), folder.path().join("in"));
    fs::write(&archive, bytes).expect("the archive is written");
    fs::create_dir(&into).expect("the folder is made");
    let file = fs::File::open(&archive).expect("the archive is there");
    let (sha256, size) = (Digest::of(b""), bytes.len() as u64);
    // A small size on the label keeps bombs small.
    let (scopes, path) = (vec![Scope::Any], InnerPath::new(name).expect("it is a plain name"));
    let artifact = Artifact { scopes, file: path, size, sha256, unpacked: None, unpack: Unpacking::default() };
    let made = unpack([(Content::Whole(file), &artifact)], &into, &Twins::default(), &Silent);
    let beside = fs::read_dir(folder.path()).expect("the folder can be read").count();
    assert_eq!(beside, 2, "something stands beside the folder");
    if let Ok(made) = made {
        let there = Manifest::scan(&into).expect("only files, folders and links are made");
        assert_eq!(there, made, "the manifest is not what was made");
        stays_inside(&into);
    }
    remove_tree(&into).expect("it can be removed");
}

/// No link leads out, and nothing is set-user-id.
fn stays_inside(into: &Path) {
    let root = into.canonicalize().expect("the folder is there");
    let mut open = vec![into.to_path_buf()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).expect("a folder can be read").map(|entry| entry.expect("an entry")) {
            let meta = entry.path().symlink_metadata().expect("it is there");
            assert_eq!(meta.mode() & 0o7000, 0, "a special bit is set");
            if meta.is_symlink() {
                if let Ok(real) = entry.path().canonicalize() {
                    assert!(real.starts_with(&root), "{} leads out", entry.path().display());
                }
            } else if meta.is_dir() {
                open.push(entry.path());
            }
        }
    }
}
