//! The made-up tide-gauge desk: a catalog, its stand-in tools, and a ladder.
//!
//! The tools are small programs that really do their work. Their sources travel inside this library; [`build`] packs
//! them into archives, release by release, and writes size and digest of each into the definitions.

mod large;
mod packing;

pub use large::build_large;

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use include_dir::{Dir, include_dir};
use kladder_core::base::files::{self, FileError};

static TOOLS: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/tools");
static PIECES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/pieces");
static CATALOG: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/catalog");
static DESK: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/desk");
static CLASSROOM: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/classroom");

/// Why the demo data could not be laid out.
#[derive(Debug, thiserror::Error)]
pub enum DemoError {
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
    /// An archive could not be packed.
    #[error("cannot pack {}", path.display())]
    Pack {
        /// The archive.
        path: PathBuf,
        /// What the packer said.
        source: io::Error,
    },
    /// A definition of the demo is not what the packing expects.
    #[error("the definition of `{tool}` in the demo data: {message}")]
    Definition {
        /// The tool.
        tool: String,
        /// What is wrong.
        message: String,
    },
}

/// Where the demo data was laid out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// The catalog, with digests.
    pub catalog: PathBuf,
    /// The folder of archives.
    pub yard: PathBuf,
    /// The folder with the ladder and a first program.
    pub desk: PathBuf,
    /// A folder laid out like the root of another machine.
    pub classroom: PathBuf,
    /// How many archives there are.
    pub archives: usize,
}

/// Lays the demo out in `folder`: `catalog/`, `yard/`, `desk/` and `classroom/`.
pub fn build(folder: &Path) -> Result<Layout, DemoError> {
    let at = |name: &str| folder.join(name);
    let (catalog, yard, desk, classroom) = (at("catalog"), at("yard"), at("desk"), at("classroom"));
    for (dir, path) in [(&CATALOG, &catalog), (&DESK, &desk), (&CLASSROOM, &classroom)] {
        lay_out(dir, path)?;
    }
    files::create_folder(&yard)?;
    let archives = packing::pack_all(&TOOLS, &PIECES, &catalog.join("tools"), &yard)?;
    Ok(Layout { catalog, yard, desk, classroom, archives })
}

fn lay_out(dir: &Dir<'_>, to: &Path) -> Result<(), DemoError> {
    use kladder_core::base::files::Attach;
    files::create_folder(to)?;
    for file in dir.files() {
        let path = to.join(file.path().file_name().unwrap_or_default());
        fs::write(&path, file.contents()).on("write", &path)?;
    }
    for inner in dir.dirs() {
        lay_out(inner, &to.join(inner.path().file_name().unwrap_or_default()))?;
    }
    Ok(())
}
