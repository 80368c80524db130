//! Libraries on the shelf by themselves, wheels and packages of Node, from which sets are put together by links.
//!
//! ```text
//! shelf/.libraries/gauge-2.4.6-3.11-RECIPE/files/     what one wheel became, byte code of a runtime's 3.11 among it
//! shelf/.libraries/gauge-2.4.6-3.11-RECIPE/manifest.json
//! ```
//!
//! What a set's own place on the shelf holds are hard links to these files: a second set with the same libraries costs links and
//! no bytes, and one that moved costs one wheel. The place is what is verified, as any other. A library alone is looked at in a
//! glance before it is used; where a place was found damaged, its libraries are read whole, and what is not as it was made is
//! made anew.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{Artifact, Layout, Trial};
use kladder_choose::version::Version;

use super::record::{RecordFault, installed, is_record, record_of};
use crate::base::event::Observer;
use crate::base::files::{self, Attach, FileError};
use crate::base::side::by_shares;
use crate::bring::fetch::Sources;
use crate::bring::intake::{Brought, IntakeError, bring_in};
use crate::bring::shelf::{Manifest, ManifestEntry, Place, PlaceRecipe, Standing, Twins, What};
use crate::bring::unpack::{Refusal, UnpackError};

/// The folder of libraries on the shelf; no tool is called so.
pub const LIBRARIES: &str = ".libraries";

/// The libraries that a set is put together from.
#[derive(Clone, Debug)]
pub struct Parts {
    folder: PathBuf,
    /// By the place of its artifact.
    places: Vec<Place>,
}

impl Parts {
    /// Those of the artifacts of a set's version; `None` for what is not put together from several wheels.
    pub fn of(shelf: &Path, version: &Version, artifacts: &[Artifact], set_up: &[Trial]) -> Option<Self> {
        let all_wheels = artifacts.iter().all(|artifact| artifact.layout() == Layout::Wheel);
        let all_packages = artifacts.iter().all(|artifact| own_folder(artifact).is_some());
        if artifacts.len() < 2 || !(all_wheels || all_packages) {
            return None;
        }
        let folder = shelf.join(LIBRARIES);
        // Byte code is one minor version's of its runtime, which is what a set's version begins with.
        let runtime = version.as_str().rsplit_once('.').filter(|_| all_wheels && !set_up.is_empty());
        let runtime = runtime.map_or_else(String::new, |(runtime, _)| ["-", runtime].concat());
        let place = |artifact: &Artifact| {
            let recipe = PlaceRecipe { artifacts: std::slice::from_ref(artifact), set_up }.digest();
            let file = artifact.file.as_str().rsplit('/').next().unwrap_or_default();
            let name = if all_packages { file.trim_end_matches(".tgz").to_owned() } else { named(file) };
            Place { folder: folder.join(format!("{name}{runtime}-{}", recipe.short())) }
        };
        Some(Self { places: artifacts.iter().map(place).collect(), folder })
    }

    /// Puts a set together: what is on the shelf is linked, the rest is brought in. Tells also whether all was there.
    ///
    /// # Errors
    /// [`IntakeError`]; what was made so far stays in `into`, which is the caller's to throw away.
    pub fn bring_in(
        &self,
        artifacts: &[Artifact],
        sources: Sources<'_>,
        into: &Path,
        observer: &dyn Observer,
    ) -> Result<Brought, IntakeError> {
        let (mut there, mut missing) = (Vec::new(), Vec::new());
        for (place, artifact) in self.places.iter().zip(artifacts) {
            match place.whole() {
                Some(manifest) => there.push((place, manifest)),
                None => missing.push(artifact.clone()),
            }
        }
        let mut brought = Brought { ready: missing.is_empty(), ..Brought::default() };
        let mut libraries: Vec<Library> = there
            .into_iter()
            .map(|(place, manifest)| Library { files: place.files(), entries: manifest.entries })
            .collect();
        if missing.is_empty() {
            files::create_folder(into)?;
        } else {
            match bring_in(&missing, sources, into, &Twins::default(), observer) {
                Ok(all) => brought = all,
                // Some libraries bring one and the same file; then each is unpacked by itself.
                Err(IntakeError::Unpack(UnpackError::Refused { reason: Refusal::Twice, .. })) => {
                    files::remove_tree(into)?;
                    files::create_folder(into)?;
                    for (at, artifact) in missing.iter().enumerate() {
                        let own = into.with_file_name(format!("library-{at}"));
                        let one = bring_in(std::slice::from_ref(artifact), sources, &own, &Twins::default(), observer)?;
                        brought.fetched += one.fetched;
                        brought.from_cache += one.from_cache;
                        libraries.push(Library { files: own, entries: one.entries });
                    }
                }
                Err(error) => return Err(error),
            }
        }
        let entries = std::mem::take(&mut brought.entries);
        let mut entries: BTreeMap<PathBuf, What> = entries.into_iter().map(|entry| (entry.path, entry.what)).collect();
        link_all(&libraries, into, &mut entries)?;
        brought.entries = entries.into_iter().map(|(path, what)| ManifestEntry { path, what }).collect();
        for library in libraries.iter().filter(|library| library.files.parent() == into.parent()) {
            files::remove_tree(&library.files)?;
        }
        Ok(brought)
    }

    /// Throws away the libraries that are not as they were made, file by file: a set that has them was found damaged.
    ///
    /// # Errors
    /// [`FileError`] where one could not be removed.
    pub fn sift(&self) -> Result<(), FileError> {
        for place in &self.places {
            let is_as_made = |manifest: Manifest| manifest.compare(&place.files()).is_ok_and(|found| found.is_empty());
            if !place.manifest().is_ok_and(is_as_made) {
                files::remove_tree(&place.folder)?;
            }
        }
        Ok(())
    }

    /// Links what a set that is not on the shelf yet has in common with libraries that came there meanwhile.
    ///
    /// # Errors
    /// [`FileError`] where a file could not be put in the place of its twin.
    pub fn share(&self, files: &Path, entries: &[ManifestEntry]) -> Result<(), FileError> {
        use std::os::unix::fs::MetadataExt;
        let known: BTreeMap<&Path, &What> = entries.iter().map(|entry| (entry.path.as_path(), &entry.what)).collect();
        for (place, manifest) in self.places.iter().filter_map(|place| Some((place, place.whole()?))) {
            let own = place.files();
            for entry in manifest.entries.iter().filter(|entry| known.get(entry.path.as_path()) == Some(&&entry.what)) {
                let (from, to) = (own.join(&entry.path), files.join(&entry.path));
                let inode = |path: &Path| fs::symlink_metadata(path).map(|meta| meta.ino()).ok();
                if matches!(entry.what, What::File { .. }) && inode(&from) != inode(&to) {
                    // One step, so that it is never missing.
                    let new = to.with_extension(".twin");
                    if fs::hard_link(&from, &new).is_ok() {
                        fs::rename(&new, &to).on("write", &to)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// Keeps the libraries of a set that has come onto the shelf, so that the next one can be put together from them. Those that
    /// are there are left.
    ///
    /// # Errors
    /// [`FileError`] where one could not be kept; the set stands all the same.
    pub fn keep(&self, set: &Place, manifest: &Manifest, artifacts: &[Artifact]) -> Result<(), FileError> {
        files::create_folder(&self.folder)?;
        files::sweep_new(&self.folder)?;
        let known: BTreeMap<&Path, &What> =
            manifest.entries.iter().map(|entry| (entry.path.as_path(), &entry.what)).collect();
        let mut compiled: BTreeMap<PathBuf, Vec<&Path>> = BTreeMap::new();
        for path in known.keys() {
            compiled.extend(source_of(path).map(|source| (source, Vec::new())));
        }
        for path in known.keys() {
            if let Some(all) = source_of(path).and_then(|source| compiled.get_mut(&source)) {
                all.push(path);
            }
        }
        let records: BTreeSet<&Path> = known.keys().copied().filter(|path| is_record(path)).collect();
        let mut of_packages = of_packages(artifacts, manifest);
        for (place, artifact) in self.places.iter().zip(artifacts) {
            if place.standing() == Standing::Whole {
                continue;
            }
            let entries = match own_folder(artifact) {
                Some(own) => of_packages.remove(own),
                None => record_of(artifact, &records).and_then(|it| of_wheel(&it, &set.files(), &known, &compiled)),
            };
            let Some(entries) = entries else { continue };
            let new = tempfile::Builder::new().prefix(".new-").tempdir_in(&self.folder).on("make", &self.folder)?;
            let (from, to) = (set.files(), new.path().join("files"));
            let own = |entry: &ManifestEntry| (from.join(&entry.path), to.join(&entry.path), entry.what.clone());
            files::create_folder(&to)?;
            link_side_by_side(&entries.iter().map(own).collect::<Vec<_>>())?;
            // It is of whichever set came first; what counts is what it holds.
            let own = Manifest::new(&manifest.tool, &manifest.version, vec![artifact.sha256], entries);
            files::remove_tree(&place.folder)?;
            // It is the folder's own from here on, and gone from there when it was moved.
            place.put(&new.keep(), &own)?;
        }
        Ok(())
    }
}

/// The folder of packages in a project of Node.
const MODULES: &str = "node_modules";
/// Links to the commands of packages, as a set-up makes them.
const COMMANDS: &str = "node_modules/.bin";

/// The folder that a package goes into, which has nothing else but further ones in theirs.
fn own_folder(artifact: &Artifact) -> Option<&Path> {
    let into = Path::new(artifact.unpack.into.as_ref()?.as_str());
    into.starts_with(MODULES).then_some(into)
}

/// The name and version of a wheel, by its file's name.
fn named(file: &str) -> String {
    file.splitn(3, '-').take(2).collect::<Vec<_>>().join("-")
}

/// The files of each package in a set, by its folder: those in it that are in no further package's, and the links to its commands.
fn of_packages<'a>(artifacts: &'a [Artifact], manifest: &Manifest) -> BTreeMap<&'a Path, Vec<ManifestEntry>> {
    let mut all: BTreeMap<&Path, Vec<ManifestEntry>> =
        artifacts.iter().filter_map(own_folder).map(|own| (own, Vec::new())).collect();
    for entry in &manifest.entries {
        let at = match &entry.what {
            What::Link { target } if entry.path.starts_with(COMMANDS) => {
                Path::new(target).strip_prefix("..").map(|below| Path::new(MODULES).join(below)).ok()
            }
            _ => None,
        };
        let at = at.as_deref().unwrap_or(&entry.path);
        // The nearest folder of a package is the one that has it.
        let owner = at.ancestors().find_map(|folder| all.get_key_value(folder).map(|(own, _)| *own));
        if let Some(own) = owner.and_then(|own| all.get_mut(own)) {
            own.push(entry.clone());
        }
    }
    all
}

/// The files of one library, wherever they are.
struct Library {
    files: PathBuf,
    entries: Vec<ManifestEntry>,
}

/// The source of a file of byte code (PEP 3147): `a/b.py` of `a/__pycache__/b.cpython-311.pyc`.
fn source_of(path: &Path) -> Option<PathBuf> {
    let cache = path.parent().filter(|cache| cache.ends_with("__pycache__"))?;
    let name = path.file_name()?.to_str()?.strip_suffix(".pyc")?;
    Some(cache.parent()?.join(format!("{}.py", name.split('.').next()?)))
}

/// The files of one wheel in a set, by its `RECORD`, with what was compiled of them.
fn of_wheel(
    record: &Path,
    files: &Path,
    known: &BTreeMap<&Path, &What>,
    compiled: &BTreeMap<PathBuf, Vec<&Path>>,
) -> Option<Vec<ManifestEntry>> {
    let mut own: BTreeSet<PathBuf> = installed(&files::read(&files.join(record)).ok()?)?.into_iter().collect();
    let more: Vec<PathBuf> =
        own.iter().filter_map(|path| compiled.get(path)).flatten().map(|path| path.to_path_buf()).collect();
    own.extend(more);
    let entry = |path: PathBuf| Some(ManifestEntry { what: (*known.get(path.as_path())?).clone(), path });
    Some(own.into_iter().filter_map(entry).collect())
}

/// Links the files of libraries into a folder; a file that is there with other bytes belongs to another library.
fn link_all(libraries: &[Library], into: &Path, entries: &mut BTreeMap<PathBuf, What>) -> Result<(), IntakeError> {
    let mut work = Vec::new();
    for Library { files: from, entries: own } in libraries {
        for entry in own {
            match entries.get(&entry.path) {
                None => {
                    entries.insert(entry.path.clone(), entry.what.clone());
                    work.push((from.join(&entry.path), into.join(&entry.path), entry.what.clone()));
                }
                Some(what) if *what == entry.what => {}
                Some(_) => return Err(RecordFault::Clash { path: entry.path.clone() }.into()),
            }
        }
    }
    Ok(link_side_by_side(&work)?)
}

/// Links files from one path to another, in folders that are made for them.
fn link_side_by_side(work: &[(PathBuf, PathBuf, What)]) -> Result<(), FileError> {
    let folders: BTreeSet<&Path> = work.iter().filter_map(|(_, to, _)| to.parent()).collect();
    folders.into_iter().try_for_each(files::create_folder)?;
    by_shares(work, |(from, to, what)| link(from, to, what))
}

fn link(from: &Path, to: &Path, what: &What) -> Result<(), FileError> {
    match what {
        What::Link { target } => std::os::unix::fs::symlink(target, to).on("write", to),
        // A file has only so many links on some file systems, and none on others.
        What::File { .. } => fs::hard_link(from, to).or_else(|_| fs::copy(from, to).map(drop)).on("write", to),
    }
}

/// The files of places by their numbers (inode(7)): what sets that are in use are put together from.
pub fn files_of<'p>(places: impl Iterator<Item = &'p Path>) -> BTreeSet<(u64, u64)> {
    places.flat_map(numbers).collect()
}

/// Whether a library on the shelf has files of sets that are in use.
pub fn is_in_use(place: &Path, files: &BTreeSet<(u64, u64)>) -> bool {
    numbers(place).any(|file| files.contains(&file))
}

fn numbers(place: &Path) -> impl Iterator<Item = (u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    let files = walkdir::WalkDir::new(place.join("files")).into_iter().filter_map(Result::ok);
    let metas = files.filter_map(|entry| entry.metadata().ok()).filter(fs::Metadata::is_file);
    metas.map(|meta| (meta.dev(), meta.ino()))
}
