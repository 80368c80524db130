//! The folder that facts are read from.

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use super::described::Described;
use super::{Host, Odd};
use crate::base::files;

/// Host files are small; more than this, in bytes, is not read. C libraries are the largest of them.
const MOST: u64 = 8 << 20;

/// A folder laid out like `/`.
pub struct Root {
    folder: PathBuf,
    pub(super) described: Option<Described>,
    odd: Vec<Odd>,
}

impl Root {
    /// Opens the root of a host.
    pub fn open(host: &Host) -> Self {
        let mut root = Self { folder: host.root.clone(), described: None, odd: Vec::new() };
        if host.is_described() {
            match Described::read(&host.root.join("host.toml")) {
                Ok(described) => root.described = Some(described),
                Err(error) => {
                    root.described = Some(Described::default());
                    root.odd.push(error);
                }
            }
        }
        root
    }

    pub(super) fn odd(&self) -> Vec<Odd> {
        self.odd.clone()
    }

    /// The path of `absolute` below this root.
    pub fn at(&self, absolute: &str) -> PathBuf {
        self.folder.join(absolute.trim_start_matches('/'))
    }

    /// The bytes of a file; `None` when it is not there or cannot be read.
    pub fn bytes(&self, absolute: &str) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        files::open(&self.at(absolute)).ok()?.take(MOST).read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }

    /// The text of a file, with what is no UTF-8 replaced.
    pub fn text(&self, absolute: &str) -> Option<String> {
        self.bytes(absolute).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// The first line of a file, trimmed; `None` when it is empty.
    pub fn line(&self, absolute: &str) -> Option<String> {
        let text = self.text(absolute)?;
        let line = text.lines().next()?.trim();
        (!line.is_empty()).then(|| line.to_owned())
    }

    /// Whether there is something at this path.
    pub fn has(&self, absolute: &str) -> bool {
        self.at(absolute).exists()
    }

    /// The names in a folder, sorted; none when it cannot be listed.
    pub fn names(&self, absolute: &str) -> Vec<String> {
        let entries = fs::read_dir(self.at(absolute)).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
        names.sort();
        names
    }

    /// The last part of where a link points.
    pub fn link_name(&self, absolute: &str) -> Option<String> {
        let target = fs::read_link(self.at(absolute)).ok()?;
        target.file_name().map(|name| name.display().to_string())
    }
}

/// The value after `key` and a separator in a file of such lines, without quotes around it.
pub(super) fn value<'t>(text: &'t str, key: &str, separator: char) -> Option<&'t str> {
    let pairs = text.lines().filter_map(|line| line.split_once(separator));
    let value = pairs.filter(|(name, _)| name.trim() == key).map(|(_, value)| value.trim()).next()?;
    let bare = value.trim_matches(['"', '\'']);
    (!bare.is_empty()).then_some(bare)
}

/// A path of the described host as it would be written there.
pub(super) fn below<'p>(path: &'p Path, root: &Root) -> &'p Path {
    path.strip_prefix(&root.folder).unwrap_or(path)
}
