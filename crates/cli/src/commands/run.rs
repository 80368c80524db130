//! `kladder run -- CMD`

use std::ffi::OsString;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::PathBuf;
use std::process::{Command, ExitCode, Output};

use kladder_core::landing::Landings;
use kladder_core::survey::answers;
use serde::Serialize;

use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::Out;

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    command: Vec<String>,
    /// The file that answered.
    program: String,
    /// Whether it is one of the ladder's.
    climbed: bool,
    status: i32,
    stdout: String,
    stderr: String,
}

pub(super) fn run(context: &Context, out: &Out, command: &[OsString]) -> Result<ExitCode, Problem> {
    let path = context.ladder_path().ok_or_else(|| not_climbed(context))?;
    let landings = Landings::of(&context.home.ladders(), &path);
    if landings.current()?.is_none() {
        return Err(not_climbed(context).at(&path));
    }
    let variables = landings.environment(&context.host.path)?;
    let (program, mut process) = prepare(command, variables)?;
    if out.json {
        let output = process.output().map_err(|error| not_started(command, &error))?;
        let climbed = program.starts_with(landings.current_link());
        return captured(command, &program, climbed, &output, out);
    }
    // Becomes the command: its signals and its status are its own.
    Err(not_started(command, &process.exec()))
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
    program: &std::path::Path,
    climbed: bool,
    output: &Output,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let status = output.status.code().or_else(|| output.status.signal().map(|signal| 128 + signal)).unwrap_or(1);
    out.value(&Shape {
        format: "kladder.run/1",
        command: command.iter().map(|word| word.to_string_lossy().into_owned()).collect(),
        program: program.display().to_string(),
        climbed,
        status,
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    })?;
    Ok(ExitCode::from(u8::try_from(status).unwrap_or(1)))
}

fn not_climbed(context: &Context) -> Problem {
    let next =
        if context.ladder_path().is_some() { "`kladder climb`" } else { "write a ladder.toml, then `kladder climb`" };
    Problem::new(Code::NotClimbed, "nothing has been climbed yet").next(next)
}

fn no_command(name: &str) -> Problem {
    Problem::new(Code::NoCommand, format!("there is no command `{name}`"))
        .why("neither a rung of this ladder nor the rest of PATH has it")
        .next("`kladder route` lists the rungs")
}

fn not_started(command: &[OsString], error: &std::io::Error) -> Problem {
    let name = command.first().map(|name| name.display().to_string()).unwrap_or_default();
    let code = if error.kind() == std::io::ErrorKind::NotFound { Code::NoCommand } else { Code::NoPermission };
    Problem::new(code, format!("`{name}` cannot be started")).why(error.to_string())
}
