//! What is in a bale: its first member, `index.toml`.
//!
//! ```toml
//! # A bale of Kite Ladder. `tar -xf` unpacks it; `kladder bale --list` tells what is in it.
//! format = 1
//! whole = "DIGEST"                                  # of this text without these 64 digits
//! kladder = "0.1.0"
//! title = "Tide-gauge desk"
//! machines = ["desk", "laptop"]
//! volume = 4000000000                               # bytes of a volume, where it is several files
//!
//! [files]                                           # in the order in which they follow
//! "ladder/ladder.toml" = { size = 812, sha256 = "…" }
//! "yard/skerroc-1.4.2.tar.gz" = { size = 48311, sha256 = "…", of = "skerroc 1.4.2" }
//!
//! [elsewhere]                                       # what it needs and another bale has
//! "yard/oarweld-2.1.tar.gz" = { size = 1200, sha256 = "…", of = "oarweld 2.1" }
//! ```

use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::Path;

use kladder_choose::document::{DocumentError, Source};
use serde::Deserialize;

use crate::base::digest::{Digest, is_sealed, sealed};

/// The format that is written, and the newest that is read.
pub const FORMAT: u32 = 1;
/// The path of the index in the archive.
pub const INDEX: &str = "index.toml";
/// The folder of the ladder, its pins and its catalogs.
pub const LADDER: &str = "ladder";
/// The folder of artifacts: a yard.
pub const YARD: &str = "yard";

/// Bytes of a file, and files of a bale, beyond which its positions could not be counted.
const MOST: u64 = 1 << 40;
/// Likewise.
const MANY: usize = 1 << 20;
const WHOLE: &str = "whole = \"";

/// What is in a bale.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Index {
    /// The version of Kite Ladder that made it.
    pub kladder: String,
    /// The ladder's title.
    pub title: String,
    /// The machines that it is for.
    pub machines: Vec<String>,
    /// Bytes of a volume, where it is several files.
    pub volume: Option<u64>,
    /// What is in it, by path.
    pub files: BTreeMap<String, Member>,
    /// What it needs and another bale has.
    pub elsewhere: BTreeMap<String, Member>,
}

/// One file of a bale.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Member {
    /// Its bytes.
    pub size: u64,
    /// Of its bytes.
    pub sha256: Digest,
    /// The rung that it belongs to, with its version; several for a file that they share.
    pub of: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(rename = "format")]
    _format: u32,
    #[serde(rename = "whole")]
    _whole: String,
    kladder: String,
    #[serde(default)]
    title: String,
    #[serde(default)]
    machines: Vec<String>,
    volume: Option<u64>,
    files: BTreeMap<String, Member>,
    #[serde(default)]
    elsewhere: BTreeMap<String, Member>,
}

/// Why an index cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum IndexProblem {
    /// It is not what was written.
    #[error("its index is damaged")]
    Damaged,
    /// It is of a newer format.
    #[error("it is written in format {0}, and this kladder reads up to {FORMAT}")]
    Newer(u32),
    /// It is no index.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A path in it leads out of it, or is longer than an archive's name.
    #[error("`{0}` cannot be the path of a file in it")]
    Path(String),
}

impl Index {
    /// As a text; the same contents are the same bytes.
    pub fn to_toml(&self) -> String {
        let quoted = |text: &str| toml_edit::Value::from(text).to_string().trim().to_owned();
        let mut out =
            "# A bale of Kite Ladder. `tar -xf` unpacks it; `kladder bale --list` tells what is in it.\n".to_owned();
        let _ = writeln!(out, "format = {FORMAT}\n{WHOLE}\"\nkladder = {}", quoted(&self.kladder));
        let machines: Vec<String> = self.machines.iter().map(|machine| quoted(machine)).collect();
        let _ = writeln!(out, "title = {}\nmachines = [{}]", quoted(&self.title), machines.join(", "));
        if let Some(volume) = self.volume {
            let _ = writeln!(out, "volume = {volume}");
        }
        for (name, files) in [("files", &self.files), ("elsewhere", &self.elsewhere)] {
            if !files.is_empty() || name == "files" {
                let _ = writeln!(out, "\n[{name}]");
            }
            for (path, Member { size, sha256, of }) in files {
                let of = of.as_ref().map(|of| format!(", of = {}", quoted(of))).unwrap_or_default();
                let _ = writeln!(out, "{} = {{ size = {size}, sha256 = \"{sha256}\"{of} }}", quoted(path));
            }
        }
        sealed(&out, WHOLE)
    }

    /// Reads one.
    ///
    /// # Errors
    /// [`IndexProblem`].
    pub fn parse(source: &Source) -> Result<Self, IndexProblem> {
        #[derive(Deserialize)]
        struct Peek {
            format: u32,
        }
        let Peek { format } = source.parse().map_err(|_| IndexProblem::Damaged)?;
        if format > FORMAT {
            return Err(IndexProblem::Newer(format));
        }
        if !is_sealed(&source.text, WHOLE) {
            return Err(IndexProblem::Damaged);
        }
        let file: File = source.parse()?;
        if file.files.values().any(|member| member.size > MOST) || file.files.len() > MANY {
            return Err(IndexProblem::Damaged);
        }
        let File { kladder, title, machines, volume, files, elsewhere, .. } = file;
        if let Some(path) = files.keys().chain(elsewhere.keys()).find(|path| !is_path(path)) {
            return Err(IndexProblem::Path(path.clone()));
        }
        Ok(Self { kladder, title, machines, volume: volume.filter(|bytes| *bytes > 0), files, elsewhere })
    }
}

/// Whether a path stays within, and fits into the header of an archive's member (POSIX, ustar).
pub fn is_path(path: &str) -> bool {
    let is_inner = kladder_choose::path::InnerPath::new(path).is_ok_and(|inner| inner.as_str() == path);
    is_inner && path != INDEX && tar::Header::new_ustar().set_path(Path::new(path)).is_ok()
}
