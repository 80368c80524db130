//! `kladder why COMMAND`: who answers to a command, here and elsewhere, and why.

use std::process::ExitCode;

use kladder_core::host::survey;
use kladder_core::keep::wired::{Behind, Wired};
use kladder_core::wire::{self, Answered, Place};
use kladder_tell::problem::Problem;
use kladder_tell::shapes::{self, AnsweredAt};
use kladder_tell::text::clean;

use crate::context::Context;
use crate::render::Out;
use crate::render::text::{STRONG, TOLD, shown, styled};

/// Whether some ladder that counts here has a command of this name.
pub(super) fn behind(context: &Context, name: &str) -> Option<Behind> {
    Wired::of(&context.around.home).behind(name.as_ref(), &context.around.folder)
}

/// Asks the person's shells, and tells.
pub(super) fn run(context: &Context, out: &Out, name: &str, behind: Option<&Behind>) -> Result<ExitCode, Problem> {
    let host = &context.around.host;
    let ours = Wired::of(&context.around.home).commands().join(name);
    let asked = wire::ask(name, &context.person, &survey::facts(host, &[]).shells, host);
    let is_ladder = |file: &std::path::Path| file.starts_with(&context.around.home.data);
    let shape = |(place, answered): &(Place, Answered)| AnsweredAt {
        place: place_word(*place),
        shell: shell_of(*place),
        file: if let Answered::File(file) = answered { Some(shapes::path(file)) } else { None },
        other: if let Answered::Other(text) = answered { Some(text.clone()) } else { None },
        ladder: matches!(answered, Answered::File(file) if is_ladder(file)),
    };
    out.value(&shapes::Answers {
        format: shapes::Answers::FORMAT,
        command: name.to_owned(),
        tool: behind.and_then(|behind| behind.rung.as_ref()).map(|rung| rung.tool.clone()),
        version: behind.and_then(|behind| behind.rung.as_ref()).map(|rung| rung.version.clone()),
        program: behind.map(|behind| shapes::path(&behind.program)),
        answers: asked.iter().map(shape).collect(),
    })?;
    if let Some(Behind { project, rung, program }) = behind {
        let whose = match project {
            None => "this workstation's ladder".to_owned(),
            Some(folder) if *folder == context.around.folder => "the ladder here".to_owned(),
            Some(folder) => format!("the ladder in {}", shown(folder)),
        };
        let rung = rung.as_ref().map_or_else(|| shown(program), ToString::to_string);
        out.say(format!("{} is a command of {rung}, by {whose}.", styled(STRONG, clean(name))))?;
    } else {
        out.say(format!("No ladder that counts here has a command {}.", styled(STRONG, clean(name))))?;
    }
    let said = |answered: &Answered| match answered {
        Answered::File(file) if *file == ours && behind.is_some() => "the ladder's".to_owned(),
        Answered::File(file) if *file == ours => "a launcher of other ladders, which hands it on".to_owned(),
        Answered::File(file) if is_ladder(file) => format!("the ladder's, {}", shown(file)),
        Answered::File(file) if behind.is_some() => format!("{}, and not the ladder's", shown(file)),
        Answered::File(file) => shown(file),
        Answered::Other(text) => clean(text),
        Answered::Nothing => "nothing".to_owned(),
        Answered::Unasked => "it did not answer".to_owned(),
    };
    let rows = asked.iter().map(|(place, answered)| vec![words(*place), said(answered)]).collect();
    out.say(format!("\n{}", out.columns(&["where it is typed", "what answers"], rows, &[])))?;
    if let Some(advice) = behind.and_then(|_| advice(context, &asked, &is_ladder)) {
        out.say(format!("\n{advice}"))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// What brings the ladder's command to where something else answers.
fn advice(
    context: &Context,
    asked: &[(Place, Answered)],
    is_ladder: &dyn Fn(&std::path::Path) -> bool,
) -> Option<String> {
    let is_ours = |answered: &Answered| matches!(answered, Answered::File(file) if is_ladder(file));
    let new = |place: &Place| matches!(place, Place::Terminal(_) | Place::Login(_));
    if asked.iter().any(|(place, answered)| new(place) && !is_ours(answered)) {
        let wire = styled(TOLD, "kladder wire");
        if !super::wire::is_wired(context) {
            return Some(format!("{wire} puts the ladder's commands into new shells."));
        }
        if asked.iter().any(|(place, answered)| new(place) && matches!(answered, Answered::Other(_))) {
            return Some(
                "An alias or function of yours counts more than any command; take it out, or give it another name."
                    .to_owned(),
            );
        }
        return Some(format!(
            "Lines of your start-up files that come after kladder's put other folders in front; {wire} tells which shells are wired."
        ));
    }
    let here = asked.iter().find(|(place, _)| *place == Place::Here)?;
    (!is_ours(&here.1)).then(|| super::wire::this_terminal(context))
}

fn place_word(place: Place) -> &'static str {
    match place {
        Place::Here => "here",
        Place::Terminal(_) => "terminal",
        Place::Login(_) => "login",
        Place::Bare => "bare",
    }
}

fn shell_of(place: Place) -> Option<&'static str> {
    match place {
        Place::Terminal(shell) | Place::Login(shell) => Some(shell.as_str()),
        Place::Here | Place::Bare => None,
    }
}

fn words(place: Place) -> String {
    match place {
        Place::Here => "here".to_owned(),
        Place::Terminal(shell) => format!("a new terminal with {}", shell.as_str()),
        Place::Login(shell) => format!("a login with {}", shell.as_str()),
        Place::Bare => "a job that no shell starts".to_owned(),
    }
}
