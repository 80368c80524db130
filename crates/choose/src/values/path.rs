//! Paths below a folder.
//!
//! ```
//! use kladder_choose::path::InnerPath;
//!
//! assert_eq!(InnerPath::new("./bin//skerroc")?.as_str(), "bin/skerroc");
//! assert!(InnerPath::new("../skerroc").is_err() && InnerPath::new("/bin/skerroc").is_err());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::fmt;
use std::path::{Component, Path, PathBuf};

use crate::names::ToolName;

use serde::{Deserialize, Serialize};

/// A path that stays below the folder it starts in: no root, no `..`, no NUL. Empty for the folder itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct InnerPath(String);

/// A text that leads out of the folder it starts in, or is no path.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotInner {
    /// It has a root or a `..`.
    #[error("`{0}` does not stay below the folder it starts in")]
    LeadsOut(String),
    /// It holds a NUL byte, which no path can.
    #[error("a path holds no NUL")]
    Nul,
    /// A single name in it has more bytes than file systems take.
    #[error("a name in a path has at most 255 bytes, a path 3000")]
    Long,
    /// It is an address, where a path below one is wanted.
    #[error("`{0}` is an address; what stands here is a path below a yard, which the address would be one of")]
    Address(String),
}

impl InnerPath {
    /// Reads a path; `.` and double slashes are left out of it.
    ///
    /// # Errors
    /// [`NotInner`] for a text that leads out.
    pub fn new(text: &str) -> Result<Self, NotInner> {
        if text.contains('\0') {
            return Err(NotInner::Nul);
        }
        if text.contains("://") {
            return Err(NotInner::Address(text.to_owned()));
        }
        let mut names = Vec::new();
        for part in Path::new(text).components() {
            match part {
                Component::Normal(name) => names.push(name.to_str().unwrap_or_default()),
                Component::CurDir => {}
                _ => return Err(NotInner::LeadsOut(text.to_owned())),
            }
        }
        if names.iter().any(|name| name.len() > 255) || text.len() > 3000 {
            return Err(NotInner::Long);
        }
        Ok(Self(names.join("/")))
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it is the folder itself.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The path of what has a tool's name in this folder.
    #[must_use]
    pub fn of(&self, tool: &ToolName) -> Self {
        if self.0.is_empty() { Self(tool.to_string()) } else { Self([&self.0, "/", tool.as_str()].concat()) }
    }

    /// Where it leads from `folder`.
    pub fn below(&self, folder: &Path) -> PathBuf {
        if self.0.is_empty() { folder.to_path_buf() } else { folder.join(&self.0) }
    }
}

impl AsRef<Path> for InnerPath {
    fn as_ref(&self) -> &Path {
        self.0.as_ref()
    }
}

impl AsRef<[u8]> for InnerPath {
    fn as_ref(&self) -> &[u8] {
        self.0.as_bytes()
    }
}

impl fmt::Display for InnerPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl TryFrom<String> for InnerPath {
    type Error = NotInner;

    fn try_from(text: String) -> Result<Self, NotInner> {
        Self::new(&text)
    }
}

impl From<InnerPath> for String {
    fn from(path: InnerPath) -> Self {
        path.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_leads_out_is_refused_and_the_rest_is_tidied() {
        let tidy = |text: &str| InnerPath::new(text).map(String::from);
        assert_eq!(tidy("./a//b/.").unwrap(), "a/b");
        assert_eq!(tidy("").unwrap(), "");
        for bad in ["/a", "..", "a/../../b", "a/../b", "a\0b", "https://yard.harbour.example/a", &"x".repeat(256)] {
            assert!(tidy(bad).is_err(), "{bad:?}");
        }
        assert_eq!(InnerPath::new("").unwrap().below(Path::new("/shelf")), Path::new("/shelf"));
    }
}
