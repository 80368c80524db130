//! Berths: a rung's own folder for one ladder, where others lend it files or it has writable corners.
//!
//! ```text
//! ladders/NAME/berths/TOOL-RECIPE/…     links to the shelf, to what is lent, and to the corners
//! ladders/NAME/corners/TOOL/…           what the tool may write; it stays from one landing to the next
//! ```
//!
//! Whole folders are linked where nothing is lent into them, so that a berth costs a few links however large the tool is.
//! Only the folders on the way to something lent, and those of its commands, are folders of the berth's own; the files of
//! the latter are hard links, so that a program that looks where it stands finds itself in the berth. What is lent need
//! not be on the shelf yet: a link says where it will be. The shelf itself is never touched.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::digest::Digest;
use crate::files::{self, Attach, FileError};

/// Why a berth could not be made.
#[derive(Debug, thiserror::Error)]
pub enum BerthError {
    /// The tool has something of its own where others lend it files.
    #[error("{lender} lends {tool} files at {}, where there is something already", at.display())]
    Taken {
        /// The tool.
        tool: String,
        /// Who lends.
        lender: String,
        /// Where, in the tool's folder.
        at: PathBuf,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Files that another rung lends.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Loan {
    /// Who lends.
    pub lender: String,
    /// The file or folder on the shelf.
    pub from: PathBuf,
    /// Where it is seen, below the borrower's folder.
    pub at: PathBuf,
}

/// A rung's own folder for one ladder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Berth {
    /// The tool.
    pub tool: String,
    /// Where it is.
    pub folder: PathBuf,
    /// The tool's files on the shelf.
    shelved: PathBuf,
    loans: Vec<Loan>,
    /// Where the corners are kept, and the corners below the tool's folder.
    corners: (PathBuf, Vec<PathBuf>),
    /// Folders whose files are hard links.
    programs: BTreeSet<PathBuf>,
}

/// What stands at a path of a berth.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Stands {
    Folder,
    /// A link to this.
    Link(PathBuf),
    /// A hard link to this.
    Same(PathBuf),
}

impl Berth {
    /// The berth of a tool below a ladder's folder, over its files on the shelf; `commands` are the files of its commands.
    pub fn new(
        ladder: &Path,
        tool: &str,
        shelved: &Path,
        mut loans: Vec<Loan>,
        corners: &[PathBuf],
        commands: &[PathBuf],
    ) -> Self {
        loans.sort();
        let programs: BTreeSet<PathBuf> =
            commands.iter().filter_map(|file| Some(file.parent()?.to_path_buf())).collect();
        let recipe = Digest::of(format!("{:?}", (shelved, &loans, corners, &programs)).as_bytes());
        Self {
            tool: tool.to_owned(),
            folder: ladder.join("berths").join(format!("{tool}-{}", recipe.short())),
            shelved: shelved.to_path_buf(),
            corners: (ladder.join("corners").join(tool), corners.to_vec()),
            loans,
            programs,
        }
    }

    /// Who lends it files.
    pub fn lenders(&self) -> impl Iterator<Item = &str> {
        self.loans.iter().map(|loan| loan.lender.as_str())
    }

    /// Its writable corners, where they are kept.
    pub fn corners(&self) -> impl Iterator<Item = PathBuf> {
        self.corners.1.iter().map(|corner| self.corners.0.join(corner))
    }

    /// Makes it, in one step; one that is there is left alone. The tool must be on the shelf.
    ///
    /// # Errors
    /// [`BerthError`] where a loan or a corner does not fit what is on the shelf, or a folder cannot be written; nothing is left
    /// at the berth's place then.
    pub fn make(&self) -> Result<(), BerthError> {
        self.make_corners()?;
        if self.folder.exists() {
            return Ok(());
        }
        let above = self.folder.parent().unwrap_or(&self.folder);
        files::create_folder(above)?;
        // Only one process writes, so a name that says "half" is enough.
        let half = self.folder.with_added_extension("making");
        files::remove_tree(&half)?;
        files::create_folder(&half)?;
        for (path, stands) in self.plan()? {
            let full = half.join(&path);
            match stands {
                Stands::Folder => fs::create_dir_all(&full).on("create the folder", &full)?,
                Stands::Link(target) => std::os::unix::fs::symlink(&target, &full).on("write", &full)?,
                Stands::Same(file) => match fs::hard_link(&file, &full) {
                    Ok(()) => {}
                    // Another file system, or too many links: then the program sees the shelf.
                    Err(_) => std::os::unix::fs::symlink(&file, &full).on("write", &full)?,
                },
            }
        }
        Ok(fs::rename(&half, &self.folder).on("finish", &self.folder)?)
    }

    /// Paths of the berth that are not what they should be.
    ///
    /// # Errors
    /// [`BerthError`] where the berth or the shelf cannot be read; a link that leads elsewhere is a difference, not an error.
    pub fn differences(&self) -> Result<Vec<PathBuf>, BerthError> {
        let as_planned = |(path, stands): &(PathBuf, Stands)| {
            let full = self.folder.join(path);
            match stands {
                Stands::Folder => full.is_dir(),
                Stands::Link(target) => fs::read_link(&full).is_ok_and(|there| there == *target) && full.exists(),
                Stands::Same(_) => full.is_file(),
            }
        };
        let planned = self.plan()?;
        Ok(planned.into_iter().filter(|entry| !as_planned(entry)).map(|(path, _)| path).collect())
    }

    /// Everything in it, folders before what is in them.
    fn plan(&self) -> Result<Vec<(PathBuf, Stands)>, BerthError> {
        let mut placed: BTreeMap<PathBuf, Stands> = BTreeMap::new();
        for loan in &self.loans {
            let taken = fs::symlink_metadata(self.shelved.join(&loan.at)).is_ok();
            if taken || placed.insert(loan.at.clone(), Stands::Link(loan.from.clone())).is_some() {
                let (tool, lender, at) = (self.tool.clone(), loan.lender.clone(), loan.at.clone());
                return Err(BerthError::Taken { tool, lender, at });
            }
        }
        for corner in &self.corners.1 {
            placed.insert(corner.clone(), Stands::Link(self.corners.0.join(corner)));
        }
        let own: BTreeSet<PathBuf> = placed
            .keys()
            .flat_map(|path| path.ancestors().skip(1))
            .chain(self.programs.iter().flat_map(|folder| folder.ancestors()))
            .map(Path::to_path_buf)
            .collect();
        let mut plan = Vec::new();
        for folder in &own {
            if !folder.as_os_str().is_empty() {
                plan.push((folder.clone(), Stands::Folder));
            }
            for name in files::names(&self.shelved.join(folder))? {
                let path = folder.join(name);
                if !own.contains(&path) && !placed.contains_key(&path) {
                    let stands = self.stands(&path);
                    plan.push((path, stands));
                }
            }
        }
        plan.extend(placed);
        Ok(plan)
    }

    fn stands(&self, path: &Path) -> Stands {
        let shelved = self.shelved.join(path);
        let is_program = path.parent().is_some_and(|folder| self.programs.contains(folder));
        let is_file = fs::symlink_metadata(&shelved).is_ok_and(|meta| meta.is_file());
        if is_program && is_file { Stands::Same(shelved) } else { Stands::Link(shelved) }
    }

    /// Makes the corners that are not there, with what the tool has in them.
    fn make_corners(&self) -> Result<(), FileError> {
        for corner in &self.corners.1 {
            let kept = self.corners.0.join(corner);
            if kept.exists() {
                continue;
            }
            let half = kept.with_added_extension("making");
            files::remove_tree(&half)?;
            files::create_folder(&half)?;
            copy_into(&self.shelved.join(corner), &half)?;
            fs::rename(&half, &kept).on("finish", &kept)?;
        }
        Ok(())
    }
}

/// Copies a folder's content, for someone to write in; nothing where there is none.
fn copy_into(from: &Path, to: &Path) -> Result<(), FileError> {
    if !from.is_dir() {
        return Ok(());
    }
    for entry in walkdir::WalkDir::new(from).min_depth(1) {
        let entry = entry.map_err(io::Error::from).on("read the folder", from)?;
        let full = to.join(entry.path().strip_prefix(from).unwrap_or(entry.path()));
        if entry.file_type().is_dir() {
            fs::create_dir(&full).on("create the folder", &full)?;
        } else if entry.file_type().is_symlink() {
            let target = fs::read_link(entry.path()).on("read", entry.path())?;
            std::os::unix::fs::symlink(target, &full).on("write", &full)?;
        } else {
            fs::copy(entry.path(), &full).on("write", &full)?;
        }
    }
    files::make_writable(to)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(path: &Path, text: &str) {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    #[test]
    fn what_is_lent_is_seen_in_place_and_the_shelf_stays_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let at = |path: &str| folder.path().join(path);
        for path in ["bin/tidlow", "bin/helper", "lib/core/a", "lib/core/b", "lib/own", "state/log", "share/doc/x"] {
            write(&at("shelf/tidlow").join(path), path);
        }
        let loan = |lender: &str, place: &str| Loan {
            lender: lender.into(),
            from: at("shelf").join(lender).join("files"),
            at: place.into(),
        };
        let berth = |loans: Vec<Loan>| {
            let (corners, commands) = ([PathBuf::from("state")], ["bin/tidlow".into()]);
            Berth::new(&at("ladder"), "tidlow", &at("shelf/tidlow"), loans, &corners, &commands)
        };
        let lent = berth(vec![loan("marrambit", "lib/core/marrambit"), loan("whimbrow", "plug/whimbrow")]);
        lent.make().unwrap();
        assert_eq!(lent.differences().unwrap().len(), 2, "what is lent is not on the shelf yet");
        write(&at("shelf/marrambit/files/code"), "lent");
        write(&at("shelf/whimbrow/files/code"), "lent");
        assert!(lent.differences().unwrap().is_empty());
        let read = |path: &str| fs::read_to_string(lent.folder.join(path)).unwrap();
        assert_eq!(
            [read("lib/core/a"), read("lib/core/marrambit/code"), read("plug/whimbrow/code")],
            ["lib/core/a", "lent", "lent"]
        );
        let is_link = |path: &str| fs::symlink_metadata(lent.folder.join(path)).unwrap().is_symlink();
        assert_eq!(
            ["share", "lib/own", "bin/helper", "lib", "bin/tidlow"].map(is_link),
            [true, true, false, false, false]
        );
        // Corners are the tool's to write in, and stay.
        fs::write(lent.folder.join("state/log"), "written").unwrap();
        berth(vec![]).make().unwrap();
        assert_eq!(fs::read_to_string(berth(vec![]).folder.join("state/log")).unwrap(), "written");
        assert_eq!(fs::read_to_string(at("shelf/tidlow/state/log")).unwrap(), "state/log");
        assert!(!at("shelf/tidlow/lib/core/marrambit").exists());
        for taken in [vec![loan("marrambit", "lib/own")], vec![loan("a", "x"), loan("b", "x")]] {
            assert!(matches!(berth(taken).make(), Err(BerthError::Taken { .. })));
        }
        fs::remove_file(lent.folder.join("lib/own")).unwrap();
        assert_eq!(lent.differences().unwrap(), [PathBuf::from("lib/own")]);
    }
}
