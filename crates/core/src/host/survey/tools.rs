//! Tools that are there already, and commands that are there twice.

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

use super::{Host, HostTool, Twice, Untold};
use crate::base::event::Silent;
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

fn runs(file: &Path) -> bool {
    file.metadata().is_ok_and(|meta| meta.is_file() && meta.permissions().mode() & 0o111 != 0)
}

/// Asks all known tools that are there, several at a time. In a described root nothing is run.
pub(super) fn ask(host: &Host, known: &[Known]) -> Vec<HostTool> {
    let todo = Mutex::new(known.iter());
    let found = Mutex::new(Vec::new());
    let threads = std::thread::available_parallelism().map_or(2, |n| n.get() * 2).min(known.len());
    let work = || {
        // A poisoned lock means that another thread panicked, which ends the scope anyway.
        while let Some(one) = todo.lock().ok().and_then(|mut todo| todo.next()) {
            if let (Some(tool), Ok(mut found)) = (ask_one(host, one), found.lock()) {
                found.push(tool);
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(work);
        }
    });
    let mut found = found.into_inner().unwrap_or_default();
    found.sort_by(|a, b| (&a.tool, &a.command).cmp(&(&b.tool, &b.command)));
    found
}

/// Asks one tool; `None` when no file answers to its command.
pub fn ask_one(host: &Host, known: &Known) -> Option<HostTool> {
    let path = answers(&known.command, &search_path(host))?;
    let (version, untold) = if host.is_described() {
        (None, Some(Untold::Described))
    } else {
        match say_version(host, &path, known) {
            Ok(version) => (Some(version), None),
            Err(untold) => (None, Some(untold)),
        }
    };
    Some(HostTool { tool: known.tool.clone(), command: known.command.clone(), path, version, untold })
}

/// The folders of PATH; in a described root its usual ones.
fn search_path(host: &Host) -> OsString {
    if !host.is_described() {
        return host.path.clone();
    }
    let usual = ["usr/local/bin", "usr/bin", "bin", "usr/local/sbin", "usr/sbin", "sbin"];
    std::env::join_paths(usual.map(|folder| host.root.join(folder))).unwrap_or_default()
}

fn say_version(host: &Host, path: &Path, known: &Known) -> Result<String, Untold> {
    let words: Vec<OsString> = std::iter::once(path.into()).chain(known.arguments.iter().map(Into::into)).collect();
    let variables = [
        ("PATH".into(), host.path.clone()),
        ("HOME".into(), host.temporary.clone().into()),
        ("LC_ALL".into(), "C".into()),
    ];
    let setting = Setting {
        run: &words,
        input: "",
        folder: &host.temporary,
        variables: &variables,
        limit: LIMIT,
        cell: None,
        encloser: None,
    };
    let ran = run(&setting, &Silent).map_err(|error| Untold::NotRun { error: error.to_string() })?;
    match ran.ended {
        Ended::TooLate => return Err(Untold::TooSlow { limit: LIMIT.as_secs() }),
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
