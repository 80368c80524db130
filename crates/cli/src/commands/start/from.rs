//! A colleague's ladder: from a file, an address, or a version-control repository.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use kladder_core::fetch::{Network, read_text};
use kladder_core::files;
use kladder_core::ladder::{FILE_NAME, Ladder};

use crate::context::Context;
use crate::problem::{Code, Problem};

/// Puts the ladder that `source` names at `path`, with its pins where there are any.
pub(super) fn take(context: &Context, source: &str, path: &Path) -> Result<(), Problem> {
    let work = tempfile::tempdir_in(&context.host.temporary).map_err(|error| failed(source, error.to_string()))?;
    let ladder = bring(context, source, work.path())?;
    // It must make sense before it is taken.
    let read = Ladder::read(&ladder)?;
    let text = fs::read_to_string(&ladder).map_err(|error| failed(source, error.to_string()))?;
    let is_kept = !ladder.starts_with(work.path());
    if let Some(catalog) = read.catalog.as_ref().filter(|catalog| is_kept && catalog.is_dir()) {
        return write(path, &rooted(&text, catalog), &read);
    }
    write(path, &text, &read)
}

fn write(path: &Path, text: &str, ladder: &Ladder) -> Result<(), Problem> {
    files::create_folder(path.parent().unwrap_or(Path::new(".")))?;
    files::replace(path, text.as_bytes())?;
    let pins = ladder.pins_path();
    if let Ok(pinned) = fs::read(&pins) {
        files::replace(&path.with_file_name("ladder.pinned.toml"), &pinned)?;
    }
    Ok(())
}

/// The ladder with its relative catalog made absolute: the file moves, the catalog does not.
fn rooted(text: &str, catalog: &Path) -> String {
    let is_catalog = |line: &str| line.split('=').next().is_some_and(|key| key.trim() == "catalog");
    let line = |line: &str| {
        if is_catalog(line) { format!("catalog = {:?}", catalog.display().to_string()) } else { line.to_owned() }
    };
    text.lines().map(|text| line(text) + "\n").collect()
}

fn bring(context: &Context, source: &str, work: &Path) -> Result<PathBuf, Problem> {
    let local = context.folder.join(source);
    if local.is_file() {
        return local.canonicalize().map_err(|error| failed(source, error.to_string()));
    }
    let is_repository = local.join(".git").exists()
        || source.trim_end_matches('/').rsplit_once('.').is_some_and(|(_, end)| end == "git")
        || source.starts_with("ssh://");
    if is_repository {
        return clone(source, work);
    }
    if local.is_dir() {
        return Some(local.join(FILE_NAME)).filter(|file| file.is_file()).ok_or_else(|| no_ladder(source));
    }
    if source.starts_with("http://") || source.starts_with("https://") {
        let network = Network::new(&context.home.config()?.network)?;
        let text = read_text(source, &network).map_err(|error| failed(source, error.to_string()))?;
        let path = work.join(FILE_NAME);
        fs::write(&path, text).map_err(|error| failed(source, error.to_string()))?;
        return Ok(path);
    }
    Err(Problem::new(Code::BadFile, "there is no such ladder")
        .at(&local)
        .why("it is neither a file, an http(s) address nor a repository"))
}

/// A shallow copy of a repository; the ladder stands at its top.
fn clone(source: &str, work: &Path) -> Result<PathBuf, Problem> {
    let folder = work.join("repository");
    let ran = Command::new("git").args(["clone", "--quiet", "--depth", "1", "--"]).arg(source).arg(&folder).output();
    let ran = ran.map_err(|error| failed(source, format!("git: {error}")))?;
    if !ran.status.success() {
        return Err(failed(source, String::from_utf8_lossy(&ran.stderr).trim().to_owned()));
    }
    Some(folder.join(FILE_NAME)).filter(|file| file.is_file()).ok_or_else(|| no_ladder(source))
}

fn no_ladder(source: &str) -> Problem {
    Problem::new(Code::BadFile, format!("there is no {FILE_NAME} at the top of {source}"))
}

fn failed(source: &str, why: String) -> Problem {
    Problem::new(Code::Failed, format!("the ladder cannot be taken from {source}")).why(why)
}
