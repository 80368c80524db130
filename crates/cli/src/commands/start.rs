//! `kladder start`

mod dialogue;
mod from;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use kladder_core::catalog::{Catalog, Preset};
use kladder_core::document::Source;
use kladder_core::files;
use kladder_core::ladder::{FILE_NAME, Ladder};
use kladder_core::pins::HostTools;
use kladder_core::start::{Answers, compose, preset, questions};

use crate::args::StartOptions;
use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{FAINT, TOLD, shown, styled};

pub(super) fn run(context: &Context, out: &Out, options: &StartOptions) -> Result<ExitCode, Problem> {
    let path = if options.own { context.home.ladder() } else { context.folder.join(FILE_NAME) };
    ensure_free(&path)?;
    match &options.from {
        Some(source) => from::take(context, source, &path)?,
        None => guided(context, out, options, &path)?,
    }
    let ladder = Ladder::read(&path)?;
    out.value(&serde_json::json!({ "format": "kladder.start/1", "ladder": path, "wishes": ladder.wishes.len() }))?;
    out.say(format!("{} is written:\n", shown(&path)))?;
    let text = Source::read(&path)?.text;
    text.lines().try_for_each(|line| out.say(format!("  {line}")))?;
    out.say(format!("\nNext: {}", styled(TOLD, "kladder route, then kladder climb")))?;
    Ok(ExitCode::SUCCESS)
}

fn ensure_free(path: &Path) -> Result<(), Problem> {
    if !path.exists() {
        return Ok(());
    }
    Err(Problem::new(Code::Failed, "there is a ladder already")
        .at(path)
        .why("a start never writes over one")
        .next("change it with an editor, or start in another folder"))
}

fn guided(context: &Context, out: &Out, options: &StartOptions, path: &Path) -> Result<(), Problem> {
    let folder = catalog_folder(context, options)?;
    let catalog = Catalog::open(&folder, Some(&context.home.indexes()))?;
    let host = HostTools::of(&context.host);
    let (preset, answers) = match &options.preset {
        Some(name) => {
            let preset = preset(&catalog, name)?;
            let answers = options.answers.as_ref().map(|file| read_answers(&context.folder.join(file))).transpose()?;
            let asked = answers.is_none() && dialogue::is_possible(out);
            let answers =
                if asked { dialogue::hold(context, &catalog, &preset, &host)? } else { answers.unwrap_or_default() };
            (preset, answers)
        }
        None if dialogue::is_possible(out) => {
            out.say(styled(
                FAINT,
                "Arrow keys choose, Enter answers, Esc goes back, Ctrl-C leaves everything as it is.",
            ))?;
            dialogue::hold_from_the_start(context, &catalog, &host)?
        }
        None => return Err(nobody_to_ask(&catalog)?),
    };
    let named = options.catalog.is_some().then(|| relative(&folder, path));
    let text = compose(&catalog, &preset, &answers, &host, named.as_deref())?;
    if let Some(parent) = path.parent() {
        files::create_folder(parent)?;
    }
    files::replace(path, text.as_bytes())?;
    keep_identity(context, &answers)
}

fn catalog_folder(context: &Context, options: &StartOptions) -> Result<PathBuf, Problem> {
    let named = options.catalog.as_ref().map(|catalog| context.folder.join(catalog));
    let folder = match named {
        Some(folder) => Some(folder),
        None => context.home.config()?.catalog,
    };
    let folder = folder.ok_or_else(|| {
        Problem::new(Code::BadFile, "no catalog is named")
            .next("name one with `--catalog FOLDER`, or take a colleague's ladder with `--from`")
    })?;
    Ok(folder.canonicalize().unwrap_or(folder))
}

fn read_answers(file: &Path) -> Result<Answers, Problem> {
    Ok(Source::read(file)?.parse()?)
}

fn nobody_to_ask(catalog: &Catalog) -> Result<Problem, Problem> {
    let names: Vec<String> = catalog.presets()?.iter().map(|preset| format!("`{}`", preset.preset)).collect();
    Ok(Problem::new(Code::Usage, "there is nobody to ask: this is no terminal")
        .why(format!("the presets: {}", names.join(", ")))
        .next("name one with `--preset`, and what differs from its defaults in a file with `--answers`"))
}

/// The catalog as the ladder should name it: from the ladder's folder, where one lies near the other.
fn relative(catalog: &Path, ladder: &Path) -> String {
    let folder = ladder.parent().and_then(|folder| folder.canonicalize().ok()).unwrap_or_default();
    if let Ok(below) = catalog.strip_prefix(&folder) {
        return below.display().to_string();
    }
    let beside = folder.parent().and_then(|above| catalog.strip_prefix(above).ok());
    beside.map_or_else(|| catalog.display().to_string(), |below| format!("../{}", below.display()))
}

fn keep_identity(context: &Context, answers: &Answers) -> Result<(), Problem> {
    let (name, email) = (answers.identity.name.as_deref(), answers.identity.email.as_deref());
    let given: Vec<(&str, &str)> =
        [("name", name), ("email", email)].into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
    if given.is_empty() { Ok(()) } else { Ok(context.home.write_identity(&given)?) }
}

/// All questions of a preset on this host.
fn all_questions(
    context: &Context,
    catalog: &Catalog,
    preset: &Preset,
    host: &HostTools<'_>,
) -> Result<Vec<kladder_core::start::Question>, Problem> {
    Ok(questions(catalog, preset, &context.host.platform, host)?)
}
