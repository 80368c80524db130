//! `kladder run -- CMD`

use std::ffi::OsString;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Output};

use kladder_choose::names::ToolName;
use kladder_core::host::survey::answers;
use kladder_core::keep::landing::{LandedSet, Landings};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::either;

use crate::context::Context;
use crate::render::Out;

pub(super) fn run(
    context: &Context,
    out: &Out,
    set: Option<&ToolName>,
    command: &[OsString],
) -> Result<ExitCode, Problem> {
    let path = context.around.ladder_path().ok_or_else(|| not_climbed(context))?;
    let landings = Landings::of(&context.around.home.ladders(), &path);
    if landings.current()?.is_none() {
        return Err(not_climbed(context).at(&path));
    }
    let mut variables = landings.environment(&context.around.host.path, &|name| std::env::var_os(name))?;
    if let Some(name) = set {
        variables = set_of(name, &landings)?.variables(variables);
    }
    let (program, mut process) = prepare(command, variables)?;
    if out.json {
        let output = process.output().map_err(|error| not_started(command, &error))?;
        let climbed = program.starts_with(landings.current_link());
        return captured(command, &program, climbed, &output, out);
    }
    // Becomes the command: its signals and its status are its own.
    Err(not_started(command, &process.exec()))
}

/// A set of the landing that is current.
pub(super) fn set_of(name: &ToolName, landings: &Landings) -> Result<LandedSet, Problem> {
    let sets = landings.sets()?;
    let Some(set) = sets.iter().find(|set| set.name == *name).cloned() else {
        let there: Vec<String> = sets.iter().map(|set| format!("`{}`", set.name)).collect();
        let problem = Problem::new(Code::Usage, format!("there is no set `{name}` in this landing"));
        return Err(if there.is_empty() {
            problem.next("`[sets.NAME]` in the ladder makes one; then `kladder climb`")
        } else {
            problem.next(format!("there is {}", either(&there)))
        });
    };
    Ok(set)
}

fn prepare(command: &[OsString], variables: Vec<(OsString, OsString)>) -> Result<(PathBuf, Command), Problem> {
    let Some((name, arguments)) = command.split_first() else {
        return Err(Problem::new(Code::Usage, "there is no command to run"));
    };
    let program = match name.to_str().filter(|name| !name.contains('/')) {
        None => PathBuf::from(name),
        Some(plain) => {
            let path = variables.iter().rfind(|(key, _)| key == "PATH").map(|(_, path)| path.clone());
            answers(plain, &path.unwrap_or_default()).ok_or_else(|| no_command(plain))?
        }
    };
    let mut process = Command::new(&program);
    process.args(arguments).envs(variables);
    Ok((program, process))
}

fn captured(
    command: &[OsString],
    program: &Path,
    climbed: bool,
    output: &Output,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let status = output.status.code().or_else(|| output.status.signal().map(|signal| 128 + signal)).unwrap_or(1);
    out.value(&shapes::Ran {
        format: shapes::Ran::FORMAT,
        command: command.iter().map(|word| word.to_string_lossy().into_owned()).collect(),
        program: shapes::path(program),
        climbed,
        status,
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    })?;
    Ok(ExitCode::from(u8::try_from(status).unwrap_or(1)))
}

pub(super) fn not_climbed(context: &Context) -> Problem {
    let next = if context.around.ladder_path().is_some() {
        "`kladder climb`"
    } else {
        "`kladder start`, then `kladder climb`"
    };
    Problem::new(Code::NotClimbed, "nothing has been climbed yet").next(next)
}

fn no_command(name: &str) -> Problem {
    Problem::new(Code::NoCommand, format!("there is no command `{name}`"))
        .why("neither a rung of this ladder nor the rest of PATH has it")
        .next("`kladder route` lists the rungs")
}

fn not_started(command: &[OsString], error: &std::io::Error) -> Problem {
    let name = command.first().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let code = if error.kind() == std::io::ErrorKind::NotFound { Code::NoCommand } else { Code::CannotStart };
    Problem::new(code, format!("`{name}` cannot be started")).why(error.to_string())
}
