//! The launcher: finds its own name in the table beside its folder and becomes the tool.
//!
//! It runs before every wired command, so it does as little as possible: one read, one walk over the table, one exec.
//! Exit status 127 when the table has no such command, 126 when the tool cannot be started, as shells have it.

#[path = "../src/table.rs"]
#[allow(dead_code, reason = "the writing half belongs to the library")]
mod table;

use std::env;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io::{self, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

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

fn launch() -> Result<Never, (u8, String)> {
    let me = env::current_exe().map_err(|e| (126, format!("cannot tell where it stands: {e}")))?;
    let (commands, name) = place(&me).ok_or((126, format!("{} is not in a folder of commands", me.display())))?;
    let path = commands.with_file_name("launch.table");
    let unreadable =
        |why: String| (126, format!("cannot use {}: {why}; `kladder climb` writes it anew", path.display()));
    let bytes = fs::read(&path).map_err(|e| unreadable(e.to_string()))?;
    let found = table::find(&bytes, name).map_err(|e| unreadable(e.to_string()))?;
    let found = found.ok_or_else(|| (127, format!("{} has no command `{}`", path.display(), name.display())))?;
    let entry = &found.entry;
    let error = Command::new(&entry.program)
        .args(&entry.arguments)
        .args(env::args_os().skip(1))
        .envs(found.variables.iter().map(|(key, value)| (key, value)))
        .env("PATH", path_with(&fronts(commands, &found)))
        .exec();
    // A program that is there may still lack its interpreter, which no climb brings.
    let advice = if entry.program.exists() { "" } else { "; `kladder climb` brings it anew" };
    Err((126, format!("cannot start {}: {error}{advice}", entry.program.display())))
}

fn place(me: &Path) -> Option<(&Path, &OsStr)> {
    Some((me.parent()?, me.file_name()?))
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
