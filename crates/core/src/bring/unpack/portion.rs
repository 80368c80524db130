//! Which files one thread writes, one after the other.
//!
//! Who creates a file holds its folder meanwhile, and whoever else creates one there waits. So a portion goes on to the end
//! of its folder if it may, and the next thread begins in another folder.

use std::path::Path;

/// Files of many folders are portioned by this many.
const FEW: usize = 16;
/// What a portion has at most, its first file aside.
const MANY: usize = 512;
const BYTES: u64 = 2 << 20;

/// Where portions end, in a row of files.
#[derive(Default)]
pub(super) struct Portions {
    files: usize,
    bytes: u64,
}

impl Portions {
    /// Whether the next file belongs to the portion of the last one.
    pub(super) fn goes_on(&mut self, last: &Path, next: &Path, bytes: u64) -> bool {
        (self.files, self.bytes) = (self.files + 1, self.bytes.saturating_add(bytes));
        let same = self.files < FEW || last.parent() == next.parent();
        let goes_on = same && self.files < MANY && self.bytes <= BYTES;
        if !goes_on {
            *self = Self { files: 0, bytes };
        }
        goes_on
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn portions(files: &[(String, u64)]) -> Vec<usize> {
        let mut portions = Portions::default();
        let rows = files.chunk_by(|(last, _), (next, bytes)| portions.goes_on(last.as_ref(), next.as_ref(), *bytes));
        rows.map(<[_]>::len).collect()
    }

    #[test]
    fn a_portion_ends_with_its_folder_unless_that_is_tiny_or_huge() {
        let files = |folders: usize, each: usize, bytes: u64| -> Vec<(String, u64)> {
            (0..folders * each).map(|n| (format!("part-{}/file-{n}", n / each), bytes)).collect()
        };
        assert_eq!(portions(&files(3, 200, 5_000)), [200, 200, 200]);
        assert_eq!(portions(&files(40, 1, 10)), [16, 16, 8]);
        assert_eq!(portions(&files(1, 1200, 10)), [512, 512, 176]);
        assert_eq!(portions(&files(1, 5, 900_000)), [3, 2]);
        assert_eq!(portions(&files(1, 3, u64::MAX)), [1, 1, 1]);
    }
}
