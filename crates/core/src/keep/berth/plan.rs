//! What stands where in a berth: the tool's own files, what is lent, the corners.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use globset::{Glob, GlobSet, GlobSetBuilder};
use kladder_choose::names::ToolName;

use super::{Berth, BerthError, Loan};
use crate::base::files::{self, Attach, FileError};

/// What stands at a path of a berth.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Stands {
    Folder,
    /// A link to this.
    Link(PathBuf),
    /// A hard link to this.
    Same(PathBuf),
}

/// By path, as bytes, which compare faster than paths do part by part. Folders come before what is in them.
pub(super) type Plan = BTreeMap<OsString, Stands>;

fn above(placed: &Plan) -> impl Iterator<Item = &Path> {
    placed.keys().flat_map(|path| Path::new(path).ancestors().skip(1))
}

impl Berth {
    /// Everything in it; folders come before what is in them.
    pub(super) fn plan(&self) -> Result<Plan, BerthError> {
        let lent = self.lent()?;
        let has_file = |path: &&Path| fs::symlink_metadata(self.shelved.join(path)).is_ok_and(|meta| !meta.is_dir());
        for (path, (lender, _)) in &lent {
            // A file of its own on the way there is in the way as well.
            let way = path.ancestors().filter(|above| !above.as_os_str().is_empty());
            if let Some(at) = way.filter(has_file).last() {
                let (tool, lender) = (self.key.tool.clone(), lender.clone());
                return Err(BerthError::Taken { tool, lender, at: at.to_path_buf() });
            }
        }
        let mut placed: Plan = lent.into_iter().map(|(path, (_, from))| (path.into(), Stands::Link(from))).collect();
        for corner in &self.corners.paths {
            placed.insert(corner.as_str().into(), Stands::Link(corner.below(&self.corners.kept)));
        }
        let mut plan = if self.loans.is_empty() { self.few(&placed)? } else { self.every(&placed)? };
        plan.extend(placed);
        Ok(plan)
    }

    /// Every file of the tool, so that whichever looks where it stands is beside what is lent.
    fn every(&self, placed: &Plan) -> Result<Plan, BerthError> {
        let above = above(placed).filter(|path| !path.as_os_str().is_empty());
        let mut plan: Plan = above.map(|path| (path.into(), Stands::Folder)).collect();
        let mut walk = walkdir::WalkDir::new(&self.shelved).min_depth(1).into_iter();
        while let Some(entry) = walk.next() {
            let entry = entry.map_err(io::Error::from).on("read the folder", &self.shelved)?;
            let path = entry.path().strip_prefix(&self.shelved).unwrap_or(entry.path());
            let kind = entry.file_type();
            if placed.contains_key(path.as_os_str()) {
                // What stands in its place has all below it.
                if kind.is_dir() {
                    walk.skip_current_dir();
                }
                continue;
            }
            let stands = match kind {
                kind if kind.is_dir() => Stands::Folder,
                // A relative link leads to what stands in the berth.
                kind if kind.is_symlink() => Stands::Link(fs::read_link(entry.path()).on("read", entry.path())?),
                kind if kind.is_file() => Stands::Same(entry.path().to_path_buf()),
                _ => Stands::Link(entry.path().to_path_buf()),
            };
            plan.insert(path.into(), stands);
        }
        Ok(plan)
    }

    /// Links to whole folders, but for those on the way to a corner and those of commands.
    fn few(&self, placed: &Plan) -> Result<Plan, BerthError> {
        let own: BTreeSet<PathBuf> = above(placed)
            .chain(self.programs.iter().flat_map(|folder| folder.ancestors()))
            .map(Path::to_path_buf)
            .collect();
        let mut plan = Plan::new();
        for folder in own.iter().filter(|folder| !placed.keys().any(|placed| folder.starts_with(placed))) {
            if !folder.as_os_str().is_empty() {
                plan.insert(folder.into(), Stands::Folder);
            }
            for name in files::names(&self.shelved.join(folder))? {
                let path = folder.join(name);
                if !own.contains(&path) && !placed.contains_key(path.as_os_str()) {
                    let stands = self.stands(&path)?;
                    plan.insert(path.into(), stands);
                }
            }
        }
        Ok(plan)
    }

    /// By path in the berth: who lends what stands there, and where it is.
    fn lent(&self) -> Result<BTreeMap<PathBuf, (ToolName, PathBuf)>, BerthError> {
        let mut lent: BTreeMap<PathBuf, (ToolName, PathBuf)> = BTreeMap::new();
        for loan in &self.loans {
            for (path, from) in self.expanded(loan)? {
                if let Some((one, _)) = lent.insert(path.clone(), (loan.lender.clone(), from)) {
                    let (tool, other) = (self.key.tool.clone(), loan.lender.clone());
                    return Err(BerthError::LentTwice { tool, one, other, at: path });
                }
            }
        }
        Ok(lent)
    }

    /// A loan as links: one to the whole where nothing else stands at its place, else one a file.
    fn expanded(&self, loan: &Loan) -> Result<Vec<(PathBuf, PathBuf)>, BerthError> {
        let at = PathBuf::from(loan.at.as_str());
        let nothing = || BerthError::NothingToLend {
            tool: self.key.tool.clone(),
            lender: loan.lender.clone(),
            from: loan.from.clone(),
        };
        let meta = fs::symlink_metadata(&loan.from).map_err(|_| nothing())?;
        let overlaps = |other: &Loan| {
            let other = Path::new(other.at.as_str());
            other.starts_with(&at) || at.starts_with(other)
        };
        let alone = self.loans.iter().filter(|other| overlaps(other)).count() == 1;
        let is_free = fs::symlink_metadata(self.shelved.join(&at)).is_err();
        if !meta.is_dir() || (alone && is_free && loan.only.is_empty()) {
            return Ok(vec![(at, loan.from.clone())]);
        }
        let only = patterns(&loan.only);
        let mut links = Vec::new();
        for entry in walkdir::WalkDir::new(&loan.from).min_depth(1).sort_by_file_name() {
            let entry = entry.map_err(io::Error::from).on("read the folder", &loan.from)?;
            let inner = entry.path().strip_prefix(&loan.from).unwrap_or(entry.path());
            if !entry.file_type().is_dir() && (loan.only.is_empty() || only.is_match(inner)) {
                links.push((at.join(inner), entry.path().to_path_buf()));
            }
        }
        if links.is_empty() { Err(nothing()) } else { Ok(links) }
    }

    /// How something of the tool's own stands in the berth.
    fn stands(&self, path: &Path) -> Result<Stands, FileError> {
        let shelved = self.shelved.join(path);
        let meta = fs::symlink_metadata(&shelved).on("read", &shelved)?;
        let is_near = path.parent().is_some_and(|folder| self.programs.contains(folder));
        Ok(match meta.file_type() {
            kind if kind.is_file() && is_near => Stands::Same(shelved),
            // A relative link leads to what stands in the berth.
            kind if kind.is_symlink() && is_near => Stands::Link(fs::read_link(&shelved).on("read", &shelved)?),
            _ => Stands::Link(shelved),
        })
    }
}

/// Patterns were seen to be valid when the definition was read; one that is not matches nothing.
fn patterns(texts: &[String]) -> GlobSet {
    let mut set = GlobSetBuilder::new();
    texts.iter().filter_map(|text| Glob::new(text).ok()).for_each(|glob| {
        set.add(glob);
    });
    set.build().unwrap_or_else(|_| GlobSet::empty())
}
