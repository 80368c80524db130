//! Files that are on the shelf already, so that several versions need not store the same bytes again.
//!
//! A file that another version of the tool has byte for byte is not written again: where the file system can clone, it is
//! cloned, else linked; both are as read-only as the rest. A twin counts only after its bytes were compared, since it may have
//! been damaged since it was put there.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::{Place, What};
use crate::base::digest::Fingerprint;

/// Files on the shelf by what they hold.
#[derive(Clone, Debug, Default)]
pub struct Twins(HashMap<(Fingerprint, bool, u64), PathBuf>);

impl Twins {
    /// The files of some places. What cannot be read is not shared.
    pub fn among(places: &[Place]) -> Self {
        let mut all = HashMap::new();
        for place in places {
            let Ok(manifest) = place.manifest() else { continue };
            let files = place.files();
            for entry in manifest.entries {
                if let What::File { executable, size, blake3 } = entry.what {
                    all.entry((blake3, executable, size)).or_insert_with(|| files.join(&entry.path));
                }
            }
        }
        Self(all)
    }

    /// A file with these bytes and this run bit.
    pub fn find(&self, blake3: Fingerprint, runs: bool, size: u64) -> Option<&Path> {
        if size == 0 { None } else { self.0.get(&(blake3, runs, size)).map(PathBuf::as_path) }
    }
}
