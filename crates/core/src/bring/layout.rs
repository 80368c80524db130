//! What formats of packages say beside their files: the commands of wheels and of npm packages.
//!
//! Sources: "Binary distribution format" and "Entry points specification" of the Python packaging specifications; npm's
//! `package.json`, "bin". Where files go is decided as they are unpacked; what follows from what is in them is done here, once
//! they are there.
//!
//! Threat model: as for archives; files of a package may say anything. Nothing is followed but plain names below the folder,
//! and a file that other versions share is never written into.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use ini::Ini;
use kladder_choose::catalog::{Artifact, Layout};
use kladder_choose::names::is_plain;
use kladder_choose::path::InnerPath;
use serde::Deserialize;

use crate::base::digest::Fingerprint;
use crate::base::files::{self, Attach, FileError};
use crate::bring::record::{is_record, record_of, rewritten};
use crate::bring::shelf::{ManifestEntry, What};

/// Most bytes of a file that says something of its package.
const MOST: u64 = 4 << 20;
/// What stands in the file that says who installed a library.
const INSTALLER: &[u8] = b"kladder\n";
/// How a script begins that is run by whichever Python is meant.
const PYTHON: &str = "#!/usr/bin/env python3\n";

/// Makes what packages have as commands; returns what is there then, sorted by path.
///
/// # Errors
/// [`FileError`] for a file that cannot be read or written.
pub(super) fn lay_out(
    entries: Vec<ManifestEntry>,
    artifacts: &[Artifact],
    into: &Path,
) -> Result<Vec<ManifestEntry>, FileError> {
    let is = |layout: Layout| artifacts.iter().any(move |artifact| artifact.layout() == layout);
    let (wheels, packages) = (is(Layout::Wheel), is(Layout::Npm));
    if !wheels && !packages {
        return Ok(entries);
    }
    let entries = entries.into_iter().map(|entry| (entry.path, entry.what)).collect();
    let mut laid = Laid { into, entries };
    if wheels {
        laid.wheels(artifacts)?;
    }
    if packages {
        laid.packages()?;
    }
    Ok(laid.entries.into_iter().map(|(path, what)| ManifestEntry { path, what }).collect())
}

struct Laid<'l> {
    into: &'l Path,
    entries: BTreeMap<PathBuf, What>,
}

impl Laid<'_> {
    /// Scripts that ask for the Python they come with, and entry points.
    fn wheels(&mut self, artifacts: &[Artifact]) -> Result<(), FileError> {
        let scripts: Vec<PathBuf> = self.files(|path| path.parent() == Some(Path::new("bin")));
        for path in scripts {
            let bytes = self.small(&path).unwrap_or_default();
            if let Some(rest) = bytes.strip_prefix(b"#!python") {
                let end = rest.iter().position(|byte| *byte == b'\n').map_or(rest.len(), |at| at + 1);
                self.write(&path, &[PYTHON.as_bytes(), &rest[end..]].concat(), true)?;
            }
        }
        let points = self.files(|path| {
            let folder = path.parent().and_then(Path::extension);
            path.starts_with("site")
                && path.ends_with("entry_points.txt")
                && folder.is_some_and(|end| end == "dist-info")
        });
        let mut scripts = Vec::new();
        for path in points {
            let text = String::from_utf8(self.small(&path).unwrap_or_default()).unwrap_or_default();
            let Ok(all) = Ini::load_from_str_noescape(&text) else { continue };
            let sections = ["console_scripts", "gui_scripts"].into_iter().filter_map(|name| all.section(Some(name)));
            for (name, object) in sections.flat_map(ini::Properties::iter) {
                let place = Path::new("bin").join(name);
                if let Some(script) = entry_point(object)
                    && is_plain(name)
                    && !self.entries.contains_key(&place)
                {
                    self.write(&place, script.as_bytes(), true)?;
                    scripts.extend(path.parent().map(|folder| (folder.to_path_buf(), place)));
                }
            }
        }
        self.installed(artifacts, &scripts)
    }

    /// Writes down where the files of libraries are, and who put them there ("Recording installed projects").
    fn installed(&mut self, artifacts: &[Artifact], scripts: &[(PathBuf, PathBuf)]) -> Result<(), FileError> {
        let records = self.files(is_record);
        let records = records.iter().map(PathBuf::as_path).collect();
        for wheel in artifacts.iter().filter(|artifact| artifact.layout() == Layout::Wheel) {
            let Some(record) = record_of(wheel, &records) else { continue };
            let (Some(text), Some(folder)) = (self.small(&record), record.parent().map(Path::to_path_buf)) else {
                continue;
            };
            let installer = folder.join("INSTALLER");
            self.write(&installer, INSTALLER, false)?;
            let own = scripts.iter().filter(|(of, _)| *of == folder).map(|(_, script)| script.clone());
            let more: Vec<PathBuf> = std::iter::once(installer).chain(own).collect();
            if let Some(text) = rewritten(wheel, &text, &more, self.into) {
                self.write(&record, &text, false)?;
            }
        }
        Ok(())
    }

    /// What `bin` of each `package.json` names can be run, and is found in `bin`.
    fn packages(&mut self) -> Result<(), FileError> {
        let all = self.files(|path| path.file_name().is_some_and(|name| name == "package.json") && is_top(path));
        for path in all {
            let Some(bytes) = self.small(&path) else { continue };
            let Ok(package) = serde_json::from_slice::<Package>(&bytes) else { continue };
            let folder = path.parent().unwrap_or(Path::new("")).to_path_buf();
            for (name, file) in package.commands() {
                let Ok(inner) = InnerPath::new(file.trim_start_matches("./")) else { continue };
                let target = folder.join(inner.as_str());
                let Some(What::File { executable, .. }) = self.entries.get(&target) else { continue };
                if !executable {
                    let bytes = files::read(&self.into.join(&target))?;
                    self.write(&target, &bytes, true)?;
                }
                let place = Path::new("bin").join(&name);
                if folder.as_os_str().is_empty() && is_plain(&name) && !self.entries.contains_key(&place) {
                    self.link(&place, &Path::new("..").join(&target))?;
                }
            }
        }
        Ok(())
    }

    fn files(&self, wanted: impl Fn(&Path) -> bool) -> Vec<PathBuf> {
        let files = self.entries.iter().filter(|(path, what)| matches!(what, What::File { .. }) && wanted(path));
        files.map(|(path, _)| path.clone()).collect()
    }

    /// The bytes of a file that is not too large to be what it should be.
    fn small(&self, path: &Path) -> Option<Vec<u8>> {
        let is_small = matches!(self.entries.get(path), Some(What::File { size, .. }) if *size <= MOST);
        is_small.then(|| files::read(&self.into.join(path)).ok())?
    }

    /// Puts a new file in the place of what is there, which other versions may share.
    fn write(&mut self, path: &Path, bytes: &[u8], executable: bool) -> Result<(), FileError> {
        let full = self.into.join(path);
        self.make_room(&full)?;
        fs::write(&full, bytes).on("write", &full)?;
        let mode = if executable { 0o555 } else { 0o444 };
        fs::set_permissions(&full, fs::Permissions::from_mode(mode)).on("write", &full)?;
        let what = What::File { executable, size: bytes.len() as u64, blake3: Fingerprint::of(bytes) };
        self.entries.insert(path.to_path_buf(), what);
        Ok(())
    }

    fn link(&mut self, path: &Path, target: &Path) -> Result<(), FileError> {
        let full = self.into.join(path);
        self.make_room(&full)?;
        symlink(target, &full).on("write", &full)?;
        self.entries.insert(path.to_path_buf(), What::Link { target: target.to_path_buf() });
        Ok(())
    }

    fn make_room(&self, full: &Path) -> Result<(), FileError> {
        let folder = full.parent().unwrap_or(self.into);
        files::create_folder(folder)?;
        files::make_writable(folder)?;
        if fs::symlink_metadata(full).is_ok() { Ok(fs::remove_file(full).on("replace", full)?) } else { Ok(()) }
    }
}

/// A package's own file, not one that lies somewhere in it.
fn is_top(path: &Path) -> bool {
    let names: Vec<_> = path.iter().map(|name| name.to_string_lossy()).collect();
    match names.iter().map(AsRef::as_ref).collect::<Vec<&str>>().as_slice() {
        ["package.json"] => true,
        [.., "node_modules", name, "package.json"] => !name.starts_with('@'),
        [.., "node_modules", scope, _, "package.json"] => scope.starts_with('@'),
        _ => false,
    }
}

/// The script of an entry point `MODULE:OBJECT`; `None` for one that is none, or wants extras.
fn entry_point(object: &str) -> Option<String> {
    let object = object.split('[').next()?.trim();
    let (module, attribute) = object.split_once(':').map(|(module, rest)| (module.trim(), rest.trim()))?;
    let is_name = |name: &str| {
        let fits = |c: char| c.is_alphanumeric() || c == '_';
        !name.is_empty() && name.chars().all(fits) && !name.starts_with(|c: char| c.is_ascii_digit())
    };
    let is_dotted = |text: &str| text.split('.').all(is_name);
    if !is_dotted(module) || !is_dotted(attribute) {
        return None;
    }
    let first = attribute.split('.').next()?;
    Some(format!(
        "{PYTHON}import os\nimport sys\n\nsys.dont_write_bytecode = True\n\
         sys.path.insert(1, os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), \"site\"))\n\
         from {module} import {first}\n\nsys.exit({attribute}())\n"
    ))
}

#[derive(Deserialize)]
struct Package {
    #[serde(default)]
    name: String,
    bin: Option<Bin>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Bin {
    One(String),
    Each(BTreeMap<String, String>),
}

impl Package {
    /// What can be typed, and the file behind it. A lone file is called as the package is, without its scope.
    fn commands(self) -> BTreeMap<String, String> {
        match self.bin {
            None => BTreeMap::new(),
            Some(Bin::One(file)) => [(self.name.rsplit('/').next().unwrap_or_default().to_owned(), file)].into(),
            Some(Bin::Each(all)) => all,
        }
    }
}
