//! What packages come to: their lock file names them by SHA-512, and everything of ours is pinned by SHA-256.
//!
//! ```toml
//! of = "DIGEST"                            # of the lock file's text
//! [sums]
//! "sha512-…" = { sha256 = "…", size = 123 }
//! ```

use std::collections::BTreeMap;
use std::fmt::Write;

use serde::Deserialize;

use crate::digest::Digest;
use crate::document::{DocumentError, Source};
use crate::sets::lock::quoted;

/// What packages came to, by their digests as the lock file has them.
pub type Sums = BTreeMap<String, Sum>;

/// What one package came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sum {
    /// Of its bytes.
    pub sha256: Digest,
    /// How many there are.
    pub size: u64,
}

/// What stands beside a lock file of packages.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct SumsFile {
    /// The lock file that it belongs to.
    pub of: Option<Digest>,
    /// What the packages came to.
    #[serde(default)]
    pub sums: Sums,
}

impl SumsFile {
    /// Reads such a file.
    ///
    /// # Errors
    /// [`DocumentError`] where it is none.
    pub fn read(source: &Source) -> Result<Self, DocumentError> {
        source.parse()
    }

    /// As a file: the same packages are the same bytes.
    pub fn to_toml(&self) -> String {
        let mut out =
            "# Written by `kladder pin`: what the packages of the lock file come to. Commit it beside the ladder.\n"
                .to_owned();
        if let Some(digest) = self.of {
            let _ = writeln!(out, "of = \"{digest}\"");
        }
        out.push_str("\n[sums]\n");
        for (integrity, Sum { sha256, size }) in &self.sums {
            let _ = writeln!(out, "{} = {{ sha256 = \"{sha256}\", size = {size} }}", quoted(integrity));
        }
        out
    }
}
