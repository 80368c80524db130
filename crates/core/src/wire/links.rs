//! Links that a ladder puts into its project's folder, or into a home, to what stands in its landings or on the shelf.
//!
//! A link is ours where it leads into the folder of data; what else stands at its place is a person's, and stays. Those that were
//! made are written down, so that they go with the wish.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::placed::{Placing, State};
use crate::base::files::{self, Attach, FileError};
use crate::base::record::{self, RecordError};

const FORMAT: u32 = 1;
const NAME: &str = "links.json";

/// A link as a ladder wants it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedLink {
    /// Where it is.
    pub path: PathBuf,
    /// Where it leads.
    pub target: PathBuf,
}

/// The links that a ladder made; JSON, format 1.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Links {
    format: u32,
    paths: Vec<String>,
}

impl Links {
    /// Those of a ladder, whose landings are in a folder.
    ///
    /// # Errors
    /// [`RecordError`] where what was written down is damaged or newer than this program.
    pub fn read(landings: &Path) -> Result<Self, RecordError> {
        let path = landings.join(NAME);
        if fs::symlink_metadata(&path).is_err() {
            return Ok(Self { format: FORMAT, paths: Vec::new() });
        }
        record::read(&path, FORMAT)
    }

    /// What would become of the links that are wanted, and of those that were; `data` is the folder that everything of ours is in.
    pub fn plan(&self, wanted: &[WantedLink], data: &Path) -> Vec<Placing> {
        let old = self.paths.iter().map(|path| record::path::of_text(path));
        let old = old.filter(|path| !wanted.iter().any(|one| one.path == *path) && is_ours(path, data));
        let wanted = wanted.iter().map(|one| Placing::of_link(&one.path, state(one, data)));
        wanted.chain(old.map(|path| Placing::of_link(&path, State::ToUndo))).collect()
    }

    /// Makes the links what was planned.
    ///
    /// # Errors
    /// [`FileError`] for the first that could not be made.
    pub fn place(
        &mut self,
        wanted: &[WantedLink],
        data: &Path,
        landings: &Path,
    ) -> Result<Vec<(PathBuf, State)>, FileError> {
        let planned = self.plan(wanted, data);
        // They are written down first: a link that nobody knows of would never go.
        let paths: Vec<String> = wanted.iter().map(|one| record::path::to_text(&one.path)).collect();
        let all: Vec<String> = paths.iter().chain(&self.paths).cloned().collect();
        let changes = planned.iter().any(|one| one.state != State::Stands) || paths != self.paths;
        if changes {
            self.write(all, landings)?;
        }
        for Placing { path, state, .. } in &planned {
            match state {
                State::ToWrite => {
                    let Some(one) = wanted.iter().find(|one| one.path == *path) else { continue };
                    path.parent().map(files::create_folder).transpose()?;
                    let new = path.with_file_name(format!(".kladder-{}", std::process::id()));
                    let _ = fs::remove_file(&new);
                    symlink(&one.target, &new).on("write", path)?;
                    fs::rename(&new, path).on("write", path)?;
                }
                State::ToUndo => {
                    fs::remove_file(path).on("remove", path)?;
                    // The folders that were made for it; one with anything in it stays.
                    let is_gone = |folder: &&Path| fs::remove_dir(folder).is_ok();
                    let _ = path.ancestors().skip(1).take(3).take_while(is_gone).count();
                }
                _ => {}
            }
        }
        if changes {
            self.write(paths, landings)?;
        }
        Ok(planned.into_iter().map(|one| (one.path, one.state)).collect())
    }

    fn write(&mut self, mut paths: Vec<String>, landings: &Path) -> Result<(), FileError> {
        paths.sort();
        paths.dedup();
        self.paths = paths;
        files::create_folder(landings)?;
        record::write(&landings.join(NAME), self)
    }
}

/// Whether a link at a path leads to something of ours.
fn is_ours(path: &Path, data: &Path) -> bool {
    fs::read_link(path).is_ok_and(|target| target.starts_with(data))
}

fn state(wanted: &WantedLink, data: &Path) -> State {
    match fs::read_link(&wanted.path) {
        Ok(target) if target == wanted.target => State::Stands,
        Ok(target) if target.starts_with(data) => State::ToWrite,
        Err(_) if fs::symlink_metadata(&wanted.path).is_err() => State::ToWrite,
        _ => State::Left("something else is there".to_owned()),
    }
}
