//! Berths: a rung's own folder for one ladder, where others lend it files or it has writable corners.
//!
//! ```text
//! ladders/NAME/berths/TOOL-RECIPE/…     the tool's files, what is lent, and links to the corners
//! ladders/NAME/corners/TOOL/…           what the tool may write; it stays from one landing to the next
//! ```
//!
//! Where others lend files, every file of the tool is a hard link, so that whichever file looks where it stands finds
//! itself in the berth, beside what is lent. Where there are only corners, whole folders are linked but for those on the
//! way to a corner and those of commands, so that such a berth costs a few links however large the tool is. What is lent
//! is a link into the lender's place: one to the whole folder where nothing else stands there, else one a file. The shelf
//! itself is never touched.

mod lay;
mod plan;

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use kladder_choose::names::{RungKey, ToolName};
use kladder_choose::path::InnerPath;

use crate::base::digest::{Canonical, Digest};
use crate::base::event::{Difference, How};
use crate::base::files::{self, Attach, FileError};
use crate::base::side::{cores, side_by_side};
use lay::{differs, lay_out};
use plan::Stands;

/// Why a berth could not be made.
#[derive(Debug, thiserror::Error)]
pub enum BerthError {
    /// The tool has a file of its own where others lend it one.
    #[error("{lender} lends {tool} the file {}, which {tool} has already", at.display())]
    Taken {
        /// The borrower.
        tool: ToolName,
        /// Who lends.
        lender: ToolName,
        /// Where, in the borrower's folder.
        at: PathBuf,
    },
    /// Two others lend the same file.
    #[error("{one} and {other} both lend {tool} the file {}", at.display())]
    LentTwice {
        /// The borrower.
        tool: ToolName,
        /// One lender.
        one: ToolName,
        /// The other.
        other: ToolName,
        /// Where, in the borrower's folder.
        at: PathBuf,
    },
    /// The lender has no such file.
    #[error("{lender} should lend {tool} its {}, but has nothing there", from.display())]
    NothingToLend {
        /// The borrower.
        tool: ToolName,
        /// Who lends.
        lender: ToolName,
        /// What should be lent.
        from: PathBuf,
    },
    /// A corner lies below what is a file on the shelf.
    #[error("the corner `{corner}` of {tool} cannot be a folder: a file of it is in the way")]
    CornerInTheWay {
        /// The tool.
        tool: ToolName,
        /// The corner.
        corner: InnerPath,
    },
    /// A set-up command left a link where a corner should be; what is behind it is nobody's business.
    #[error("the corner `{corner}` of {tool} is a link on the shelf; a corner begins as a folder, or as nothing")]
    CornerIsLink {
        /// The tool.
        tool: ToolName,
        /// The corner.
        corner: InnerPath,
    },
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Files that another rung lends.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Loan {
    /// Who lends.
    pub lender: ToolName,
    /// The file or folder on the shelf.
    pub from: PathBuf,
    /// Patterns of the files below it that are lent; all where there are none.
    pub only: Vec<String>,
    /// Where it is seen, below the borrower's folder.
    pub at: InnerPath,
}

/// A rung's own folder for one ladder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Berth {
    /// Whose it is.
    pub key: RungKey,
    /// Where it is.
    pub folder: PathBuf,
    recipe: Digest,
    /// The tool's files on the shelf.
    shelved: PathBuf,
    loans: Vec<Loan>,
    corners: Corners,
    /// Folders whose files are hard links even where nothing is lent.
    programs: BTreeSet<PathBuf>,
}

/// Folders of a tool that it may write in.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Corners {
    /// Where they are kept.
    kept: PathBuf,
    /// Below the tool's folder.
    paths: Vec<InnerPath>,
}

/// What a berth is made of.
#[derive(Clone, Debug)]
pub struct Made<'m> {
    /// The ladder's folder.
    pub ladder: &'m Path,
    /// Whose berth it is.
    pub key: &'m RungKey,
    /// Its files on the shelf.
    pub shelved: &'m Path,
    /// What others lend it.
    pub loans: Vec<Loan>,
    /// Folders that it may write in.
    pub corners: &'m [InnerPath],
    /// The files of its commands.
    pub commands: &'m [InnerPath],
}

impl Berth {
    /// The berth of a rung; nothing is looked at or made yet.
    pub fn new(made: Made<'_>) -> Self {
        let Made { ladder, key, shelved, mut loans, corners, commands } = made;
        loans.sort();
        let programs: BTreeSet<PathBuf> =
            commands.iter().filter_map(|file| Some(Path::new(file.as_str()).parent()?.to_path_buf())).collect();
        let name = key.folder_name();
        let mut recipe = Canonical::new("kladder berth", 2).field("shelved", bytes(shelved)).list("corners", corners);
        for Loan { lender, from, only, at } in &loans {
            recipe = recipe.field("lender", lender).field("from", bytes(from)).list("only", only).field("at", at);
        }
        let recipe = recipe.list("programs", programs.iter().map(|folder| bytes(folder))).finish();
        Self {
            key: key.clone(),
            folder: ladder.join("berths").join([name.as_str(), "-", &recipe.short()].concat()),
            recipe,
            shelved: shelved.to_path_buf(),
            corners: Corners { kept: ladder.join("corners").join(&name), paths: corners.to_vec() },
            loans,
            programs,
        }
    }

    /// The digest of what it is made from.
    pub fn recipe(&self) -> Digest {
        self.recipe
    }

    /// Who lends it files, each once.
    pub fn lenders(&self) -> BTreeSet<&ToolName> {
        self.loans.iter().map(|loan| &loan.lender).collect()
    }

    /// Its writable corners, where they are kept.
    pub fn corners(&self) -> impl Iterator<Item = PathBuf> {
        self.corners.paths.iter().map(|corner| corner.below(&self.corners.kept))
    }

    fn mark(&self) -> PathBuf {
        self.folder.with_added_extension("damaged")
    }

    /// Where a path below the rung's folder is kept, which lies in a corner; `None` for others, and where a link on the way leads
    /// somewhere else.
    pub fn in_corner(&self, path: &InnerPath) -> Option<PathBuf> {
        let lies_in = |corner: &&InnerPath| Path::new(path.as_str()).starts_with(corner.as_str());
        self.corners.paths.iter().find(lies_in)?;
        let file = path.below(&self.corners.kept);
        let mut above = file.ancestors().skip(1).take_while(|folder| *folder != self.corners.kept);
        (!above.any(Path::is_symlink)).then_some(file)
    }

    /// Whether its folder and its corners are there, nobody saw that it is damaged, and its programs are those of the place:
    /// a place that was brought anew, for this ladder or another one, has other files.
    pub fn is_there(&self) -> bool {
        let is_folder = |path: &Path| fs::symlink_metadata(path).is_ok_and(|meta| meta.is_dir());
        let is_marked = fs::symlink_metadata(self.mark()).is_ok();
        let corners_are_there = self.corners().all(|corner| is_folder(&corner));
        is_folder(&self.folder)
            && corners_are_there
            && !is_marked
            && self.programs.iter().all(|it| self.is_of_place(it))
    }

    /// Whether the files in one of its folders are those of the place.
    fn is_of_place(&self, folder: &Path) -> bool {
        let names = files::names(&self.shelved.join(folder)).unwrap_or_default();
        names.iter().map(|name| folder.join(name)).all(|path| {
            let meta = fs::symlink_metadata(self.shelved.join(&path));
            let Ok(meta) = meta.map(|meta| meta.is_file().then(|| meta.ino())) else { return false };
            meta.is_none_or(|ino| fs::symlink_metadata(self.folder.join(&path)).is_ok_and(|own| own.ino() == ino))
        })
    }

    /// Writes down that it is damaged, so that the next climb makes it anew.
    ///
    /// # Errors
    /// [`FileError`] where the mark cannot be made.
    pub fn mark_damaged(&self) -> Result<(), FileError> {
        fs::write(self.mark(), b"").on("write", &self.mark())
    }

    /// Makes it, in one step; one that is there as it should be is left alone. The tool must be on the shelf, and who lends
    /// too.
    ///
    /// # Errors
    /// [`BerthError`] where a loan or a corner does not fit what is on the shelf, or a folder cannot be written; nothing is
    /// left at the berth's place then.
    pub fn make(&self) -> Result<(), BerthError> {
        self.make_corners()?;
        let stands = fs::symlink_metadata(&self.folder).is_ok();
        if stands && self.differences()?.is_empty() {
            return files::remove_tree(&self.mark()).map_err(Into::into);
        }
        let above = self.folder.parent().unwrap_or(&self.folder);
        files::create_folder(above)?;
        // Only one process writes, so a name that says "half" is enough.
        let half = self.folder.with_added_extension("making");
        files::remove_tree(&half)?;
        files::create_folder(&half)?;
        lay_out(&self.plan()?, &half)?;
        if stands {
            // Whoever works with it finds the old one or the new one, and never none.
            files::exchange(&half, &self.folder)?;
            files::remove_tree(&half)?;
        } else {
            fs::rename(&half, &self.folder).on("finish", &self.folder)?;
        }
        Ok(files::remove_tree(&self.mark())?)
    }

    /// Paths of the berth that are not what they should be, in whole.
    ///
    /// # Errors
    /// [`BerthError`] where the berth or the shelf cannot be read; a link that leads elsewhere is a difference, not an error.
    pub fn differences(&self) -> Result<Vec<Difference>, BerthError> {
        let plan = self.plan()?;
        let all: Vec<_> = plan.iter().collect();
        let difference = |(path, stands): &(&OsString, &Stands)| {
            let full = self.folder.join(path);
            differs(stands, &full).map(|how| Difference { path: full, how })
        };
        let mut found: Vec<Difference> = side_by_side(&all, cores(), difference).into_iter().flatten().collect();
        let folders = plan.iter().filter(|(_, stands)| **stands == Stands::Folder).map(|(path, _)| Path::new(path));
        for folder in folders.chain([Path::new("")]) {
            for name in files::names(&self.folder.join(folder))? {
                let path = folder.join(name);
                if !plan.contains_key(path.as_os_str()) {
                    found.push(Difference { path: self.folder.join(path), how: How::Extra });
                }
            }
        }
        Ok(found)
    }
}

/// Makes the hard links of a berth anew after the place that it is over was brought anew; `files` are the place's.
///
/// # Errors
/// [`FileError`] for the first that cannot be made.
pub fn relink(berth: &Path, files: &Path) -> Result<(), FileError> {
    for entry in walkdir::WalkDir::new(berth).into_iter().filter_map(Result::ok) {
        if !entry.file_type().is_file() {
            continue;
        }
        let shelved = files.join(entry.path().strip_prefix(berth).unwrap_or(entry.path()));
        let new = entry.path().with_added_extension("making");
        if shelved.is_file() && fs::hard_link(&shelved, &new).is_ok() {
            fs::rename(&new, entry.path()).on("put in place", entry.path())?;
        }
    }
    Ok(())
}

fn bytes(path: &Path) -> &[u8] {
    path.as_os_str().as_encoded_bytes()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    fn write(path: &Path, text: &str) {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn inner(path: &str) -> InnerPath {
        InnerPath::new(path).unwrap()
    }

    /// A tool with some files, and two that can lend it theirs.
    struct Desk(tempfile::TempDir);

    impl Desk {
        fn new() -> Self {
            let desk = Self(tempfile::tempdir().unwrap());
            let own = ["bin/tidlow", "bin/helper", "lib/core/a", "lib/own", "state/log", "share/doc/x"];
            for path in own {
                write(&desk.at("shelf/tidlow").join(path), path);
            }
            write(&desk.at("shelf/marrambit/files/code"), "lent");
            write(&desk.at("shelf/marrambit/files/code.h"), "header");
            write(&desk.at("shelf/whimbrow/files/other"), "lent too");
            desk
        }

        fn at(&self, path: &str) -> PathBuf {
            self.0.path().join(path)
        }

        fn loan(&self, lender: &str, at: &str) -> Loan {
            let from = self.at("shelf").join(lender).join("files");
            Loan { lender: lender.parse().unwrap(), from, only: Vec::new(), at: inner(at) }
        }

        fn berth(&self, loans: Vec<Loan>) -> Berth {
            Berth::new(Made {
                ladder: &self.at("ladder"),
                key: &RungKey::shared(&"tidlow".parse().unwrap()),
                shelved: &self.at("shelf/tidlow"),
                loans,
                corners: &[inner("state")],
                commands: &[inner("bin/tidlow")],
            })
        }
    }

    #[test]
    fn what_is_lent_is_seen_from_every_file_and_the_shelf_stays_as_it_is() {
        let desk = Desk::new();
        let berth =
            desk.berth(vec![desk.loan("marrambit", "lib/core/marrambit"), desk.loan("whimbrow", "plug/whimbrow")]);
        berth.make().unwrap();
        assert!(berth.differences().unwrap().is_empty());
        let read = |path: &str| fs::read_to_string(berth.folder.join(path)).unwrap();
        assert_eq!([read("lib/core/a"), read("lib/core/marrambit/code")], ["lib/core/a", "lent"]);
        // Whatever file looks where it really stands is in the berth.
        for path in ["bin/tidlow", "bin/helper", "lib/core/a", "lib/own", "share/doc/x"] {
            let real = berth.folder.join(path).canonicalize().unwrap();
            assert!(real.starts_with(berth.folder.canonicalize().unwrap()), "{path} is at {}", real.display());
        }
        assert!(!desk.at("shelf/tidlow/lib/core/marrambit").exists());
        fs::remove_file(berth.folder.join("lib/own")).unwrap();
        write(&berth.folder.join("bin/ls"), "foreign");
        let seen: Vec<_> = berth.differences().unwrap().into_iter().map(|d| (d.path, d.how)).collect();
        assert_eq!(seen, [(berth.folder.join("lib/own"), How::Missing), (berth.folder.join("bin/ls"), How::Extra)]);
        berth.make().unwrap();
        assert!(berth.differences().unwrap().is_empty(), "it was made anew");
    }

    #[test]
    fn a_berth_with_corners_only_links_whole_folders_and_what_was_written_stays() {
        let desk = Desk::new();
        let berth = desk.berth(vec![]);
        berth.make().unwrap();
        let is_link = |path: &str| fs::symlink_metadata(berth.folder.join(path)).unwrap().is_symlink();
        assert_eq!(
            ["share", "lib", "state", "bin/tidlow", "bin/helper"].map(is_link),
            [true, true, true, false, false]
        );
        fs::write(berth.folder.join("state/log"), "written").unwrap();
        let lent = desk.berth(vec![desk.loan("marrambit", "lib/marrambit")]);
        lent.make().unwrap();
        assert_eq!(fs::read_to_string(lent.folder.join("state/log")).unwrap(), "written");
        assert_eq!(fs::read_to_string(desk.at("shelf/tidlow/state/log")).unwrap(), "state/log");
    }

    #[test]
    fn loans_into_one_folder_merge_and_the_same_file_twice_is_told_with_both() {
        let desk = Desk::new();
        let merged = desk.berth(vec![desk.loan("marrambit", "lib"), desk.loan("whimbrow", "lib")]);
        merged.make().unwrap();
        for path in ["lib/code", "lib/other", "lib/own"] {
            assert!(merged.folder.join(path).exists(), "{path}");
        }
        let headers = Loan { only: vec!["*.h".into()], ..desk.loan("marrambit", "lib") };
        let some = desk.berth(vec![headers]);
        some.make().unwrap();
        assert!(some.folder.join("lib/code.h").exists() && !some.folder.join("lib/code").exists());
        write(&desk.at("shelf/whimbrow/files/code"), "the same name");
        let twice = desk.berth(vec![desk.loan("marrambit", "x"), desk.loan("whimbrow", "x")]).make();
        assert_eq!(twice.unwrap_err().to_string(), "marrambit and whimbrow both lend tidlow the file x/code");
        write(&desk.at("shelf/tidlow/lib/code"), "its own");
        let taken = desk.berth(vec![desk.loan("marrambit", "lib")]).make();
        assert_eq!(
            taken.unwrap_err().to_string(),
            "marrambit lends tidlow the file lib/code, which tidlow has already"
        );
    }

    #[test]
    fn nothing_is_copied_or_written_through_a_link_in_the_place_of_a_corner() {
        let desk = Desk::new();
        write(&desk.at("secret/key"), "secret");
        fs::remove_dir_all(desk.at("shelf/tidlow/state")).unwrap();
        symlink(desk.at("secret"), desk.at("shelf/tidlow/state")).unwrap();
        assert!(matches!(desk.berth(vec![]).make(), Err(BerthError::CornerIsLink { .. })));
        assert!(!desk.at("ladder/corners/tidlow/state/key").exists());
    }
}
