//! From artifacts to a place on the shelf: unpacking, set-up, shelving.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Command, CommandName};
use kladder_choose::version::Version;

use super::{Hands, Rung, Shelved, Task, TaskError, Would};
use crate::base::crash;
use crate::base::digest::Digest;
use crate::base::event::Event;
use crate::base::files;
use crate::bring::intake::Brought;
use crate::bring::parts::Parts;
use crate::bring::shelf::{Known, Manifest, PlaceRecipe, Standing, What};
use crate::bring::unpack;
use crate::keep::state::{TaskName, Trace};

/// A folder that is ready for the shelf.
#[derive(Debug)]
pub struct Prepared {
    /// With `files` in it.
    pub folder: PathBuf,
    /// What was brought.
    pub brought: Brought,
}

/// The artifact of a release as it is unpacked: the files behind its commands may always be run.
pub fn executable(commands: &BTreeMap<CommandName, Command>, version: &Version, mut artifact: Artifact) -> Artifact {
    let files = commands.values().map(|command| globset::escape(command.file.at(version).as_str()));
    artifact.unpack.executable.extend(files);
    artifact.unpack.executable.sort();
    artifact.unpack.executable.dedup();
    artifact
}

fn recipe(rung: &Rung, shelved: &Shelved) -> Digest {
    PlaceRecipe { artifacts: &shelved.artifacts, set_up: &rung.definition.says.set_up }.digest()
}

/// The libraries that a rung is put together from; `None` for what is no set.
pub fn parts(rung: &Rung, shelved: &Shelved) -> Option<Parts> {
    let shelf = shelved.place.folder.ancestors().nth(2)?;
    Parts::of(shelf, &rung.version, &shelved.artifacts, &rung.definition.says.set_up)
}

fn is_there(shelved: &Shelved) -> bool {
    shelved.place.glance() == Standing::Whole
}

/// Artifacts become a folder that is ready for the shelf. What it leaves is in staging, which is swept.
pub(super) struct Unpack<'r> {
    pub(super) rung: &'r Rung,
    pub(super) shelved: &'r Shelved,
}

impl Task for Unpack<'_> {
    fn name(&self) -> TaskName {
        TaskName::Unpack
    }

    fn recipe(&self) -> Digest {
        recipe(self.rung, self.shelved)
    }

    fn is_there(&self) -> bool {
        is_there(self.shelved)
    }

    fn after(&self) -> &'static [TaskName] {
        &[]
    }

    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError> {
        let prepared = hands.take()?;
        *hands.prepared() = Some(prepared);
        crash::point("unpacked");
        Ok(())
    }
}

/// Commands of the definition run over the prepared folder.
pub(super) struct SetUp<'r> {
    pub(super) rung: &'r Rung,
    pub(super) shelved: &'r Shelved,
}

impl Task for SetUp<'_> {
    fn name(&self) -> TaskName {
        TaskName::SetUp
    }

    fn recipe(&self) -> Digest {
        recipe(self.rung, self.shelved)
    }

    fn is_there(&self) -> bool {
        is_there(self.shelved)
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Unpack]
    }

    fn would(&self) -> Vec<Would> {
        let set_up = self.rung.definition.says.set_up.iter();
        set_up.map(|trial| Would::Run { name: trial.name(), command: trial.written() }).collect()
    }

    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError> {
        let Some(Prepared { folder, brought }) = hands.prepared() else { return Ok(()) };
        if brought.ready {
            return Ok(());
        }
        let files = folder.join("files");
        // The files of a set may be those of others, too.
        match parts(self.rung, self.shelved) {
            Some(_) => files::make_folders_writable(&files)?,
            None => files::make_writable(&files)?,
        }
        let unpacked = std::mem::take(&mut brought.entries);
        let known = Known::now(&unpacked, folder)?;
        for trial in &self.rung.definition.says.set_up {
            let verdict = hands.set_up(trial, &files)?;
            if verdict.failed() {
                return Err(TaskError::SetUp(Box::new(verdict)));
            }
        }
        let entries = Manifest::scan_since(&files, &known)?;
        refuse_what_leads_out(&files, &entries)?;
        if let Some(prepared) = hands.prepared() {
            prepared.brought.entries = entries;
        }
        crash::point("set-up");
        Ok(())
    }
}

/// What a set-up command left is looked at like an archive: no link may lead out of the folder.
fn refuse_what_leads_out(files: &Path, entries: &[crate::bring::shelf::ManifestEntry]) -> Result<(), TaskError> {
    if std::fs::symlink_metadata(files).is_ok_and(|meta| !meta.is_dir()) {
        return Err(TaskError::Left { path: PathBuf::new(), reason: unpack::Refusal::NotAFolder });
    }
    for entry in entries {
        let What::Link { target } = &entry.what else { continue };
        if let Err(reason) = unpack::link_stays_inside(&entry.path, target) {
            return Err(TaskError::Left { path: entry.path.clone(), reason });
        }
    }
    Ok(())
}

/// The prepared folder is put on the shelf.
pub(super) struct Shelve<'r> {
    pub(super) rung: &'r Rung,
    pub(super) shelved: &'r Shelved,
}

impl Task for Shelve<'_> {
    fn name(&self) -> TaskName {
        TaskName::Shelve
    }

    fn recipe(&self) -> Digest {
        recipe(self.rung, self.shelved)
    }

    fn is_there(&self) -> bool {
        is_there(self.shelved)
    }

    fn after(&self) -> &'static [TaskName] {
        &[TaskName::Unpack, TaskName::SetUp]
    }

    fn traces(&self) -> Vec<Trace> {
        vec![Trace::Place { folder: self.shelved.place.folder.clone() }]
    }

    fn perform(&self, hands: &mut dyn Hands) -> Result<(), TaskError> {
        let Some(Prepared { folder, brought }) = hands.prepared().take() else { return Ok(()) };
        if self.rung.definition.says.after.is_some() {
            // Remembered before the rung is in place: a climb killed in between asks once too often, never too seldom.
            hands.remember_restart()?;
        }
        let Brought { entries, fetched, from_cache, ready } = brought;
        let files = entries.len();
        let digests = self.shelved.artifacts.iter().map(|artifact| artifact.sha256).collect();
        let manifest = Manifest::new(&self.rung.key.tool, &self.rung.version, digests, entries);
        let place = &self.shelved.place;
        // What was put together from libraries alone has nothing that they lack.
        let parts = parts(self.rung, self.shelved).filter(|_| !ready);
        if let Some(parts) = &parts {
            parts.share(&folder.join("files"), &manifest.entries)?;
        }
        place.put(&folder, &manifest)?;
        if let Some(parts) = parts {
            parts.keep(place, &manifest, &self.shelved.artifacts)?;
        }
        let (rung, folder) = (self.rung.name(), place.folder.clone());
        hands.tell(&Event::Shelved { rung, files, fetched, from_cache, folder });
        Ok(())
    }
}
