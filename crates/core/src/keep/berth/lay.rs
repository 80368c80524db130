//! Putting what was planned on the disk, and comparing it with what is there.

use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;

use super::plan::{Plan, Stands};
use super::{Berth, BerthError};
use crate::base::event::How;
use crate::base::files::{self, Attach, FileError};
use crate::base::side::by_shares;

impl Berth {
    /// Makes the corners that are not there, with what the tool has in them.
    pub(super) fn make_corners(&self) -> Result<(), BerthError> {
        for corner in &self.corners.paths {
            let (tool, kept, shelved) = (&self.key.tool, corner.below(&self.corners.kept), corner.below(&self.shelved));
            let wrong = || BerthError::CornerInTheWay { tool: tool.clone(), corner: corner.clone() };
            // Nothing behind a link is copied, and nothing is written through one.
            for above in Path::new(corner.as_str()).ancestors() {
                match fs::symlink_metadata(self.shelved.join(above)).map(|meta| meta.file_type()) {
                    Ok(kind) if kind.is_symlink() => {
                        return Err(BerthError::CornerIsLink { tool: tool.clone(), corner: corner.clone() });
                    }
                    Ok(kind) if !kind.is_dir() => return Err(wrong()),
                    _ => {}
                }
            }
            match fs::symlink_metadata(&kept) {
                Ok(meta) if meta.is_dir() => continue,
                Ok(_) => fs::remove_file(&kept).on("remove", &kept)?,
                Err(_) => {}
            }
            let half = kept.with_added_extension("making");
            files::remove_tree(&half)?;
            files::create_folder(&half)?;
            copy_into(&shelved, &half)?;
            fs::rename(&half, &kept).on("finish", &kept)?;
        }
        Ok(())
    }
}

/// How what is there differs from what should be.
pub(super) fn differs(stands: &Stands, full: &Path) -> Option<How> {
    let Ok(meta) = fs::symlink_metadata(full) else { return Some(How::Missing) };
    let right = match stands {
        Stands::Folder => meta.is_dir(),
        Stands::Link(target) => {
            // What a tool's own links lead to is its own business; what is lent must be there.
            let leads = target.is_relative() || full.exists();
            leads && meta.is_symlink() && fs::read_link(full).is_ok_and(|there| there == *target)
        }
        Stands::Same(file) => {
            let same = |other: &fs::Metadata| (other.dev(), other.ino()) == (meta.dev(), meta.ino());
            let linked = meta.is_symlink() && fs::read_link(full).is_ok_and(|there| there == *file);
            fs::metadata(file).is_ok_and(|other| same(&other)) || linked
        }
    };
    (!right).then_some(How::Changed)
}

/// Folders one after the other, then what is in them on all cores.
pub(super) fn lay_out(plan: &Plan, into: &Path) -> Result<(), FileError> {
    for (path, _) in plan.iter().filter(|(_, stands)| **stands == Stands::Folder) {
        let full = into.join(path);
        fs::create_dir_all(&full).on("create the folder", &full)?;
    }
    let rest: Vec<_> = plan.iter().filter(|(_, stands)| **stands != Stands::Folder).collect();
    by_shares(&rest, |(path, stands)| put(stands, &into.join(path)))
}

fn put(stands: &Stands, full: &Path) -> Result<(), FileError> {
    match stands {
        Stands::Folder => Ok(()),
        Stands::Link(target) => symlink(target, full).on("write", full),
        // Another file system, or too many links: then the program sees the shelf.
        Stands::Same(file) => fs::hard_link(file, full).or_else(|_| symlink(file, full)).on("write", full),
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
            symlink(target, &full).on("write", &full)?;
        } else {
            fs::copy(entry.path(), &full).on("write", &full)?;
        }
    }
    files::make_writable(to)
}
