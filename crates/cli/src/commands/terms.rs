//! `kladder terms`

use std::process::ExitCode;

use kladder_choose::near::near;
use kladder_core::keep::state::Writer;
use kladder_core::keep::terms::{Accepted, Terms};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{both, clean};

use crate::args::TermsCommand;
use crate::context::Context;
use crate::render::text::{STRONG, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out, command: Option<&TermsCommand>) -> Result<ExitCode, Problem> {
    match command {
        None => list(context, out)?,
        Some(TermsCommand::Show { licence }) => show(context, out, licence)?,
        Some(TermsCommand::Withdraw { licence }) => withdraw(context, out, licence)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn list(context: &Context, out: &Out) -> Result<(), Problem> {
    let terms = Terms::read(&context.around.home.data)?;
    out.value(&shapes::Terms::of(&terms))?;
    if terms.accepted.is_empty() {
        return out.say("No licence has been accepted.");
    }
    let row = |accepted: &Accepted| {
        let at = accepted.at.strftime("%Y-%m-%d %H:%M UTC").to_string();
        vec![styled(STRONG, &accepted.licence), both(&accepted.tools), at, accepted.text.short()]
    };
    let rows = terms.accepted.iter().map(row).collect();
    out.say(out.columns(&["licence", "for", "accepted", "text begins its digest with"], rows, &[]))?;
    out.say("\n`kladder terms show LICENCE` prints a text, `kladder terms withdraw LICENCE` takes an acceptance back.")
}

fn show(context: &Context, out: &Out, id: &str) -> Result<(), Problem> {
    let catalogs = context.around.open_catalogs()?;
    let Some(licence) = catalogs.licence(id)? else {
        let there = catalogs.licences()?;
        let problem = Problem::new(Code::NotInCatalog, format!("the catalog has no licence `{id}`"));
        return Err(match near(id, there.iter().map(String::as_str)).first() {
            Some(near) => problem.next(format!("did you mean `{near}`?")),
            None if there.is_empty() => problem.why("it has none at all"),
            None => problem.why(format!("it has {}", both(&there))),
        });
    };
    let accepted = Terms::read(&context.around.home.data)?.has(&licence);
    let (sha256, text) = (licence.digest(), licence.text);
    let format = shapes::LicenceText::FORMAT;
    out.value(&shapes::LicenceText { format, licence: id.to_owned(), text: text.clone(), sha256, accepted })?;
    text.lines().try_for_each(|line| out.say(clean(line)))
}

fn withdraw(context: &Context, out: &Out, id: &str) -> Result<(), Problem> {
    let progress = Progress::new(out)?;
    let _writer = Writer::enter(&context.around.home, context.around.wait, &progress)?;
    let mut terms = Terms::read(&context.around.home.data)?;
    if !terms.withdraw(id) {
        return Err(Problem::new(Code::Failed, format!("the licence `{id}` was not accepted"))
            .next("`kladder terms` lists those that were"));
    }
    terms.write(&context.around.home.data)?;
    out.value(&shapes::Withdrawn { format: shapes::Withdrawn::FORMAT, licence: id.to_owned() })?;
    out.say(format!("Withdrawn. What was climbed under `{id}` stays; the next climb that needs it asks again."))
}
