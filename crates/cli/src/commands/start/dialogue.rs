//! The questions, asked at a terminal, one after the other and back.

use inquire::list_option::ListOption;
use inquire::{Confirm, InquireError, MultiSelect, Select, Text};
use kladder_choose::catalog::{Catalogs, Preset};
use kladder_choose::names::ToolName;
use kladder_choose::pins::OnHost;
use kladder_choose::platform::Platform;
use kladder_core::desk::start::{Answers, Question, machines};

use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{bytes, clean};
use kladder_tell::words;

use super::all_questions;
use crate::context::Context;
use crate::render::{CHOOSING, TAKING, asking, look};

const NO_SERIES: &str = "none in particular: the newest that is no preview";

/// How a question ended.
enum Reply {
    Answered,
    /// The person wants the question before it.
    Back,
}

fn reply<T>(result: Result<Option<T>, InquireError>, take: impl FnOnce(T)) -> Result<Reply, Problem> {
    match result {
        Ok(Some(value)) => {
            take(value);
            Ok(Reply::Answered)
        }
        Ok(None) => Ok(Reply::Back),
        Err(InquireError::OperationInterrupted | InquireError::OperationCanceled) => {
            Err(Problem::new(Code::Interrupted, "interrupted").why("nothing was written"))
        }
        Err(error) => Err(Problem::new(Code::Failed, "the question cannot be asked").why(error.to_string())),
    }
}

/// Asks for the preset first; Esc at the first question of one leads back to the choice.
pub(super) fn hold_from_the_start(
    context: &Context,
    catalog: &Catalogs,
    host: &dyn OnHost,
) -> Result<(Preset, Answers), Problem> {
    let presets = catalog.presets()?;
    let mut answers = Answers::default();
    loop {
        let names: Vec<String> = presets.iter().map(|p| format!("{}: {}", p.preset, clean(&p.summary))).collect();
        let meaning = help("a preset is a start; every line of it can be changed later", CHOOSING);
        let select =
            Select::new("What is this workstation for?", names).with_help_message(&meaning).with_render_config(look());
        let mut chosen = None;
        reply(asking(|| select.raw_prompt_skippable()), |option| chosen = Some(option.index))?;
        let Some(preset) = chosen.and_then(|at| presets.get(at)) else { continue };
        // Who works here, and on what, is the same whatever the workstation is for.
        answers = Answers { machines: answers.machines, identity: answers.identity, ..Answers::default() };
        if ask_all(context, catalog, preset, host, &mut answers)? {
            return Ok((preset.clone(), answers));
        }
    }
}

/// Asks everything about one preset.
pub(super) fn hold(
    context: &Context,
    catalog: &Catalogs,
    preset: &Preset,
    host: &dyn OnHost,
) -> Result<Answers, Problem> {
    let mut answers = Answers::default();
    while !ask_all(context, catalog, preset, host, &mut answers)? {}
    Ok(answers)
}

/// `false` when the person went back beyond the first question. What was answered before stands there when a question is
/// asked again.
fn ask_all(
    context: &Context,
    catalog: &Catalogs,
    preset: &Preset,
    host: &dyn OnHost,
    answers: &mut Answers,
) -> Result<bool, Problem> {
    let questions = all_questions(context, catalog, preset, host)?;
    let mut asked: Vec<usize> = Vec::new();
    let mut at = 0;
    while at < questions.len() {
        if !questions[at].applies(preset, answers) {
            at += 1;
            continue;
        }
        match ask(&questions[at], answers)? {
            Reply::Answered => {
                asked.push(at);
                at += 1;
            }
            Reply::Back => match asked.pop() {
                Some(before) => at = before,
                None => return Ok(false),
            },
        }
    }
    Ok(true)
}

fn ask(question: &Question, answers: &mut Answers) -> Result<Reply, Problem> {
    match question {
        Question::Title { default } => {
            let was = answers.title.clone().unwrap_or_else(|| default.clone());
            ask_text("What is this desk called?", "the title of the ladder", &was, |title| answers.title = title)
        }
        Question::Machines { here, others } => ask_machines(here, others, answers),
        Question::Optional { tool, text, default } => {
            let help = format!("adds {tool} and what it needs");
            let default = answers.optional.get(tool).unwrap_or(default);
            yes_or_no(&clean(text), &help, *default, |yes| {
                answers.optional.insert(tool.clone(), yes);
            })
        }
        Question::Series { tool, choices, default } => ask_series(tool, choices, default.as_deref(), answers),
        Question::Pieces { tool, choices } => ask_pieces(tool, choices, answers),
        Question::Host { tool, capability, found } => {
            let text = format!(
                "This host has {} {}. Use it as its {capability}?",
                words::host::copy(&found.copy),
                found.version
            );
            let help = "it is looked at again at each climb; nothing of it is changed";
            let default = answers.host.get(tool).copied().unwrap_or(true);
            yes_or_no(&text, help, default, |yes| {
                answers.host.insert(tool.clone(), yes);
            })
        }
        Question::Name => {
            let was = answers.identity.name.clone().unwrap_or_default();
            ask_text("Your name, for version control:", WHO, &was, |name| answers.identity.name = name)
        }
        Question::Email => {
            let was = answers.identity.email.clone().unwrap_or_default();
            ask_text("Your e-mail address, for version control:", WHO, &was, |email| answers.identity.email = email)
        }
    }
}

/// What a name and an address are for.
const WHO: &str = "it stands in what you commit; kept in your settings, not in the ladder; may be left empty";

fn ask_machines(here: &Platform, others: &[Platform], answers: &mut Answers) -> Result<Reply, Problem> {
    let chosen = |platform: &Platform| answers.machines.values().any(|machine| machine == platform);
    let before: Vec<usize> = (0..others.len()).filter(|at| chosen(&others[*at])).collect();
    let text = format!("For which machines besides this one, {here}?");
    let meaning = help("the same versions are pinned for all of them", TAKING);
    let select = MultiSelect::new(&text, others.iter().map(Platform::as_str).collect())
        .with_default(&before)
        .with_formatter(&taken_words)
        .with_help_message(&meaning)
        .with_render_config(look());
    reply(asking(|| select.raw_prompt_skippable()), |taken| {
        let mut all: Vec<Platform> = taken.iter().map(|option| others[option.index].clone()).collect();
        if !all.is_empty() {
            all.push(here.clone());
        }
        answers.machines = machines(&all);
    })
}

fn yes_or_no(text: &str, help: &str, default: bool, take: impl FnOnce(bool)) -> Result<Reply, Problem> {
    let confirm = Confirm::new(text).with_default(default).with_help_message(help).with_render_config(look());
    reply(asking(|| confirm.prompt_skippable()), take)
}

/// What was taken of a list, behind its question.
fn taken_words<T: std::fmt::Display>(taken: &[ListOption<&T>]) -> String {
    let names: Vec<String> = taken.iter().map(|option| option.value.to_string()).collect();
    if names.is_empty() { "none".to_owned() } else { names.join(", ") }
}

/// What a question means, and what its keys do.
fn help(meaning: &str, keys: &str) -> String {
    format!("{meaning}; {keys}")
}

fn ask_series(
    tool: &ToolName,
    choices: &[String],
    default: Option<&str>,
    answers: &mut Answers,
) -> Result<Reply, Problem> {
    let mut options: Vec<&str> = choices.iter().map(String::as_str).collect();
    options.push(NO_SERIES);
    let default = answers.series.get(tool).map(String::as_str).or(default);
    let cursor = options.iter().position(|option| Some(*option) == default).unwrap_or(options.len() - 1);
    let text = format!("Which series of {tool}?");
    let meaning = help("a series is a run of releases; the newest of it is taken, and pinned", CHOOSING);
    let select =
        Select::new(&text, options).with_starting_cursor(cursor).with_help_message(&meaning).with_render_config(look());
    reply(asking(|| select.prompt_skippable()), |series| {
        let series = if series == NO_SERIES { "" } else { series };
        answers.series.insert(tool.clone(), series.to_owned());
    })
}

fn ask_pieces(
    tool: &ToolName,
    choices: &[(String, String, Option<u64>)],
    answers: &mut Answers,
) -> Result<Reply, Problem> {
    let label = |(piece, summary, size): &(String, String, Option<u64>)| {
        let size = size.map(|size| format!(", {}", bytes(size))).unwrap_or_default();
        format!("{piece}: {}{size}", clean(summary))
    };
    let text = format!("Which pieces of {tool}?");
    let meaning = help("what another tool needs comes by itself", TAKING);
    let taken = |at: &usize| answers.pieces.get(tool).is_some_and(|pieces| pieces.contains(&choices[*at].0));
    let before: Vec<usize> = (0..choices.len()).filter(taken).collect();
    let select = MultiSelect::new(&text, choices.iter().map(label).collect())
        .with_default(&before)
        .with_formatter(&taken_words)
        .with_help_message(&meaning)
        .with_render_config(look());
    reply(asking(|| select.raw_prompt_skippable()), |taken| {
        let names = taken.iter().map(|option| choices[option.index].0.clone()).collect();
        answers.pieces.insert(tool.clone(), names);
    })
}

fn ask_text(text: &str, help: &str, was: &str, take: impl FnOnce(Option<String>)) -> Result<Reply, Problem> {
    let prompt = Text::new(text).with_help_message(help).with_initial_value(was);
    reply(asking(|| prompt.with_render_config(look()).prompt_skippable()), |value| {
        take(Some(value.trim().to_owned()).filter(|value| !value.is_empty()));
    })
}
