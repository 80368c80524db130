//! The guard that no path gets past: every entry of every format asks here, before anything is written.
//!
//! It admits entries into one empty folder that only this process knows of. Why nothing gets out:
//!
//! - A path is a row of plain names; anything else is refused before the file system hears of it (`names`).
//! - Every folder above an entry was made by the guard as a real folder. What was admitted is remembered, so an entry that
//!   stands below a file or link, or where something stands already, is refused.
//! - Links are made last, when every file is written: nothing is ever written through one. Besides, files are created
//!   new, below a handle, and no link on the way is followed (`root`).
//! - A link's target is relative: some `..` first, not more than there are folders above it, then plain names. Since the
//!   folders above it are real, it ends up inside; and since all other links do too, so does everything behind it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::names::{self, Naming, Tops};
use super::root::Root;
use super::{Limits, Refusal, Stop};
use crate::base::record;
use crate::bring::shelf::{ManifestEntry, What};

/// What the common file systems keep for a file or folder, in bytes.
const ENTRY: u64 = 4096;

/// What was admitted at a path.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Folder,
    File,
    Link,
}

/// The right to write one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Ticket {
    pub(super) path: PathBuf,
    pub(super) runs: bool,
}

/// Admits the entries of archives that are unpacked into one folder.
pub(super) struct Guard<'r> {
    root: &'r Root,
    limits: Limits,
    naming: Naming,
    tops: Tops,
    /// The first entry of the archive that would vanish.
    stripped: Option<Vec<u8>>,
    admitted: HashMap<PathBuf, Kind>,
    /// By what a file system that ignores case would take it for.
    folded: HashMap<String, PathBuf>,
    links: Vec<(PathBuf, PathBuf)>,
    hard_links: Vec<(PathBuf, PathBuf)>,
    entries: usize,
    /// Up to how many entries the archive at hand may come.
    most: usize,
    things: usize,
}

impl<'r> Guard<'r> {
    pub(super) fn new(root: &'r Root, limits: Limits, naming: Naming) -> Self {
        let (admitted, folded) = (HashMap::from([(PathBuf::new(), Kind::Folder)]), HashMap::new());
        Self {
            root,
            limits,
            naming,
            tops: Tops::default(),
            stripped: None,
            admitted,
            folded,
            links: Vec::new(),
            hard_links: Vec::new(),
            entries: 0,
            most: 0,
            things: 0,
        }
    }

    /// Begins the next archive, which goes beside what is there already, and whose files may weigh `bytes` together. An
    /// entry weighs at least what a file system keeps for it.
    pub(super) fn begin(&mut self, naming: Naming, bytes: u64) {
        self.most = self.entries.saturating_add(usize::try_from(bytes / ENTRY).unwrap_or(usize::MAX));
        (self.naming, self.tops) = (naming, Tops::default());
    }

    /// Ends an archive. What would vanish is told only now, when it is known what stands at its top.
    pub(super) fn end(&mut self) -> Result<(), Stop> {
        let refused = |name: Vec<u8>| Stop::Refused(self.naming.stripped(&self.tops)).of(&name);
        self.stripped.take().map_or(Ok(()), |name| Err(refused(name)))
    }

    /// The path of a file or link; `None` for what is left out, or would vanish.
    fn place(&mut self, raw: &[u8]) -> Result<Option<PathBuf>, Refusal> {
        self.tops.see(raw);
        match self.naming.place(raw) {
            Err(Refusal::Stripped { .. }) => {
                self.stripped.get_or_insert_with(|| raw.to_vec());
                Ok(None)
            }
            other => other,
        }
    }

    /// How many entries came so far that are no folders.
    pub(super) fn things(&self) -> usize {
        self.things
    }

    pub(super) fn folder(&mut self, raw: &[u8]) -> Result<(), Stop> {
        self.count()?;
        self.naming.folder(raw)?.map_or(Ok(()), |path| self.ensure_folder(&path))
    }

    /// Admits a file; `None` for one that the definition leaves out.
    pub(super) fn file(&mut self, raw: &[u8], runs: bool) -> Result<Option<Ticket>, Stop> {
        let Some(path) = self.admit(raw, Kind::File)? else { return Ok(None) };
        let runs = runs || self.naming.runs(&path);
        Ok(Some(Ticket { path, runs }))
    }

    pub(super) fn link(&mut self, raw: &[u8], target: &[u8]) -> Result<(), Stop> {
        self.things += 1;
        let Some(path) = self.place(raw)? else { return Ok(()) };
        if let Some(target) = names::target(&path, target, self.naming.absolute)? {
            self.admit(raw, Kind::Link)?;
            self.links.push((path, target));
        }
        Ok(())
    }

    pub(super) fn hard_link(&mut self, raw: &[u8], target: &[u8]) -> Result<(), Stop> {
        let refused = || Refusal::HardLink(names::shown(target));
        let Ok(Some(existing)) = self.naming.place(target) else { return Err(refused().into()) };
        if self.admitted.get(&existing) != Some(&Kind::File) {
            return Err(refused().into());
        }
        if let Some(path) = self.admit(raw, Kind::File)? {
            self.hard_links.push((path, existing));
        }
        Ok(())
    }

    /// Makes the links, now that all files are there; `made` gets them too.
    pub(super) fn finish(self, made: &mut Vec<ManifestEntry>) -> Result<(), (PathBuf, Stop)> {
        let mut files: HashMap<PathBuf, What> = HashMap::new();
        if !self.hard_links.is_empty() {
            files.extend(made.iter().map(|entry| (entry.path.clone(), entry.what.clone())));
        }
        for (path, existing) in self.hard_links {
            self.root.hard_link(&path, &existing).map_err(|stop| (path.clone(), stop))?;
            // The target was admitted before, so it was made before.
            let Some(what) = files.get(&existing).cloned() else { continue };
            files.insert(path.clone(), what.clone());
            made.push(ManifestEntry { path, what });
        }
        for (path, target) in self.links {
            self.root.link(&path, &target).map_err(|stop| (path.clone(), stop))?;
            made.push(ManifestEntry { path, what: What::Link { target } });
        }
        made.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        Ok(())
    }

    fn count(&mut self) -> Result<(), Refusal> {
        self.entries += 1;
        if self.entries > self.limits.entries {
            return Err(Refusal::Limit(format!("{} entries", self.limits.entries)));
        }
        if self.entries > self.most {
            return Err(Refusal::Limit(format!("{} entries for what it weighs", self.most)));
        }
        Ok(())
    }

    /// Admits a new entry; the folders above it are there when this returns.
    fn admit(&mut self, raw: &[u8], kind: Kind) -> Result<Option<PathBuf>, Stop> {
        self.count()?;
        self.things += 1;
        let Some(path) = self.place(raw)? else { return Ok(None) };
        if self.admitted.contains_key(&path) {
            return Err(Refusal::Twice.into());
        }
        self.ensure_folder(path.parent().unwrap_or(Path::new("")))?;
        self.remember(&path, kind)?;
        Ok(Some(path))
    }

    fn ensure_folder(&mut self, path: &Path) -> Result<(), Stop> {
        match self.admitted.get(path) {
            Some(Kind::Folder) => return Ok(()),
            Some(_) => return Err(Refusal::NotAFolder.into()),
            None => {}
        }
        self.ensure_folder(path.parent().unwrap_or(Path::new("")))?;
        self.remember(path, Kind::Folder)?;
        self.root.folder(path)
    }

    fn remember(&mut self, path: &Path, kind: Kind) -> Result<(), Refusal> {
        self.admitted.insert(path.to_path_buf(), kind);
        if self.naming.case_clashes {
            return Ok(());
        }
        // Bytes that are no UTF-8 differ for every file system that takes them; each stands as itself.
        let folded = path.to_str().map_or_else(|| record::path::to_text(path), str::to_lowercase);
        match self.folded.insert(folded, path.to_path_buf()) {
            Some(other) if other != path => Err(Refusal::Case(other.display().to_string())),
            _ => Ok(()),
        }
    }
}
