//! `kladder vars`

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use kladder_core::base::dialect::Dialect;
use kladder_core::keep::landing::Landings;
use kladder_core::keep::wired::Wired;
use kladder_core::settings::Home;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::clean;

use crate::args::{Form, VarsOptions};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{STRONG, styled};

use super::run::{not_climbed, set_of};

pub(super) fn run(context: &Context, out: &Out, options: &VarsOptions) -> Result<ExitCode, Problem> {
    if options.badge {
        return badge(&context.around.home, &context.around.folder);
    }
    let path = context.around.ladder_path().ok_or_else(|| not_climbed(context))?;
    let landings = Landings::of(&context.around.home.ladders(), &path);
    let landing = landings.current()?.ok_or_else(|| not_climbed(context).at(&path))?;
    let (path_here, here) = (&context.around.host.path, |name: &std::ffi::OsStr| std::env::var_os(name));
    let set = options.set.as_ref().map(|name| set_of(name, &landings)).transpose()?;
    let with_set = |variables| match &set {
        None => variables,
        Some(set) => set.variables(variables),
    };
    let variables = last_of_each(with_set(landings.environment(path_here, &here)?));
    let signed = with_set(landings.signed(path_here)?);
    match options.form {
        None if !out.json => table(&variables, &replaced(&variables, &context.around.home.data), out),
        Some(Form::Sh | Form::Bash | Form::Zsh) => written(&Dialect::Posix.set_all(&signed)),
        Some(Form::Fish) => written(&Dialect::Fish.set_all(&signed)),
        Some(Form::Powershell) => written(&Dialect::PowerShell.set_all(&signed)),
        Some(Form::Nushell) => written(&Dialect::Nushell.set_all(&signed)),
        Some(Form::File) => written(file(&variables)?.as_bytes()),
        None | Some(Form::Json) => {
            let text = |value: &OsString| value.to_string_lossy().into_owned();
            let all: BTreeMap<_, _> = variables.iter().map(|(name, value)| (text(name), text(value))).collect();
            let (format, ladder) = (shapes::Vars::FORMAT, shapes::path(&path));
            let replaced = replaced(&variables, &context.around.home.data);
            let replaces = replaced.iter().map(|(name, before)| (text(name), text(before))).collect();
            let value = shapes::Vars { format, ladder, landing: landing.number, variables: all, replaces };
            out.with_values().value(&value)?;
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// Which ladder counts; nothing where none does: a prompt has no place for a sentence.
pub(crate) fn badge(home: &Home, folder: &Path) -> Result<ExitCode, Problem> {
    let badge = Wired::of(home).badge(folder);
    written(badge.map_or_else(String::new, |badge| clean(&badge) + "\n").as_bytes())
}

/// The last of a name is the one that counts.
fn last_of_each(variables: Vec<(OsString, OsString)>) -> Vec<(OsString, OsString)> {
    let mut all: Vec<(OsString, OsString)> = Vec::with_capacity(variables.len());
    for (name, value) in variables {
        match all.iter_mut().find(|(known, _)| *known == name) {
            Some(known) => known.1 = value,
            None => all.push((name, value)),
        }
    }
    all
}

/// Values of the caller's own that are no part of what takes their place. An older landing's are not the caller's own.
fn replaced<'v>(variables: &'v [(OsString, OsString)], data: &Path) -> Vec<(&'v OsString, OsString)> {
    let before = |(name, value): &'v (OsString, OsString)| {
        let before = std::env::var_os(name).filter(|before| !before.is_empty())?;
        let stays = value.to_string_lossy().contains(&*before.to_string_lossy());
        (!stays && !Path::new(&before).starts_with(data)).then_some((name, before))
    };
    variables.iter().filter_map(before).collect()
}

fn written(bytes: &[u8]) -> Result<ExitCode, Problem> {
    let mut stdout = std::io::stdout();
    let done = stdout.write_all(bytes).and_then(|()| stdout.flush());
    done.map_err(|error| Problem::output(&error))?;
    Ok(ExitCode::SUCCESS)
}

fn table(
    variables: &[(OsString, OsString)],
    replaced: &[(&OsString, OsString)],
    out: &Out,
) -> Result<ExitCode, Problem> {
    let text = |value: &OsString| clean(&value.to_string_lossy());
    let rows = variables.iter().map(|(name, value)| vec![styled(STRONG, text(name)), text(value)]).collect();
    out.say(out.columns(&["variable", "value"], rows, &[]))?;
    for (name, before) in replaced {
        out.say(format!("\n{} takes the place of {}, which this shell has.", text(name), text(before)))?;
    }
    out.say("\nAs lines that a shell takes: `kladder vars --as SHELL`.")?;
    Ok(ExitCode::SUCCESS)
}

/// A line `NAME=VALUE` each, without quotes: what container runtimes and service managers read as a file of variables.
fn file(variables: &[(OsString, OsString)]) -> Result<String, Problem> {
    let mut text = String::new();
    for (name, value) in variables {
        let plain = value.to_str().filter(|value| !value.contains(['\n', '\r']));
        let plain = plain.ok_or_else(|| {
            let name = name.to_string_lossy();
            Problem::new(Code::Failed, format!("{} has a value that such a file cannot hold", clean(&name)))
                .why("each variable is one line of UTF-8 there, without quotes")
                .next("`kladder vars --as sh` can hold it")
        })?;
        text.extend([&*name.to_string_lossy(), "=", plain, "\n"]);
    }
    Ok(text)
}
