//! The launcher: finds its own name in a table and becomes the tool.
//!
//! It stands in two kinds of folders. In a landing's folder of commands the table beside it says what to start. In the
//! folder that is put into shells (`wired`) it first finds the ladder that counts where it is called: the nearest project
//! upwards that was climbed, else the workstation's own; a command that neither has is the next one on PATH.
//!
//! It runs before every wired command, so it does as little as possible: one or two reads, one walk over each, one exec.
//! Exit status 127 when there is no such command, 126 when the tool cannot be started, as shells have it.

#[path = "../src/ladders.rs"]
#[allow(dead_code, reason = "the writing half belongs to the library")]
mod ladders;
#[path = "../src/table.rs"]
#[allow(dead_code, reason = "the writing half belongs to the library")]
mod table;
#[path = "../src/variables.rs"]
#[allow(dead_code, reason = "the writing half belongs to the library")]
mod variables;

use std::env;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io::{self, ErrorKind, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use ladders::Ladders;

fn main() -> ExitCode {
    let (code, why) = match launch() {
        Ok(never) => match never {},
        Err(failed) => failed,
    };
    // Nothing is left to tell if even this cannot be written.
    let _ = writeln!(io::stderr(), "kladder launcher: {why}");
    ExitCode::from(code)
}

enum Never {}

type Failed = (u8, String);

fn launch() -> Result<Never, Failed> {
    let me = env::current_exe().map_err(|e| (126, format!("cannot tell where it stands: {e}")))?;
    let (commands, name) = place(&me).ok_or((126, format!("{} is not in a folder of commands", me.display())))?;
    if commands.ends_with("wired/commands") {
        return find_and_start(commands, name, &me);
    }
    let path = commands.with_file_name("launch.table");
    let bytes = fs::read(&path).map_err(|error| unusable(&path, &error.to_string(), None))?;
    match start(&bytes, commands, name).map_err(|why| unusable(&path, &why, None))? {
        Some(failed) => Err(failed),
        None => Err((127, format!("{} has no command `{}`", path.display(), name.display()))),
    }
}

fn place(me: &Path) -> Option<(&Path, &OsStr)> {
    Some((me.parent()?, me.file_name()?))
}

fn unusable(path: &Path, why: &str, project: Option<&Path>) -> Failed {
    let place = project.map(|folder| format!(" in {}", folder.display())).unwrap_or_default();
    (126, format!("cannot use {}: {why}; `kladder climb`{place} writes it anew", path.display()))
}

/// Starts the command of the ladder that counts here.
fn find_and_start(commands: &Path, name: &OsStr, me: &Path) -> Result<Never, Failed> {
    let path = commands.with_file_name("ladders.table");
    let bytes = fs::read(&path).map_err(|error| unusable(&path, &error.to_string(), None))?;
    let ladders = Ladders::of_bytes(&bytes).ok_or_else(|| unusable(&path, "it is not a table of ladders", None))?;
    // A folder that was removed while somebody is in it has no ladder.
    let folder = env::current_dir().unwrap_or_default();
    let project = ladders.project(&folder).map(|project| (project.landings.as_path(), Some(project.folder.as_path())));
    for (landings, project) in project.into_iter().chain(ladders.own.as_deref().map(|own| (own, None))) {
        if let Some(failed) = start_of(landings, name, project)? {
            return Err(failed);
        }
    }
    start_next(commands, name, me)
}

/// Becomes the command of the landing that is current; `None` where it has none of this name.
fn start_of(landings: &Path, name: &OsStr, project: Option<&Path>) -> Result<Option<Failed>, Failed> {
    let link = landings.join("current");
    let mut tries = 0;
    loop {
        // The link is read first: all that follows is of one landing, whichever becomes current meanwhile.
        let target = fs::read_link(&link).map_err(|error| unusable(&link, &error.to_string(), project))?;
        let landing = landings.join(target);
        let commands = landing.join("commands");
        // Where the ladder counts, its sets come first.
        let entered = landing.join("entered.table");
        if let Ok(bytes) = fs::read(&entered)
            && let Some(failed) = start(&bytes, &commands, name).map_err(|why| unusable(&entered, &why, project))?
        {
            return Ok(Some(failed));
        }
        let path = landing.join("launch.table");
        match fs::read(&path) {
            Ok(bytes) => {
                let failed = start(&bytes, &commands, name);
                return failed.map_err(|why| unusable(&path, &why, project));
            }
            // It may have been removed since; then another one is current by now.
            Err(error) if error.kind() == ErrorKind::NotFound && tries < 3 => tries += 1,
            Err(error) => return Err(unusable(&path, &error.to_string(), project)),
        }
    }
}

/// Becomes the command, or tells why not; `None` where the table has none of this name.
fn start(bytes: &[u8], commands: &Path, name: &OsStr) -> Result<Option<Failed>, String> {
    let Some(found) = table::find(bytes, name).map_err(|error| error.to_string())? else { return Ok(None) };
    let entry = &found.entry;
    let mut arguments = env::args_os();
    let first = arguments.next();
    let mut command = Command::new(&entry.program);
    tell(name, &mut command);
    let error = command
        .arg0(entry.called.as_ref().map_or_else(|| called(&entry.program, first), OsString::from))
        .args(&entry.arguments)
        .args(arguments)
        .envs(variables::applied(&found.variables, |name| env::var_os(name)))
        .env("PATH", path_with(&fronts(commands, &found)))
        .exec();
    // A program that is there may still lack its interpreter, which no climb brings.
    let advice = if entry.program.exists() { "" } else { "; `kladder climb` brings it anew" };
    Ok(Some((126, format!("cannot start {}: {error}{advice}", entry.program.display()))))
}

/// Writes down what is started, and by which command, where somebody wants to know.
fn tell(name: &OsStr, command: &mut Command) {
    let Some(told) = env::var_os("KLADDER_STARTS") else { return };
    let by = env::var_os("KLADDER_STARTED_BY").unwrap_or_default();
    let line = [by.as_bytes(), b"\t", name.as_bytes(), b"\n"].concat();
    // Who cannot write it down starts it all the same.
    let file = fs::OpenOptions::new().append(true).open(told);
    let _ = file.and_then(|mut file| file.write_all(&line));
    command.env("KLADDER_STARTED_BY", name);
}

/// The first argument that a tool sees: as it was called, in the folder where it is, beside which many look for their files.
/// A login shell's dash stays where it is.
fn called(program: &Path, first: Option<OsString>) -> OsString {
    let Some(first) = first.filter(|first| !first.is_empty()) else { return program.into() };
    if first.as_bytes().starts_with(b"-") {
        return first;
    }
    Path::new(&first).file_name().map_or_else(|| program.into(), |name| program.with_file_name(name).into())
}

/// Becomes the next command of this name on PATH: only those behind this launcher's own folder, so that two launchers never
/// hand a command back and forth.
fn start_next(commands: &Path, name: &OsStr, me: &Path) -> Result<Never, Failed> {
    let this = numbers(me);
    let path = env::var_os("PATH").unwrap_or_default();
    let is_own = |folder: &PathBuf| folder == commands || (this.is_some() && numbers(&folder.join(name)) == this);
    let own = env::split_paths(&path).position(|folder| is_own(&folder));
    let mut failed = None;
    for file in env::split_paths(&path).skip(own.map_or(0, |own| own + 1)).map(|folder| folder.join(name)) {
        let may_run = |meta: fs::Metadata| meta.is_file() && meta.permissions().mode() & 0o111 != 0;
        if numbers(&file) == this || !fs::metadata(&file).is_ok_and(may_run) {
            continue;
        }
        let mut arguments = env::args_os();
        let mut command = Command::new(&file);
        arguments.next().map(|first| command.arg0(first));
        let error = command.args(arguments).exec();
        failed.get_or_insert((126, format!("cannot start {}: {error}", file.display())));
    }
    let none = || {
        let here = "no rung that counts here brings it, and nothing else on PATH is called so";
        (127, format!("there is no command `{}`: {here}", name.display()))
    };
    Err(failed.unwrap_or_else(none))
}

/// What a file is, whatever it is called.
fn numbers(file: &Path) -> Option<(u64, u64)> {
    fs::metadata(file).ok().map(|meta| (meta.dev(), meta.ino()))
}

/// The folders of commands that the entry wants in front.
fn fronts(commands: &Path, found: &table::Found) -> Vec<PathBuf> {
    let landing = commands.ancestors().nth(found.up + 1).unwrap_or(commands);
    found.entry.fronts.iter().map(|front| landing.join(front)).collect()
}

/// The caller's PATH with our commands in front, so that a tool that starts another one gets ours.
fn path_with(fronts: &[PathBuf]) -> OsString {
    let old = env::var_os("PATH").unwrap_or_default();
    if env::split_paths(&old).take(fronts.len()).eq(fronts.iter().cloned()) {
        return old;
    }
    let all = fronts.iter().cloned().chain(env::split_paths(&old));
    // Only a colon in our own folder's name can make this fail; then PATH stays as it was.
    env::join_paths(all).unwrap_or(old)
}
