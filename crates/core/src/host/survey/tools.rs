//! Tools that are there already, and commands that are there twice.

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::{Host, HostTool, Twice, Untold, scratch};
use kladder_launch::{COMMANDS, LADDERS, TABLE};

use crate::base::event::Silent;
use crate::base::side::{cores, side_by_side};
use crate::host::confine::{Cell, Network, Reads};
use crate::host::process::{Ended, Setting, run};

/// How long a tool may take to say its version.
const LIMIT: Duration = Duration::from_secs(5);

/// A tool to ask for its version.
#[derive(Clone, Debug)]
pub struct Known {
    /// The tool or capability.
    pub tool: String,
    /// Its command.
    pub command: String,
    /// The arguments that make it say its version.
    pub arguments: Vec<String>,
    /// Where the version stands in what it says: a group `version`, or the first match.
    pub pattern: regex::Regex,
}

/// The first file on `path` that would answer to `command`.
pub fn answers(command: &str, path: &OsString) -> Option<PathBuf> {
    std::env::split_paths(path).map(|folder| folder.join(command)).find(|file| runs(file))
}

/// All files that would answer to `command`, the first first; in a described root those in its usual folders. Launchers are left
/// out: they are ours and not the host's.
pub(crate) fn every_answer(command: &str, host: &Host) -> Vec<PathBuf> {
    let is_ours = |folder: &Path| {
        let above = folder.parent().unwrap_or(folder);
        folder.ends_with(COMMANDS) && (above.join(TABLE).is_file() || above.join(LADDERS).is_file())
    };
    let path = search_path(host);
    let folders = std::env::split_paths(&path).filter(|folder| !is_ours(folder));
    folders.map(|folder| folder.join(command)).filter(|file| runs(file)).collect()
}

/// Whether it is a file that may be run.
pub(crate) fn runs(file: &Path) -> bool {
    file.metadata().is_ok_and(|meta| meta.is_file() && meta.permissions().mode() & 0o111 != 0)
}

/// Asks all known tools that are there, several at a time. In a described root nothing is run.
pub(super) fn ask(host: &Host, known: &[Known]) -> Vec<HostTool> {
    let mut found: Vec<HostTool> =
        side_by_side(known, 2 * cores(), |one| ask_one(host, one)).into_iter().flatten().collect();
    found.sort_by(|a, b| (&a.tool, &a.command).cmp(&(&b.tool, &b.command)));
    found
}

/// Asks one tool; `None` when no file answers to its command.
pub fn ask_one(host: &Host, known: &Known) -> Option<HostTool> {
    let path = answers(&known.command, &search_path(host))?;
    let (version, untold) = match version_of_file(host, &path, known) {
        Ok(version) => (Some(version), None),
        Err(untold) => (None, Some(untold)),
    };
    Some(HostTool { tool: known.tool.clone(), command: known.command.clone(), path, version, untold })
}

/// The version that a program says; in a described root nothing is run.
pub(crate) fn version_of_file(host: &Host, program: &Path, known: &Known) -> Result<String, Untold> {
    if host.is_described() { Err(Untold::Described) } else { say_version(host, program, known) }
}

/// The folders of PATH; in a described root its usual ones.
fn search_path(host: &Host) -> OsString {
    if !host.is_described() {
        return host.path.clone();
    }
    let usual = ["usr/local/bin", "usr/bin", "bin", "usr/local/sbin", "usr/sbin", "sbin"];
    std::env::join_paths(usual.map(|folder| host.root.join(folder))).unwrap_or_default()
}

/// Runs it shut in: what asks it comes out of a definition, and could be a command that does harm.
fn say_version(host: &Host, path: &Path, known: &Known) -> Result<String, Untold> {
    let not_run = |error: std::io::Error| Untold::NotRun { error: error.to_string() };
    let words: Vec<OsString> = std::iter::once(path.into()).chain(known.arguments.iter().map(Into::into)).collect();
    let own = tempfile::Builder::new().prefix(&scratch()).tempdir_in(&host.temporary).map_err(not_run)?;
    let folder = own.path();
    let variables = [("PATH".into(), host.path.clone()), ("HOME".into(), folder.into()), ("LC_ALL".into(), "C".into())];
    let cell = Cell {
        reads: Reads::Everything,
        writes: vec![folder.to_path_buf()],
        network: Network::None,
        shown: Vec::new(),
    };
    let encloser = host.encloser();
    let setting = Setting {
        run: &words,
        input: "",
        folder,
        variables: &variables,
        limit: LIMIT,
        cell: Some(&cell),
        encloser: encloser.as_ref(),
        watched: None,
        most: None,
    };
    let ran = run(&setting, &Silent).map_err(not_run)?;
    match ran.ended {
        Ended::TooLate | Ended::TooMuch(_) => return Err(Untold::TooSlow { limit: LIMIT.as_secs() }),
        Ended::Cancelled => return Err(Untold::Interrupted),
        Ended::Status(0) => {}
        Ended::Status(status) => return Err(Untold::Status { status }),
    }
    let text = [ran.stdout, ran.stderr].concat();
    let captures = known.pattern.captures(&text).ok_or(Untold::Unsaid)?;
    let version = captures.name("version").or_else(|| captures.get(0));
    version.map(|found| found.as_str().to_owned()).ok_or(Untold::Unsaid)
}

/// Commands that are on PATH as different files, sorted.
pub(super) fn twice(host: &Host) -> Vec<Twice> {
    let mut by_name: BTreeMap<String, Vec<PathBuf>> = BTreeMap::new();
    let mut folders = HashSet::new();
    for folder in std::env::split_paths(&search_path(host)) {
        // /bin is /usr/bin on many systems, and folders are named twice on many a PATH.
        if !folder.canonicalize().is_ok_and(|real| folders.insert(real)) {
            continue;
        }
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            if let (Ok(name), true) = (entry.file_name().into_string(), runs(&entry.path())) {
                by_name.entry(name).or_default().push(entry.path());
            }
        }
    }
    by_name.into_iter().filter_map(|(command, files)| shadowed(command, files)).collect()
}

fn shadowed(command: String, files: Vec<PathBuf>) -> Option<Twice> {
    let mut real = HashSet::new();
    let mut different = files.into_iter().filter(|file| file.canonicalize().is_ok_and(|path| real.insert(path)));
    let wins = different.next()?;
    let others: Vec<PathBuf> = different.collect();
    (!others.is_empty()).then_some(Twice { command, wins, others })
}
