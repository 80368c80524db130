//! Seeds for the fuzz targets: the hostile archives, honest ones, and definitions.

use std::fs;
use std::path::Path;

use kladder_pack::{Entry, Format, pack};

use crate::hostile;
use crate::scene::{Checked, Told};

/// Larger seeds only make the fuzzing slow.
const LARGEST: usize = 64 * 1024;

/// Writes them into `folder`, a folder for each target.
pub fn write(folder: &Path) -> Checked {
    for target in ["tar", "zip", "definition"] {
        fs::create_dir_all(folder.join(target)).told(target)?;
    }
    let corpus = hostile::corpus().told("the hostile archives")?;
    for (at, archive) in corpus.iter().enumerate().filter(|(_, archive)| archive.bytes.len() <= LARGEST) {
        if let Some(target @ ("tar" | "zip")) = archive.file.strip_prefix("a.") {
            fs::write(folder.join(target).join(format!("{at}-{}", archive.tries.replace(' ', "-"))), &archive.bytes)
                .told("a seed")?;
        }
    }
    let entries =
        [Entry::program("top/bin/a", "#!/bin/sh\n"), Entry::link("top/bin/b", "a"), Entry::file("top/c d", "text")];
    for (target, format) in [("tar", Format::Tar), ("zip", Format::Zip)] {
        pack(format, &entries, &folder.join(target).join("honest")).told("a seed")?;
    }
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/catalog/tools");
    for entry in fs::read_dir(demo).told("the demo's catalog")? {
        let path = entry.told("the demo's catalog")?.path();
        let Some(name) = path.file_name() else { continue };
        fs::copy(&path, folder.join("definition").join(name)).told("a seed")?;
    }
    println!("seeds are in {}", folder.display());
    Ok(())
}
