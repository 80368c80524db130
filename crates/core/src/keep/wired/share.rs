//! What tools bring along for shells and for man: manual pages and completions, where their archives have them in the usual
//! places below the tool's folder.
//!
//! The folder that they are linked into is laid out as `/usr/share` is (Filesystem Hierarchy Standard 3.0, 4.11; XDG Base
//! Directory Specification 0.8): man looks beside each folder on PATH, bash's and fish's completion look where `XDG_DATA_DIRS`
//! says, zsh where `FPATH` does.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};

use crate::base::files::{self, Attach, FileError};

/// From where below a tool's folder to where below ours; each holds files only.
const PLAIN: [(&str, &str); 4] = [
    ("share/bash-completion/completions", "bash-completion/completions"),
    ("etc/bash_completion.d", "bash-completion/completions"),
    ("share/zsh/site-functions", "zsh/site-functions"),
    ("share/fish/vendor_completions.d", "fish/vendor_completions.d"),
];
/// Where manual pages are, in a folder each section.
const MANUALS: [&str; 2] = ["share/man", "man"];

/// Links by their path below our folder: what they lead to.
pub(super) type Links = BTreeMap<PathBuf, PathBuf>;

/// Adds what a tool's folder has; what is there already stays.
pub(super) fn add(folder: &Path, links: &mut Links) {
    for (from, to) in PLAIN {
        add_files(&folder.join(from), Path::new(to), links);
    }
    for manual in MANUALS.map(|manual| folder.join(manual)) {
        for section in files::names(&manual).unwrap_or_default() {
            if is_section(&section) {
                add_files(&manual.join(&section), &Path::new("man").join(&section), links);
            }
        }
    }
}

/// Whether a folder holds a section of the manual: `man1`, `man3p`.
fn is_section(name: &OsStr) -> bool {
    let rest = name.to_str().and_then(|name| name.strip_prefix("man"));
    rest.is_some_and(|rest| rest.starts_with(|first: char| first.is_ascii_digit()))
}

fn add_files(from: &Path, to: &Path, links: &mut Links) {
    for name in files::names(from).unwrap_or_default() {
        let file = from.join(&name);
        if file.is_file() {
            links.entry(to.join(name)).or_insert(file);
        }
    }
}

/// The links that are below a folder now. Files there are nobody's to touch.
fn present(folder: &Path) -> Links {
    let all = walkdir::WalkDir::new(folder).min_depth(1).into_iter().filter_map(Result::ok);
    let links = all.filter(walkdir::DirEntry::path_is_symlink);
    let link = |entry: walkdir::DirEntry| {
        Some((entry.path().strip_prefix(folder).ok()?.to_path_buf(), fs::read_link(entry.path()).ok()?))
    };
    links.filter_map(link).collect()
}

/// Whether a folder has just these links.
pub(super) fn are_there(folder: &Path, wanted: &Links) -> bool {
    present(folder) == *wanted
}

/// Makes them so.
pub(super) fn put(folder: &Path, wanted: &Links) -> Result<(), FileError> {
    let present = present(folder);
    for (path, _) in present.iter().filter(|(path, target)| wanted.get(*path) != Some(target)) {
        files::remove_tree(&folder.join(path))?;
    }
    for (path, target) in wanted.iter().filter(|(path, target)| present.get(*path) != Some(target)) {
        let link = folder.join(path);
        files::create_folder(link.parent().unwrap_or(folder))?;
        files::remove_tree(&link)?;
        std::os::unix::fs::symlink(target, &link).on("make", &link)?;
    }
    Ok(())
}
