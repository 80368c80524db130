//! `kladder terms`

use std::process::ExitCode;

use kladder_core::state::Writer;
use kladder_core::terms::Terms;
use serde::Serialize;

use crate::args::TermsCommand;
use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::text::{STRONG, clean, columns, styled};
use crate::render::{Out, Progress};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    accepted: Vec<AcceptedShape>,
}

#[derive(Serialize)]
struct AcceptedShape {
    licence: String,
    sha256: String,
    tools: Vec<String>,
    at: String,
}

pub(super) fn run(context: &Context, out: &Out, command: Option<&TermsCommand>) -> Result<ExitCode, Problem> {
    match command {
        None => list(context, out)?,
        Some(TermsCommand::Show { licence }) => show(context, out, licence)?,
        Some(TermsCommand::Withdraw { licence }) => withdraw(context, out, licence)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn list(context: &Context, out: &Out) -> Result<(), Problem> {
    let terms = Terms::read(&context.home.data)?;
    let shape = |accepted: &kladder_core::terms::Accepted| AcceptedShape {
        licence: accepted.licence.clone(),
        sha256: accepted.text.to_string(),
        tools: accepted.tools.clone(),
        at: accepted.at.to_string(),
    };
    out.value(&Shape { format: "kladder.terms/1", accepted: terms.accepted.iter().map(shape).collect() })?;
    if terms.accepted.is_empty() {
        return out.say("No licence has been accepted.");
    }
    let row = |accepted: &kladder_core::terms::Accepted| {
        let at = accepted.at.strftime("%Y-%m-%d %H:%M UTC").to_string();
        vec![styled(STRONG, &accepted.licence), accepted.tools.join(", "), at, accepted.text.short()]
    };
    let rows = terms.accepted.iter().map(row).collect();
    out.say(columns(&["licence", "for", "accepted", "text begins its digest with"], rows, &[]))?;
    out.say("\n`kladder terms show LICENCE` prints a text, `kladder terms withdraw LICENCE` takes an acceptance back.")
}

fn show(context: &Context, out: &Out, id: &str) -> Result<(), Problem> {
    let licence = context.open()?.catalog.licence(id)?;
    let accepted = Terms::read(&context.home.data)?.has(&licence);
    out.value(&serde_json::json!({
        "format": "kladder.licence/1", "licence": id, "text": licence.text,
        "sha256": licence.digest(), "accepted": accepted,
    }))?;
    licence.text.lines().try_for_each(|line| out.say(clean(line)))
}

fn withdraw(context: &Context, out: &Out, id: &str) -> Result<(), Problem> {
    let progress = Progress::new(out)?;
    let _writer = Writer::enter(&context.home, context.wait, &progress)?;
    let mut terms = Terms::read(&context.home.data)?;
    if !terms.withdraw(id) {
        return Err(Problem::new(Code::Failed, format!("the licence `{id}` was not accepted"))
            .next("`kladder terms` lists those that were"));
    }
    terms.write(&context.home.data)?;
    out.value(&serde_json::json!({ "format": "kladder.withdrawn/1", "licence": id }))?;
    out.say(format!("Withdrawn. What was climbed under `{id}` stays; the next climb that needs it asks again."))
}
