//! `kladder rehearse`

use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;

use inquire::Text;
use kladder_choose::catalog::{Ask, Rehearsal, Step};
use kladder_choose::near::near;
use kladder_core::base::event::{Outcome, Subject, Verdict};
use kladder_core::climb::Site;
use kladder_core::climb::route::Route;
use kladder_core::keep::rates::Rates;
use kladder_core::prove::project::{self, Became, Project};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{both, clean, shell_word, time};

use super::verdicts::{show_reason, word};
use super::verify::ensure_climbed;
use crate::args::RehearseOptions;
use crate::context::Context;
use crate::person::is_present;
use crate::render::text::{FAINT, STRONG, TOLD, shown, styled};
use crate::render::{Out, Progress, asking, look};

pub(super) fn run(context: &Context, out: &Out, options: &RehearseOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let site = desk.site(&pins);
    let route = site.route()?;
    let all = site.rehearsals()?;
    let Some(name) = &options.name else { return list(&all, &route, &Rates::read(&site.home.data), out) };
    let rehearsal = find(&all, name)?;
    ensure_climbed(&route, &site)
        .map_err(|problem| problem.why("rehearsals run on a landing that is what the pins and the catalog say"))?;
    let missing = missing(rehearsal, &route);
    if let Some(first) = missing.first() {
        let problem = Problem::new(Code::NotClimbed, format!("{} needs {}", rehearsal.rehearsal, both(&missing)));
        return Err(problem
            .why("the ladder does not have it")
            .next(format!("`kladder add {first}`, then `kladder climb`")));
    }
    let project = match &rehearsal.code {
        Some(code) => of_code(&site, rehearsal, code, options, &route)?,
        None => laid_out(context, rehearsal, options, &route, out)?,
    };
    let progress = Progress::new(out)?;
    let verdicts = site.rehearse(&route, &project, rehearsal, &progress);
    progress.finish();
    let verdicts = verdicts?;
    out.value(&shapes::Rehearsed::of(rehearsal, &project, &verdicts))?;
    show(rehearsal, &project, &verdicts, out)?;
    Ok(if verdicts.iter().any(Verdict::failed) { Code::CheckFailed.into() } else { ExitCode::SUCCESS })
}

/// The project in a folder to keep, written.
fn laid_out(
    context: &Context,
    rehearsal: &Rehearsal,
    options: &RehearseOptions,
    route: &Route,
    out: &Out,
) -> Result<Project, Problem> {
    let folder = options.folder.clone().unwrap_or_else(|| rehearsal.rehearsal.clone().into());
    let folder = context.around.folder.join(folder);
    let answers = answers(rehearsal, project::answers_of(&folder, rehearsal)?, options, out)?;
    let mut project = Project::plan(rehearsal, &folder, &answers, &options.parts, &route.rungs)?;
    project.write()?;
    Ok(project)
}

/// The steps over code of the ladder, where it stands.
fn of_code(
    site: &Site<'_>,
    rehearsal: &Rehearsal,
    code: &str,
    options: &RehearseOptions,
    route: &Route,
) -> Result<Project, Problem> {
    let folder = site.code().into_iter().find(|one| one.name == code).map(|one| one.folder);
    let folder = folder.filter(|folder| folder.is_dir()).ok_or_else(|| {
        let problem = Problem::new(Code::NotClimbed, format!("the code of {} is not here", clean(code)));
        problem.why("it is a source of `[code.sources]` in the ladder").next("`kladder climb` brings it")
    })?;
    let answers = answers_given(options)?;
    Ok(Project::of_code(rehearsal, &folder, &answers, &options.parts, &route.rungs)?)
}

fn find<'r>(all: &'r [Rehearsal], name: &str) -> Result<&'r Rehearsal, Problem> {
    all.iter().find(|rehearsal| rehearsal.rehearsal == name).ok_or_else(|| {
        let problem = Problem::new(Code::NotInCatalog, format!("the catalog has no rehearsal `{}`", clean(name)));
        let near = near(name, all.iter().map(|rehearsal| rehearsal.rehearsal.as_str()));
        let problem = near.iter().fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?")));
        problem.next("`kladder rehearse` lists them")
    })
}

fn missing(rehearsal: &Rehearsal, route: &Route) -> Vec<String> {
    let is_there = |tool: &str| route.rungs.iter().any(|rung| rung.answers_to(tool));
    rehearsal.tools.iter().filter(|tool| !is_there(tool)).map(ToString::to_string).collect()
}

fn list(all: &[Rehearsal], route: &Route, rates: &Rates, out: &Out) -> Result<ExitCode, Problem> {
    let took = |rehearsal: &Rehearsal| {
        rates.time_of(&Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: None })
    };
    let shape = |rehearsal: &Rehearsal| shapes::Rehearsal::of(rehearsal, missing(rehearsal, route), took(rehearsal));
    out.value(&shapes::Rehearsals { format: shapes::Rehearsals::FORMAT, rehearsals: all.iter().map(shape).collect() })?;
    if all.is_empty() {
        out.say("The catalog has no rehearsals.")?;
        return Ok(ExitCode::SUCCESS);
    }
    let row = |rehearsal: &Rehearsal| {
        let missing = missing(rehearsal, route);
        let tools = if missing.is_empty() { both(&rehearsal.tools) } else { format!("not here: {}", both(&missing)) };
        let took = took(rehearsal).map_or_else(String::new, time);
        vec![styled(STRONG, &rehearsal.rehearsal), clean(&rehearsal.summary), took, styled(FAINT, clean(&tools))]
    };
    let heads = ["rehearsal", "what it shows", "took here", "tools"];
    out.say(out.columns(&heads, all.iter().map(row).collect(), &[2]))?;
    out.say(format!("\nTake one as a first project: {}", styled(TOLD, "kladder rehearse NAME FOLDER")))?;
    Ok(ExitCode::SUCCESS)
}

/// The answers that were given, else those of before, else what a person says; the rest are the defaults.
fn answers(
    rehearsal: &Rehearsal,
    before: Option<BTreeMap<String, String>>,
    options: &RehearseOptions,
    out: &Out,
) -> Result<BTreeMap<String, String>, Problem> {
    let mut answers = answers_given(options)?;
    if before.is_some() || !is_present(out) {
        return Ok(answers);
    }
    for (name, ask) in &rehearsal.asks {
        if !answers.contains_key(name) {
            answers.insert(name.clone(), asked(ask)?);
        }
    }
    Ok(answers)
}

fn answers_given(options: &RehearseOptions) -> Result<BTreeMap<String, String>, Problem> {
    let one = |text: &String| {
        let pair = text.split_once('=').map(|(name, answer)| (name.to_owned(), answer.to_owned()));
        pair.ok_or_else(|| {
            Problem::new(Code::Usage, format!("`{}` is no answer", clean(text))).next("write `--answer NAME=VALUE`")
        })
    };
    options.answers.iter().map(one).collect()
}

fn asked(ask: &Ask) -> Result<String, Problem> {
    let (question, rule) = (clean(&ask.question), ask.rule.as_deref().map(clean).unwrap_or_default());
    let checked = ask.clone();
    let refused = if rule.is_empty() { "that cannot be the answer".to_owned() } else { rule.clone() };
    let text = Text::new(&question).with_default(&ask.default).with_render_config(look());
    let text = if rule.is_empty() { text } else { text.with_help_message(&rule) };
    let text = text.with_validator(move |answer: &str| {
        use inquire::validator::Validation;
        Ok(if checked.allows(answer) { Validation::Valid } else { Validation::Invalid(refused.as_str().into()) })
    });
    asking(|| text.prompt()).map_err(|_| Problem::interrupted())
}

fn show(rehearsal: &Rehearsal, project: &Project, verdicts: &[Verdict], out: &Out) -> Result<(), Problem> {
    out.say(format!("{}: {}\n", styled(STRONG, &rehearsal.rehearsal), clean(&rehearsal.summary)))?;
    let row = |(path, became): (&kladder_choose::path::InnerPath, &Became)| {
        vec![clean(path.as_str()), styled(FAINT, became_word(*became))]
    };
    if !project.files.is_empty() {
        out.say(out.columns(&["file", ""], project.files.iter().map(row).collect(), &[]))?;
        out.say("")?;
    }
    for verdict in verdicts {
        let (outcome, took) = (word(&verdict.outcome), styled(FAINT, time(verdict.took)));
        let Subject::Rehearsal { step: Some(step), .. } = &verdict.subject else { continue };
        out.say(format!("  {outcome}  {}  {took}", clean(step)))?;
    }
    verdicts.iter().filter(|verdict| verdict.outcome != Outcome::Passed).try_for_each(|v| show_reason(v, out))?;
    if let Some(device) = &rehearsal.runs_on {
        out.say(format!("\nIt runs on {}.", clean(device)))?;
    }
    out.say("\nBy hand, with the ladder's commands in your shell:\n")?;
    out.verbatim(format!("    cd {}", clean(&shell_word(Path::new(&shown(&project.folder))))))?;
    for step in &project.filled.steps {
        step.write.keys().try_for_each(|path| out.verbatim(format!("    # {} is written", clean(path.as_str()))))?;
        out.verbatim(format!("    {}", typed(step)))?;
    }
    let parts: Vec<&String> = rehearsal.parts.keys().collect();
    if !parts.is_empty() {
        out.say(format!("\nParts to add with `--part`: {}.", both(&parts)))?;
    }
    Ok(())
}

/// A step as it is typed.
fn typed(step: &Step) -> String {
    let word = |text: &str| clean(&shell_word(Path::new(text)));
    let variables = step.variables.iter().map(|(name, value)| format!("{name}={}", word(&value.as_written())));
    let words = variables.chain(step.run.iter().map(|part| word(&part.as_written())));
    let mut command = words.collect::<Vec<_>>().join(" ");
    if !step.input.is_empty() {
        command = format!("printf %s {} | {command}", word(&step.input));
    }
    if !step.folder.is_empty() {
        command = format!("(cd {} && {command})", word(step.folder.as_str()));
    }
    if step.stays.is_some() { format!("{command} &") } else { command }
}

fn became_word(became: Became) -> &'static str {
    match became {
        Became::New => "new",
        Became::Same => "as it was",
        Became::Anew => "written anew",
        Became::Kept => "yours, left as it is",
    }
}
