//! What is on the disk of an artifact already, hashed again: nothing counts because it counted once.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use super::{FetchError, Onward};
use crate::base::digest::Hasher;
use crate::base::event::{Observer, check_cancelled};
use crate::base::files::Attach;

/// Bytes read at once.
const BLOCK: usize = 256 * 1024;

/// Hashes a file from where it stands, and hands its bytes on; returns their number too.
pub(super) fn rehash(
    mut file: &File,
    path: &Path,
    onward: &mut dyn Onward,
    observer: &dyn Observer,
) -> Result<(Hasher, u64), FetchError> {
    let (mut hasher, mut all, mut block) = (Hasher::default(), 0, vec![0; BLOCK]);
    loop {
        check_cancelled(observer)?;
        let got = match file.read(&mut block) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            got => got.on("read", path)?,
        };
        if got == 0 {
            return Ok((hasher, all));
        }
        hasher.update(&block[..got]);
        all += got as u64;
        onward.bytes(&block[..got]);
    }
}
