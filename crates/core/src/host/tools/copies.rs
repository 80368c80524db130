//! The copies of a tool that a host has, and what version each is.

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::{CommandName, Definition, HostProbe};
use kladder_choose::pins::{HostCopy, Untold};

use super::places;
use crate::base::files;
use crate::base::side::{cores, side_by_side};
use crate::host::demands::of_system;
use crate::host::survey::{self, Host, Known, every_answer, runs};
use crate::host::system::{self, Found};

/// A copy that is there.
pub(super) struct Seen {
    pub(super) copy: HostCopy,
    pub(super) version: Result<String, Untold>,
    /// It was found in a place, not by its name.
    pub(super) is_of_place: bool,
}

/// A copy before it was asked.
struct Candidate {
    copy: HostCopy,
    /// What can be asked for its version.
    program: Option<PathBuf>,
    is_of_place: bool,
}

/// All that is there of a tool, each file once.
pub(super) fn all(host: &Host, definition: &Definition) -> Vec<Seen> {
    let Some(probe) = &definition.host else { return Vec::new() };
    let mut seen = HashSet::new();
    let mut is_new = |path: &Path| path.canonicalize().is_ok_and(|real| seen.insert(real));
    let mut candidates = on_path(host, probe);
    candidates.extend(places::all(host, probe).into_iter().filter_map(|path| in_place(path, definition, probe)));
    candidates.retain(|one| is_new(one.program.as_deref().unwrap_or(one.copy.path())));
    // One that hangs is waited for, and the others are asked meanwhile.
    let numbered: Vec<(usize, &Candidate)> = candidates.iter().enumerate().collect();
    let mut versions =
        side_by_side(&numbered, 2 * cores(), |(at, one)| (*at, version_of(host, probe, &definition.tool, one)));
    versions.sort_by_key(|(at, _)| *at);
    let seen = candidates.iter().zip(versions);
    let seen = seen.map(|(Candidate { copy, is_of_place, .. }, (_, version))| Seen {
        copy: copy.clone(),
        version,
        is_of_place: *is_of_place,
    });
    let mut all: Vec<Seen> = seen.collect();
    all.extend(library(host, probe).filter(|copy| is_new(copy.copy.path())));
    all.extend(package(host, probe));
    all
}

/// What answers to its command on PATH, and what is hidden behind that.
fn on_path(host: &Host, probe: &HostProbe) -> Vec<Candidate> {
    let files = probe.command.iter().flat_map(|command| every_answer(command.as_str(), host));
    let copy = |(at, file): (usize, PathBuf)| {
        let program = Some(file.clone());
        let copy = if at == 0 { HostCopy::Itself(file) } else { HostCopy::Aside { file } };
        Candidate { copy, program, is_of_place: false }
    };
    files.enumerate().map(copy).collect()
}

/// What a place has: a folder laid out like a release, the program itself, or, where the tool has no commands, whatever it is.
fn in_place(path: PathBuf, definition: &Definition, probe: &HostProbe) -> Option<Candidate> {
    let is_program = probe.command.is_some() || definition.all().iter().any(|says| !says.commands.is_empty());
    let is_folder = path.is_dir();
    let program =
        if is_folder { program_in(&path, definition, probe) } else { Some(path.clone()).filter(|file| runs(file)) };
    // A folder that happens to be called so is no copy.
    if is_program && program.is_none() {
        return None;
    }
    let copy = match (is_folder, is_program) {
        (true, _) => HostCopy::Laid { folder: path },
        (false, true) => HostCopy::Aside { file: path },
        (false, false) => HostCopy::Itself(path),
    };
    Some(Candidate { copy, program: program.filter(|_| is_program), is_of_place: true })
}

/// What version a candidate is.
fn version_of(host: &Host, probe: &HostProbe, tool: &str, one: &Candidate) -> Result<String, Untold> {
    let path = one.copy.path();
    let Some(program) = &one.program else {
        return version_in(path, probe).unwrap_or_else(|| by_name(probe, path));
    };
    if !one.is_of_place {
        return program_version(host, probe, tool, program);
    }
    if let Some(version) = version_in(path, probe) {
        return version;
    }
    // Nobody put it on PATH: it may be anybody's.
    let owner = program.metadata().map(|meta| meta.uid());
    let is_ours = owner.is_ok_and(|owner| owner == 0 || owner == rustix::process::geteuid().as_raw());
    if is_ours { program_version(host, probe, tool, program) } else { Err(Untold::Foreign) }
}

/// The program of a folder that is laid out like a release, by the command to look for, else by any that it has.
fn program_in(folder: &Path, definition: &Definition, probe: &HostProbe) -> Option<PathBuf> {
    let says = definition.all();
    let commands = || says.iter().flat_map(|says| &says.commands);
    let of_ours = |wanted: Option<&CommandName>| {
        let meant = commands().filter(move |(name, _)| wanted.is_none_or(|wanted| wanted == *name));
        // Where a release's version stands in the path, no host has it so.
        meant.map(|(_, command)| folder.join(command.file.as_written())).find(|file| runs(file))
    };
    let by_name = |command: &CommandName| {
        let usual = [folder.join(command.as_str()), folder.join("bin").join(command.as_str())];
        of_ours(Some(command)).or_else(|| usual.into_iter().find(|file| runs(file)))
    };
    match &probe.command {
        Some(command) => by_name(command),
        None => of_ours(None),
    }
}

/// The version of a program: a file of its folder may have it, else it is asked.
fn program_version(host: &Host, probe: &HostProbe, tool: &str, program: &Path) -> Result<String, Untold> {
    // A program on PATH is most often a link to where its folder is; the file lies beside it, or beside its `bin`.
    let real = program.canonicalize().unwrap_or_else(|_| program.to_path_buf());
    let near = real.ancestors().skip(1).take(2).filter_map(|folder| version_in(folder, probe)?.ok());
    if let Some(version) = near.into_iter().next() {
        return Ok(version);
    }
    let known = Known {
        tool: tool.to_owned(),
        command: program.to_string_lossy().into_owned(),
        arguments: probe.ask.clone(),
        pattern: probe.version.regex(),
    };
    survey::version_of_file(host, program, &known)
}

/// The version in the file that has it; `None` where no file is named for that.
fn version_in(found: &Path, probe: &HostProbe) -> Option<Result<String, Untold>> {
    let read = probe.read.as_ref()?;
    let folder = if found.is_dir() { found } else { found.parent()? };
    let text = files::text_of_at_most(&read.below(folder), 1 << 20);
    Some(text.and_then(|text| matched(probe, &text)).ok_or(Untold::Unsaid))
}

/// The version in a name.
fn by_name(probe: &HostProbe, path: &Path) -> Result<String, Untold> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    matched(probe, &name).ok_or(Untold::Unsaid)
}

fn matched(probe: &HostProbe, text: &str) -> Option<String> {
    let pattern = probe.version.regex();
    let captures = pattern.captures(text)?;
    Some(captures.name("version").or_else(|| captures.get(0))?.as_str().to_owned())
}

fn library<'a>(host: &'a Host, probe: &'a HostProbe) -> impl Iterator<Item = Seen> + 'a {
    let file = probe.library.iter().filter_map(|soname| system::library_file(host, soname)?);
    file.map(|file| {
        let of_name = || system::version_of_library(&file).ok_or(Untold::Unsaid);
        let version = version_in(&file, probe).unwrap_or_else(of_name);
        Seen { copy: HostCopy::Itself(file), version, is_of_place: false }
    })
}

/// The package that is named for this system, at the version that its makers gave it.
fn package(host: &Host, probe: &HostProbe) -> Option<Seen> {
    let any = probe.package.iter().find(|of| of.system.name.is_empty());
    let survey = || survey::facts(host, &[]);
    let of = any
        .cloned()
        .or_else(|| (!probe.package.is_empty()).then(|| of_system(&probe.package, &survey()).cloned())?)?;
    let package = of.packages.first()?.clone();
    let version = match system::package(host, &package) {
        Found::Unknown | Found::Nothing => return None,
        Found::There(version) => version.ok_or(Untold::Unsaid),
    };
    let version = version.map(|version| system::of_makers(&version).to_owned());
    Some(Seen { copy: HostCopy::Package { package }, version, is_of_place: false })
}
