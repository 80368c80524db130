//! What the archives of a catalog have, as far as they are at hand: in the cache, or in a yard that is a folder.

use std::collections::BTreeSet;
use std::error::Error;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use kladder_choose::address::YardAddress;
use kladder_choose::catalog::{
    Artifact, Command, CommandName, Definition, Fault, Here, Machine, PinnedArtifact, Published, Release, Remark,
};
use kladder_choose::document::Source;
use kladder_choose::platform::{Platform, Scope};

use crate::base::digest::of_file;
use crate::base::event::Silent;
use crate::base::files;
use crate::bring::fetch::Cache;
use crate::bring::intake::{IntakeError, unpack_files};
use crate::host::survey::scratch;
use crate::tasks::executable;
use crate::tasks::{TaskError, launch::check_file};

/// Where archives may be at hand.
pub struct AtHand<'a> {
    /// What was fetched already.
    pub cache: &'a Cache,
    /// Where they are unpacked for a moment.
    pub temporary: &'a Path,
}

/// The archives of one tool.
pub(super) struct Archives<'a> {
    pub(super) at_hand: &'a AtHand<'a>,
    pub(super) yards: &'a [YardAddress],
    pub(super) definition: &'a Arc<Definition>,
    pub(super) source: &'a Source,
}

impl Archives<'_> {
    /// What is to be told of them; nothing where they are not at hand.
    pub(super) fn remarks(&self) -> Vec<Remark> {
        let (mut all, mut seen) = (Vec::new(), BTreeSet::new());
        for release in &self.definition.releases {
            let each = release.artifacts.iter().flat_map(|one| one.scopes.iter().map(move |scope| (one, scope)));
            for (published, scope) in each {
                let at = self.at(release, scope);
                let files: Vec<String> = at.says.commands.values().map(|c| c.file.as_written()).collect();
                // What is set up may only then have its commands.
                if at.says.set_up.is_empty() && seen.insert((published.sha256.to_string(), files)) {
                    let faults = self.faults(&at, release, published);
                    for fault in faults {
                        self.add(&mut all, published, fault);
                    }
                }
            }
        }
        all
    }

    /// The tool as it is on a machine of a platform, without pieces and alone.
    fn at(&self, release: &Release, scope: &Scope) -> Arc<Definition> {
        let platform = scope.as_str().parse().or_else(|_| Platform::new(scope.as_str(), "x86_64", None));
        let here = Here {
            version: &release.version,
            machine: &Machine::of(platform.unwrap_or_else(|_| Platform::built_for())),
            pieces: &|_| false,
            is_private: false,
            beside: &|_, _| false,
        };
        self.definition.at(&here)
    }

    fn faults(&self, at: &Definition, release: &Release, published: &Published) -> Vec<Fault> {
        let mut pinned = PinnedArtifact::from(published);
        let files: Option<Vec<PathBuf>> = pinned.all().map(|one| self.file(one)).collect();
        let Some(files) = files else { return Vec::new() };
        let mut sizes = Vec::new();
        for (path, one) in files.iter().zip(pinned.all()) {
            let Ok((digest, size)) = of_file(path) else { return Vec::new() };
            if digest != one.sha256 || one.size.is_some_and(|said| said != size) {
                return vec![Fault::OtherBytes { file: one.file.to_string(), at: path.display().to_string() }];
            }
            sizes.push(Some(size));
        }
        pinned.also.iter_mut().zip(&sizes[1..]).for_each(|(one, size)| one.size = *size);
        pinned.size = sizes[0];
        let Ok(artifacts) = pinned.with(Some(published)) else { return Vec::new() };
        let version = &release.version;
        let artifacts: Vec<Artifact> =
            artifacts.into_iter().map(|one| executable(&at.says.commands, version, one)).collect();
        let prefix = scratch();
        let Ok(folder) = tempfile::Builder::new().prefix(&prefix).tempdir_in(self.at_hand.temporary) else {
            return Vec::new();
        };
        let into = folder.path().join("files");
        let faults = match unpack_files(&files, &artifacts, &into, &Silent) {
            Err(error) => vec![not_unpacked(release, published, &error)],
            Ok(()) => {
                at.says.commands.iter().filter_map(|command| lacking(release, published, command, &into)).collect()
            }
        };
        // What archives make read-only could not be removed by whoever is not root; a rest among temporary files is seen to later.
        let _ = files::make_writable(&into);
        faults
    }

    /// The file of an artifact, where it is at hand.
    fn file(&self, one: &PinnedArtifact) -> Option<PathBuf> {
        let in_yard = |yard: &YardAddress| match yard {
            YardAddress::Folder(folder) => Some(one.file.below(folder)),
            _ => None,
        };
        let cached = self.at_hand.cache.path(&one.sha256);
        std::iter::once(cached).chain(self.yards.iter().filter_map(in_yard)).find(|path| path.is_file())
    }

    /// Adds what is to be told of an artifact, at its digest; what several archives lack is told once, where the file is named.
    fn add(&self, all: &mut Vec<Remark>, published: &Published, fault: Fault) {
        let at = |text: &str| Some(self.source.text.find(text)?).map(|at| at..at + text.len());
        if let Fault::NoFile { command, file, .. } = &fault {
            let is_same =
                |known: &Fault| matches!(known, Fault::NoFile { command: c, file: f, .. } if c == command && f == file);
            if let Some(Remark { fault: Fault::NoFile { archives, .. }, place }) =
                all.iter_mut().find(|remark| is_same(&remark.fault))
            {
                archives.push(published.file.to_string());
                if let Some(at) = at(&format!("\"{file}\"")) {
                    *place = self.source.place(at);
                }
                return;
            }
        }
        let place = self.source.place(at(&published.sha256.to_string()).unwrap_or(0..0));
        all.push(Remark { place, fault });
    }
}

fn not_unpacked(release: &Release, published: &Published, error: &IntakeError) -> Fault {
    let causes = std::iter::successors(error.source(), |cause: &&dyn Error| (*cause).source());
    let why = std::iter::once(error.to_string()).chain(causes.map(ToString::to_string)).collect::<Vec<_>>().join(": ");
    Fault::NotUnpacked { release: release.version.to_string(), file: published.file.to_string(), why }
}

/// That a command has no file in what was unpacked.
fn lacking(
    release: &Release,
    published: &Published,
    (name, command): (&CommandName, &Command),
    into: &Path,
) -> Option<Fault> {
    let file = command.file.at(&release.version).below(into);
    let Err(TaskError::NoFile { command, file, near, not_executable }) =
        check_file(name, &file, into, command.by.is_some())
    else {
        return None;
    };
    Some(Fault::NoFile {
        archives: vec![published.file.to_string()],
        command,
        file: file.display().to_string(),
        near: near.iter().map(|path| path.display().to_string()).collect(),
        not_executable,
    })
}
