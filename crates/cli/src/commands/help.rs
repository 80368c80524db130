//! `kladder help`: what an installed program refers to, it carries.

use std::process::ExitCode;

use clap::CommandFactory;
use kladder_choose::near::near;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::schemas;

use crate::args::Arguments;
use crate::render::Out;
use crate::render::text::{STRONG, styled};

pub(super) fn run(out: &Out, topic: Option<&str>) -> Result<ExitCode, Problem> {
    match topic {
        None => out.verbatim(Arguments::command().render_long_help().to_string().trim_end())?,
        Some("codes") => codes(out)?,
        Some("formats") => {
            let rows = schemas().into_iter().map(|(format, schema)| {
                let about = schema.get("description").and_then(|text| text.as_str()).unwrap_or_default();
                vec![styled(STRONG, format), about.lines().next().unwrap_or_default().to_owned()]
            });
            out.say(out.columns(&["format", "what it is"], rows.collect(), &[]))?;
            out.say("\n`kladder help FORMAT` prints its JSON Schema.")?;
        }
        Some(topic) => one(out, topic)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn codes(out: &Out) -> Result<(), Problem> {
    let done = vec!["0".to_owned(), "done".to_owned()];
    let rows = Code::ALL.into_iter().map(|code| vec![(code as u8).to_string(), code.meaning().to_owned()]);
    let rows = std::iter::once(done).chain(rows).collect();
    out.say(out.columns(&["code", "meaning"], rows, &[0]))?;
    out.say("\n`kladder run` otherwise ends as the command that it ran.")
}

/// A shape's schema, or a command's help.
fn one(out: &Out, topic: &str) -> Result<(), Problem> {
    let full = format!("kladder.{}", topic.trim_start_matches("kladder."));
    if let Some((_, schema)) = schemas().into_iter().find(|(format, _)| *format == full) {
        return out.verbatim(format!("{:#}", schema.to_value()));
    }
    let mut command = Arguments::command().mut_subcommands(|command| command.after_help(crate::args::MORE));
    // Only a command that was built knows how it is typed.
    command.build();
    if let Some(command) = command.find_subcommand_mut(topic) {
        return out.verbatim(command.render_long_help().to_string().trim_end());
    }
    let names: Vec<String> = command.get_subcommands().map(|command| command.get_name().to_owned()).collect();
    let known = names.iter().map(String::as_str).chain(["codes", "formats"]);
    let problem = Problem::new(Code::Usage, format!("there is no help on `{topic}`"));
    Err(match near(topic, known).first() {
        Some(near) => problem.next(format!("did you mean `kladder help {near}`?")),
        None => problem.next("there is `kladder help codes`, `kladder help formats`, and one for each command"),
    })
}
